"""How much brighter or redder one frame is than the reference, measured on what both show at low frequencies.

Estimated after registration: before it, different parts of the landscape are compared and gains go wrong by
tenths of an EV. Blurred far beyond any defocus, frames of one scene differ by exposure and colour alone.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.resample import coverage

SPREAD = 1 / 60
"""Standard deviation of the low-pass in lengths of the picture's long side."""
DARKEST, BRIGHTEST = 0.004, 0.85
STRAY = 0.02
"""Deviation of log gain at which a place counts half."""


def measure_gains(small: list[FloatArray], fits: list[NDArray[np.float64]], reference: int) -> list[tuple[float, float, float]]:
    """What each frame's linear channels must be multiplied by to match the reference.

    `small` are linear renditions (h, w, 3) of one small size and `fits` the fits (3, 3) between them. Where a
    frame shares too little unclipped picture with the reference, its gain is 1.
    """
    height, width = small[reference].shape[:2]
    sigma = SPREAD * max(width, height)
    base, base_weight = _lowpassed(small[reference], np.eye(3), sigma)
    gains: list[tuple[float, float, float]] = []
    for k, picture in enumerate(small):
        if k == reference:
            gains.append((1.0, 1.0, 1.0))
            continue
        other, weight = _lowpassed(picture, fits[k], sigma)
        use = (weight > 0.98) & (base_weight > 0.98)
        for side in (base, other):
            use &= (side.max(axis=2) < BRIGHTEST) & (side.min(axis=2) > DARKEST)
        if use.sum() < 200:
            gains.append((1.0, 1.0, 1.0))
            continue
        ratio = np.log(base[use] / other[use])
        gains.append(tuple(float(np.exp(_robust_mean(ratio[:, c]))) for c in range(3)))  # type: ignore[arg-type]
    return gains


def _lowpassed(picture: FloatArray, fit: NDArray[np.float64], sigma: float) -> tuple[FloatArray, FloatArray]:
    """The picture on the reference grid, blurred within its own coverage, and how much of the blur was covered."""
    height, width = picture.shape[:2]
    laid = cv2.warpPerspective(picture, fit, (width, height), flags=cv2.INTER_LINEAR)
    mask = coverage((width, height), fit, (0, 0, width, height)).astype(np.float32)
    weight = cv2.GaussianBlur(mask, (0, 0), sigma, borderType=cv2.BORDER_CONSTANT)
    inside = cv2.GaussianBlur(np.ones_like(mask), (0, 0), sigma, borderType=cv2.BORDER_CONSTANT)
    soft = cv2.GaussianBlur(laid * mask[..., None], (0, 0), sigma, borderType=cv2.BORDER_CONSTANT)
    return np.asarray(soft / np.maximum(weight, 1e-6)[..., None]), np.asarray(weight / inside)


def _robust_mean(values: NDArray[np.floating]) -> float:
    """A mean that starts at the median and lets what lies far from it count little (Cauchy weights)."""
    mean = float(np.median(values))
    for _ in range(8):
        weight = 1 / (1 + ((values - mean) / STRAY) ** 2)
        mean = float((values * weight).sum() / weight.sum())
    return mean
