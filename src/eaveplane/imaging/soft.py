"""Softening by a bell curve."""

from __future__ import annotations

import cv2
import numpy as np

from .colour import FloatArray


def soft(picture: FloatArray, sigma: float) -> FloatArray:
    """A picture (h, w) or (h, w, c), blurred by a Gaussian of deviation `sigma` in pixels; its border goes on as it ends.

    >>> float(soft(np.ones((9, 9), np.float32), 2.0).min()) > 0.9999
    True
    """
    return np.asarray(cv2.GaussianBlur(np.asarray(picture, np.float32), (0, 0), sigma, borderType=cv2.BORDER_REPLICATE), np.float32)
