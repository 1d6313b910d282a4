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
from .resample import TAPS, coverage, looks, spread, warp, warp_at

Matrix = NDArray[np.float64]
Points = NDArray[np.float64]
ROUNDS, ALONG = 8, 33
"""Rounds in which a shift is undone, and places along a side at which it is looked at."""
Carry = Callable[[Points], Points]
"""Takes points (n, 2) of one picture to where another shows the same."""


def scaled(matrix: Matrix, step: float) -> Matrix:
    """A homography (3, 3) between pixel grids, for grids of cells `step` pixels wide (centres at integers in both).

    >>> float(scaled(np.array([[1, 0, 8], [0, 1, 0], [0, 0, 1.0]]), 4)[0, 2])
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


def unit(points: Points, size: Size) -> Points:
    """Points (n, 2) of a picture of `size` (w, h) counted from its middle, 1 at the end of the longer side."""
    return (points - (np.array(size) - 1) / 2) / (max(size) / 2)


@dataclass(frozen=True, eq=False)
class Shift:
    """How near things lie elsewhere in a frame, taken by a camera that moved: `depth` (h', w') of the whole reference frame of `size` (w, h)
    in full pixels, inverse distance in any unit, times a `step` (3,) to the side, up and forward, in pixels at depth 1."""

    step: NDArray[np.float64]
    depth: FloatArray
    size: Size

    def reach(self) -> float:
        """How far, in full pixels, all but the nearest twentieth of the picture is shifted at most, against what is infinitely far."""
        height, width = self.depth.shape
        down, across = np.mgrid[0:height:4, 0:width:4]
        cells = (np.stack([across, down], -1).reshape(-1, 2) + 0.5) * np.array(self.size) / np.array([width, height]) - 0.5
        return float(np.percentile(np.linalg.norm(self.at(cells), axis=1), 95))

    def within(self, box: Box, cell: float) -> FloatArray:
        """The depth (h, w) in a box of the reference in cells of `cell` pixels."""
        x, y, w, h = box
        across, down = (n / whole * cell for n, whole in zip(self.depth.shape[::-1], self.size, strict=True))
        return spread(self.depth, (across, down), ((x + 0.5) * across - 0.5, (y + 0.5) * down - 0.5), (w, h))

    def at(self, points: Points) -> Points:
        """By how much (n, 2) points of the reference are shifted, in full pixels."""
        from scipy.ndimage import map_coordinates

        where = (points + 0.5) * np.array(self.depth.shape[::-1]) / self.size - 0.5
        depth = map_coordinates(self.depth, where[:, ::-1].T, np.float64, order=1, mode="nearest")
        return np.asarray((self.step[:2] + self.step[2] * unit(points, self.size)) * depth[:, None], np.float64)


@dataclass(frozen=True, eq=False)
class Placement:
    """Where a frame of `size` (w, h) lies on the reference grid, centres of pixels at integers.

    `matrix` (3, 3) takes its pixels there; a camera that moved has a `shift` too, and `matrix` is right for what is infinitely far. All of
    it is in cells of `cell` full pixels.
    """

    matrix: Matrix
    size: Size
    shift: Shift | None = None
    cell: float = 1.0

    @cached_property
    def _inverse(self) -> Matrix:
        return np.asarray(np.linalg.inv(self.matrix), np.float64)

    @cached_property
    def is_reference(self) -> bool:
        """Whether it is the reference grid itself, as the reference frame is."""
        return self.shift is None and np.array_equal(self.matrix, np.eye(3))

    def _shifted(self, points: Points) -> Points:
        """By how much points of the reference grid are shifted, in cells."""
        assert self.shift is not None
        return self.shift.at(points * self.cell + (self.cell - 1) / 2) / self.cell

    def onto(self, points: Points) -> Points:
        """Points (n, 2) of the frame on the reference grid. Where a shift folds the picture, one of those that come back there."""
        there = through(points, self.matrix)
        for _ in range(ROUNDS if self.shift else 0):
            there = through(points - self._shifted(there), self.matrix)
        return there

    def back(self, points: Points) -> Points:
        """Points (n, 2) of the reference grid in the frame."""
        there = through(points, self._inverse)
        return there + self._shifted(np.asarray(points, np.float64)) if self.shift else there

    def corners(self) -> Points:
        """Corners (4, 2) on the reference grid, in turn, of what the frame surely reaches: those of its corner pixels' centres, drawn in by as much
        as a shift draws in its sides."""
        right, bottom = self.size[0] - 1, self.size[1] - 1
        corners = np.array([[0, 0], [right, 0], [right, bottom], [0, bottom]], np.float64)
        plain = through(corners, self.matrix)
        if self.shift is None:
            return plain
        middle, sides = plain.mean(axis=0), []
        for k in range(4):
            along = self.onto(corners[k] + np.linspace(0, 1, ALONG)[:, None] * (corners[(k + 1) % 4] - corners[k]))
            way = plain[(k + 1) % 4] - plain[k]
            inward = np.array([way[1], -way[0]]) / np.linalg.norm(way)
            inward *= np.sign(inward @ (middle - plain[k]))
            sides.append((inward, float((along @ inward).max())))
        return np.array([np.linalg.solve(np.array([sides[k - 1][0], sides[k][0]]), [sides[k - 1][1], sides[k][1]]) for k in range(4)])

    def at(self, level: int) -> Placement:
        """The same for frame and reference halved `level` times."""
        return self.in_cells(1 << level, (-(-self.size[0] >> level), -(-self.size[1] >> level))) if level else self

    def in_cells(self, step: float, size: Size) -> Placement:
        """The same on grids of cells `step` times as wide, of which the frame has `size` (w, h)."""
        return Placement(scaled(self.matrix, step), size, self.shift, self.cell * step)

    def looks(self, box: Box) -> FloatArray:
        """Where in the frame (h, w, 2) each cell of a box of the reference grid lies."""
        if self.shift is None:
            return looks(self._inverse, box, np.zeros((box[3], box[2]), np.float32), np.zeros(3), np.ones(3))
        middle = np.array([*(((n - 1) / 2 - (self.cell - 1) / 2) / self.cell for n in self.shift.size), 2 * self.cell / max(self.shift.size)])
        return looks(self._inverse, box, self.shift.within(box, self.cell), self.shift.step / self.cell, middle)

    def covers(self, box: Box) -> NDArray[np.bool_]:
        """Where (h, w) the frame reaches in a box of the reference grid."""
        if self.shift is None:
            return coverage(self.size, self.matrix, box)
        at = self.looks(box)
        return np.asarray(((at >= 0) & (at <= np.array(self.size, np.float32) - 1)).all(axis=2))

    def source_box(self, box: Box) -> Box:
        """The part of the frame that `lay` needs for a box of the reference grid; never empty."""
        x, y, w, h = box
        corners = np.array([[x, y], [x + w, y], [x, y + h], [x + w, y + h]], np.float64)
        there = self.looks(box).reshape(-1, 2) if self.shift else self.back(corners)
        low, high = np.floor(there.min(axis=0)) - TAPS, np.ceil(there.max(axis=0)) + TAPS
        last = np.array(self.size) - 1
        x0, y0 = (int(v) for v in np.clip(low, 0, last))
        x1, y1 = (int(v) for v in np.clip(high, 0, last))
        return x0, y0, x1 - x0 + 1, y1 - y0 + 1

    def lay(self, picture: FloatArray, box: Box, part: Box | None = None) -> FloatArray:
        """The frame's `picture` (h, w[, c]), or a `part` of it that holds its `source_box`, resampled in a box of the
        reference grid (Lanczos with three lobes), its edges repeated beyond it."""
        x, y = part[:2] if part else (0, 0)
        if self.shift is not None:
            return warp_at(picture, self.looks(box) - np.array([x, y], np.float32))
        return warp(picture, self.matrix @ np.array([[1, 0, x], [0, 1, y], [0, 0, 1.0]]) if x or y else self.matrix, box, repeat_edge=True, whole=self.size)

    def lay_maps(self, maps: FloatArray, shape: tuple[int, int], repeat_edge: bool = True) -> FloatArray:
        """Maps (h, w[, c]) of the frame on the reference grid, of `shape` (h, w), linear between their cells; 0 beyond them, or
        their edge."""
        border = cv2.BORDER_REPLICATE if repeat_edge else cv2.BORDER_CONSTANT
        if self.shift is not None:
            at = self.looks((0, 0, shape[1], shape[0]))
            return np.asarray(cv2.remap(maps, at[..., 0], at[..., 1], cv2.INTER_LINEAR, borderMode=border), np.float32)
        return np.asarray(cv2.warpPerspective(maps, self.matrix, shape[::-1], flags=cv2.INTER_LINEAR, borderMode=border), np.float32)


def carried(points: Sequence[tuple[float, float]], carry: Carry) -> list[tuple[float, float]]:
    """Points (x, y) where `carry` takes them."""
    return [(float(x), float(y)) for x, y in carry(np.asarray(points, np.float64).reshape(-1, 2))]


def around(point: tuple[float, float], carry: Carry) -> tuple[float, float]:
    """By which factor `carry` enlarges what lies around a point, and by how many degrees it turns it clockwise."""
    (x, y), (right_x, right_y), (down_x, down_y) = carried([point, (point[0] + 1, point[1]), (point[0], point[1] + 1)], carry)
    area = (right_x - x) * (down_y - y) - (right_y - y) * (down_x - x)
    return math.sqrt(max(abs(area), 1e-12)), math.degrees(math.atan2(right_y - y, right_x - x))
