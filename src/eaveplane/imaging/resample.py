"""Resampling a picture under a homography, and area averages for smaller renditions."""

from __future__ import annotations

import cv2
import numpy as np
from numba import njit
from numpy.typing import NDArray

from .colour import FloatArray
from .rows import by_rows

PHASE_BITS = 10
PHASES = 1 << PHASE_BITS
TAPS = 6
MOST_LEAN = 0.12
"""By how much rows and columns of one picture lean in the other, summed, up to which they can be resampled one after the other."""
MOST_BEND = 1e-5
"""Change of scale a pixel up to which it is told in one place for all."""


def _lanczos_table() -> FloatArray:
    """Weights (PHASES + 1, 6) of the Lanczos kernel with three lobes, each row summing to one."""
    offsets = np.arange(-2, 4)[None, :] - (np.arange(PHASES + 1) / PHASES)[:, None]
    weights = np.sinc(offsets) * np.sinc(offsets / 3)
    return (weights / weights.sum(axis=1, keepdims=True)).astype(np.float32)


_TABLE = _lanczos_table()


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _warp(source: np.ndarray, back: np.ndarray, x0: int, y0: int, out: np.ndarray, table: np.ndarray, edge: bool) -> None:
    height, width, channels = source.shape
    total = np.empty(channels, np.float32)
    for j in range(out.shape[0]):
        for i in range(out.shape[1]):
            x, y = float(i + x0), float(j + y0)
            w = back[2, 0] * x + back[2, 1] * y + back[2, 2]
            sx = (back[0, 0] * x + back[0, 1] * y + back[0, 2]) / w
            sy = (back[1, 0] * x + back[1, 1] * y + back[1, 2]) / w
            if edge:
                sx, sy = min(max(sx, 0.0), width - 1.0), min(max(sy, 0.0), height - 1.0)
            elif not (sx > -1.0 and sy > -1.0 and sx < width and sy < height):
                for c in range(channels):
                    out[j, i, c] = 0.0
                continue
            # rounded to the table's grid before it is split, so that whole pixels come through untouched
            qx, qy = int(np.floor(sx * PHASES + 0.5)), int(np.floor(sy * PHASES + 0.5))
            ix, iy = qx // PHASES, qy // PHASES
            px, py = qx - ix * PHASES, qy - iy * PHASES
            for c in range(channels):
                total[c] = 0.0
            if ix >= 2 and iy >= 2 and ix < width - 3 and iy < height - 3:
                for b in range(TAPS):
                    wy = table[py, b]
                    row = iy + b - 2
                    if channels == 3:
                        r0, r1, r2 = np.float32(0), np.float32(0), np.float32(0)
                        for a in range(TAPS):
                            wx = table[px, a]
                            r0 += wx * source[row, ix + a - 2, 0]
                            r1 += wx * source[row, ix + a - 2, 1]
                            r2 += wx * source[row, ix + a - 2, 2]
                        total[0] += wy * r0
                        total[1] += wy * r1
                        total[2] += wy * r2
                    else:
                        for a in range(TAPS):
                            wxy = wy * table[px, a]
                            for c in range(channels):
                                total[c] += wxy * source[row, ix + a - 2, c]
            else:
                for b in range(TAPS):
                    row = min(max(iy + b - 2, 0), height - 1)
                    for a in range(TAPS):
                        col = min(max(ix + a - 2, 0), width - 1)
                        wxy = table[py, b] * table[px, a]
                        for c in range(channels):
                            total[c] += wxy * source[row, col, c]
            for c in range(channels):
                out[j, i, c] = total[c]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _weights(at: np.ndarray, table: np.ndarray, start: np.ndarray, weights: np.ndarray) -> None:
    """First tap's place and the six weights (6, n) for positions `at` (n,) along a line."""
    for i in range(at.shape[0]):
        q = int(np.floor(at[i] * PHASES + 0.5))
        start[i] = (q >> PHASE_BITS) - 2
        for t in range(TAPS):
            weights[t, i] = table[q & (PHASES - 1), t]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _warp_in_two(source: np.ndarray, fore: np.ndarray, back: np.ndarray, x0: int, y0: int, out: np.ndarray, table: np.ndarray, edge: bool) -> None:
    """The same as `_warp` in a pass along rows and one along columns.

    The first takes pixels of a row to the columns that they end in, which is exact under perspective, too. Over long runs of a line the taps
    move on with the pixels and only weights change; these runs are what the compiler makes vectors of.
    """
    height, width, channels = source.shape
    rows, cols = out.shape[:2]
    low, high = 1e9, -1e9
    for corner in range(4):
        x, y = float(x0 + (corner & 1) * (cols - 1)), float(y0 + (corner >> 1) * (rows - 1))
        sy = (back[1, 0] * x + back[1, 1] * y + back[1, 2]) / (back[2, 0] * x + back[2, 1] * y + back[2, 2])
        low, high = min(low, sy), max(high, sy)
    first = min(max(int(np.floor(low)) - 3, 0), height - 1)
    last = min(max(int(np.ceil(high)) + 3, 0), height - 1)
    along = np.zeros((last - first + 1, channels, cols), np.float32)
    plane = np.empty((channels, max(width, cols)), np.float32)
    at, start, w = np.empty(cols), np.empty(cols, np.int64), np.empty((TAPS, cols), np.float32)
    for ys in range(first, last + 1):
        row = np.uint64(ys - first)
        for c in range(channels):
            for i in range(width):
                plane[c, i] = source[ys, i, c]
        a = fore[0, 1] * ys + fore[0, 2]
        b = fore[2, 1] * ys + fore[2, 2]
        for i in range(cols):
            x = float(i + x0)
            # where in this row of the source lies what goes into column x
            at[i] = min(max((a - x * b) / (x * fore[2, 0] - fore[0, 0]), -3.0), width + 2.0)
        _weights(at, table, start, w)
        i = 0
        while i < cols:
            s, end = start[i], i + 1
            if s < 0 or s + TAPS > width:
                for c in range(channels):
                    total = np.float32(0)
                    for t in range(TAPS):
                        total += w[t, i] * plane[c, min(max(s + t, 0), width - 1)]
                    along[ys - first, c, i] = total
                i = end
                continue
            while end < cols and start[end] - end == s - i and start[end] + TAPS <= width:
                end += 1
            for c in range(channels):
                for t in range(TAPS):
                    shift = np.uint64(s + t - i)
                    for k in range(np.uint64(i), np.uint64(end)):
                        along[row, c, k] += w[t, k] * plane[c, k + shift]
            i = end
    last -= first
    for j in range(rows):
        y = float(j + y0)
        for i in range(cols):
            x = float(i + x0)
            sy = (back[1, 0] * x + back[1, 1] * y + back[1, 2]) / (back[2, 0] * x + back[2, 1] * y + back[2, 2])
            at[i] = min(max(sy, 0.0), height - 1.0)
        _weights(at, table, start, w)
        plane[:, :cols] = 0
        i = 0
        while i < cols:
            s, end = start[i], i + 1
            while end < cols and start[end] == s:
                end += 1
            for c in range(channels):
                for t in range(TAPS):
                    r = np.uint64(min(max(s + t - first, 0), last))
                    for k in range(np.uint64(i), np.uint64(end)):
                        plane[c, k] += w[t, k] * along[r, c, k]
            i = end
        for i in range(cols):
            for c in range(channels):
                out[j, i, c] = plane[c, i]
        if not edge:
            for i in range(cols):
                x = float(i + x0)
                v = back[2, 0] * x + back[2, 1] * y + back[2, 2]
                sx = (back[0, 0] * x + back[0, 1] * y + back[0, 2]) / v
                sy = (back[1, 0] * x + back[1, 1] * y + back[1, 2]) / v
                if not (sx > -1.0 and sy > -1.0 and sx < width and sy < height):
                    for c in range(channels):
                        out[j, i, c] = 0.0


