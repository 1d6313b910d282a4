"""Where everything stands from near to far, followed up to the edges that the picture has.

Label weights know it in cells of a few pixels and run over edges by as much as their window is wide. The picture knows
its edges: near and far are carried to them by a guided filter over colours (He, Sun and Tang 2013), kept as local lines,
so that a piece of any size is told the same (fast guided filter, He and Sun 2015).
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numba import njit

from ...imaging.colour import FloatArray
from ...imaging.rows import by_rows, side_by_side
from ..masks.parts import Site
from .distance import distances_of

RADIUS = 10
"""Cells around a place whose colours tell what belongs together."""
ALIKE = 0.03
"""Differences of root light below which colours count as one."""
UNSURE, STEEP, LEAST = 7, 0.2, 0.04
"""Cells over which a change of labels makes them unsure, the change from which it does, and what they count for then."""
FARTHEST = 1e-3
"""Inverse distance that stands for the farthest frame, the nearest being 1."""


@dataclass(frozen=True, eq=False)
class DepthOrder:
    """Lines over colours of the whole picture in the weaving encoding: slopes of red and green (h, w, 2), slope of blue and offset (h, w, 2),
    and the least and most (h, w, 2) that they may give."""

    first: FloatArray
    last: FloatArray
    bounds: FloatArray

    def at(self, site: Site, root: FloatArray) -> FloatArray:
        """From 0, the nearest frame, to 1, the farthest, where a piece of the picture (h, w, 3) in the weaving encoding lies (h, w)."""
        out = np.empty(root.shape[:2], np.float32)

        def rows(first: int, last: int) -> None:
            a, b, ends = (site.rows(first, last).spread(maps) for maps in (self.first, self.last, self.bounds))
            _along(root[first:last], a, b, ends, out[first:last])

        by_rows(rows, root.shape[0], root.shape[1])
        return out


def order_of(gates: FloatArray, root: FloatArray) -> DepthOrder:
    """Near to far as label weights (n, h, w) of frames in that order tell it, followed to the edges of the picture (any size, 3) in the
    weaving encoding. Where nothing is to be seen it is taken from around, and up to the upper edge it is sky, as far as the last frame."""
    count, height, width = gates.shape
    place = np.linspace(0, 1, count) if count > 1 else np.zeros(1)
    told = distances_of(gates, [float(1 / (1 - p + FARTHEST)) for p in place])
    assert told is not None
    order = np.clip(1 + FARTHEST - 1 / told, 0, 1).astype(np.float32)
    colours = np.ascontiguousarray(cv2.resize(root, (width, height), interpolation=cv2.INTER_AREA))
    around = np.ones((2 * RADIUS + 1, 2 * RADIUS + 1), np.uint8)
    red, green, blue, offset = _lines(order, colours)
    pairs = [np.stack(pair, axis=-1) for pair in ((red, green), (blue, offset), (cv2.erode(order, around), cv2.dilate(order, around)))]
    return DepthOrder(*(np.asarray(pair, np.float32) for pair in pairs))


def _mean(map_: FloatArray) -> FloatArray:
    side = 2 * RADIUS + 1
    return np.asarray(cv2.blur(map_, (side, side), borderType=cv2.BORDER_REPLICATE), np.float32)


def _lines(value: FloatArray, colours: FloatArray) -> list[FloatArray]:
    """Three slopes and the offset (h, w) of the planes over colour that give a value (h, w)."""
    # where labels change they are least sure of where: they count little there
    square = np.ones((UNSURE, UNSURE), np.uint8)
    steep = cv2.dilate(value, square) - cv2.erode(value, square)
    weight = np.asarray(np.maximum(1 / (1 + (steep / STEEP) ** 4), LEAST), np.float32)
    whole = np.maximum(_mean(weight), 1e-6)

    def mean(map_: FloatArray) -> FloatArray:
        return _mean(weight * map_) / whole

    means, level = np.stack([mean(colours[..., i]) for i in range(3)], axis=-1), mean(value)
    pairs = [(0, 0), (0, 1), (0, 2), (1, 1), (1, 2), (2, 2)]
    spread_, along = np.empty((*value.shape, 6), np.float32), np.empty((*value.shape, 3), np.float32)

    def together(k: int) -> None:
        i, j = pairs[k]
        spread_[..., k] = mean(colours[..., i] * colours[..., j]) - means[..., i] * means[..., j]

    def with_value(i: int) -> None:
        along[..., i] = mean(colours[..., i] * value) - means[..., i] * level

    for _ in side_by_side(lambda of: of[0](of[1]), [*((together, k) for k in range(6)), *((with_value, i) for i in range(3))]):
        pass
    slopes = np.empty_like(along)
    _solved(spread_, along, ALIKE**2, slopes)
    offset = level - (slopes * means).sum(axis=-1)
    return [*(_mean(np.ascontiguousarray(slopes[..., i])) for i in range(3)), _mean(offset)]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _solved(spread_: np.ndarray, along: np.ndarray, noise: float, slopes: np.ndarray) -> None:
    """Solve a symmetric 3 × 3 system at each place, `noise` added along its diagonal."""
    for j in range(along.shape[0]):
        for i in range(along.shape[1]):
            a, b, c, d, e, f = spread_[j, i]
            a, d, f = a + noise, d + noise, f + noise
            aa, bb, cc = d * f - e * e, c * e - b * f, b * e - c * d
            dd, ee, ff = a * f - c * c, b * c - a * e, a * d - b * b
            by = np.float32(1.0) / (a * aa + b * bb + c * cc)
            x, y, z = along[j, i]
            slopes[j, i, 0] = (aa * x + bb * y + cc * z) * by
            slopes[j, i, 1] = (bb * x + dd * y + ee * z) * by
            slopes[j, i, 2] = (cc * x + ee * y + ff * z) * by


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _along(root: np.ndarray, a: np.ndarray, b: np.ndarray, ends: np.ndarray, out: np.ndarray) -> None:
    for j in range(out.shape[0]):
        for i in range(out.shape[1]):
            value = a[j, i, 0] * root[j, i, 0] + a[j, i, 1] * root[j, i, 1] + b[j, i, 0] * root[j, i, 2] + b[j, i, 1]
            out[j, i] = min(max(value, ends[j, i, 0]), ends[j, i, 1])
