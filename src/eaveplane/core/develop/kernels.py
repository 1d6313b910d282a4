"""What a look does to rows of a picture, compiled.

The kernels work on rows, one channel an array, so that each loop is compiled into vector instructions. Cube root,
logarithm and power begin with the bits of the number. Places in tables are kept inside them as whole numbers, so that
not even a number that is none reads beside them.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit

from ...imaging.oklab import HUES, LIGHTNESSES
from .relief import FLOOR
from .tone import MOST

HUE_STEPS = 512
LEAST_CLEAR = 0.22
"""Share of light that is let through by the thickest haze."""
PUSH = 4.0
"""Share of strengthening at which colours are wholly drawn into the gamut: from a quarter more on."""


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def root3(x: np.ndarray, y: np.ndarray) -> None:
    """Signed cube roots: two steps of Halley's method from an estimate on the exponent."""
    bits, of = y.view(np.int32), x.view(np.int32)
    for i in range(x.shape[0]):
        # a third of the exponent: dividing by three as a product, which is what compiles to vectors
        bits[i] = np.int32(np.float32(of[i] & np.int32(0x7FFFFFFF)) * np.float32(1 / 3)) + np.int32(709958130)
    for i in range(x.shape[0]):
        v, w = y[i], abs(x[i])
        c = v * v * v
        v = v * (c + w + w) / (c + c + w + np.float32(1e-30))
        c = v * v * v
        v = v * (c + w + w) / (c + c + w + np.float32(1e-30))
        y[i] = v if x[i] >= 0 else -v


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def log2(x: np.ndarray, y: np.ndarray) -> None:
    """Binary logarithms of positive numbers, to 1e-5."""
    of, mantissa = x.view(np.int32), y.view(np.int32)
    for i in range(x.shape[0]):
        mantissa[i] = (of[i] & np.int32(0x007FFFFF)) | np.int32(0x3F800000)
    for i in range(x.shape[0]):
        m = (y[i] - np.float32(1.0)) / (y[i] + np.float32(1.0))
        q = m * m
        p = m * (np.float32(2.88539008) + q * (np.float32(0.96179669) + q * (np.float32(0.57707802) + q * (np.float32(0.41219859) + q * np.float32(0.3205989)))))
        y[i] = np.float32((of[i] >> np.int32(23)) - np.int32(127)) + p


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def exp2(x: np.ndarray, y: np.ndarray, whole: np.ndarray) -> None:
    """Powers of two for exponents within 100 of zero, to 1e-6; `whole` is scratch of int32."""
    bits = whole.view(np.float32)
    for i in range(x.shape[0]):
        n = np.floor(x[i])
        f = x[i] - n
        p = np.float32(0.00901703) + f * np.float32(0.00186713)
        p = np.float32(1.0) + f * (np.float32(0.69315131) + f * (np.float32(0.24016445) + f * (np.float32(0.05579992) + f * p)))
        y[i] = p
        whole[i] = (np.int32(n) + np.int32(127)) << np.int32(23)
    for i in range(x.shape[0]):
        y[i] *= bits[i]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def mixed(r: np.ndarray, g: np.ndarray, b: np.ndarray, m: np.ndarray) -> None:
    """A matrix on three channels, in place."""
    m0, m1, m2, m3, m4, m5, m6, m7, m8 = m[0, 0], m[0, 1], m[0, 2], m[1, 0], m[1, 1], m[1, 2], m[2, 0], m[2, 1], m[2, 2]
    for i in range(r.shape[0]):
        x, y, z = r[i], g[i], b[i]
        r[i], g[i], b[i] = m0 * x + m1 * y + m2 * z, m3 * x + m4 * y + m5 * z, m6 * x + m7 * y + m8 * z


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def times(r: np.ndarray, g: np.ndarray, b: np.ndarray, f: np.ndarray) -> None:
    for i in range(r.shape[0]):
        r[i], g[i], b[i] = r[i] * f[i], g[i] * f[i], b[i] * f[i]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _toned(r: np.ndarray, g: np.ndarray, b: np.ndarray, tone: np.ndarray, weights: np.ndarray, mask: np.ndarray, masked: bool, f: np.ndarray) -> None:
    """Factors by luminance on all three channels, in whole or as far as a mask goes; `f` is scratch."""
    scale, top, last = np.float32((tone.shape[0] - 1) / np.sqrt(MOST)), np.float32(tone.shape[0] - 1.001), np.uint32(tone.shape[0] - 2)
    w0, w1, w2 = weights
    for i in range(r.shape[0]):
        t = min(np.sqrt(max(w0 * r[i] + w1 * g[i] + w2 * b[i], np.float32(0.0))) * scale, top)
        n = min(np.uint32(t), last)
        f[i] = tone[n] + (tone[n + np.uint32(1)] - tone[n]) * (t - np.float32(n))
    if masked:
        for i in range(r.shape[0]):
            f[i] = np.float32(1.0) + mask[i] * (f[i] - np.float32(1.0))
    times(r, g, b, f)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _cleared(r: np.ndarray, g: np.ndarray, b: np.ndarray, ev: np.ndarray, amount: np.ndarray, veil: np.ndarray, air: np.ndarray, gain: np.ndarray) -> None:
    """Haze taken away where `amount` is above zero, laid on where it is below; `gain` is scratch."""
    one, zero = np.float32(1.0), np.float32(0.0)
    for i in range(gain.shape[0]):
        through = min(max(veil[i, 0] * ev[i] + veil[i, 1], np.float32(LEAST_CLEAR)), one)
        h = min(max(amount[i], -one), one)
        # a veil laid on is as thick as the air is there, and a little everywhere
        gain[i] = one / (one - h * (one - through)) if h > 0 else one + h * (np.float32(0.15) + np.float32(0.75) * (one - through))
    for c, a in ((r, air[0]), (g, air[1]), (b, air[2])):
        for i in range(gain.shape[0]):
            c[i] = max(a + (c[i] - a) * gain[i], min(zero if amount[i] > 0 else np.float32(-1e9), c[i]))


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def turns(a: np.ndarray, b: np.ndarray, turn: np.ndarray) -> None:
    for i in range(a.shape[0]):
        p = b[i] / (abs(a[i]) + abs(b[i]) + np.float32(1e-9))
        turn[i] = np.float32(2.0) - p if a[i] < 0 else (p if p >= 0 else np.float32(4.0) + p)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _around_the_ring(light: np.ndarray, a: np.ndarray, b: np.ndarray, turn: np.ndarray, hues: np.ndarray) -> None:
    for i in range(a.shape[0]):
        t = turn[i] * np.float32(HUE_STEPS / 4.0)
        n = min(np.uint32(t), np.uint32(HUE_STEPS - 1))
        t -= np.float32(n)
        chroma = np.sqrt(a[i] * a[i] + b[i] * b[i])
        strong = np.float32(1.0) + hues[n, 2] + (hues[n + np.uint32(1), 2] - hues[n, 2]) * t
        c = (hues[n, 0] + (hues[n + np.uint32(1), 0] - hues[n, 0]) * t) * strong
        s = (hues[n, 1] + (hues[n + np.uint32(1), 1] - hues[n, 1]) * t) * strong
        a[i], b[i] = a[i] * c - b[i] * s, a[i] * s + b[i] * c
        # greys have no hue, so nothing is done to them
        light[i] *= np.float32(1.0) + (hues[n, 3] + (hues[n + np.uint32(1), 3] - hues[n, 3]) * t) * chroma / (chroma + np.float32(0.06))


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def strengthened(a: np.ndarray, b: np.ndarray, turn: np.ndarray, strength: np.ndarray, boost: float) -> None:
    one, zero = np.float32(1.0), np.float32(0.0)
    for i in range(a.shape[0]):
        weak = max(one - np.sqrt(a[i] * a[i] + b[i] * b[i]) * np.float32(4.0), zero)
        # from red over orange to yellow, where skin and dusk lie
        warm = max(one - abs(turn[i] - np.float32(0.62)) * np.float32(1.6), zero)
        f = max(one + strength[i] + np.float32(boost) * weak * weak * (one - np.float32(0.6) * warm), zero)
        a[i], b[i] = a[i] * f, b[i] * f


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _tinted(light: np.ndarray, a: np.ndarray, b: np.ndarray, tints: np.ndarray, balance: float) -> None:
    one, zero = np.float32(1.0), np.float32(0.0)
    for i in range(a.shape[0]):
        u = min(max(light[i], zero), one)
        fade = min(u * np.float32(12.0), one) * min((one - u) * np.float32(12.0), one)
        u += np.float32(balance) * u * (one - u)
        dark, bright = (one - u) * (one - u), u * u
        middle = one - dark - bright
        a[i] += fade * (dark * tints[0, 0] + middle * tints[1, 0] + bright * tints[2, 0])
        b[i] += fade * (dark * tints[0, 1] + middle * tints[1, 1] + bright * tints[2, 1])


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def drawn_in(light: np.ndarray, a: np.ndarray, b: np.ndarray, turn: np.ndarray, most: np.ndarray, least: np.ndarray, compress: float, strength: np.ndarray) -> None:
    """Chroma beyond four fifths of what can be shown is drawn in, never beyond all of it; what was strengthened in any case."""
    one, zero = np.float32(1.0), np.float32(0.0)
    for i in range(a.shape[0]):
        s = min(max(light[i], zero), one) * np.float32(LIGHTNESSES - 1)
        n = min(np.uint32(s), np.uint32(LIGHTNESSES - 2))
        if a[i] * a[i] + b[i] * b[i] < least[n]:
            continue
        s -= np.float32(n)
        t = turn[i] * np.float32(HUES / 4.0)
        q = min(np.uint32(t), np.uint32(HUES - 1))
        t -= np.float32(q)
        low = most[n, q] + (most[n, q + np.uint32(1)] - most[n, q]) * t
        high = most[n + np.uint32(1), q] + (most[n + np.uint32(1), q + np.uint32(1)] - most[n + np.uint32(1), q]) * t
        whole = low + (high - low) * s
        chroma = np.sqrt(a[i] * a[i] + b[i] * b[i]) + np.float32(1e-9)
        over, room = max(chroma - np.float32(0.8) * whole, zero), np.float32(0.2) * whole + np.float32(1e-9)
        amount = min(np.float32(compress) + max(strength[i], zero) * np.float32(PUSH), one)
        light[i] += amount * (min(light[i], one) - light[i])
        f = one + amount * (over * room / (over + room) - over) / chroma
        a[i], b[i] = a[i] * f, b[i] * f


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _shown(r: np.ndarray, g: np.ndarray, b: np.ndarray, m: np.ndarray, cubed: bool, out: np.ndarray) -> None:
    m0, m1, m2, m3, m4, m5, m6, m7, m8 = m[0, 0], m[0, 1], m[0, 2], m[1, 0], m[1, 1], m[1, 2], m[2, 0], m[2, 1], m[2, 2]
    for i in range(r.shape[0]):
        x, y, z = r[i], g[i], b[i]
        if cubed:
            x, y, z = x * x * x, y * y * y, z * z * z
        r[i], g[i], b[i] = m0 * x + m1 * y + m2 * z, m3 * x + m4 * y + m5 * z, m6 * x + m7 * y + m8 * z
    for i in range(r.shape[0]):
        r[i], g[i], b[i] = np.copysign(np.sqrt(abs(r[i])), r[i]), np.copysign(np.sqrt(abs(g[i])), g[i]), np.copysign(np.sqrt(abs(b[i])), b[i])
    for i in range(r.shape[0]):
        out[i, 0], out[i, 1], out[i, 2] = r[i], g[i], b[i]