def warp(source: FloatArray, to_target: NDArray[np.float64], box: tuple[int, int, int, int], repeat_edge: bool = False, whole: tuple[int, int] | None = None) -> FloatArray:
    """Resample `source` (h, w) or (h, w, c) under a homography, Lanczos with three lobes (Duchon 1979).

    `to_target` (3, 3) takes a source pixel to the target grid; `box` = (x, y, w, h) is the part of the target
    grid that is wanted, of `whole` (w, h) where that is known. Beyond the source the result is 0, or the nearest edge pixel with `repeat_edge`.
    """
    x, y, width, height = box
    planes = source if source.ndim == 3 else source[..., None]
    out = np.empty((height, width, planes.shape[2]), np.float32)
    planes = np.ascontiguousarray(planes, np.float32)
    back = np.linalg.inv(to_target)
    fore = np.linalg.inv(back)
    # not told of the box: a pixel is the same whatever part is asked for
    if _upright(back, whole):
        by_rows(lambda a, b: _warp_in_two(planes, fore, back, x, y + a, out[a:b], _TABLE, repeat_edge), height, width)
    else:
        by_rows(lambda a, b: _warp(planes, back, x, y + a, out[a:b], _TABLE, repeat_edge), height, width)
    return out if source.ndim == 3 else out[..., 0]


