"""Methods from the textbooks, done plainly, on frames that are registered already. Frames are linear light (h, w, 3)."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from eaveplane.imaging.colour import encode_srgb, luminance

Array = NDArray[np.float32]


def mean(frames: list[Array]) -> Array:
    """The plain mean."""
    return np.asarray(np.mean(frames, axis=0), np.float32)


def arg_max(frames: list[Array], sigma: float = 4.0) -> Array:
    """At each pixel the frame with the largest squared Laplacian, smoothed by a Gaussian."""
    energies = [cv2.GaussianBlur(cv2.Laplacian(encode_srgb(luminance(f)), cv2.CV_32F) ** 2, (0, 0), sigma) for f in frames]
    best = np.argmax(energies, axis=0)
    out = frames[0].copy()
    for k, frame in enumerate(frames):
        out[best == k] = frame[best == k]
    return out


def laplacian_pyramid(frames: list[Array], octaves: int = 6) -> Array:
    """At each coefficient of a Laplacian pyramid the frame with the most local energy (Burt and Kolczynski 1993)."""

    def bands(picture: Array) -> list[Array]:
        out = []
        for _ in range(octaves):
            small = cv2.pyrDown(picture)
            out.append(picture - cv2.pyrUp(small, dstsize=(picture.shape[1], picture.shape[0])))
            picture = small
        return [*out, picture]

    pyramids = [bands(np.sqrt(np.maximum(f, 0))) for f in frames]
    chosen = []
    for octave in range(octaves):
        level = [p[octave] for p in pyramids]
        best = np.argmax([cv2.blur((b**2).sum(axis=2), (5, 5)) for b in level], axis=0)
        chosen.append(np.choose(best[..., None], level) if len(level) <= 32 else level[0])
    picture = np.mean([p[-1] for p in pyramids], axis=0).astype(np.float32)
    for band in reversed(chosen):
        picture = cv2.pyrUp(picture, dstsize=(band.shape[1], band.shape[0])) + band
    return np.asarray(picture * np.abs(picture), np.float32)
