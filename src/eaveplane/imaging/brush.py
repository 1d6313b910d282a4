"""Movements of a brush, kept in pixels of the full size and drawn at whatever size is asked for."""

from __future__ import annotations

from typing import Annotated, Self

import numpy as np
from numba import njit
from pydantic import Field

from ..parameter import Parameters
from .colour import FloatArray
from .placement import Carry, around, carried
from .pyramid import Box

Coordinate = Annotated[float, Field(ge=-1e6, le=1e6, allow_inf_nan=False)]


class BrushLine(Parameters):
    """One movement of the brush: a line through points, `width` pixels wide."""

    width: float = Field(gt=0, le=20000)
    softness: float = Field(ge=0, le=1)
    opacity: float = Field(gt=0, le=1)
    points: list[tuple[Coordinate, Coordinate]] = Field(min_length=1, max_length=5000)

    def moved(self, carry: Carry) -> Self:
        """The same line on a picture into which `carry` leads."""
        middle = (float(np.mean([x for x, _ in self.points])), float(np.mean([y for _, y in self.points])))
        width = min(max(self.width * around(middle, carry)[0], 1e-3), 20000.0)
        return self.model_copy(update={"points": carried(self.points, carry), "width": width})

    def bounds(self) -> Box:
        """The box of full-size pixels that the line touches."""
        where, reach = np.array(self.points), self.width / 2 + 2
        x0, y0 = np.floor(where.min(axis=0) - reach).astype(int)
        x1, y1 = np.ceil(where.max(axis=0) + reach).astype(int)
        return int(x0), int(y0), int(x1 - x0) + 1, int(y1 - y0) + 1


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _nearest(points: np.ndarray, reach: float, x0: int, y0: int, squared: np.ndarray) -> None:
    """Squared distance of each pixel to the line through the points, where it is within reach."""
    height, width = squared.shape
    for i in range(max(1, points.shape[0] - 1)):
        ax, ay = points[i]
        bx, by = points[min(i + 1, points.shape[0] - 1)]
        left, right = max(0, int(min(ax, bx) - reach) - x0), min(width, int(max(ax, bx) + reach) + 2 - x0)
        top, bottom = max(0, int(min(ay, by) - reach) - y0), min(height, int(max(ay, by) + reach) + 2 - y0)
        dx, dy = bx - ax, by - ay
        length = dx * dx + dy * dy
        for y in range(top, bottom):
            for x in range(left, right):
                px, py = x + x0 - ax, y + y0 - ay
                t = 0.0 if length == 0 else min(1.0, max(0.0, (px * dx + py * dy) / length))
                d = (px - t * dx) ** 2 + (py - t * dy) ** 2
                if d < squared[y, x]:
                    squared[y, x] = d


def draw_line(line: BrushLine, box: Box, level: int) -> FloatArray | None:
    """Coverage (h, w) 0..1 of a line in a box of the picture halved `level` times; None where it does not reach.

    From the rim inwards it rises over `softness` (0..1) of its radius, over at least one pixel.
    """
    x, y, w, h = box
    scale = 0.5**level
    where = (np.array(line.points) + 0.5) * scale - 0.5
    radius = max(0.5, line.width / 2 * scale)
    low, high = where.min(axis=0) - radius - 1, where.max(axis=0) + radius + 1
    if low[0] >= x + w or low[1] >= y + h or high[0] < x or high[1] < y:
        return None
    squared = np.full((h, w), np.float32(1e12), np.float32)
    _nearest(where, radius + 1, x, y, squared)
    t = np.clip((radius + 0.5 - np.sqrt(squared)) / max(line.softness * radius, 1.0), 0, 1)
    return np.asarray(line.opacity * t * t * (3 - 2 * t), np.float32)
