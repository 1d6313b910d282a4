"""One scale of directional wavelets, shrunk to what stands out of its noise, row by row: a few rows are all that is held, so that none of
it leaves the cache."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit

from ...imaging.resample import along, places_along

WINDOW = 7
"""Pixels over which it is told how much is there beside noise: the loops below count them out."""


class Variance(NamedTuple):
    """Of noise: in each of n zones across, down and both ways (n, 3), or (n, 1) where all detail is taken as one; and how much of each
    place is which (n, h, w), where pixel (x, y) of a piece lies at x0 + x * across, y0 + y * down."""

    zones: np.ndarray
    shares: np.ndarray
    x0: float
    across: float
    y0: float
    down: float


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _shares_at(shares: np.ndarray, at: float, out: np.ndarray) -> None:
    """Shares (n, w) along a line at a height."""
    height = shares.shape[1]
    at = min(max(at, 0.0), height - 1.0)
    k = min(int(at), max(height - 2, 0))
    f, next_ = np.float32(at - k), min(k + 1, height - 1)
    for n in range(shares.shape[0]):
        above, below, row = shares[n, k], shares[n, next_], out[n]
        for i in range(above.shape[0]):
            row[i] = above[i] + (below[i] - above[i]) * f


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _summed(zones: np.ndarray, shares: np.ndarray, out: np.ndarray) -> None:
    out[:] = np.float32(0.0)
    for n in range(zones.shape[0]):
        v, row = zones[n], shares[n]
        for i in range(row.shape[0]):
            out[i] += v * row[i]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _mirrored(n: int, size: int) -> int:
    n = -n - 1 if n < 0 else n
    n = 2 * size - 1 - n if n >= size else n
    return min(max(n, 0), size - 1)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _mirror_ends(row: np.ndarray, reach: int) -> None:
    """The ends of a row that is longer by `reach` on both sides."""
    n = row.shape[0] - 2 * reach
    for k in range(reach):
        row[reach - 1 - k], row[reach + n + k] = row[reach + min(k, n - 1)], row[reach + max(n - 1 - k, 0)]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _spline(a: np.ndarray, b: np.ndarray, c: np.ndarray, d: np.ndarray, e: np.ndarray, out: np.ndarray) -> None:
    for i in range(out.shape[0]):
        out[i] = np.float32(0.0625) * (a[i] + e[i]) + np.float32(0.25) * (b[i] + d[i]) + np.float32(0.375) * c[i]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _along(wide: np.ndarray, out: np.ndarray) -> None:
    n = out.shape[0]
    _spline(wide[0:n], wide[1 : n + 1], wide[2 : n + 2], wide[3 : n + 3], wide[4 : n + 4], out)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _detail(plane: np.ndarray, across: np.ndarray, down: np.ndarray, smooth: np.ndarray, x: np.ndarray, y: np.ndarray, z: np.ndarray) -> None:
    for i in range(plane.shape[0]):
        x[i], y[i], z[i] = down[i] - smooth[i], across[i] - smooth[i], plane[i] - across[i] - down[i] + smooth[i]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _squares(a: np.ndarray, b: np.ndarray, c: np.ndarray, d: np.ndarray, e: np.ndarray, f: np.ndarray, g: np.ndarray, out: np.ndarray) -> None:
    for i in range(out.shape[0]):
        out[i] = a[i] * a[i] + b[i] * b[i] + c[i] * c[i] + d[i] * d[i] + e[i] * e[i] + f[i] * f[i] + g[i] * g[i]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _kept(band: np.ndarray, wide: np.ndarray, noise: np.ndarray, amount: float, kept: np.ndarray) -> None:
    n = band.shape[0]
    a, b, c, d, e, f, g = wide[0:n], wide[1 : n + 1], wide[2 : n + 2], wide[3 : n + 3], wide[4 : n + 4], wide[5 : n + 5], wide[6 : n + 6]
    mean, times = np.float32(1 / WINDOW**2), np.float32(amount)
    for i in range(n):
        v = mean * (a[i] + b[i] + c[i] + d[i] + e[i] + f[i] + g[i])
        kept[i] += band[i] * max(v - times * noise[i], np.float32(0.0)) / (v + np.float32(1e-20))


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def shrink(plane: np.ndarray, noise: Variance, amount: float, kept: np.ndarray, smooth: np.ndarray) -> None:
    """What is kept of a plane's finest detail, and what is left smooth (both (h, w), written); `amount` times `noise` is taken for noise."""
    h, w = plane.shape
    count, cells = noise.zones.shape[1], noise.shares.shape[2]
    ring = np.empty((count, WINDOW, w), np.float32)
    wide, down, across, sums = np.empty(w + 4, np.float32), np.empty(w + 4, np.float32), np.empty(w, np.float32), np.empty(w + WINDOW - 1, np.float32)
    first, share, mixed, own = np.empty(w, np.uint32), np.empty(w, np.float32), np.zeros(cells + 1, np.float32), np.empty(w, np.float32)
    shares = np.empty((noise.shares.shape[0], cells), np.float32)
    places_along(cells, noise.x0, noise.across, first, share)
    for r in range(h + 3):
        if r < h:
            wide[2 : w + 2] = plane[r]
            _mirror_ends(wide, 2)
            _spline(plane[_mirrored(r - 2, h)], plane[_mirrored(r - 1, h)], plane[r], plane[_mirrored(r + 1, h)], plane[_mirrored(r + 2, h)], down[2 : w + 2])
            _mirror_ends(down, 2)
            _along(down, smooth[r])
            n = r % WINDOW
            if count == 1:
                for i in range(w):
                    ring[0, n, i] = plane[r, i] - smooth[r, i]
            else:
                _along(wide, across)
                _detail(plane[r], across, down[2 : w + 2], smooth[r], ring[0, n], ring[1, n], ring[2, n])
        j = r - 3
        if j < 0:
            continue
        kept[j] = np.float32(0.0)
        _shares_at(noise.shares, noise.y0 + j * noise.down, shares)
        a, b, c, d = _mirrored(j - 3, h) % WINDOW, _mirrored(j - 2, h) % WINDOW, _mirrored(j - 1, h) % WINDOW, j % WINDOW
        e, f, g = _mirrored(j + 1, h) % WINDOW, _mirrored(j + 2, h) % WINDOW, _mirrored(j + 3, h) % WINDOW
        for q in range(count):
            of = ring[q]
            _squares(of[a], of[b], of[c], of[d], of[e], of[f], of[g], sums[3 : w + 3])
            _mirror_ends(sums, 3)
            _summed(noise.zones[:, q], shares, mixed[:cells])
            along(mixed, first, share, own)
            _kept(of[d], sums, own, amount, kept[j])


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def parted(picture: np.ndarray, m: np.ndarray, planes: np.ndarray) -> None:
    """Channels (h, w, 3) as planes (3, h, w) by a matrix (3, 3)."""
    for j in range(picture.shape[0]):
        for i in range(picture.shape[1]):
            x, y, z = picture[j, i, 0], picture[j, i, 1], picture[j, i, 2]
            planes[0, j, i], planes[1, j, i], planes[2, j, i] = m[0, 0] * x + m[0, 1] * y + m[0, 2] * z, m[1, 0] * x + m[1, 1] * y + m[1, 2] * z, m[2, 0] * x + m[2, 1] * y + m[2, 2] * z


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def rejoined(planes: np.ndarray, m: np.ndarray, picture: np.ndarray, mixed: float, out: np.ndarray) -> None:
    """Planes (3, h, w) as channels (h, w, 3) again, with a share of a picture mixed in."""
    part = np.float32(mixed)
    for j in range(out.shape[0]):
        for i in range(out.shape[1]):
            x, y, z = planes[0, j, i], planes[1, j, i], planes[2, j, i]
            for c in range(3):
                clean = m[c, 0] * x + m[c, 1] * y + m[c, 2] * z
                out[j, i, c] = clean + part * (picture[j, i, c] - clean)
