"""Colour spaces as matrices and curves. The working space is linear Rec. 2020, D65."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float32]
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


def planckian_white(kelvin: float) -> NDArray[np.float64]:
    """XYZ of daylight (4000 K and warmer than 25000 K) or of a black body below, blended around 4000 K.

    CIE daylight locus (CIE 15:2004) and Kim et al. 2002 for the Planckian locus. Range 2000..25000 K.
    """
    t = float(np.clip(kelvin, 2000, 25000))
    if t < 7000:
        day_x = -4.6070e9 / t**3 + 2.9678e6 / t**2 + 0.09911e3 / t + 0.244063
    else:
        day_x = -2.0064e9 / t**3 + 1.9018e6 / t**2 + 0.24748e3 / t + 0.237040
    day_y = -3.0 * day_x**2 + 2.870 * day_x - 0.275
    if t < 4000:
        px = -0.2661239e9 / t**3 - 0.2343589e6 / t**2 + 0.8776956e3 / t + 0.179910
        if t < 2222:
            py = -1.1063814 * px**3 - 1.34811020 * px**2 + 2.18555832 * px - 0.20219683
        else:
            py = -0.9549476 * px**3 - 1.37418593 * px**2 + 2.09137015 * px - 0.16748867
    else:
        px, py = day_x, day_y
    mix = float(np.clip((t - 3500) / 500, 0, 1))
    return white_xyz((px + (day_x - px) * mix, py + (day_y - py) * mix)) if t < 4000 else white_xyz((day_x, day_y))
