"""Placements: there and back, at any size, and where frames reach."""

from __future__ import annotations

import math

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from eaveplane.imaging.placement import Placement, Shift, around, scaled, through

SIZE = (160, 120)
MOVES = (st.floats(0.8, 1.2), st.floats(-20, 20), st.floats(-60, 60), st.floats(-60, 60), st.floats(-2e-4, 2e-4))


def _placed(scale: float, degrees: float, dx: float, dy: float, bend: float = 0.0) -> Placement:
    a = np.radians(degrees)
    return Placement(np.array([[scale * np.cos(a), -scale * np.sin(a), dx], [scale * np.sin(a), scale * np.cos(a), dy], [bend, -bend, 1]]), SIZE)


def _smooth() -> np.ndarray:
    return cv2.GaussianBlur(np.random.default_rng(1).random((SIZE[1], SIZE[0], 3), np.float32), (0, 0), 2.0)


@given(*MOVES)
@settings(max_examples=40)
def test_points_go_there_and_come_back(scale: float, degrees: float, dx: float, dy: float, bend: float) -> None:
    placement = _placed(scale, degrees, dx, dy, bend)
    points = np.array([[0, 0], [159, 0], [80.25, 60.5], [3, 117]], np.float64)
    np.testing.assert_allclose(placement.back(placement.onto(points)), points, atol=1e-8)
    for point, there in zip(points, placement.onto(points), strict=True):
        x, y, w = placement.matrix @ [*point, 1.0]
        np.testing.assert_allclose(there, [x / w, y / w], atol=1e-9)
    np.testing.assert_array_equal(placement.corners()[0], placement.onto(points[:1])[0])


@given(*MOVES)
@settings(max_examples=30)
def test_a_frame_reaches_where_its_pixels_land(scale: float, degrees: float, dx: float, dy: float, bend: float) -> None:
    placement = _placed(scale, degrees, dx, dy, bend)
    inside = placement.covers((-5, -5, 170, 130))
    ys, xs = np.mgrid[-5:125, -5:165]
    back = placement.back(np.stack([xs, ys], -1).reshape(-1, 2).astype(np.float64)).reshape(130, 170, 2)
    clear = (back[..., 0] > 0.01) & (back[..., 1] > 0.01) & (back[..., 0] < 158.99) & (back[..., 1] < 118.99)
    outside = (back[..., 0] < -0.01) | (back[..., 1] < -0.01) | (back[..., 0] > 159.01) | (back[..., 1] > 119.01)
    assert inside[clear].all() and not inside[outside].any()


@given(st.floats(0.97, 1.03), st.floats(-2, 2), st.integers(0, 100), st.integers(0, 60))
@settings(max_examples=20)
def test_the_source_box_is_enough(scale: float, degrees: float, x: int, y: int) -> None:
    picture, placement, box = _smooth(), _placed(scale, degrees, 3.3, -2.1), (x, y, 50, 40)
    px, py, pw, ph = placement.source_box(box)
    part = placement.lay(picture[py : py + ph, px : px + pw], box, (px, py, pw, ph))
    assert np.abs(part - placement.lay(picture, box)).max() < 2e-3


