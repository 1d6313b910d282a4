"""A walk along the depth edges of a picture, from near to far: where flaws are, if there are any."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from ...imaging.colour import FloatArray

CELL = 64
"""Cells of the gates' grid in which one stop is made: about what is seen at 1:1."""
LEAST_EDGE = 6
"""Cells of an edge that are worth a stop."""
SURE = 0.5
"""A frame's gate from which a place is taken for its own."""


@dataclass(frozen=True)
class Stop:
    """A place (x, y) of the gates' grid on an edge between the zones of a `near` and a `far` frame, and how much of it lies there."""

    x: float
    y: float
    near: int
    far: int
    length: int


def walk(gates: FloatArray) -> list[Stop]:
    """Stops along the edges between zones that are not neighbours in order, or, where there are none, between any; gates (n, h, w) near to far.
    Those of the nearest zone come first, each followed by the nearest one that is left.

    >>> gates = np.zeros((3, 100, 200), np.float32); gates[2] = 1; gates[:, 20:80, 40:60] = [[[1]], [[0]], [[0]]]
    >>> [(stop.near, stop.far) for stop in walk(gates)]
    [(0, 2), (0, 2)]
    """
    _, height, width = gates.shape
    owner = gates.argmax(axis=0)
    sure = gates.max(axis=0) > SURE
    least = np.minimum(cv2.erode(owner.astype(np.uint8), np.ones((3, 3))), owner)
    most = np.maximum(cv2.dilate(owner.astype(np.uint8), np.ones((3, 3))), owner)
    solid = cv2.erode(sure.astype(np.uint8), np.ones((3, 3))) > 0
    edge = (most - least >= 2) & solid
    if edge.sum() < LEAST_EDGE:
        edge = (most > least) & solid
    stops = []
    for top in range(0, height, CELL):
        for left in range(0, width, CELL):
            part = (slice(top, top + CELL), slice(left, left + CELL))
            for near in np.unique(least[part][edge[part]]):
                there = edge[part] & (least[part] == near)
                if there.sum() >= LEAST_EDGE:
                    ys, xs = np.nonzero(there)
                    # a place on the edge itself, next to the middle of what lies here
                    k = int(np.hypot(ys - ys.mean(), xs - xs.mean()).argmin())
                    stops.append(Stop(float(left + xs[k]), float(top + ys[k]), int(near), int(np.bincount(most[part][there]).argmax()), int(there.sum())))
    return _in_turn(stops)


def _in_turn(stops: list[Stop]) -> list[Stop]:
    found: list[Stop] = []
    for near in sorted({stop.near for stop in stops}):
        left = [stop for stop in stops if stop.near == near]
        # from the lower left, as one stands
        at = found[-1] if found else Stop(0.0, max(stop.y for stop in left), 0, 0, 0)
        while left:
            at = min(left, key=lambda stop: (stop.x - at.x) ** 2 + (stop.y - at.y) ** 2)
            left.remove(at)
            found.append(at)
    return found
