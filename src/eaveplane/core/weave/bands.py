"""Octave bands of pictures, mixed by masks, and how strong a frame is by its own detail (Burt and Adelson 1983)."""

from __future__ import annotations

from collections.abc import Iterable

import cv2
import numpy as np
from numba import njit

from ...imaging.colour import FloatArray
from ...imaging.soft import soft

AROUND, PEAKS = 2.0, (1.2, 0.75)
"""How much wider a window is in which a noisier frame is looked at as well, and what its noise passes there in one of a
hundred places, in the narrow and in the wide one, in floors."""
SURE = 3.0
"""How fast detail is believed that stands above peaks of noise: all of it where it is half as strong again."""


def above(energy: FloatArray, around: float, peaks: tuple[float, float], noise: float) -> FloatArray:
    """An energy (h, w) as far as it stands above peaks of `noise`, which are `peaks` times as high: by itself, or in a mean `around` (sigma, pixels) each place."""
    by_itself, wide = (np.float32(peak * noise) / np.maximum(seen, np.float32(1e-20)) for peak, seen in zip(peaks, (energy, soft(energy, around)), strict=True))
    return energy * np.clip(SURE * (1 - np.minimum(by_itself, wide)), 0, 1)


def strength_of(luma: FloatArray, window: float, decision: float, floor: float, noisier: float) -> FloatArray:
    """Fine energy in a window above `floor`, to the power by which the sharper frame is preferred.

    Where no frame rises above the noise all are equally strong and are averaged, instead of noise being chosen. A frame that has `noisier`
    times the noise that the floor stands for (1 or more) is believed as far as it stands above peaks of that, and weighs that much less in the mean.
    """
    lap = cv2.Laplacian(luma, cv2.CV_32F, borderType=cv2.BORDER_REPLICATE)
    energy = soft(lap * lap, window) * np.float32(1 / floor)
    ratio = (above(energy, AROUND * window, PEAKS, noisier - 1) if noisier > 1 else energy) + np.float32(noisier ** (-1 / decision))
    return np.asarray(np.square(ratio * ratio) if decision == 4 else ratio**decision, np.float32)


def bands_of(picture: FloatArray, octaves: int) -> list[FloatArray]:
    out = []
    for _ in range(octaves):
        small = cv2.pyrDown(picture)
        out.append(picture - cv2.pyrUp(small, dstsize=(picture.shape[1], picture.shape[0])))
        picture = small
    return [*out, picture]


def joined(bands: list[FloatArray]) -> FloatArray:
    picture = bands[-1]
    for band in bands[-2::-1]:
        picture = cv2.pyrUp(picture, dstsize=(band.shape[1], band.shape[0])) + band
    return picture


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def add_weighed(total: np.ndarray, band: np.ndarray, mask: np.ndarray) -> None:
    for j in range(band.shape[0]):
        for i in range(band.shape[1]):
            for c in range(band.shape[2]):
                total[j, i, c] += band[j, i, c] * mask[j, i]


def mixed(parts: Iterable[tuple[FloatArray, FloatArray]], octaves: int) -> FloatArray:
    """Pictures (h, w, 3) weighed by masks (h, w), octave by octave: masks grow as soft as what they mix is coarse."""
    total: list[FloatArray] = []
    for picture, mask in parts:
        for octave, band in enumerate(bands_of(picture, octaves)):
            if len(total) <= octave:
                total.append(np.zeros_like(band))
            add_weighed(total[octave], band, mask)
            mask = np.asarray(cv2.pyrDown(mask)) if octave < octaves else mask
    return joined(total)
