"""Colour spaces as matrices and curves. The working space is linear Rec. 2020, D65."""

from __future__ import annotations

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
    """The sRGB curve (IEC 61966-2-1): linear to encoded, any shape, negatives and overshoot clipped to 0..1."""
    x = np.clip(light, 0, 1)
    low = x * np.float32(12.92)
    high = np.float32(1.055) * np.power(x, np.float32(1 / 2.4)) - np.float32(0.055)
    return np.where(x <= 0.0031308, low, high).astype(np.float32)


def decode_srgb(encoded: NDArray[np.floating]) -> NDArray[np.float64]:
    """The inverse of `encode_srgb`, in double precision; any shape, 0..1."""
    x = np.asarray(encoded, dtype=np.float64)
    return np.where(x <= 0.04045, x / 12.92, ((x + 0.055) / 1.055) ** 2.4)


def luminance(light: FloatArray) -> FloatArray:
    """Relative luminance of linear Rec. 2020 light: (..., 3) to (...)."""
    return light @ LUMA


def _uv(xyz: NDArray[np.float64]) -> NDArray[np.float64]:
    x, y, z = xyz
    return np.array([4 * x, 6 * y]) / (x + 15 * y + 3 * z)


def _locus(kelvin: float) -> NDArray[np.float64]:
    """XYZ of daylight from 4000 K upwards (CIE 15), of a black body below 3500 K (Kim 2002), mixed between."""
    t = float(np.clip(kelvin, 1667, 25000))
    d = max(t, 4000.0)
    x = -4607000000.0 / d ** 3 + 2967800.0 / d ** 2 + 99.11 / d + 0.244063 if d < 7000 else -2006400000.0 / d ** 3 + 1901800.0 / d ** 2 + 247.48 / d + 0.23704
    day = white_xyz((x, -3.0 * x**2 + 2.870 * x - 0.275))
    if t >= 4000:
        return day
    x = -0.2661239e9 / t**3 - 0.2343589e6 / t**2 + 877.6956 / t + 0.179910
    cubic = (-1.1063814, -1.34811020, 2.18555832, -0.20219683) if t < 2222 else (-0.9549476, -1.37418593, 2.09137015, -0.16748867)
    black = white_xyz((x, float(np.polyval(cubic, x))))
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
