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


def noise_between(sigma: float) -> float:
    """Part of the variance of white noise that lies between blurs of deviation `sigma` and twice that: Gaussians overlap as one of the sum of their
    variances (closed form).

    >>> white = np.random.default_rng(1).standard_normal((400, 400)).astype(np.float32)
    >>> bool(abs((soft(white, 2.0) - soft(white, 4.0)).var() / noise_between(2.0) - 1) < 0.03)
    True
    """
    return float((1 / sigma**2 + 1 / (2 * sigma) ** 2 - 4 / (5 * sigma**2)) / (4 * np.pi))
