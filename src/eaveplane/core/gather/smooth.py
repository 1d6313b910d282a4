"""What of the ratio of two pictures is smooth: light that changed in places, as a cloud's shadow does, and not defocus or what moved."""

from __future__ import annotations

import cv2
import numpy as np

from ...imaging.colour import FloatArray

COMPARED = 1 / 90
"""Standard deviation of the low-pass in which pictures are compared, in lengths of the picture's long side."""
SMOOTH = (1 / 24, 1 / 48)
"""Standard deviation of the blur that leaves what is smooth, coarse and fine, in the same."""
STRAY = 0.05
"""Deviation of log ratio at which a place counts half: something moved there."""
EXPLAINED = 0.5
"""Part of what two pictures differ by that has to be smooth. In still scenes it is at most a third, in wind and with parallax too."""
LARGEST = 0.5
"""Log ratio beyond which a place counts no more."""
AROUND = 1 / 16
"""Standard deviation of what is around a place, in the same."""
LOCALLY = 0.4, 0.7
"""Part of what two pictures differ by around a place that is smooth: none of it is light, all of it is."""
UNCHANGED = 0.01
"""Log ratio that says nothing."""
FEWEST = 0.1
"""Part of the picture that must be comparable."""


def smooth_part(ratio: FloatArray, use: FloatArray) -> FloatArray | None:
    """The smooth part (h, w, c) of log ratios (h, w, c) within `use` (h, w; 0 or 1), if that is most of them; None if not. It goes to 0 where nothing
    can be compared."""
    if use.sum() < FEWEST * use.size:
        return None
    rest, found, energy = ratio, np.zeros_like(ratio), _energy(ratio, use)
    for part in SMOOTH:
        finer = _blurred(rest, use, part * max(use.shape))
        left = _energy(rest - finer, use)
        if not left < (1 - EXPLAINED) * energy:
            break
        found, rest, energy = found + finer, rest - finer, left
    return found * _trusted(ratio, rest, use)[..., None] if found.any() else None


def _trusted(ratio: FloatArray, rest: FloatArray, use: FloatArray) -> FloatArray:
    """How far (h, w; 0 to 1) what was found is light place by place: beside light that changed, clouds may have drifted across the sky, which leaves their edges."""
    before, after = (soft(p.mean(axis=2) ** 2 * use, AROUND * max(use.shape)) + np.float32(UNCHANGED**2) for p in (ratio, rest))
    low, high = LOCALLY
    return soft(np.clip((1 - after / before - low) / (high - low), 0, 1) * use, SMOOTH[0] * max(use.shape)) / (soft(use, SMOOTH[0] * max(use.shape)) + np.float32(1e-3))


def soft(picture: FloatArray, sigma: float) -> FloatArray:
    """A picture (h, w[, c]) blurred, with nothing around it; a wide bell is drawn in cells, to within 2 % of its largest value."""
    height, width = picture.shape[:2]
    cell = max(1, int(sigma / 4))
    rows, columns = -(-height // cell) + 2, -(-width // cell) + 2
    wide = cv2.copyMakeBorder(picture, cell, rows * cell - height - cell, cell, columns * cell - width - cell, cv2.BORDER_CONSTANT)
    # averages in cells and lines between them are a blur themselves, of a quarter of a cell squared
    small = cv2.GaussianBlur(cv2.resize(wide, (columns, rows), interpolation=cv2.INTER_AREA), (0, 0), np.sqrt((sigma / cell) ** 2 - (0.25 if cell > 1 else 0)), borderType=cv2.BORDER_CONSTANT)
    blurred = cv2.resize(small, (columns * cell, rows * cell), interpolation=cv2.INTER_LINEAR)[cell : cell + height, cell : cell + width]
    return np.asarray(blurred.reshape(picture.shape), np.float32)


def _blurred(ratio: FloatArray, use: FloatArray, sigma: float) -> FloatArray:
    """Ratios blurred robustly (Cauchy weights)."""
    weight, found = use, ratio
    for _ in range(4):
        found = soft(ratio * weight[..., None], sigma) / (soft(weight, sigma) + np.float32(0.02))[..., None]
        off = np.abs(ratio - found).max(axis=2)
        weight = (use / (1 + (off / STRAY) ** 2)).astype(np.float32)
    return found


def _energy(ratio: FloatArray, use: FloatArray) -> float:
    return float((np.minimum(ratio.mean(axis=2) ** 2, np.float32(LARGEST**2)) * use).sum() / use.sum())
