"""The finest octave of frames, chosen rather than summed, and a picture kept to what they show."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.soft import soft

FINE_WINDOW, FAINT = 0.85, 6.0
"""Pixels (sigma) in which the finest octave of frames is compared, and the energy, in noise, below which they are averaged rather."""
LOUDER = 3.0
"""What noisier frames have more noise than the quietest, so many times, stands for nothing: it has peaks, and a frame that is chosen brings it along."""
BELOW, ABOVE = 0.15, 0.2
"""By these parts of the range that frames show around a pixel the picture may be darker or brighter."""


def finest(picture: FloatArray) -> tuple[FloatArray, FloatArray]:
    """The finest octave of a picture, and the rest of it, as large."""
    rest = cv2.pyrUp(cv2.pyrDown(picture), dstsize=(picture.shape[1], picture.shape[0]))
    return np.asarray(picture - rest, np.float32), np.asarray(rest, np.float32)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _energy(band: np.ndarray, out: np.ndarray) -> None:
    """Sums of squares (h, w) of a band (h, w, 3)."""
    for j in range(band.shape[0]):
        for i in range(band.shape[1]):
            out[j, i] = band[j, i, 0] ** 2 + band[j, i, 1] ** 2 + band[j, i, 2] ** 2


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _add_chosen(band: np.ndarray, strength: np.ndarray, most: np.ndarray, inside: np.ndarray, noisier: float, out: np.ndarray, total: np.ndarray, noise: np.ndarray) -> None:
    """Add a frame's band (h, w, 3) by the fourth power of its strength (h, w), as part of the most of any, where it reaches, and its noise."""
    for j in range(band.shape[0]):
        for i in range(band.shape[1]):
            part = (strength[j, i] / most[j, i]) ** 2
            weight = part * part / np.float32(noisier) * np.float32(inside[j, i]) + np.float32(1e-6)
            total[j, i] += weight
            noise[j, i] += weight * np.float32(noisier)
            for c in range(3):
                out[j, i, c] += weight * band[j, i, c]


def energy_in(band: FloatArray) -> FloatArray:
    """Sums of squares (h, w) of a band (h, w, 3)."""
    out = np.empty(band.shape[:2], np.float32)
    _energy(band, out)
    return out


def finest_chosen(frames: Sequence[FloatArray], reach: Sequence[NDArray[np.bool_]], noises: Sequence[float]) -> tuple[FloatArray, FloatArray]:
    """The finest octave (h, w, 3) of frames in root light, the stronger preferred, and its energy above noise, in noise (h, w). `noises` (n) are
    the variances of noise in it."""
    quietest = min(noises)
    bands = [finest(frame)[0] for frame in frames]
    total, noise, out = (np.zeros(bands[0].shape[:dims], np.float32) for dims in (2, 2, 3))

    def strength_of(band: FloatArray, own: float) -> FloatArray:
        above = soft(energy_in(band), FINE_WINDOW) - np.float32(LOUDER * (own - quietest))
        # where none rises above noise all are averaged
        return np.asarray(np.maximum(above, 0) * np.float32(1 / (FAINT * quietest)) + np.float32(1), np.float32)

    strengths = [strength_of(band, own) for band, own in zip(bands, noises, strict=True)]
    most = strengths[0]
    for strength in strengths[1:]:
        most = np.maximum(most, strength)
    for band, strength, inside, own in zip(bands, strengths, reach, noises, strict=True):
        _add_chosen(band, strength, most, inside, own / quietest, out, total, noise)
    out /= total[..., None]
    return out, np.maximum(soft(energy_in(out), 1.5) * total / (np.float32(quietest) * noise) - np.float32(1), 0)


def bounded(picture: FloatArray, frames: Sequence[FloatArray]) -> FloatArray:
    """The picture kept to what frames show in 3 x 3 pixels: the sum neglects that a near thing hides bright ground with dark detail."""
    three = np.ones((3, 3), np.uint8)
    low, high = cv2.erode(frames[0], three), cv2.dilate(frames[0], three)
    for frame in frames[1:]:
        low, high = np.minimum(low, cv2.erode(frame, three)), np.maximum(high, cv2.dilate(frame, three))
    span = high - low
    return np.asarray(np.clip(picture, low - np.float32(BELOW) * span, high + np.float32(ABOVE) * span), np.float32)
