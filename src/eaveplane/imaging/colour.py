"""Colour spaces as matrices and curves. The working space is linear Rec. 2020, D65."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[Any]
"""float32 in memory; libraries that promote on paper only would make a stricter type noise."""
Matrix = NDArray[np.float64]

D65_XY = (0.3127, 0.3290)
D50_XYZ = np.array([0.96422, 1.0, 0.82521])
PRIMARIES = {
    "srgb": ((0.64, 0.33), (0.30, 0.60), (0.15, 0.06)),
    "p3": ((0.680, 0.320), (0.265, 0.690), (0.150, 0.060)),
    "rec2020": ((0.708, 0.292), (0.170, 0.797), (0.131, 0.046)),
}
LUMA = np.array([0.2627, 0.6780, 0.0593], dtype=np.float32)
"""Weights of linear Rec. 2020 channels in luminance (ITU-R BT.2020)."""

BRADFORD = np.array([[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]])


def white_xyz(xy: tuple[float, float]) -> NDArray[np.float64]:
    """XYZ of a chromaticity at luminance 1, shape (3,)."""
    x, y = xy
    return np.array([x / y, 1.0, (1 - x - y) / y])


def rgb_to_xyz(primaries: str) -> Matrix:
    """Matrix (3, 3) from linear RGB of the named primaries (D65) to XYZ, white at Y = 1."""
    columns = np.array([white_xyz(p) for p in PRIMARIES[primaries]]).T
    return columns * np.linalg.solve(columns, white_xyz(D65_XY))


def adaptation(source_white: NDArray[np.float64], target_white: NDArray[np.float64]) -> Matrix:
    """Linear Bradford adaptation between two XYZ whites, (3, 3) on XYZ."""
    gains = (BRADFORD @ target_white) / (BRADFORD @ source_white)
    return np.linalg.solve(BRADFORD, gains[:, None] * BRADFORD)


XYZ_FROM_WORK = rgb_to_xyz("rec2020")
WORK_FROM_XYZ = np.linalg.inv(XYZ_FROM_WORK)
SRGB_FROM_WORK = np.linalg.inv(rgb_to_xyz("srgb")) @ XYZ_FROM_WORK
WORK_FROM_SRGB = np.linalg.inv(SRGB_FROM_WORK)


def encode_srgb(light: FloatArray) -> FloatArray:
    """The sRGB curve (IEC 61966-2-1): linear to encoded, any shape, negatives and overshoot clipped to 0..1.

    >>> [round(float(v), 3) for v in encode_srgb(np.array([-1, 0.18, 2], np.float32))]
    [0.0, 0.461, 1.0]
    """
    x = np.clip(light, 0, 1)
    low = x * np.float32(12.92)
    high = np.float32(1.055) * np.power(x, np.float32(1 / 2.4)) - np.float32(0.055)
    return np.where(x <= 0.0031308, low, high).astype(np.float32)


def decode_srgb(encoded: NDArray[np.floating]) -> NDArray[np.float64]:
    """The inverse of `encode_srgb`, in double precision; any shape, 0..1."""
    x = np.asarray(encoded, dtype=np.float64)
    return np.where(x <= 0.04045, x / 12.92, ((x + 0.055) / 1.055) ** 2.4)


def luminance(light: FloatArray) -> FloatArray:
    """Relative luminance of linear Rec. 2020 light: (..., 3) to (...).

    >>> round(float(luminance(np.array([0.5, 0.5, 0.5], np.float32))), 3)
    0.5
    """
    return light @ LUMA


def _uv(xyz: NDArray[np.float64]) -> NDArray[np.float64]:
    x, y, z = xyz
    return np.array([4 * x, 6 * y]) / (x + 15 * y + 3 * z)


BLACK_BODY = np.array(
    [
        *[(0.380441, 0.376749), (0.397924, 0.386888), (0.415013, 0.395346), (0.431558, 0.402158)],
        *[(0.447450, 0.407405), (0.462610, 0.411200), (0.476996, 0.413677), (0.490586, 0.414981)],
        *[(0.503383, 0.415258), (0.515404, 0.414653), (0.526677, 0.413299), (0.537239, 0.411324)],
        *[(0.547131, 0.408839), (0.556398, 0.405945), (0.565081, 0.402730), (0.573226, 0.399269)],
    ]
)
"""Chromaticities of a black body at 250, 275 … 625 mired, from Planck's law and the CIE 1931 observer."""


@cache
def _black_body() -> Callable[[float], Sequence[float]]:
    """Chromaticity (x, y) by mired."""
    from scipy.interpolate import CubicSpline

    spline: Callable[[float], Sequence[float]] = CubicSpline(np.arange(250, 626, 25), BLACK_BODY)
    return spline


def _locus(kelvin: float) -> NDArray[np.float64]:
    """XYZ of daylight from 4000 K upwards (CIE 15), of a black body below 3500 K, mixed between."""
    t = float(np.clip(kelvin, 1667, 25000))
    d = max(t, 4000.0)
    x = -4607000000.0 / d**3 + 2967800.0 / d**2 + 99.11 / d + 0.244063 if d < 7000 else -2006400000.0 / d**3 + 1901800.0 / d**2 + 247.48 / d + 0.23704
    day = white_xyz((x, -3.0 * x**2 + 2.870 * x - 0.275))
    if t >= 4000:
        return day
    black_x, black_y = _black_body()(1e6 / t)
    black = white_xyz((float(black_x), float(black_y)))
    mix = max(0.0, (t - 3500) / 500)
    return black + (day - black) * mix


TINT_STEP = 1 / 3000
"""Distance from the locus in CIE 1960 (u, v) of one unit of tint."""


def white_of(kelvin: float, tint: float) -> NDArray[np.float64]:
    """XYZ (Y = 1) of a light by its temperature, 1667 to 25000 K, and tint, positive towards green."""
    u, v = _uv(_locus(kelvin))
    du, dv = _uv(_locus(kelvin * 1.01)) - _uv(_locus(kelvin * 0.99))
    length = float(np.hypot(du, dv))
    # hotter is towards smaller u; green lies on the side of larger v
    u, v = u + tint * TINT_STEP * dv / length, v - tint * TINT_STEP * du / length
    x, y = 3 * u / (2 * u - 8 * v + 4), 2 * v / (2 * u - 8 * v + 4)
    return white_xyz((x, y))


def temperature_of(xyz: NDArray[np.float64]) -> tuple[float, float]:
    """Temperature in kelvin and tint of a light, the inverse of `white_of`; the nearest light it can name."""
    mired = np.linspace(40, 590, 1101)
    target = _uv(xyz)
    places = np.array([_uv(_locus(1e6 / m)) for m in mired])
    k = int(np.argmin(((places - target) ** 2).sum(axis=1)))
    kelvin = 1e6 / mired[k]
    (du, dv), off = _uv(_locus(kelvin * 1.01)) - _uv(_locus(kelvin * 0.99)), target - places[k]
    length = float(np.hypot(du, dv))
    return float(kelvin), float((off[0] * dv - off[1] * du) / length / TINT_STEP)
