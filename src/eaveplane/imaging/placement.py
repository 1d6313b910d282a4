"""Where a picture lies on another that shows the same from elsewhere: places carried there and back, pixels laid on it.

All that lays frames on each other asks here, so that nobody else knows what a placement is made of. It stands with
pixels and not with Register, because merging, inspecting and strokes, which need it, stand below that.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray

from .colour import FloatArray
from .pyramid import Box, Size
from .resample import TAPS, coverage, warp

Matrix = NDArray[np.float64]
Points = NDArray[np.float64]
Carry = Callable[[Points], Points]
"""Takes points (n, 2) of one picture to where another shows the same."""


def scaled(matrix: Matrix, step: float) -> Matrix:
    """A homography (3, 3) between pixel grids, for grids of cells `step` pixels wide (centres at integers in both).

    >>> scaled(np.array([[1, 0, 8], [0, 1, 0], [0, 0, 1.0]]), 4)[0, 2]
    2.0
    """
    cells = np.array([[step, 0, (step - 1) / 2], [0, step, (step - 1) / 2], [0, 0, 1]])
    found: Matrix = np.linalg.inv(cells) @ matrix @ cells
    return found / found[2, 2]


def through(points: Points, matrix: Matrix) -> Points:
    """Points (n, 2) where a homography (3, 3) takes them; those on its horizon become infinite."""
    at = np.column_stack([np.asarray(points, np.float64).reshape(-1, 2), np.ones(len(points))]) @ matrix.T
    moved: Points = at[:, :2] / at[:, 2:]
    return moved


@dataclass(frozen=True, eq=False)
class Placement:
    """Where a frame of `size` (w, h) lies on the reference grid: `matrix` (3, 3) takes its pixels there, centres at integers."""

    matrix: Matrix
    size: Size

    @cached_property
    def _inverse(self) -> Matrix:
        return np.asarray(np.linalg.inv(self.matrix), np.float64)

    def onto(self, points: Points) -> Points:
        """Points (n, 2) of the frame on the reference grid."""
        return through(points, self.matrix)

    def back(self, points: Points) -> Points:
        """Points (n, 2) of the reference grid in the frame."""
        return through(points, self._inverse)

    def corners(self) -> Points:
        """The centres of the frame's corner pixels (4, 2) on the reference grid, in turn."""
        right, bottom = self.size[0] - 1, self.size[1] - 1
        return self.onto(np.array([[0, 0], [right, 0], [right, bottom], [0, bottom]], np.float64))

    def at(self, level: int) -> Placement:
        """The same for frame and reference halved `level` times."""
        return self.in_cells(1 << level, (-(-self.size[0] >> level), -(-self.size[1] >> level))) if level else self

    def in_cells(self, step: float, size: Size) -> Placement:
        """The same on grids of cells `step` pixels wide, of which the frame has `size` (w, h)."""
        return Placement(scaled(self.matrix, step), size)

    def covers(self, box: Box) -> NDArray[np.bool_]:
        """Where (h, w) the frame reaches in a box of the reference grid."""
        return coverage(self.size, self.matrix, box)

    def source_box(self, box: Box) -> Box:
        """The part of the frame that `lay` needs for a box of the reference grid; never empty."""
        x, y, w, h = box
        there = self.back(np.array([[x, y], [x + w, y], [x, y + h], [x + w, y + h]], np.float64))
        low, high = np.floor(there.min(axis=0)) - TAPS, np.ceil(there.max(axis=0)) + TAPS
        last = np.array(self.size) - 1
        x0, y0 = (int(v) for v in np.clip(low, 0, last))
        x1, y1 = (int(v) for v in np.clip(high, 0, last))
        return x0, y0, x1 - x0 + 1, y1 - y0 + 1

    def lay(self, picture: FloatArray, box: Box, part: Box | None = None) -> FloatArray:
        """The frame's `picture` (h, w[, c]), or a `part` of it that holds its `source_box`, resampled in a box of the
        reference grid (Lanczos with three lobes), its edges repeated beyond it."""
        x, y = part[:2] if part else (0, 0)
        return warp(picture, self.matrix @ np.array([[1, 0, x], [0, 1, y], [0, 0, 1.0]]) if x or y else self.matrix, box, repeat_edge=True)

    def lay_maps(self, maps: FloatArray, shape: tuple[int, int], repeat_edge: bool = True) -> FloatArray:
        """Maps (h, w[, c]) of the frame on the reference grid, of `shape` (h, w), linear between their cells; 0 beyond them, or
        their edge."""
        border = cv2.BORDER_REPLICATE if repeat_edge else cv2.BORDER_CONSTANT
        return np.asarray(cv2.warpPerspective(maps, self.matrix, shape[::-1], flags=cv2.INTER_LINEAR, borderMode=border), np.float32)


def carried(points: Sequence[tuple[float, float]], carry: Carry) -> list[tuple[float, float]]:
    """Points (x, y) where `carry` takes them."""
    return [(float(x), float(y)) for x, y in carry(np.asarray(points, np.float64).reshape(-1, 2))]


def around(point: tuple[float, float], carry: Carry) -> tuple[float, float]:
    """By which factor `carry` enlarges what lies around a point, and by how many degrees it turns it clockwise."""
    (x, y), (right_x, right_y), (down_x, down_y) = carried([point, (point[0] + 1, point[1]), (point[0], point[1] + 1)], carry)
    area = (right_x - x) * (down_y - y) - (right_y - y) * (down_x - x)
    return math.sqrt(max(abs(area), 1e-12)), math.degrees(math.atan2(right_y - y, right_x - x))
