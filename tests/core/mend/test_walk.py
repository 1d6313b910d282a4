"""The walk along depth edges."""

from __future__ import annotations

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from eaveplane.core.mend.walk import LEAST_EDGE, walk


def _scene(seed: int) -> np.ndarray:
    """Ground in bands, near below, and stems of the nearest frame before all of it."""
    rng = np.random.default_rng(seed)
    owner = np.repeat(np.array([3, 2, 1, 0]), 50)[:, None].repeat(400, axis=1)
    for _ in range(4):
        x = int(rng.integers(20, 380))
        owner[20:150, x : x + 6] = 0
    return np.stack([(owner == k).astype(np.float32) for k in range(4)])


@given(st.integers(0, 1000))
@settings(max_examples=15)
def test_every_stop_lies_on_an_edge_and_none_is_far_from_one(seed: int) -> None:
    gates = _scene(seed)
    owner, stops = gates.argmax(axis=0), walk(gates)
    assert stops
    for stop in stops:
        x, y = int(stop.x), int(stop.y)
        around = owner[max(0, y - 1) : y + 2, max(0, x - 1) : x + 2]
        assert around.min() == stop.near and around.max() - around.min() >= 2 and stop.length >= LEAST_EDGE
    assert [s.near for s in stops] == sorted(s.near for s in stops)
    # each stem is passed
    edges = np.argwhere(np.abs(np.diff(owner, axis=1)) >= 2)
    places = np.array([(s.y, s.x) for s in stops])
    assert max(np.hypot(*(places - e).T).min() for e in edges[::40]) < 100


def test_without_depth_edges_the_borders_of_zones_are_walked_and_one_frame_has_none() -> None:
    bands = np.zeros((2, 80, 120), np.float32)
    bands[0, 40:], bands[1, :40] = 1, 1
    assert [(s.near, s.far) for s in walk(bands)] == [(0, 1), (0, 1)]
    assert walk(np.ones((1, 80, 120), np.float32)) == []
