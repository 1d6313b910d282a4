"""Where a registered frame shows something else than the reference: a stem that moved by more than its width uncovers what no shift can."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.resample import halve
from ..register.sweep import BAND_NOISE, blurred, defocused

RADII = (0.7, 1.0, 1.4, 2.0, 2.8, 4.0)
"""Discs by which either frame is blurred to match the other."""
DIFFERS, CLEARLY = 0.1, 0.4
"""Part of the contrast that differs where a frame is shut out, but only near a place where so much does: elsewhere a tenth of a pixel in
fine gravel differs by as much."""
NEAR = 24
"""Pixels, of the pictures compared, from such a place."""
WIDEST = 3.2
"""Pixels of blur between the foci of frames up to which they are judged as they are: the veil of what is far out of focus differs by itself. Those
further apart are judged at half the size, or less."""
SMALLEST = 64
"""Pixels of the shorter side below which nothing is told."""
WINDOW = 3.0


def unlike(frame: FloatArray, standard: FloatArray, apart: float, noise: float) -> FloatArray:
    """Part (h, w) of the contrast of a registered frame (h, w) that differs from the reference after the best blur of either.

    Two frames see the same thing with discs that differ by no more than `apart`, the distance of their foci in pixels, however deep it lies:
    no more blur than that is tried. About 0 for the same thing, about 1 for different things. `noise` is a pixel's variance.
    """
    a, b = (blurred(p, 0.7) - blurred(p, 12.0) for p in (frame, standard))
    least, contrast = np.full(a.shape, np.inf, np.float32), np.zeros(a.shape, np.float32)
    for radius in (0.0, *(r for r in RADII if r < 1.1 * apart)):
        for x, y in ((defocused(a, radius), b), (a, defocused(b, radius)))[: 2 if radius else 1]:
            error = blurred((x - y) ** 2, WINDOW)
            better = error < least
            least[better] = error[better]
            contrast[better] = blurred(0.5 * (x * x + y * y), WINDOW)[better]
    floor = np.float32(2.2 * BAND_NOISE * noise)
    return np.asarray(np.maximum(least - floor, 0) / (contrast + floor), np.float32)


def contradicts(frame: FloatArray, standard: FloatArray, apart: float, noise: float, shape: tuple[int, int]) -> NDArray[np.bool_]:
    """Where, on a grid of `shape` (h, w) over the picture, a registered frame shows something else than the reference; see `unlike`."""
    while apart > WIDEST:
        frame, standard, apart, noise = halve(frame), halve(standard), apart / 2, noise / 4
    if min(frame.shape) < SMALLEST:
        return np.zeros(shape, np.bool_)
    apart_by = unlike(frame, standard, apart, noise)

    def over(limit: float) -> cv2.typing.MatLike:
        return (cv2.resize((apart_by > limit).astype(np.float32), shape[::-1], interpolation=cv2.INTER_AREA) > 0.25).astype(np.uint8)

    cells = max(1, round(NEAR * shape[1] / frame.shape[1]))
    clear = cv2.morphologyEx(over(CLEARLY), cv2.MORPH_OPEN, np.ones((2, 2), np.uint8))
    near = cv2.dilate(clear, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * cells + 1, 2 * cells + 1)))
    return np.asarray(cv2.dilate(cv2.min(over(DIFFERS), near), np.ones((3, 3), np.uint8)), np.uint8) > 0
