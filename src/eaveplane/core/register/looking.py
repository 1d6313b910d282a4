"""What an eye needs to judge how two frames lie on each other: their difference without that of their blur, and the edges of both."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...optics.disc import disc_kernel
from .refine import RADII

WINDOW = 8.0
"""Standard deviation, in pixels, of the window in which a blur is chosen."""
REACH = 40
"""Pixels around a place that decide about it."""
WEAK, STRONG, SOFT = 18.0, 50.0, 1.1
"""Of edges: gradients in eight bits between which they are followed and from which they begin, and the blur before."""


def matched_difference(a: FloatArray, b: FloatArray) -> FloatArray:
    """What pictures (h, w) differ by, the sharper one blurred, place by place, by the disc with which it resembles the other most. Places
    within REACH of the border see less than there is."""
    best = a - b
    least = _around(best)
    for sharp, soft, sign in ((a, b, 1), (b, a, -1)):
        for radius in RADII[1:]:
            apart = sign * (np.asarray(cv2.filter2D(sharp, cv2.CV_32F, disc_kernel(radius), borderType=cv2.BORDER_REFLECT_101)) - soft)
            energy = _around(apart)
            better = energy < least
            best[better], least[better] = apart[better], energy[better]
    return best


def edges_of(picture: FloatArray) -> NDArray[np.bool_]:
    """Where edges of a picture (h, w) in the square root of light run, a pixel wide (Canny 1986)."""
    smooth = cv2.GaussianBlur(np.clip(picture, 0, 1), (0, 0), SOFT)
    return np.asarray(cv2.Canny((255 * smooth).astype(np.uint8), WEAK, STRONG, L2gradient=True) > 0)


def _around(difference: FloatArray) -> FloatArray:
    return np.asarray(cv2.GaussianBlur(difference * difference, (0, 0), WINDOW), np.float32)
