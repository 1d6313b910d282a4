"""The lens of the field camera against theory: discs, edges, breathing, profile."""

from __future__ import annotations

import math

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from eaveplane.fieldcam.camera import Camera
from eaveplane.fieldcam.lens import Lens, defocus, disc_of, draw_falloff, draw_fringes
from eaveplane.optics.thinlens import blur_diameter


def moment(kernel: np.ndarray) -> tuple[float, float]:
    reach = kernel.shape[0] // 2
    y, x = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    return float((kernel * x * x).sum()), float((kernel * y * y).sum())


@pytest.mark.parametrize("radius", [1.3, 2.0, 3.9, 5.5, 11.0, 27.0])
def test_a_round_disc_has_the_spread_of_a_disc(radius: float) -> None:
    across, down = moment(disc_of(Lens(), radius))
    # the second moment of a uniform disc and that of the pixel it is drawn on
    expected = radius**2 / 4 + 1 / 12
    assert math.sqrt(across) == pytest.approx(math.sqrt(expected), rel=0.03)
    assert math.sqrt(down) == pytest.approx(math.sqrt(expected), rel=0.03)


@pytest.mark.parametrize("blades", [5, 6, 7, 8, 9])
def test_blades_make_a_polygon_of_the_same_light(blades: int) -> None:
    kernel = disc_of(Lens(blades=blades), 20.0)
    area = float((kernel > 0.5 * kernel.max()).sum())
    assert area == pytest.approx(math.pi * 400, rel=0.03)
    # an n-gon's second moment, for the same area, lies above the circle's by a closed form
    n = blades
    expected = 400 / 4 * (2 * math.pi / (3 * n)) * (2 + math.cos(2 * math.pi / n)) / math.sin(2 * math.pi / n)
    assert sum(moment(kernel)) / 2 == pytest.approx(expected + 1 / 12, rel=0.03)
    turned = disc_of(Lens(blades=blades), 20.0, behind=True)
    np.testing.assert_allclose(turned, kernel[::-1, ::-1], atol=0.35 * kernel.max())


def test_a_rim_is_brighter_or_darker_and_cut_discs_lean() -> None:
    bright, plain = disc_of(Lens(rim=0.4), 16.0), disc_of(Lens(), 16.0)
    middle = plain.shape[0] // 2
    assert bright[middle, middle] / bright[middle, middle + 14] == pytest.approx(0.6, abs=0.05)
    assert plain[middle, middle] / plain[middle, middle + 14] == pytest.approx(1.0, abs=0.01)
    corner = disc_of(Lens(cats_eye=0.6), 16.0, (0.8, 0.0))
    across, down = moment(corner)
    assert across < 0.9 * down and float((corner > 0).sum()) < 0.9 * float((plain > 0).sum())


@given(radius=st.floats(1.0, 18.0), blades=st.sampled_from([0, 5, 7, 9]), rim=st.floats(-0.5, 0.5))
@settings(max_examples=25)
def test_light_is_neither_made_nor_lost(radius: float, blades: int, rim: float) -> None:
    lens = Lens(blades=blades, rim=rim)
    pad = math.ceil(radius * 1.33) + 3
    wide = np.full((40 + 2 * pad, 50 + 2 * pad, 4), 0.7, np.float32)
    focus = radius / lens.radius_per_dioptre(0.0, 3000)
    off = np.full((40, 50), 0.0, np.float32)
    out = defocus(lens, focus, wide, off, pad, (500, 300), (3000, 2000))
    np.testing.assert_allclose(out, 0.7, rtol=2e-4)


@pytest.mark.parametrize(("focus", "metres"), [(0.6, math.inf), (2.0, 0.7), (math.inf, 0.8), (1.0, 3.0)])
def test_a_blurred_edge_is_as_wide_as_theory_says(focus: float, metres: float) -> None:
    camera = Camera(3000, 2000, Lens(24, 4.0))
    radius = camera.blur_radius(focus, metres)
    assert radius == pytest.approx(blur_diameter(24, 4.0, focus, metres) / 36 * 3000 / 2, rel=1e-6)
    pad = math.ceil(radius * 1.33) + 3
    size = 2 * math.ceil(radius) + 41
    wide = np.zeros((size + 2 * pad, size + 2 * pad, 4), np.float32)
    wide[:, pad + size // 2 :] = 1
    place = np.full((size, size), 0.0 if math.isinf(metres) else 1 / metres, np.float32)
    out = defocus(camera.lens, 0.0 if math.isinf(focus) else 1 / focus, wide, place, pad, (1500 - size // 2, 1000 - size // 2), (3000, 2000))
    profile = np.diff(out[size // 2, :, 3])
    x = np.arange(len(profile))
    centre = float((profile * x).sum())
    # the line spread of a disc has the standard deviation r / 2
    width = 2 * math.sqrt(float((profile * (x - centre) ** 2).sum()) - 1 / 12)
    assert width == pytest.approx(radius, rel=0.03)


def test_breathing_and_field_curvature_follow_the_focus() -> None:
    lens = Lens(breathing=0.03, near_m=0.5)
    assert lens.magnification(2.0) == pytest.approx(1.03) and lens.magnification(0.0) == 1
    bent = Lens(curvature=0.3)
    pad = 20
    wide = np.zeros((101 + 2 * pad, 101 + 2 * pad, 4), np.float32)
    wide[pad + 50, pad + 50] = 1
    off = np.zeros((101, 101), np.float32)
    # in focus in the middle, and as far out of it at the corner as the lens says
    middle = defocus(bent, 0.0, wide, off, pad, (1450, 950), (3000, 2000))
    corner = defocus(bent, 0.0, wide, off, pad, (-50, -50), (3000, 2000))
    radius = bent.radius_per_dioptre(0.0, 3000) * 0.3
    assert float(middle[50, 50, 3]) > 0.99 and float(corner[50, 50, 3]) == pytest.approx(1 / (math.pi * radius**2), rel=0.25)


def test_the_profile_takes_falloff_and_fringes_away() -> None:
    lens = Lens(falloff_ev=1.2, fringe_red=6e-4, fringe_blue=-4e-4)
    height, width = 400, 600
    y, x = np.mgrid[:height, :width].astype(np.float32)
    scene = (0.5 + 0.3 * np.sin(x / 9) * np.cos(y / 7))[..., None].repeat(3, axis=2).astype(np.float32)
    light = scene.copy()
    draw_falloff(light, lens)
    assert light[0, 0, 1] / scene[0, 0, 1] == pytest.approx(2**-1.2, rel=0.01)
    draw_fringes(light, lens)
    assert np.abs(light[..., 0] - light[..., 1])[:30, :30].max() > 0.003
    profile = lens.profile()
    half = math.hypot(width, height) / 2
    dx, dy = (x - (width - 1) / 2) / half, (y - (height - 1) / 2) / half
    r2 = dx * dx + dy * dy
    mended = np.empty_like(light)
    for c, plane in enumerate(profile["warp"]):
        gain = plane[0] + r2 * (plane[1] + r2 * (plane[2] + r2 * plane[3]))
        mended[..., c] = cv2.remap(
            light[..., c], (dx * gain * half + (width - 1) / 2).astype(np.float32), (dy * gain * half + (height - 1) / 2).astype(np.float32), cv2.INTER_LANCZOS4
        )
    k = profile["vignette"]
    mended *= (1 + r2 * (k[0] + r2 * (k[1] + r2 * (k[2] + r2 * (k[3] + r2 * k[4])))))[..., None]
    inside = np.s_[8:-8, 8:-8]
    assert np.abs(mended - scene)[inside].max() < 0.006
