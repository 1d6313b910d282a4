"""A first fit between two frames: features on band-passed lightness, a similarity by consensus."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray

LONGEST = 800
FEATURES = 2500
RATIO = 0.82
LEAST_AGREEING = 10


@dataclass(frozen=True, eq=False)
class Features:
    """SIFT positions (n, 2) in pixels of the picture they were found in, and descriptors (n, 128)."""

    points: NDArray[np.float32]
    descriptors: NDArray[np.float32]


def find_features(luma: FloatArray) -> Features:
    """Features (Lowe 2004) of the square root of luminance (h, w), band-passed so that exposure does not matter."""
    scale = min(1.0, LONGEST / max(luma.shape))
    small = cv2.resize(luma, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA) if scale < 1 else luma
    band = cv2.GaussianBlur(small, (0, 0), 0.8) - cv2.GaussianBlur(small, (0, 0), 10)
    spread = cv2.GaussianBlur(np.abs(band), (0, 0), 24) + 0.004
    lightness = np.clip(128 + 42 * band / spread, 0, 255).astype(np.uint8)
    points, descriptors = cv2.SIFT.create(nfeatures=FEATURES, contrastThreshold=0.02).detectAndCompute(lightness, None)
    if descriptors is None or len(points) < 2:
        return Features(np.zeros((0, 2), np.float32), np.zeros((0, 128), np.float32))
    where = np.array([p.pt for p in points], np.float32)
    # pixel centres at integers in both sizes
    return Features(((where + 0.5) / scale - 0.5).astype(np.float32), np.sqrt(descriptors / (descriptors.sum(axis=1, keepdims=True) + 1e-6)))


def matches(a: Features, b: Features) -> NDArray[np.int64]:
    """Which features of two pictures are the same (n, 2): mutual nearest neighbours under the ratio test (Lowe 2004)."""
    if min(len(a.points), len(b.points)) < LEAST_AGREEING:
        return np.zeros((0, 2), np.int64)
    alike = a.descriptors @ b.descriptors.T
    nearest = alike.argmax(axis=1)
    # (the place of the largest along the first axis would take many times as long as its size)
    mutual = alike[np.arange(len(nearest)), nearest] >= alike.max(axis=0)[nearest]
    # descriptors have length one, so distances follow from products; what is next once the largest is taken out costs far less than sorting
    largest = alike[np.arange(len(nearest)), nearest]
    alike[np.arange(len(nearest)), nearest] = -np.inf
    clear = (1 - largest) < RATIO**2 * (1 - alike.max(axis=1))
    good = np.flatnonzero(mutual & clear)
    return np.stack([good, nearest[good]], axis=1)


def first_fit(a: Features, b: Features, tolerance: float) -> tuple[NDArray[np.float64], int]:
    """Similarity (3, 3) from picture `a` to picture `b` and how many matches agree with it within `tolerance` px.

    `matches`, then random consensus (Fischler and Bolles 1981). Without enough agreement the fit is the identity and the
    number is 0.
    """
    pairs = matches(a, b)
    if len(pairs) < LEAST_AGREEING:
        return np.eye(3), 0
    src, dst = a.points[pairs[:, 0]], b.points[pairs[:, 1]]
    cv2.setRNGSeed(7)
    fit, agree = cv2.estimateAffinePartial2D(src, dst, method=cv2.RANSAC, ransacReprojThreshold=tolerance, maxIters=5000, confidence=0.9999)
    count = int(agree.sum()) if agree is not None else 0
    if fit is None or count < LEAST_AGREEING or not 0.7 < np.hypot(fit[0, 0], fit[1, 0]) < 1.4:
        return np.eye(3), 0
    return np.vstack([fit, [0, 0, 1]]), count