def _upright(back: NDArray[np.floating], whole: tuple[int, int] | None) -> bool:
    """Whether rows and columns of a grid of a size (w, h) hardly lean where `back` (3, 3) takes it, in none of its corners."""
    if whole is None and np.abs(back[2, :2]).max() > MOST_BEND * abs(back[2, 2]):
        return False
    right, bottom = whole or (0, 0)
    there = np.array([[0, 0, 1], [right, 0, 1], [0, bottom, 1], [right, bottom, 1]]) @ back.T
    if not (there[:, 2] * np.sign(back[2, 2]) > 0).all():
        return False
    slopes = np.abs(back[:2, :2] * there[:, 2, None, None] - there[:, :2, None] * back[2, :2])
    return bool((slopes[:, 0, 1] + slopes[:, 1, 0] < MOST_LEAN * np.minimum(slopes[:, 0, 0], slopes[:, 1, 1])).all())


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _looks(back: np.ndarray, x0: int, y0: int, amount: np.ndarray, step: np.ndarray, middle: np.ndarray, out: np.ndarray) -> None:
    for j in range(out.shape[0]):
        y = float(j + y0)
        for i in range(out.shape[1]):
            x = float(i + x0)
            w = np.float64(1.0) / (back[2, 0] * x + back[2, 1] * y + back[2, 2])
            d = float(amount[j, i])
            out[j, i, 0] = (back[0, 0] * x + back[0, 1] * y + back[0, 2]) * w + d * (step[0] + step[2] * (x - middle[0]) * middle[2])
            out[j, i, 1] = (back[1, 0] * x + back[1, 1] * y + back[1, 2]) * w + d * (step[1] + step[2] * (y - middle[1]) * middle[2])


def looks(back: NDArray[np.float64], box: tuple[int, int, int, int], amount: FloatArray, step: NDArray[np.float64], middle: NDArray[np.float64]) -> FloatArray:
    """Where in the source (h, w, 2) each pixel of a target box (x, y, w, h) lies: where `back` (3, 3) puts it, and `amount` (h, w) times
    a step to the side, up and forward (3,), the last in proportion to the distance from `middle` (x, y, and by what to divide it)."""
    x, y, width, height = box
    out = np.empty((height, width, 2), np.float32)
    by_rows(lambda a, b: _looks(back, x, y + a, amount[a:b], step, middle, out[a:b]), height, width)
    return out


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _warp_at(source: np.ndarray, at: np.ndarray, out: np.ndarray, table: np.ndarray) -> None:
    height, width, channels = source.shape
    for j in range(out.shape[0]):
        for i in range(out.shape[1]):
            sx, sy = min(max(float(at[j, i, 0]), 0.0), width - 1.0), min(max(float(at[j, i, 1]), 0.0), height - 1.0)
            qx, qy = int(np.floor(sx * PHASES + 0.5)), int(np.floor(sy * PHASES + 0.5))
            ix, iy = qx >> PHASE_BITS, qy >> PHASE_BITS
            px, py = qx & (PHASES - 1), qy & (PHASES - 1)
            inside = ix >= 2 and iy >= 2 and ix < width - 3 and iy < height - 3
            for c in range(channels):
                total = np.float32(0)
                for b in range(TAPS):
                    row = iy + b - 2
                    if not inside:
                        row = min(max(row, 0), height - 1)
                    along = np.float32(0)
                    for a in range(TAPS):
                        col = ix + a - 2
                        if not inside:
                            col = min(max(col, 0), width - 1)
                        along += table[px, a] * source[row, col, c]
                    total += table[py, b] * along
                out[j, i, c] = total


def warp_at(source: FloatArray, at: FloatArray) -> FloatArray:
    """`source` (h, w) or (h, w, c) at places `at` (h', w', 2) of its own, as `warp` resamples, its edges repeated."""
    planes = np.ascontiguousarray(source if source.ndim == 3 else source[..., None], np.float32)
    out = np.empty((*at.shape[:2], planes.shape[2]), np.float32)
    by_rows(lambda a, b: _warp_at(planes, at[a:b], out[a:b], _TABLE), *at.shape[:2])
    return out if source.ndim == 3 else out[..., 0]


