"""Carrying places of one picture into another that shows the same from elsewhere."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

Fit = NDArray[np.float64]


def carried(points: Sequence[tuple[float, float]], fit: Fit) -> list[tuple[float, float]]:
    """Points (x, y) where `fit` (3, 3) takes them."""
    at = np.column_stack([np.asarray(points, np.float64).reshape(-1, 2), np.ones(len(points))]) @ fit.T
    return [(float(x / w), float(y / w)) for x, y, w in at]


def around(point: tuple[float, float], fit: Fit) -> tuple[float, float]:
    """By which factor `fit` enlarges what lies around a point, and by how many degrees it turns it clockwise."""
    (x, y), (right_x, right_y), (down_x, down_y) = carried([point, (point[0] + 1, point[1]), (point[0], point[1] + 1)], fit)
    area = (right_x - x) * (down_y - y) - (right_y - y) * (down_x - x)
    return math.sqrt(max(abs(area), 1e-12)), math.degrees(math.atan2(right_y - y, right_x - x))
