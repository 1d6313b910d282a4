"""What air, painted light and glow do to rows of a picture, compiled: one channel an array, as the look's rows are."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit

from ..develop.kernels import drawn_in, exp2, mixed, root3, strengthened, turns

AIR_STEPS = 257
PIVOT = 0.42
"""Root light that contrast in the air leaves as it is."""
HAZIEST = 0.8
"""Share of the picture that the thickest haze takes the place of."""
CLEARED, LEFT = 0.4, 0.4
"""Share of the light of haze that is taken away at most, and of a channel that stays at least."""


class Airs(NamedTuple):
    """Over near to far: contrast, darks, warmth, saturation, haze (AIR_STEPS, 5); whether there are any, and the light (3,) of the haze."""

    table: np.ndarray
    on: bool
    light: np.ndarray


class Painted(NamedTuple):
    """Maps (h, w): steps of exposure, share of colour and of warmth laid on, and how much glows; which of them are there."""

    steps: np.ndarray
    rich: np.ndarray
    warm: np.ndarray
    lit: bool
    enriched: bool
    warmed: bool


class Glowing(NamedTuple):
    """The light (h, w, 3) that lies around, how much glows (h, w) or (1, 1), the root light from which it does, and whether anything does."""

    around: np.ndarray
    where: np.ndarray
    above: float
    on: bool


class Colour(NamedTuple):
    """Matrices (3, 3) of a warmer and a cooler light, of the channels shown, to cones, their roots to Oklab and back, cones to light; luminance's
    weights (3,), the most chroma by lightness and hue, and squared chroma below which none needs drawing in."""

    warmer: np.ndarray
    cooler: np.ndarray
    shown: np.ndarray
    lms: np.ndarray
    lab: np.ndarray
    unlab: np.ndarray
    back: np.ndarray
    weights: np.ndarray
    most: np.ndarray
    least: np.ndarray


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _warmed(r: np.ndarray, g: np.ndarray, b: np.ndarray, amount: np.ndarray, colour: Colour) -> None:
    """The light's colour changed, its luminance kept."""
    w0, w1, w2 = colour.weights
    for i in range(r.shape[0]):
        t = amount[i]
        if t == 0:
            continue
        m = colour.warmer if t > 0 else colour.cooler
        t = min(abs(t), np.float32(3.0))
        before = w0 * r[i] + w1 * g[i] + w2 * b[i]
        x = r[i] + t * (m[0, 0] * r[i] + m[0, 1] * g[i] + m[0, 2] * b[i] - r[i])
        y = g[i] + t * (m[1, 0] * r[i] + m[1, 1] * g[i] + m[1, 2] * b[i] - g[i])
        z = b[i] + t * (m[2, 0] * r[i] + m[2, 1] * g[i] + m[2, 2] * b[i] - b[i])
        after = w0 * x + w1 * y + w2 * z
        f = before / after if before > 0 and after > np.float32(0.25) * before else np.float32(1.0)
        r[i], g[i], b[i] = f * x, f * y, f * z


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _aired(r: np.ndarray, g: np.ndarray, b: np.ndarray, order: np.ndarray, airs: Airs, colour: Colour, warm: np.ndarray, strength: np.ndarray) -> None:
    """Haze, temperature and tones of the air; its colour is left in `strength`."""
    zero, one, last = np.float32(0.0), np.float32(1.0), np.uint32(AIR_STEPS - 2)
    w0, w1, w2 = colour.weights
    a0, a1, a2 = airs.light
    for i in range(r.shape[0]):
        t = min(max(order[i], zero), one) * np.float32(AIR_STEPS - 1)
        n = min(np.uint32(t), last)
        t -= np.float32(n)
        one_off, other = airs.table[n], airs.table[n + np.uint32(1)]
        haze = one_off[4] + (other[4] - one_off[4]) * t
        if haze > 0:
            h = np.float32(HAZIEST) * haze
            r[i], g[i], b[i] = r[i] + h * (a0 - r[i]), g[i] + h * (a1 - g[i]), b[i] + h * (a2 - b[i])
        elif haze < 0:
            gain = one / (one + np.float32(CLEARED) * haze)
            # what is brighter than the air is no haze, and where there was little not all of it is taken for haze
            r[i] = max(a0 + (r[i] - a0) * gain, min(np.float32(LEFT) * r[i], r[i])) if r[i] < a0 else r[i]
            g[i] = max(a1 + (g[i] - a1) * gain, min(np.float32(LEFT) * g[i], g[i])) if g[i] < a1 else g[i]
            b[i] = max(a2 + (b[i] - a2) * gain, min(np.float32(LEFT) * b[i], b[i])) if b[i] < a2 else b[i]
        warm[i] = one_off[2] + (other[2] - one_off[2]) * t
        strength[i] = one_off[3] + (other[3] - one_off[3]) * t
    _warmed(r, g, b, warm, colour)
    for i in range(r.shape[0]):
        t = min(max(order[i], zero), one) * np.float32(AIR_STEPS - 1)
        n = min(np.uint32(t), last)
        t -= np.float32(n)
        one_off, other = airs.table[n], airs.table[n + np.uint32(1)]
        contrast, darks = one_off[0] + (other[0] - one_off[0]) * t, one_off[1] + (other[1] - one_off[1]) * t
        y = np.sqrt(max(w0 * r[i] + w1 * g[i] + w2 * b[i], zero))
        if y <= np.float32(1e-6) or y >= one or (contrast == 0 and darks == 0):
            continue
        room = one - y
        lift = np.float32(1.8) if darks > 0 else np.float32(0.35)
        f = one + np.float32(1.5) * contrast * room * (y - np.float32(PIVOT)) + lift * darks * room * room * room
        f = max(f, zero)
        r[i], g[i], b[i] = r[i] * f * f, g[i] * f * f, b[i] * f * f


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _lit(r: np.ndarray, g: np.ndarray, b: np.ndarray, steps: np.ndarray, colour: Colour, times_: np.ndarray, whole: np.ndarray) -> None:
    """Lighter or darker by steps of exposure, all channels alike, so that hue stays; what is made lighter runs into white as a channel
    nears it, so that no colour burns."""
    one, zero, m = np.float32(1.0), np.float32(0.0), colour.shown
    exp2(steps, times_, whole)
    for i in range(r.shape[0]):
        f = times_[i]
        x = m[0, 0] * r[i] + m[0, 1] * g[i] + m[0, 2] * b[i]
        y = m[1, 0] * r[i] + m[1, 1] * g[i] + m[1, 2] * b[i]
        z = m[2, 0] * r[i] + m[2, 1] * g[i] + m[2, 2] * b[i]
        f = f / (one + min(max(max(x, max(y, z)), zero), one) * max(f - one, zero))
        r[i], g[i], b[i] = r[i] * f, g[i] * f, b[i] * f


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def bright(y: float, above: float) -> float:
    """How much of the light of a luminance glows, 0..1, if it does from a root light on: a smooth step up to white."""
    root = y**0.5 if y > 0 else 0.0
    t = min(max((root - above) / max(1.0 - above, 0.05), 0.0), 1.0)
    share: float = t * t * (3.0 - t - t)
    return share


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def light_rows(root: np.ndarray, order: np.ndarray, airs: Airs, painted: Painted, glow: Glowing, colour: Colour) -> None:
    """Air, painted light and glow on rows (h, w, 3) of a developed picture in the square root of light, in place."""
    height, width = root.shape[0], root.shape[1]
    rows, whole = np.zeros((9, width), np.float32), np.empty(width, np.int32)
    r, g, b, warm, strength, x, y, z, turn = rows[0], rows[1], rows[2], rows[3], rows[4], rows[5], rows[6], rows[7], rows[8]
    w0, w1, w2 = colour.weights
    saturated = painted.enriched
    if airs.on:
        for n in range(AIR_STEPS):
            saturated = saturated or airs.table[n, 3] != 0
    for j in range(height):
        for i in range(width):
            r[i], g[i], b[i] = root[j, i, 0] * abs(root[j, i, 0]), root[j, i, 1] * abs(root[j, i, 1]), root[j, i, 2] * abs(root[j, i, 2])
        strength[:] = np.float32(0.0)
        if airs.on:
            _aired(r, g, b, order[j], airs, colour, warm, strength)
        if painted.lit:
            _lit(r, g, b, painted.steps[j], colour, x, whole)
        if painted.warmed:
            _warmed(r, g, b, painted.warm[j], colour)
        if painted.enriched:
            for i in range(width):
                strength[i] = (np.float32(1.0) + strength[i]) * (np.float32(1.0) + painted.rich[j, i]) - np.float32(1.0)
        if saturated and strength.any():
            for i in range(width):
                x[i], y[i], z[i] = r[i], g[i], b[i]
            mixed(x, y, z, colour.lms)
            root3(x, r)
            root3(y, g)
            root3(z, b)
            mixed(r, g, b, colour.lab)
            turns(g, b, turn)
            strengthened(g, b, turn, strength, 0.0)
            drawn_in(r, g, b, turn, colour.most, colour.least, 0.0, strength)
            mixed(r, g, b, colour.unlab)
            for i in range(width):
                r[i], g[i], b[i] = r[i] * r[i] * r[i], g[i] * g[i] * g[i], b[i] * b[i] * b[i]
            mixed(r, g, b, colour.back)
        if glow.on:
            for i in range(width):
                k = bright(w0 * r[i] + w1 * g[i] + w2 * b[i], glow.above) * glow.where[min(j, glow.where.shape[0] - 1), min(i, glow.where.shape[1] - 1)]
                r[i], g[i], b[i] = r[i] - k * r[i] + glow.around[j, i, 0], g[i] - k * g[i] + glow.around[j, i, 1], b[i] - k * b[i] + glow.around[j, i, 2]
        for i in range(width):
            root[j, i, 0], root[j, i, 1], root[j, i, 2] = np.copysign(np.sqrt(abs(r[i])), r[i]), np.copysign(np.sqrt(abs(g[i])), g[i]), np.copysign(np.sqrt(abs(b[i])), b[i])


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def glowing_rows(root: np.ndarray, where: np.ndarray, above: float, weights: np.ndarray, out: np.ndarray) -> None:
    """The light (h, w, 3) that is taken from rows to glow."""
    for j in range(root.shape[0]):
        for i in range(root.shape[1]):
            r, g, b = root[j, i, 0] * abs(root[j, i, 0]), root[j, i, 1] * abs(root[j, i, 1]), root[j, i, 2] * abs(root[j, i, 2])
            k = bright(weights[0] * r + weights[1] * g + weights[2] * b, above) * where[min(j, where.shape[0] - 1), min(i, where.shape[1] - 1)]
            out[j, i, 0], out[j, i, 1], out[j, i, 2] = k * r, k * g, k * b


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def vignette_rows(root: np.ndarray, to_crop: np.ndarray, exponent: float, begins: float, ends: float, steps: float, keep: float, weights: np.ndarray) -> None:
    """Steps of exposure towards the rim, in place. `to_crop` (3, 3) leads from a pixel to the crop, whose middle is 0 and whose sides are at 1;
    `begins` and `ends` count from the middle to the corners."""
    one, zero, three, width = np.float32(1.0), np.float32(0.0), np.float32(3.0), root.shape[1]
    corner = 2.0 ** (1.0 / exponent)
    first, by = np.float32(begins), np.float32(1.0 / (ends - begins))
    far, t, whole = np.empty(width, np.float32), np.empty(width, np.float32), np.empty(width, np.int32)
    a, b, c = np.float32(to_crop[0, 0]), np.float32(to_crop[1, 0]), np.float32(to_crop[2, 0])
    for j in range(root.shape[0]):
        a0, b0, c0 = np.float32(to_crop[0, 1] * j + to_crop[0, 2]), np.float32(to_crop[1, 1] * j + to_crop[1, 2]), np.float32(to_crop[2, 1] * j + to_crop[2, 2])
        for i in range(width):
            x = np.float32(i)
            d = one / (c * x + c0)
            u, v = (a * x + a0) * d, (b * x + b0) * d
            far[i] = np.sqrt(u * u + v * v) if exponent == 2.0 else (abs(u) ** exponent + abs(v) ** exponent) ** (1.0 / exponent)
        for i in range(width):
            s = min(max((far[i] / np.float32(corner) - first) * by, zero), one)
            t[i] = s * s * (three - s - s)
        if keep > 0:
            for i in range(width):
                x, y, z = root[j, i, 0], root[j, i, 1], root[j, i, 2]
                light = np.sqrt(abs(weights[0] * x * abs(x) + weights[1] * y * abs(y) + weights[2] * z * abs(z)))
                s = min(max((light - np.float32(0.6)) / np.float32(0.35), zero), one)
                t[i] *= one - np.float32(keep) * s * s * (three - s - s)
        for i in range(width):
            t[i] *= np.float32(0.5 * steps)
        exp2(t, far, whole)
        for i in range(width):
            root[j, i, 0], root[j, i, 1], root[j, i, 2] = root[j, i, 0] * far[i], root[j, i, 1] * far[i], root[j, i, 2] * far[i]
