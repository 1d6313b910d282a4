"""Distances told by which frame is sharp where."""

from __future__ import annotations

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from eaveplane.core.depth.distance import distances_of

FOCUS = [0.6, 0.8, 1.2, 2.4, float("inf")]


def _only(frame: int, count: int, height: int = 60, width: int = 80) -> np.ndarray:
    gates = np.zeros((count, height, width), np.float32)
    gates[frame] = 1
    return gates


@given(st.lists(st.floats(0.3, 200), min_size=1, max_size=9, unique=True), st.integers(0, 8))
@settings(max_examples=40)
def test_one_sharp_frame_tells_its_own_distance(focus: list[float], frame: int) -> None:
    frame %= len(focus)
    found = distances_of(_only(frame, len(focus)), focus)
    assert found is not None
    np.testing.assert_allclose(found, focus[frame], rtol=1e-3)


def test_between_two_frames_it_is_between_in_dioptres() -> None:
    gates = 0.5 * (_only(1, 5) + _only(2, 5))
    found = distances_of(gates, FOCUS)
    assert found is not None
    np.testing.assert_allclose(1 / found[5:-5, 5:-5], (1 / 0.8 + 1 / 1.2) / 2, rtol=1e-4)


@given(st.integers(2, 8), st.integers(10, 40), st.integers(0, 2**31))
@settings(max_examples=25)
def test_a_quiet_sky_is_as_far_as_the_farthest_frame(count: int, horizon: int, seed: int) -> None:
    rng = np.random.default_rng(seed)
    focus = [1 / d for d in np.linspace(1.6, 0.01, count)]
    gates = _only(0, count)
    sky = rng.uniform(0.95, 1.05, (count, horizon, 80)).astype(np.float32)
    gates[:, :horizon] = sky / sky.sum(axis=0)
    # something near stands up into it
    gates[:, : horizon + 5, 30:45] = _only(0, count)[:, : horizon + 5, 30:45]
    found = distances_of(gates, focus)
    assert found is not None
    assert (found[: horizon - 4, :25] > 0.95 * focus[-1]).all() and (found[: horizon - 4, 50:] > 0.95 * focus[-1]).all()
    np.testing.assert_allclose(found[horizon + 4 :], focus[0], rtol=1e-3)
    np.testing.assert_allclose(found[:, 34:41], focus[0], rtol=1e-3)


def test_a_quiet_patch_lies_where_its_surroundings_do() -> None:
    gates = _only(1, 5)
    gates[:, 25:40, 30:50] = 0.2
    found = distances_of(gates, FOCUS)
    assert found is not None
    np.testing.assert_allclose(found, 0.8, rtol=0.02)


def test_what_cannot_be_told() -> None:
    assert distances_of(_only(0, 2), [0.6, None]) is None
    assert distances_of(np.zeros((0, 4, 4), np.float32), []) is None
    nothing = distances_of(np.full((3, 20, 30), 1 / 3, np.float32), [0.5, 1.0, float("inf")])
    assert nothing is not None and (nothing > 1000).all(), "all of it reaches the upper edge"


def test_frames_that_name_one_distance() -> None:
    focus = [0.6, 0.6, 0.6, float("inf")]
    near, far = distances_of(0.5 * (_only(0, 4) + _only(2, 4)), focus), distances_of(_only(3, 4), focus)
    assert near is not None and far is not None
    np.testing.assert_allclose(near, 0.6, rtol=1e-3)
    assert (far > 1000).all()
    same = distances_of(np.full((3, 20, 30), 1 / 3, np.float32), [2.0, 2.0, 2.0])
    assert same is not None
    np.testing.assert_allclose(same, 2.0, rtol=1e-5)
