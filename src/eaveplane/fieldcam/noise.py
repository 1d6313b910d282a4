"""Deterministic noise fields for made-up landscapes, compiled: value noise, fractal sums and cells."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, inline="always", fastmath=True)
def lattice(ix: int, iy: int, seed: int) -> float:
    """A number in 0..1 for a lattice point; the same for the same arguments on every machine."""
    h = (ix * 374761393 + iy * 668265263 + seed * 974634777) & 0xFFFFFFFF
    h = ((h ^ (h >> 15)) * 1274126177) & 0xFFFFFFFF
    h = ((h ^ (h >> 13)) * 2246822519) & 0xFFFFFFFF
    return (h ^ (h >> 16)) * (1.0 / 4294967295.0)


@njit(cache=True, inline="always", fastmath=True)
def smooth(a: float, b: float, x: float) -> float:
    """0 below `a`, 1 above `b`, smooth between."""
    t = min(1.0, max(0.0, (x - a) / (b - a)))
    return t * t * (3 - 2 * t)


@njit(cache=True, fastmath=True)
def value(x: float, y: float, seed: int) -> float:
    """Value noise, -1..1, one cell a unit."""
    fx, fy = np.floor(x), np.floor(y)
    ix, iy = int(fx), int(fy)
    tx, ty = x - fx, y - fy
    tx, ty = tx * tx * tx * (tx * (tx * 6 - 15) + 10), ty * ty * ty * (ty * (ty * 6 - 15) + 10)
    a, b = lattice(ix, iy, seed), lattice(ix + 1, iy, seed)
    c, d = lattice(ix, iy + 1, seed), lattice(ix + 1, iy + 1, seed)
    return 2 * (a + (b - a) * tx + (c - a) * ty + (a - b - c + d) * tx * ty) - 1


@njit(cache=True, fastmath=True)
def fractal(x: float, y: float, cell: float, smallest: float, roughness: float, seed: int) -> float:
    """Sum of value noise from size `cell` down to size `smallest`, each octave `roughness` as strong.

    The last octaves fade out, so that a picture whose pixels are `smallest / 2` wide does not alias.
    """
    total, strength, size = 0.0, 1.0, cell
    for octave in range(16):
        fade = smooth(0.7 * smallest, 1.6 * smallest, size)
        if fade <= 0:
            break
        total += fade * strength * value(x / size, y / size, seed + octave)
        # turned a little at each octave, so that the lattice does not show
        x, y = 0.8 * x - 0.6 * y, 0.6 * x + 0.8 * y
        strength *= roughness
        size *= 0.5
    return total


@njit(cache=True, fastmath=True)
def cells(x: float, y: float, seed: int) -> tuple[float, float]:
    """How far the nearest two of scattered points differ in distance, halved, and the nearest one's number 0..1.

    Zero on the borders between cells, and near them the distance to the border (Worley 1996, F2 - F1).
    """
    ix, iy = int(np.floor(x)), int(np.floor(y))
    first, second, number = 1e9, 1e9, 0.0
    for j in range(iy - 1, iy + 2):
        for i in range(ix - 1, ix + 2):
            h = lattice(i, j, seed)
            other = h * 7919.0
            px, py = i + 0.15 + 0.7 * h, j + 0.15 + 0.7 * (other - np.floor(other))
            d = (px - x) ** 2 + (py - y) ** 2
            if d < first:
                second = first
                first, number = d, h
            elif d < second:
                second = d
    return 0.5 * (np.sqrt(second) - np.sqrt(first)), (number * 104729.0) % 1.0


@njit(cache=True, fastmath=True)
def ridged(x: float, y: float, cell: float, smallest: float, roughness: float, seed: int) -> float:
    """Sum of creased noise, 0..1, from size `cell` down to `smallest`: sharp crests, as on weathered ranges.

    Each octave is weighed by the last one's height, so that valleys stay smooth (Musgrave 1993).
    """
    total, strength, size, weight, most = 0.0, 1.0, cell, 1.0, 0.0
    for octave in range(16):
        fade = smooth(0.7 * smallest, 1.6 * smallest, size)
        if fade <= 0:
            break
        # crests are rounded to what the samples can hold
        v, blunt = value(x / size, y / size, seed + octave), 0.8 * smallest / size
        crest = max(0.0, 1 - np.sqrt(v * v + blunt * blunt))
        crest *= crest * weight
        total += fade * strength * crest
        most += strength
        weight = min(1.0, max(0.0, 1.6 * crest))
        x, y = 0.8 * x - 0.6 * y, 0.6 * x + 0.8 * y
        strength *= roughness
        size *= 0.5
    return total / max(most, 1e-6)


@njit(cache=True, fastmath=True)
def value3(x: float, y: float, z: float, seed: int) -> float:
    """Value noise in space, -1..1, one cell a unit."""
    fz = np.floor(z)
    iz, tz = int(fz), z - fz
    tz = tz * tz * (3 - 2 * tz)
    return value(x, y, seed + 131 * iz) * (1 - tz) + value(x, y, seed + 131 * (iz + 1)) * tz


@njit(cache=True, fastmath=True)
def fractal3(x: float, y: float, z: float, cell: float, smallest: float, roughness: float, seed: int) -> float:
    """Sum of value noise in space, as `fractal`."""
    total, strength, size = 0.0, 1.0, cell
    for octave in range(12):
        fade = smooth(0.7 * smallest, 1.6 * smallest, size)
        if fade <= 0:
            break
        total += fade * strength * value3(x / size, y / size, z / size, seed + 17 * octave)
        x, y, z = 0.8 * x - 0.6 * y, 0.6 * x + 0.8 * y, z + 0.37 * size
        strength *= roughness
        size *= 0.5
    return total
