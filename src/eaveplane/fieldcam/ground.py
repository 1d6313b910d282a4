"""Height fields seen through a lens: which place each pixel sees, its slope, its shadow, its air.

The picture plane stands upright, so each column of pixels looks along one vertical plane of the landscape. A
height field sampled along those planes is cast column by column from near to far: a pixel sees the first surface
that rises to its line of sight (the floating horizon of Wright, 1973). Shadows are rays marched towards the sun
through the same samples. World axes in metres: x to the right, y up from the ground's zero, z forward.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..imaging.colour import FloatArray
from ..imaging.rows import by_rows

FINEST = 2.4
"""Size in pixels of the finest detail, about what a good lens still resolves on its sensor."""
STRIP = 128
"""Rows that are shaded at a time."""


@dataclass(frozen=True)
class View:
    """The grid on which a landscape is drawn.

    Pixel (column, row) looks through (left + column * step, top + row * step) of the picture plane, u to the
    right and v downwards from the optical axis, in long sides of the sensor; `lens` is the focal length in the
    same unit, `pixel` the size of the camera's pixel.
    """

    width: int
    height: int
    left: float
    top: float
    step: float
    lens: float
    pixel: float

    def columns(self) -> NDArray[np.float64]:
        """Tangents x / z of the columns."""
        return np.asarray((self.left + self.step * np.arange(self.width)) / self.lens, np.float64)


@dataclass(frozen=True)
class Light:
    """What lights a landscape: the direction to the sun (x, y, z), radiances of sun, sky and distant air, and
    the share of light lost a metre in red, green and blue."""

    sun: tuple[float, float, float]
    sun_rgb: tuple[float, float, float]
    sky_rgb: tuple[float, float, float]
    air_rgb: tuple[float, float, float]
    loss: tuple[float, float, float]
    glow: float = 0.6
    """How much brighter the air is towards the sun."""
    wrap: float = 0.0
    """How far light reaches round, as in snow."""

    def packed(self) -> NDArray[np.float64]:
        s = np.array(self.sun) / np.linalg.norm(self.sun)
        return np.array([*s, *self.sun_rgb, *self.sky_rgb, *self.air_rgb, *self.loss, self.glow, self.wrap])


def ranges(view: View, eye: float, nearest: float, farthest: float, ratio: float) -> NDArray[np.float64]:
    """Distances at which a height field is sampled: less than a pixel apart on level ground, at most `ratio` of
    the distance."""
    found = [nearest]
    while found[-1] < farthest:
        z = found[-1]
        found.append(z + min(ratio * z, 0.9 * z * z * view.step / (view.lens * eye)))
    return np.array(found)


@njit(cache=True, nogil=True)
def _cast(heights: np.ndarray, zs: np.ndarray, top: float, step: float, lens: float, eye: float, horizon: float, first: int, last: int, hit: np.ndarray, mix: np.ndarray) -> None:
    rows = hit.shape[0]
    low = np.full(last - first, rows)
    before = np.empty(last - first)
    highest = np.full(last - first, 1e9)
    for k in range(len(zs)):
        for c in range(first, last):
            i = c - first
            y = (horizon + lens * (eye - heights[k, c]) / zs[k] - top) / step
            if k == 0:
                before[i] = max(y, rows - 0.5)
            was = before[i] if k else y + 1.0
            while low[i] > 0 and low[i] - 1 >= y:
                r = low[i] - 1
                t = min(max((was - r) / max(was - y, 1e-9), 0.0), 1.0)
                at = max(k - 1 + t, 0.0)
                hit[r, c] = at
                if r + 1 < rows and highest[i] < 1e8 and zs[k] > 1.04 * zs[int(hit[r + 1, c])]:
                    # the edge of what is in front lies between two rows; the pixel it cuts shows both
                    reach = min(max(r + 1 - highest[i], 0.0), 1.0)
                    if reach > 0.5:
                        mix[r, c] = reach - 0.5
                    else:
                        mix[r + 1, c] = reach - 0.5
                low[i] = r
            if y < highest[i]:
                highest[i] = y
            before[i] = y
    for c in range(first, last):
        i = c - first
        for r in range(low[i]):
            hit[r, c] = -1.0
        # how much of the pixel above the skyline is land still
        if low[i] > 0 and low[i] < rows:
            reach = min(max(low[i] - highest[i], 0.0), 1.0)
            if reach > 0.5:
                mix[low[i] - 1, c] = reach - 0.5
            else:
                mix[low[i], c] = reach - 0.5


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _height(heights: np.ndarray, row: float, col: float) -> float:
    r = min(max(row, 0.0), heights.shape[0] - 1.001)
    c = min(max(col, 0.0), heights.shape[1] - 1.001)
    i, j = int(r), int(c)
    a, b = r - i, c - j
    return (heights[i, j] * (1 - b) + heights[i, j + 1] * b) * (1 - a) + (heights[i + 1, j] * (1 - b) + heights[i + 1, j + 1] * b) * a


@njit(cache=True, nogil=True, fastmath=True, inline="always")
def _row_of(z: float, table: np.ndarray, low: float, high: float) -> float:
    q = (1.0 / z - low) / (high - low) * (len(table) - 1)
    q = min(max(q, 0.0), len(table) - 1.001)
    i = int(q)
    return table[i] + (table[i + 1] - table[i]) * (q - i)


@njit(cache=True, nogil=True, fastmath=True)
def _survey(heights: np.ndarray, zs: np.ndarray, tangents: np.ndarray, table: np.ndarray, hit: np.ndarray, sun: np.ndarray, pixel: float, shaded: np.ndarray, most: float, seen: np.ndarray) -> None:
    """Into `seen` (rows, cols, 8): x, y, z, normal, share of the sun, share of the sky."""
    low, high = 1.0 / zs[-1], 1.0 / zs[0]
    t0, dt = tangents[0], tangents[1] - tangents[0]
    for r in range(hit.shape[0]):
        for c in range(hit.shape[1]):
            at = hit[r, c]
            if at < 0:
                seen[r, c, 6] = -1.0
                continue
            k = min(int(at), len(zs) - 2)
            f = at - k
            z = zs[k] + (zs[k + 1] - zs[k]) * f
            y = _height(heights, at, c)
            x = tangents[c] * z
            foot = z * pixel
            c0, c1 = max(c - 1, 0), min(c + 1, hit.shape[1] - 1)
            by_tangent = (_height(heights, at, c1) - _height(heights, at, c0)) / ((c1 - c0) * dt)
            reach = max(1.0, 0.5 * foot / (zs[k + 1] - zs[k]))
            # the slope up to the place itself: beyond a crest it would be that of the side away from the lens
            r0, r1 = max(at - reach, 0.0), min(max(at, reach), len(zs) - 1.001)
            z0 = zs[int(r0)] + (zs[int(r0) + 1] - zs[int(r0)]) * (r0 - int(r0))
            z1 = zs[int(r1)] + (zs[int(r1) + 1] - zs[int(r1)]) * (r1 - int(r1))
            slope_x = by_tangent / z
            slope_z = (_height(heights, r1, c) - _height(heights, r0, c)) / max(z1 - z0, 1e-9) - tangents[c] / z * by_tangent
            n = 1.0 / np.sqrt(1 + slope_x * slope_x + slope_z * slope_z)
            seen[r, c, 0], seen[r, c, 1], seen[r, c, 2] = x, y, z
            seen[r, c, 3], seen[r, c, 4], seen[r, c, 5] = -slope_x * n, n, -slope_z * n
            # towards the sun: the nearest miss, as an angle, is the share of its disc that is seen
            share, t = 1.0, 1.5 * foot
            for _ in range(22):
                zz = z + t * sun[2]
                if zz < zs[0] or zz > zs[-1] or y + t * sun[1] > most:
                    break
                col = ((x + t * sun[0]) / zz - t0) / dt
                if col < 0 or col > hit.shape[1] - 1:
                    break
                clear = y + t * sun[1] - _height(heights, _row_of(zz, table, low, high), col)
                share = min(share, 0.5 + clear / (t * 0.02 + 1.1 * foot))
                if share <= 0:
                    share = 0.0
                    break
                t = t * 1.4
            crowd = 0.0
            if shaded.shape[1] == heights.shape[0]:
                share *= 1 - _height(shaded[0], at, c)
                crowd = _height(shaded[1], at, c)
            seen[r, c, 6] = share
            # how much of the sky the place's surroundings leave free
            free = 0.0
            for d in range(4):
                ax, az = (1.0, 0.3) if d == 0 else ((-1.0, -0.3) if d == 1 else ((-0.3, 1.0) if d == 2 else (0.3, -1.0)))
                top, t = 0.0, 4 * foot
                for _ in range(3):
                    zz = z + t * az
                    if zz < zs[0]:
                        break
                    rise = (_height(heights, _row_of(min(zz, zs[-1]), table, low, high), ((x + t * ax) / zz - t0) / dt) - y) / t
                    top = max(top, rise)
                    t *= 3.5
                free += 1 - top / np.sqrt(1 + top * top)
            seen[r, c, 7] = 0.25 * free * (1 - 0.85 * crowd)


@njit(cache=True, nogil=True, fastmath=True)
def _relight(seen: np.ndarray, albedo: np.ndarray, light: np.ndarray, eye: float, out: np.ndarray) -> None:
    """Radiance from what is seen (h, w, 8) and its colour (h, w, 4: albedo and gloss) into `out` (h, w, 4)."""
    for r in range(seen.shape[0]):
        for c in range(seen.shape[1]):
            if seen[r, c, 6] < 0:
                for b in range(4):
                    out[r, c, b] = 0.0
                continue
            x, y, z = seen[r, c, 0], seen[r, c, 1] - eye, seen[r, c, 2]
            away = np.sqrt(x * x + y * y + z * z)
            nx, ny, nz = seen[r, c, 3], seen[r, c, 4], seen[r, c, 5]
            facing = nx * light[0] + ny * light[1] + nz * light[2]
            wrap = light[16]
            direct = seen[r, c, 6] * max(0.0, (facing + wrap) / (1 + wrap))
            hx, hy, hz = light[0] - x / away, light[1] - y / away, light[2] - z / away
            gloss = max(0.0, (nx * hx + ny * hy + nz * hz) / np.sqrt(hx * hx + hy * hy + hz * hz + 1e-9)) ** 40 * albedo[r, c, 3] * seen[r, c, 6]
            sky = seen[r, c, 7] * (0.55 + 0.45 * ny)
            bounce = 0.12 * max(0.0, 1 - ny)
            towards = max(0.0, (x * light[0] + y * light[1] + z * light[2]) / away) ** 6
            for b in range(3):
                lit = albedo[r, c, b] * (light[3 + b] * (direct + bounce * light[1]) + light[6 + b] * sky) + gloss * light[3 + b]
                kept = np.exp(-away * light[12 + b])
                out[r, c, b] = lit * kept + (1 - kept) * light[9 + b] * (1 + light[15] * towards)
            out[r, c, 3] = 1.0


@njit(cache=True, nogil=True)
def _soften(mix: np.ndarray, out: np.ndarray) -> None:
    for r in range(1, out.shape[0] - 1):
        for c in range(out.shape[1]):
            m = mix[r, c]
            if m > 0:
                for b in range(4):
                    out[r, c, b] += m * (out[r + 1, c, b] - out[r, c, b])
            elif m < 0:
                for b in range(4):
                    out[r, c, b] -= m * (out[r - 1, c, b] - out[r, c, b])


@njit(cache=True)
def _fill_up(hit: np.ndarray, zs: np.ndarray, out: np.ndarray) -> None:
    """Dioptres of each pixel; above the skyline those of the skyline, so that blur is defined on both sides."""
    for c in range(hit.shape[1]):
        last = 1.0 / zs[-1]
        for r in range(hit.shape[0] - 1, -1, -1):
            if hit[r, c] >= 0:
                k = min(int(hit[r, c]), len(zs) - 2)
                last = 1.0 / (zs[k] + (zs[k + 1] - zs[k]) * (hit[r, c] - k))
            out[r, c] = last


Heights = Callable[[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64], int, int, FloatArray], None]
"""Fills rows first..last of (len(zs), columns) with metres above zero at (tangent * z, z), for tangents and zs,
without what is finer than `smallest` (len(zs))."""
Colour = Callable[[FloatArray, float, FloatArray], None]
"""Fills albedo and gloss (h, w, 4) of places seen (h, w, 8: x, y, z, normal, share of sun, share of sky), where a
pixel is `pixel` metres wide at one metre."""


def height_at(field: Heights, x: float, z: float) -> float:
    """Metres above zero of the ground at a place."""
    out = np.empty((1, 1), np.float32)
    field(np.array([x / z]), np.array([z]), np.array([0.003 * z]), 0, 1, out)
    return float(out[0, 0])


def draw_ground(
    view: View, zs: NDArray[np.float64], field: Heights, colour: Colour, eye: float, horizon: float, light: Light, capsules: NDArray[np.float64] | None = None
) -> tuple[FloatArray, FloatArray]:
    """Radiance premultiplied with coverage (h, w, 4) and dioptres (h, w) of a height field sampled at distances `zs`,
    seen from `eye` metres with the horizon at `v = horizon`. `capsules` (n, 8) stand on it and cast shadows."""
    packed, tangents, pixel = light.packed(), view.columns(), view.pixel / view.lens
    heights = np.empty((len(zs), view.width), np.float32)
    # what is finer than the samples would come out as teeth
    smallest = np.maximum(FINEST * zs * pixel, 1.5 * np.gradient(zs))
    by_rows(lambda a, b: field(tangents, zs, smallest, a, b, heights), len(zs), view.width)
    hit = np.empty((view.height, view.width), np.float32)
    mix = np.zeros((view.height, view.width), np.float32)
    by_rows(lambda a, b: _cast(heights, zs, view.top, view.step, view.lens, eye, horizon, a, b, hit, mix), view.width, view.height)
    table = np.interp(-np.linspace(1 / zs[-1], 1 / zs[0], 1 << 14), -1 / zs, np.arange(len(zs))).astype(np.float32)
    most = float(heights.max())
    shade = np.zeros((2, 1, 1), np.float32) if capsules is None else cast_shadows(capsules, view, zs, light)
    out = np.zeros((view.height, view.width, 4), np.float32)

    def strips(first: int, last: int) -> None:
        for a in range(first, last, STRIP):
            b = min(a + STRIP, last)
            seen = np.empty((b - a, view.width, 8), np.float32)
            albedo = np.zeros((b - a, view.width, 4), np.float32)
            _survey(heights, zs, tangents, table, hit[a:b], packed[:3], pixel, shade, most, seen)
            colour(seen, pixel, albedo)
            _relight(seen, albedo, packed, eye, out[a:b])

    by_rows(strips, view.height, view.width)
    _soften(mix, out)
    dioptres = np.empty((view.height, view.width), np.float32)
    _fill_up(hit, zs, dioptres)
    return out, dioptres


@njit(cache=True, nogil=True, fastmath=True)
def _shadow_strokes(strokes: np.ndarray, zs: np.ndarray, t0: float, dt: float, out: np.ndarray) -> None:
    for s in range(strokes.shape[0]):
        x0, z0, r0, x1, z1, r1, soft0, soft1 = strokes[s]
        if min(z0, z1) - r0 < zs[0] or min(z0, z1) > zs[-1]:
            continue
        za, zb = min(z0 - r0 - soft0, z1 - r1 - soft1), max(z0 + r0 + soft0, z1 + r1 + soft1)
        ka, kb = np.searchsorted(zs, za), np.searchsorted(zs, zb)
        length = max((x1 - x0) ** 2 + (z1 - z0) ** 2, 1e-12)
        for k in range(max(ka - 1, 0), min(kb + 1, len(zs))):
            z = zs[k]
            xa = min(x0 - r0 - soft0, x1 - r1 - soft1)
            xb = max(x0 + r0 + soft0, x1 + r1 + soft1)
            ca, cb = int((xa / z - t0) / dt), int((xb / z - t0) / dt) + 2
            for c in range(max(ca, 0), min(cb, out.shape[1])):
                x = (t0 + dt * c) * z
                t = min(max(((x - x0) * (x1 - x0) + (z - z0) * (z1 - z0)) / length, 0.0), 1.0)
                d = np.sqrt((x - x0 - t * (x1 - x0)) ** 2 + (z - z0 - t * (z1 - z0)) ** 2)
                r, soft = r0 + t * (r1 - r0), soft0 + t * (soft1 - soft0) + 0.6 * z * dt
                # a penumbra wider than the thing never gets fully dark
                dark = min(max(0.5 + (r - d) / (2 * soft), 0.0), 1.0) - min(max(0.5 + (-r - d) / (2 * soft), 0.0), 1.0)
                out[k, c] = max(out[k, c], min(1.0, dark))


def cast_shadows(capsules: NDArray[np.float64], view: View, zs: NDArray[np.float64], light: Light) -> FloatArray:
    """What capsules (n, 8: x, y, z, radius at both ends) take from level ground, 0..1 on the grid of the heights:
    (2, len(zs), view.width), of the sun and, near their feet, of the sky."""
    s = light.packed()[:3]
    shadow, crowd = np.empty((len(capsules), 8)), np.empty((len(capsules), 8))
    for end in (0, 1):
        x, y, z, r = capsules[:, 4 * end : 4 * end + 4].T
        y = np.maximum(y, 0)
        shadow[:, 3 * end : 3 * end + 3] = np.stack([x - y * s[0] / s[1], z - y * s[2] / s[1], r], axis=1)
        shadow[:, 6 + end] = 0.0015 + 0.009 * y / s[1]
        crowd[:, 3 * end : 3 * end + 3] = np.stack([x, z, 0.7 * r], axis=1)
        crowd[:, 6 + end] = 0.5 * r + 0.6 * y
    out = np.zeros((2, len(zs), view.width), np.float32)
    tangents = view.columns()
    _shadow_strokes(shadow, zs, tangents[0], tangents[1] - tangents[0], out[0])
    low = np.minimum(capsules[:, 1], capsules[:, 5]) < 1.5 * np.maximum(capsules[:, 3], capsules[:, 7])
    _shadow_strokes(crowd[low], zs, tangents[0], tangents[1] - tangents[0], out[1])
    return out