class Masked(NamedTuple):
    """Areas: masks (n, h, w) of these rows and in which rows (n, h) each is; matrices (n, 3, 3) of their light, tone factors (n, steps),
    and `values` (n, 6): haze, saturation, relief, whether light changes, EV, whether tones change."""

    masks: np.ndarray
    there: np.ndarray
    light: np.ndarray
    tone: np.ndarray
    values: np.ndarray


class Local(NamedTuple):
    """What is told place by place (h, w, 2): the veil of haze of colour `air`, slope and offset of relief, and of an area's relief."""

    veil: np.ndarray
    veiled: bool
    air: np.ndarray
    haze: float
    lines: np.ndarray
    relief: bool
    area_lines: np.ndarray
    area_relief: bool


class Toning(NamedTuple):
    """Matrix (3, 3) of light and exposure, factors over the square root of luminance, and luminance's weights (3,)."""

    first: np.ndarray
    table: np.ndarray
    on: bool
    weights: np.ndarray


class Colours(NamedTuple):
    """Strength, and tables around the ring of hues and over tones."""

    on: bool
    saturation: float
    boost: float
    hues: np.ndarray
    hued: bool
    tints: np.ndarray
    tinted: bool
    balance: float


class Gamut(NamedTuple):
    """How firmly colours are drawn in, the most chroma by lightness and hue, and squared chroma below which none needs it."""

    compress: float
    most: np.ndarray
    least: np.ndarray


