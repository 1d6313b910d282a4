"""Registration against the field camera's true geometry."""

from __future__ import annotations

import math
from pathlib import Path

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bench.layered import Order, make
from bench.score import corner_error
from eaveplane.core.even.drift import measure_drift
from eaveplane.core.gather.detail import Detail, measure_detail
from eaveplane.core.register.area import common_area
from eaveplane.core.register.features import find_features
from eaveplane.core.register.register import Registration, register, suggest_reference
from eaveplane.imaging.formats.registry import read_picture
from eaveplane.imaging.light import root_luma, root_of, survey
from eaveplane.imaging.placement import Placement
from eaveplane.imaging.resample import warp
from tests.conftest import Set

pytestmark = pytest.mark.slow


def analysed(paths: list[Path], halvings: int = 1) -> tuple[list[Detail], list[np.ndarray]]:
    details, small = [], []
    for path in paths:
        picture = read_picture(path)
        luma, little = survey(picture.codes, picture.encoding, halvings)
        details.append(measure_detail(luma))
        small.append(little)
    return details, small


@pytest.mark.parametrize(("name", "allowed"), [("tripod", 0.12), ("handheld", 0.12)])
def test_fits_lie_where_the_camera_was(name: str, allowed: float, request: pytest.FixtureRequest) -> None:
    shots: Set = request.getfixturevalue(name)
    details, small = analysed(shots.paths)
    reference = shots.truth.reference
    found = register(lambda k: details[k].luma, [find_features(d.luma) for d in details], details[0].level, reference)
    size = small[0].shape[1] * 2, small[0].shape[0] * 2
    errors = [corner_error(fit, true, size) for fit, true in zip(found.fits, shots.truth.fits, strict=True)]
    print(f"{name}: corner error {', '.join(f'{e:.3f}' for e in errors)} px")
    assert max(errors) < allowed
    assert [told.said for told in found.trusted] == [None] * len(details)

    gains = [d.gain for d in measure_drift(small, [Placement(f, size).at(1) for f in found.fits], reference)]
    for gain, shot in zip(gains, shots.shots, strict=True):
        # drift is put on camera channels, gains are measured in the working space: brightness is comparable
        expected = np.mean(shots.shots[reference].drift) / np.mean(shot.drift)
        assert abs(np.log2(np.mean(gain) / expected)) < 0.03


def test_another_exposure_makes_no_difference_to_a_fit(tripod: Set) -> None:
    """Three stops under, as a sky is exposed beside its foreground."""
    details, _ = analysed(tripod.paths)
    dark = details[0].luma * np.float32(math.sqrt(1 / 8))

    def fits(first: np.ndarray) -> Registration:
        lumas = [first, *(d.luma for d in details[1:])]
        return register(lambda k: lumas[k], [find_features(luma) for luma in lumas], details[0].level, tripod.truth.reference)

    as_it_was, under = fits(details[0].luma), fits(dark)
    height, width = dark.shape
    assert corner_error(under.fits[0], as_it_was.fits[0], (width, height)) < 0.02
    assert under.trusted[0].verdict == "good" and under.trusted[0].judged > 0.9 * as_it_was.trusted[0].judged


def test_a_perspective_is_found_where_there_is_one(tripod: Set) -> None:
    details, _ = analysed(tripod.paths)
    true = np.array([[1.004, -0.003, 4.2], [0.002, 1.002, -3.1], [6e-6, -4e-6, 1.0]])
    luma = details[2].luma
    moved = warp(luma, np.linalg.inv(true), (0, 0, luma.shape[1], luma.shape[0]), repeat_edge=True)
    found = register(lambda k: (moved, luma)[k], [find_features(moved), find_features(luma)], 0, 1)
    assert found.model == "homography"
    assert corner_error(found.fits[0], true, (luma.shape[1], luma.shape[0])) < 0.3


def test_ground_whose_blur_grows_is_no_perspective() -> None:
    """A still camera before sloping ground, frames 4 px apart in a small picture: what differs in blur across a tile looks like a shift, and a free
    model that follows it lies pixels off where nothing is sharp."""
    stack = make(Order(1642, ("few stems",), 6, 4.0, rim=0.4, width=600))
    lumas = [root_luma(root_of(frame)) for frame in stack.frames]
    found = register(lambda k: lumas[k], [find_features(luma) for luma in lumas], 0, stack.reference)
    assert found.model == "similarity"
    assert max(corner_error(fit, true, lumas[0].shape[::-1]) for fit, true in zip(found.fits, stack.fits, strict=True)) < 1.0


def test_a_frame_of_something_else_is_not_trusted(tripod: Set) -> None:
    details, _ = analysed(tripod.paths)
    stranger = cv2.GaussianBlur(np.random.default_rng(1).random(details[0].luma.shape, np.float32), (0, 0), 3)
    lumas = [details[1].luma, details[2].luma, stranger]
    found = register(lambda k: lumas[k], [find_features(luma) for luma in lumas], 0, 1)
    assert found.trusted[0].said is None and found.trusted[2].said is not None


def test_one_frame_needs_no_fit() -> None:
    found = register(lambda k: np.zeros((50, 50), np.float32), [find_features(np.zeros((50, 50), np.float32))], 0, 0)
    np.testing.assert_array_equal(found.fits[0], np.eye(3))
    assert suggest_reference(5) == 2 and suggest_reference(1) == 0


@given(st.lists(st.tuples(st.floats(0.98, 1.02), st.floats(-1, 1), st.floats(-25, 25), st.floats(-25, 25)), min_size=1, max_size=4))
@settings(max_examples=40)
def test_the_common_area_is_covered_and_cannot_grow(moves: list[tuple[float, float, float, float]]) -> None:
    size = (300, 200)
    laid = [Placement(np.eye(3), size)]
    for scale, degrees, dx, dy in moves:
        c, s = scale * np.cos(np.radians(degrees)), scale * np.sin(np.radians(degrees))
        laid.append(Placement(np.array([[c, -s, dx], [s, c, dy], [0, 0, 1]]), size))
    x, y, w, h = common_area([placement.corners() for placement in laid], size)
    assert abs(w / h - 1.5) < 0.03
    for placement in laid:
        assert placement.covers((x, y, w, h)).all()
    # the programme is optimal: no larger box of the shape fits anywhere
    bigger = (int(w * 1.03) + 3, int(h * 1.03) + 3)
    covered = np.all([placement.covers((0, 0, *size)) for placement in laid], axis=0).astype(np.uint8)
    total = cv2.integral(covered).astype(int)
    if bigger[0] <= 300 and bigger[1] <= 200:
        sums = total[bigger[1] :, bigger[0] :] - total[: -bigger[1], bigger[0] :] - total[bigger[1] :, : -bigger[0]] + total[: -bigger[1], : -bigger[0]]
        assert sums.max() < bigger[0] * bigger[1]


def test_frames_that_do_not_meet_have_no_common_area() -> None:
    with pytest.raises(ValueError, match="no part in common"):
        common_area([Placement(np.array([[1, 0, 500.0], [0, 1, 0], [0, 0, 1]]), (300, 200)).corners()], (300, 200))