# between rows and along them apart, and one and two maps apart, so that each loop is compiled into vector instructions


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _mixed(above: np.ndarray, below: np.ndarray, f: np.float32, row: np.ndarray) -> None:
    for i in range(above.shape[0]):
        row[i] = above[i] + (below[i] - above[i]) * f


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def along(row: np.ndarray, first: np.ndarray, share: np.ndarray, out: np.ndarray) -> None:
    """A row of numbers, linear between them, at places of `places_along`; it is one longer than it says there."""
    for i in range(out.shape[0]):
        n = first[i]
        out[i] = row[n] + (row[n + np.uint32(1)] - row[n]) * share[i]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _two_along(row: np.ndarray, first: np.ndarray, share: np.ndarray, out: np.ndarray) -> None:
    for i in range(out.shape[0]):
        n, m, s = first[i], first[i] + np.uint32(1), share[i]
        out[i, 0] = row[n, 0] + (row[m, 0] - row[n, 0]) * s
        out[i, 1] = row[n, 1] + (row[m, 1] - row[n, 1]) * s


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def places_along(width: int, start: float, step: float, first: np.ndarray, share: np.ndarray) -> None:
    """Where in a row of `width` each place `start + i * step` lies: the pixel before it, and how far behind that."""
    for i in range(first.shape[0]):
        at = min(max(start + i * step, 0.0), width - 1.0)
        first[i] = min(int(at), max(width - 2, 0))
        share[i] = at - first[i]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _spread(maps: np.ndarray, step_x: float, x0: float, step_y: float, y0: float, out: np.ndarray) -> None:
    height, width, count = maps.shape
    columns = out.shape[1]
    first, share = np.empty(columns, np.uint32), np.empty(columns, np.float32)
    places_along(width, x0, step_x, first, share)
    row = np.zeros((width + 1, count), np.float32)
    flat = row.reshape(-1)
    for j in range(out.shape[0]):
        at = min(max(y0 + j * step_y, 0.0), height - 1.0)
        k = min(int(at), max(height - 2, 0))
        _mixed(maps[k].reshape(-1), maps[min(k + 1, height - 1)].reshape(-1), np.float32(at - k), flat)
        if count == 1:
            along(flat, first, share, out[j, :, 0])
        else:
            _two_along(row, first, share, out[j])


def spread(maps: FloatArray, step: tuple[float, float], start: tuple[float, float], size: tuple[int, int]) -> FloatArray:
    """One map (h, w) or two (h, w, 2) at places `start + i * step` (x, y) of theirs, i counting up to `size` (w, h): linear
    between their pixels, the last ones repeated beyond them."""
    out = np.empty((size[1], size[0], *maps.shape[2:]), np.float32)
    if out.size:
        flat = np.ascontiguousarray(maps, np.float32)
        _spread(flat.reshape(*flat.shape[:2], -1), step[0], start[0], step[1], start[1], out.reshape(*out.shape[:2], -1))
    return out


def coverage(size: tuple[int, int], to_target: NDArray[np.float64], box: tuple[int, int, int, int]) -> NDArray[np.bool_]:
    """Where the target box (x, y, w, h) is covered by a source of `size` (width, height) under `to_target`: (h, w)."""
    x, y, width, height = box
    back = np.linalg.inv(to_target)
    corners = np.array([[[x, y], [x + width - 1, y], [x, y + height - 1], [x + width - 1, y + height - 1]]], np.float64)
    there = cv2.perspectiveTransform(corners, back)[0]
    if (there >= 0).all() and (there <= np.array(size) - 1).all():
        return np.ones((height, width), np.bool_)
    xs, ys = np.arange(x, x + width)[None, :], np.arange(y, y + height)[:, None]
    w = back[2, 0] * xs + back[2, 1] * ys + back[2, 2]
    sx = (back[0, 0] * xs + back[0, 1] * ys + back[0, 2]) / w
    sy = (back[1, 0] * xs + back[1, 1] * ys + back[1, 2]) / w
    slack = 1e-6
    inside: NDArray[np.bool_] = (sx >= -slack) & (sy >= -slack) & (sx <= size[0] - 1 + slack) & (sy <= size[1] - 1 + slack)
    return inside


def halve(picture: FloatArray) -> FloatArray:
    """Half the size by averaging 2×2 pixels; an odd last row or column is averaged with itself."""
    height, width = picture.shape[:2]
    if height % 2 or width % 2:
        picture = cv2.copyMakeBorder(picture, 0, height % 2, 0, width % 2, cv2.BORDER_REPLICATE)
    return cv2.resize(picture, (picture.shape[1] // 2, picture.shape[0] // 2), interpolation=cv2.INTER_AREA)
