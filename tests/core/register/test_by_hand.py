"""Frames laid by hand, what is told of a fit, what a frame costs, and what helps the eye."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from eaveplane.core.register.area import common_area, costs
from eaveplane.core.register.looking import REACH, edges_of, matched_difference
from eaveplane.core.register.movement import movement_of
from eaveplane.core.register.nudge import STILL, Nudge, pinned
from eaveplane.core.register.trust import trust
from eaveplane.imaging.placement import Placement, through
from eaveplane.optics.disc import disc_kernel

SIZE = (300, 200)
NUDGES = st.builds(Nudge, x=st.floats(-40, 40), y=st.floats(-40, 40), scale=st.floats(-5, 5), turn=st.floats(-4, 4))


@given(NUDGES, NUDGES)
def test_nudges_follow_each_other_as_their_matrices_do(first: Nudge, then: Nudge) -> None:
    np.testing.assert_allclose(then.after(first).matrix(SIZE), then.matrix(SIZE) @ first.matrix(SIZE), atol=1e-8)
    np.testing.assert_allclose(first.back().after(first).matrix(SIZE), np.eye(3), atol=1e-8)


@given(NUDGES)
def test_a_nudge_is_what_is_told_of_it(nudge: Nudge) -> None:
    told = movement_of(nudge.matrix(SIZE), SIZE)
    assert (told.right, told.down, told.scale, told.turn) == pytest.approx((nudge.x, nudge.y, nudge.scale, nudge.turn), abs=1e-4)
    assert told.perspective < 1e-4
    tilted = movement_of(nudge.matrix(SIZE) @ np.array([[1, 0, 0], [0, 1, 0], [1e-4, 0, 1]]), SIZE)
    assert tilted.perspective > 0.5


@given(NUDGES, st.integers(0, 10_000), st.integers(3, 9))
def test_pins_lay_a_frame_where_its_points_belong(nudge: Nudge, seed: int, count: int) -> None:
    rng = np.random.default_rng(seed)
    here = np.column_stack([np.linspace(10, 280, count), rng.uniform(10, 190, count)])
    there = through(here, np.linalg.inv(nudge.matrix(SIZE)))
    found, left = pinned(there, here, SIZE)
    assert left < 1e-6
    np.testing.assert_allclose(found.matrix(SIZE), nudge.matrix(SIZE), atol=1e-6)
    # a hand does not click exactly: what remains tells by how much
    _, left = pinned(there + rng.normal(0, 0.8, there.shape), here, SIZE)
    assert 0 < left < 4


@pytest.mark.parametrize(
    ("there", "here", "said"),
    [
        ([[1, 1], [9, 9]], [[1, 1], [9, 9]], "at least 3"),
        ([[5, 5], [5, 5], [5, 5.5]], [[1, 1], [9, 9], [3, 100]], "on each other"),
        ([[5, 5], [15, 5], [5, 15]], [[5, 5], [105, 5], [5, 105]], "wrong"),
        ([[5, 5], [95, 5], [5, 95]], [[30_005, 5], [30_095, 5], [30_005, 95]], "too far apart"),
    ],
)
def test_pins_that_tell_nothing_say_what_to_do(there: list[list[float]], here: list[list[float]], said: str) -> None:
    with pytest.raises(ValueError, match=said):
        pinned(np.array(there, float), np.array(here, float), SIZE)


@pytest.mark.parametrize(
    ("residual", "tiles", "textured", "linked", "verdict", "word"),
    [
        (0.1, 300, 320, True, "good", ""),
        (0.1, 3, 5, True, "cannot be trusted", "Too few structures"),
        (float("nan"), 0, 0, False, "cannot be trusted", "Too few structures"),
        (0.9, 40, 400, False, "cannot be trusted", "Another composition"),
        (2.4, 300, 320, True, "look at it", "2.4 px"),
        (0.9, 200, 320, False, "look at it", "No features"),
    ],
)
def test_a_fit_is_judged_in_plain_words(residual: float, tiles: int, textured: int, linked: bool, verdict: str, word: str) -> None:
    found = trust(residual, float("nan"), 0.4, tiles, textured, linked)
    assert found.verdict == verdict and word in (found.said or "") and (found.said is None) == (verdict == "good")
    assert found.own is None and (found.residual is None) == (residual != residual)


def _corners(*shifts: tuple[float, float]) -> list[np.ndarray]:
    return [Placement(Nudge(x=x, y=y).matrix(SIZE), SIZE).corners() for x, y in shifts]


def test_a_frame_is_told_what_it_alone_costs() -> None:
    none, some, twice = costs(_corners((0, 0), (30, 0), (-6, 0)), SIZE)
    # 294 and 264 of 300 pixels are left across, at the ratio of the frame
    assert none == 0 and some == pytest.approx(1 - (263 / 293) ** 2, abs=2e-3) and 0 < twice < some
    assert costs(_corners((20, 0), (20, 0)), SIZE) == [0, 0]


@settings(max_examples=40)
@given(st.lists(st.tuples(st.floats(-25, 25), st.floats(-25, 25), st.floats(-1, 1)), min_size=1, max_size=4))
def test_any_ratio_keeps_at_least_as_much_and_is_covered(moves: list[tuple[float, float, float]]) -> None:
    laid = [Placement(Nudge(x=x, y=y, turn=turn).matrix(SIZE), SIZE) for x, y, turn in moves]
    quads = [placement.corners() for placement in laid]
    fixed, free = common_area(quads, SIZE), common_area(quads, SIZE, free=True)
    assert free[2] * free[3] >= 0.985 * fixed[2] * fixed[3]
    x, y, w, h = free
    inside = (x + 1, y + 1, w - 2, h - 2)
    assert all(placement.covers(inside).all() for placement in laid)
    assert x >= 0 and y >= 0 and x + w <= SIZE[0] and y + h <= SIZE[1]


def _texture(seed: int) -> np.ndarray:
    noise = cv2.GaussianBlur(np.random.default_rng(seed).standard_normal((200, 300)).astype(np.float32), (0, 0), 1.2)
    return (0.5 + 0.5 * noise).astype(np.float32)


def test_blur_alone_is_no_difference_and_a_shift_is() -> None:
    sharp = _texture(1)
    soft = cv2.filter2D(sharp, -1, disc_kernel(4.2), borderType=cv2.BORDER_REFLECT_101)
    core = (slice(REACH, -REACH), slice(REACH, -REACH))
    plain = np.abs(sharp - soft)[core].mean()
    for a, b in ((sharp, soft), (soft, sharp)):
        assert np.abs(matched_difference(a, b))[core].mean() < 0.15 * plain
    moved = cv2.warpAffine(soft, np.array([[1, 0, 2.0], [0, 1, 0]]), (300, 200), borderMode=cv2.BORDER_REFLECT_101)
    assert np.abs(matched_difference(sharp, moved))[core].mean() > 3 * np.abs(matched_difference(sharp, soft))[core].mean()
    # the sign is that of the first less the second
    bright = matched_difference(sharp + np.float32(0.1), sharp)
    assert bright[core].mean() == pytest.approx(0.1, abs=0.01)


def test_edges_lie_where_a_step_is() -> None:
    step = np.full((80, 120), 0.2, np.float32)
    step[:, 60:] = 0.7
    found = edges_of(step)
    assert found[:, 58:62].any(axis=1).mean() > 0.9 and not found[:, :55].any() and not found[:, 65:].any()
    assert not edges_of(np.full((40, 40), 0.5, np.float32)).any()
    assert Nudge() == STILL