class Spaces(NamedTuple):
    """Matrices (3, 3): working light to cones, their roots to Oklab and back, cones to the output, working light to the output."""

    lms: np.ndarray
    lab: np.ndarray
    unlab: np.ndarray
    show: np.ndarray
    last: np.ndarray


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def develop_rows(root: np.ndarray, masked: Masked, local: Local, toning: Toning, colours: Colours, gamut: Gamut, spaces: Spaces, out: np.ndarray) -> None:
    height, width = root.shape[0], root.shape[1]
    masks, there, area_values = masked.masks, masked.there, masked.values
    lines, relief, area_lines = local.lines, local.relief, local.area_lines
    weights, hued, tinted = toning.weights, colours.hued, colours.tinted
    # zeros: what is not needed is computed with all the same, and times nothing must be nothing
    rows = np.zeros((11, width), np.float32)
    r, g, b, ev, delta, strength, x, y, z, turn, scratch = rows[0], rows[1], rows[2], rows[3], rows[4], rows[5], rows[6], rows[7], rows[8], rows[9], rows[10]
    whole = np.empty(width, np.int32)
    w0, w1, w2 = weights
    zero, areas = np.float32(0.0), masks.shape[0]
    moved, drawn = relief, gamut.compress > 0 or colours.saturation > 0
    for k in range(areas):
        moved = moved or area_values[k, 4] != 0
        drawn = drawn or area_values[k, 1] > 0
    for j in range(height):
        for i in range(width):
            r[i], g[i], b[i] = root[j, i, 0] * abs(root[j, i, 0]), root[j, i, 1] * abs(root[j, i, 1]), root[j, i, 2] * abs(root[j, i, 2])
        if local.veiled or relief:
            for i in range(width):
                x[i] = max(w0 * r[i] + w1 * g[i] + w2 * b[i], zero) + np.float32(FLOOR)
            log2(x, ev)
        if local.veiled:
            x[:] = np.float32(local.haze)
            for k in range(areas):
                for i in range(width):
                    x[i] += masks[k, j, i] * area_values[k, 0]
            _cleared(r, g, b, ev, x, local.veil[j], local.air, scratch)
        mixed(r, g, b, toning.first)
        strength[:] = np.float32(colours.saturation)
        if moved:
            for i in range(width):
                delta[i] = lines[j, i, 0] * ev[i] + lines[j, i, 1] if relief else zero
        for k in range(areas):
            mask = masks[k, j]
            if not there[k, j]:
                continue
            if area_values[k, 1] != 0:
                for i in range(width):
                    strength[i] += mask[i] * area_values[k, 1]
            if area_values[k, 2] != 0 and local.area_relief:
                for i in range(width):
                    delta[i] += mask[i] * area_values[k, 2] * (area_lines[j, i, 0] * ev[i] + area_lines[j, i, 1])
            if area_values[k, 3] != 0:
                m = masked.light[k]
                for i in range(width):
                    p = m[0, 0] * r[i] + m[0, 1] * g[i] + m[0, 2] * b[i] - r[i]
                    q = m[1, 0] * r[i] + m[1, 1] * g[i] + m[1, 2] * b[i] - g[i]
                    s = m[2, 0] * r[i] + m[2, 1] * g[i] + m[2, 2] * b[i] - b[i]
                    r[i], g[i], b[i] = r[i] + mask[i] * p, g[i] + mask[i] * q, b[i] + mask[i] * s
            if area_values[k, 4] != 0:
                for i in range(width):
                    delta[i] += mask[i] * area_values[k, 4]
        if moved:
            # beyond what any light can be seen after; sums of areas must not pass what a number can hold
            for i in range(width):
                delta[i] = min(max(delta[i], np.float32(-40.0)), np.float32(40.0))
            exp2(delta, x, whole)
            times(r, g, b, x)
        if toning.on:
            _toned(r, g, b, toning.table, weights, x, False, scratch)
        for k in range(areas):
            if area_values[k, 5] != 0 and there[k, j]:
                _toned(r, g, b, masked.tone[k], weights, masks[k, j], True, scratch)
        if not colours.on:
            _shown(r, g, b, spaces.last, False, out[j])
            continue
        mixed(r, g, b, spaces.lms)
        root3(r, x)
        root3(g, y)
        root3(b, z)
        mixed(x, y, z, spaces.lab)
        if hued or colours.boost != 0 or drawn:
            turns(y, z, turn)
        if hued:
            _around_the_ring(x, y, z, turn, colours.hues)
        strengthened(y, z, turn, strength, colours.boost)
        if tinted:
            _tinted(x, y, z, colours.tints, colours.balance)
        if drawn:
            if hued or tinted:
                turns(y, z, turn)
            drawn_in(x, y, z, turn, gamut.most, gamut.least, gamut.compress, strength)
        mixed(x, y, z, spaces.unlab)
        _shown(x, y, z, spaces.show, True, out[j])
