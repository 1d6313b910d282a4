"""The landscapes: real places with distances, the same on every machine, what hides whole behind what stands before it."""

from __future__ import annotations

import math

import numpy as np
import pytest

from eaveplane.fieldcam.camera import Camera, Shot, Stage
from eaveplane.fieldcam.ground import View, height_at
from eaveplane.fieldcam.landscapes import LANDSCAPES, saltpan
from eaveplane.fieldcam.lens import Lens
from eaveplane.optics.thinlens import blur_diameter

pytestmark = pytest.mark.slow

CAMERA = Camera(360, 240, Lens(f_number=2.0))


@pytest.fixture(scope="module", params=list(LANDSCAPES))
def small(request: pytest.FixtureRequest) -> Stage:
    return Stage(LANDSCAPES[request.param], CAMERA, [Shot(math.inf), Shot(0.7, (6, -4), 0.5)])


def test_a_landscape_reaches_from_ones_feet_to_infinity(small: Stage) -> None:
    light, distance = small.picture(Shot(math.inf), sharp=True)
    assert np.isfinite(light).all() and np.isfinite(distance).all() and light.min() >= 0
    assert distance.min() < 1.0 and distance.max() > 1000
    # the ground comes nearer from the horizon down
    rows = np.median(distance, axis=1)
    assert rows[-1] < rows[-60] < rows[-110] and 0.01 < np.median(light) < 1.2


def test_it_is_the_same_each_time(small: Stage) -> None:
    again = Stage(small.landscape, CAMERA, [Shot(math.inf), Shot(0.7, (6, -4), 0.5)])
    shot = Shot(0.7, (6, -4), 0.5, gust=(0.4, 0.1))
    np.testing.assert_array_equal(again.picture(shot)[0], small.picture(shot)[0])


def test_focus_makes_one_thing_sharp_and_another_not(small: Stage) -> None:
    def fine(shot: Shot, sharp: bool = False) -> tuple[float, float]:
        light = np.sqrt(small.picture(shot, sharp)[0][..., 1])
        change = np.abs(np.diff(light, axis=1))
        return float(change[-40:].mean()), float(change[60:110].mean())

    near, far, all_sharp = fine(Shot(0.7)), fine(Shot(math.inf)), fine(Shot(math.inf), sharp=True)
    assert near[0] > far[0] and far[1] > near[1]
    assert all_sharp[0] >= far[0] and all_sharp[1] >= near[1]


def test_level_ground_lies_where_geometry_puts_it() -> None:
    stage = Stage(LANDSCAPES["saltpan"], CAMERA)
    _, distance = stage.picture(Shot(math.inf), sharp=True)
    focal = 24 / 36
    for row in (150, 190, 230):
        v = (row - 119.5) / 360
        expected = focal * saltpan.EYE / (v - saltpan.HORIZON)
        assert np.median(distance[row]) == pytest.approx(expected, rel=0.06)


def test_a_moved_camera_sees_near_things_elsewhere() -> None:
    stage = Stage(LANDSCAPES["saltpan"], CAMERA, [Shot(math.inf, step_m=(0.02, 0, 0))])
    here, place = stage.picture(Shot(math.inf), sharp=True)
    there, _ = stage.picture(Shot(math.inf, step_m=(0.02, 0, 0)), sharp=True)
    for top, bottom in ((150, 160), (215, 225)):
        metres = float(np.median(place[top:bottom]))
        a, b = here[top:bottom, 40:-40, 1], [there[top:bottom, 40 + s : 320 + s, 1] for s in range(-39, 1)]
        errors = [float(((a - x) ** 2).mean()) for x in b]
        found = -(int(np.argmin(errors)) - 39)
        assert found == pytest.approx(24 / 36 * 0.02 / metres * 360, abs=0.8)


def test_a_defocused_post_is_translucent_and_hides_nothing_for_good() -> None:
    camera = Camera(720, 480, Lens(f_number=1.4))
    stage = Stage(LANDSCAPES["saltpan"], camera)
    sharp, place = stage.picture(Shot(math.inf), sharp=True)
    soft, _ = stage.picture(Shot(math.inf))
    bare = Stage.__new__(Stage)
    bare.__dict__.update(stage.__dict__, twigs=stage.twigs[:0])
    behind, _ = bare.picture(Shot(math.inf))
    row = 120
    post = np.flatnonzero(np.abs(place[row] - 0.72) < 0.1)
    radius = 0.5 * blur_diameter(24, 1.4, math.inf, 0.72) / 36 * 720
    assert len(post) > 8 and radius > 4
    # just beside the post its veil is half over what lies behind; beyond the disc nothing of it is left
    edge = post[-1]
    cover = (soft[row, :, 1] - behind[row, :, 1]) / (sharp[row, post[len(post) // 2], 1] - behind[row, :, 1])
    assert 0.2 < cover[edge] < 0.8
    assert np.abs(soft[row, edge + int(radius) + 4 :] - behind[row, edge + int(radius) + 4 :])[:40].max() < 0.004


def test_wind_bends_plants_and_leaves_the_ground() -> None:
    stage = Stage(LANDSCAPES["thistle"], CAMERA)
    calm, place = stage.picture(Shot(math.inf), sharp=True)
    windy, _ = stage.picture(Shot(math.inf, gust=(1.0, 0.0)), sharp=True)
    moved = np.abs(calm - windy).max(axis=2) > 0.02
    assert 0.02 < moved.mean() < 0.6
    assert moved[place > 500].mean() < 0.2


def test_heights_are_those_that_are_drawn() -> None:
    view = View(200, 100, -0.5, -0.2, 1 / 200, 24 / 36, 1 / 200)
    assert abs(height_at(saltpan._crust, 0.1, 1.0)) < 0.1 and view.columns()[0] == pytest.approx(-0.75)