@given(st.integers(0, 4), *MOVES)
def test_halved_frames_lie_at_the_same_place(level: int, scale: float, degrees: float, dx: float, dy: float, bend: float) -> None:
    placement = _placed(scale, degrees, dx, dy, bend)
    small, step = placement.at(level), 2**level
    cells = np.array([[10.0, 20.0], [0, 0], [3.5, 4]])
    pixels = cells * step + (step - 1) / 2
    np.testing.assert_allclose(small.onto(cells) * step + (step - 1) / 2, placement.onto(pixels), atol=1e-6)
    assert small.size == (-(-SIZE[0] // step), -(-SIZE[1] // step))
    np.testing.assert_allclose(scaled(small.matrix, 1 / step), placement.matrix / placement.matrix[2, 2], atol=1e-9)


def test_maps_are_laid_like_pixels_and_end_as_asked() -> None:
    picture, placement = _smooth(), _placed(1.01, 1.0, 8.0, -3.0)
    laid = placement.lay_maps(picture, (120, 160))
    assert np.abs(laid - placement.lay(picture, (0, 0, *SIZE)))[10:-10, 15:-15].max() < 0.05
    bare = placement.lay_maps(picture, (120, 160), repeat_edge=False)
    gone = ~placement.covers((0, 0, *SIZE))
    assert gone.any() and (bare[cv2.erode(gone.astype(np.uint8), np.ones((5, 5), np.uint8)) > 0] == 0).all() and laid.min() > 0.1


def test_size_and_turn_around_a_point_are_told() -> None:
    scale, turn = around((40, 30), _placed(1.1, 12.0, 5, 6).onto)
    assert scale == pytest.approx(1.1) and turn == pytest.approx(12.0)
    there, here = _placed(1.1, 12.0, 5, 6), _placed(0.9, -3.0, 1, 2)
    scale, turn = around((40, 30), lambda points: here.back(there.onto(points)))
    assert scale == pytest.approx(1.1 / 0.9) and turn == pytest.approx(15.0) and math.isfinite(scale)


# ---- a camera that moved ------------------------------------------------------------------------------------------


def _stepped(scale: float, degrees: float, dx: float, dy: float, step: tuple[float, float, float]) -> Placement:
    depth = cv2.GaussianBlur(np.random.default_rng(3).random((30, 40), np.float32), (0, 0), 4)
    return Placement(_placed(scale, degrees, dx, dy).matrix, SIZE, Shift(np.array(step), (depth - depth.min()) / np.ptp(depth), SIZE))


STEPPED = (st.floats(0.97, 1.03), st.floats(-2, 2), st.floats(-8, 8), st.floats(-8, 8), st.tuples(st.floats(-6, 6), st.floats(-6, 6), st.floats(-4, 4)))


@given(*STEPPED)
@settings(max_examples=30)
def test_a_shift_is_undone_and_the_same_in_pixels_points_and_halves(scale: float, degrees: float, dx: float, dy: float, step: tuple[float, float, float]) -> None:
    placement = _stepped(scale, degrees, dx, dy, step)
    points = np.array([[20, 30], [80.25, 60.5], [140, 100]])
    np.testing.assert_allclose(placement.back(placement.onto(points)), points, atol=0.02)
    looks = placement.looks((0, 0, *SIZE))
    whole = np.array([[20.0, 30], [80, 60], [140, 100]])
    np.testing.assert_allclose(looks[[30, 60, 100], [20, 80, 140]], placement.back(whole), atol=2e-3)
    small = placement.at(2)
    np.testing.assert_allclose(small.back(np.array([[5.0, 7], [20, 11]])) * 4 + 1.5, placement.back(np.array([[21.5, 29.5], [81.5, 45.5]])), atol=1e-6)
    np.testing.assert_allclose(small.looks((5, 7, 2, 2))[0, 0], small.back(np.array([[5.0, 7]]))[0], atol=2e-3)


@given(*STEPPED)
@settings(max_examples=20)
def test_a_shifted_frame_needs_its_source_box_and_reaches_between_its_corners(scale: float, degrees: float, dx: float, dy: float, step: tuple[float, float, float]) -> None:
    placement, picture, box = _stepped(scale, degrees, dx, dy, step), _smooth(), (40, 30, 60, 50)
    x, y, w, h = placement.source_box(box)
    np.testing.assert_allclose(placement.lay(picture[y : y + h, x : x + w], box, (x, y, w, h)), placement.lay(picture, box), atol=2e-3)
    ys, xs = np.mgrid[0 : SIZE[1] : 3, 0 : SIZE[0] : 3]
    places = np.stack([xs, ys], -1).reshape(-1, 2).astype(np.float64)
    quad = placement.corners().astype(np.float32)
    inside = np.array([cv2.pointPolygonTest(quad, (float(px), float(py)), True) for px, py in places]) > 0.5
    there = placement.back(places[inside])
    assert (there >= -0.5).all() and (there <= np.array(SIZE) - 0.5).all()


def test_no_shift_lays_as_its_matrix_does_and_a_constant_one_as_a_shifted_matrix() -> None:
    picture, plain = _smooth(), _placed(1.01, 1.0, 8.0, -3.0)
    box = (10, 10, 120, 90)
    still = Placement(plain.matrix, SIZE, Shift(np.zeros(3), np.ones((4, 4), np.float32), SIZE))
    assert np.abs(still.lay(picture, box) - plain.lay(picture, box)).max() < 3e-3
    beside = Placement(plain.matrix, SIZE, Shift(np.array([2.0, -1.0, 0.0]), np.ones((4, 4), np.float32), SIZE))
    place = np.array([[50.0, 40]])
    np.testing.assert_allclose(beside.back(place) - through(place, np.linalg.inv(plain.matrix)), [[2, -1]], atol=1e-6)
    assert beside.shift is not None and beside.shift.reach() == pytest.approx(np.hypot(2, 1))
    assert np.abs(beside.lay_maps(picture, (120, 160)) - beside.lay(picture, (0, 0, *SIZE)))[10:-10, 15:-15].max() < 0.05
