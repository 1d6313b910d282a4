"""Which frame is to give which part of the picture: costs from detail, regularised over the picture.

Works on the pooled grid of detail maps (a quarter of the picture), frames in order from near to far.
"""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.rows import by_rows
from .bands import above

BAND_TRUST = (1.0, 0.5, 0.2)
"""How much each octave decides, fine to coarse, where it stands clear of the noise."""
CLEAR = 2.0
"""Energy in multiples of the noise at which a band is half trusted."""
AROUND = 1.5
"""Cells (sigma) around a place in which a frame of more noise is looked at as well."""
PEAKS = ((3.0, 0.3), (8.0, 1.5), (30.0, 7.0))
"""What noise alone passes in one of a thousand places, by itself and in that mean, in multiples of it, fine to coarse: coarse bands have few waves to a
place. Where nothing is to be seen its peaks would win everywhere."""
COARSE = (1.0, 0.12, 0.02)
"""What noise has in each octave at most, of what it has in the finest: where nothing is plain, what a frame shows least of there is no noise."""
OUTSIDE = 4.0
"""Cost of a frame where it does not reach."""
LEAST_GATE = 0.1
DOUBT = 0.3
"""Cost difference at which a frame is e times less likely than the best, in the labels' costs for one direction."""
DIRECTIONS = 4
STEP, JUMP = 0.10, 0.35
"""Penalties of a border between neighbouring frames in order, and between others, where the picture is quiet."""


def above_noise(energies: list[FloatArray], noises: list[FloatArray], noisier: Sequence[float]) -> list[FloatArray]:
    """Detail (n; bands, h, w) from which `noises` (n; bands,) have been taken off; of frames that have so many times the noise of the others
    (`noisier`, n) as far as it stands above more of it."""
    quiet = np.median([own for own, times in zip(noises, noisier, strict=True) if times == 1] or noises, axis=0)
    floors = np.minimum(quiet, np.array(COARSE) * quiet[0])

    def of_noisy(energy: FloatArray, more: float) -> FloatArray:
        return np.stack([above(band, AROUND, peaks, more * float(floor)) for band, peaks, floor in zip(energy, PEAKS, floors, strict=True)])

    return [of_noisy(energy, times - 1) if times > 1 else energy for energy, times in zip(energies, noisier, strict=True)]


def costs(energies: list[FloatArray], noises: list[FloatArray], reach: list[NDArray[np.bool_]]) -> FloatArray:
    """Cost (n, h, w) of each frame everywhere, 0 for the one with most detail.

    `energies` are (bands, h, w) with the noise taken off, on the common grid; `noises` (bands,). Detail is held against the noise of the frame
    that has it, or of most.
    """
    total = np.zeros((len(energies), *energies[0].shape[1:]), np.float32)
    for band, trust in enumerate(BAND_TRUST):
        bands, own = np.stack([e[band] for e in energies]), np.array([n[band] for n in noises], np.float32)
        most = bands.max(axis=0)
        noise = np.float32(CLEAR) * np.maximum(own, np.median(own))[bands.argmax(axis=0)]
        clear = trust * most / (most + noise)
        for k, energy in enumerate(energies):
            total[k] += clear * (1 - energy[band] / np.maximum(most, 1e-12))
    total /= sum(BAND_TRUST)
    for k, inside in enumerate(reach):
        total[k][~inside] = OUTSIDE
    return total


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _sweep_rows(cost: np.ndarray, soft: np.ndarray, step: float, jump: float, total: np.ndarray) -> None:
    n, height, width = cost.shape
    before = np.empty(n, np.float32)
    now = np.empty(n, np.float32)
    for y in range(height):
        for direction in range(2):
            for t in range(width):
                x = t if direction == 0 else width - 1 - t
                if t == 0:
                    for k in range(n):
                        before[k] = cost[k, y, x]
                        total[k, y, x] += before[k]
                    continue
                back = x - 1 if direction == 0 else x + 1
                ease = min(soft[y, x], soft[y, back])
                least = before.min()
                for k in range(n):
                    best = min(before[k], least + jump * ease)
                    if k > 0:
                        best = min(best, before[k - 1] + step * ease)
                    if k < n - 1:
                        best = min(best, before[k + 1] + step * ease)
                    now[k] = cost[k, y, x] + best - least
                for k in range(n):
                    before[k] = now[k]
                    total[k, y, x] += now[k]


def aggregate(cost: FloatArray, guide: FloatArray, quiet: float) -> FloatArray:
    """Costs (n, h, w) gathered along rows and columns (semi-global matching, Hirschmüller 2008).

    Borders between frames cost `quiet` times the usual penalties, and less where the picture `guide` (h, w,
    square root of luminance) has edges.
    """
    slope = cv2.GaussianBlur(np.hypot(cv2.Sobel(guide, cv2.CV_32F, 1, 0), cv2.Sobel(guide, cv2.CV_32F, 0, 1)), (0, 0), 0.7)
    soft = (quiet * (0.15 + 0.85 * np.exp(-((slope / 0.08) ** 2)))).astype(np.float32)
    return _swept(cost, soft) + _swept(np.ascontiguousarray(cost.transpose(0, 2, 1)), np.ascontiguousarray(soft.T)).transpose(0, 2, 1)


def _swept(cost: FloatArray, soft: FloatArray) -> FloatArray:
    total = np.zeros_like(cost)
    by_rows(lambda a, b: _sweep_rows(cost[:, a:b], soft[a:b], STEP, JUMP, total[:, a:b]), cost.shape[1], cost.shape[0] * cost.shape[2])
    return total


def label_weights(aggregated: FloatArray, reach: list[NDArray[np.bool_]]) -> FloatArray:
    """Gates (n, h, w) on the pooled grid from aggregated costs: each frame's likelihood, the unlikely shut out."""
    likely = np.exp(-(aggregated - aggregated.min(axis=0)) / (DOUBT * DIRECTIONS))
    for k, inside in enumerate(reach):
        likely[k][~inside] = 0
    likely /= np.maximum(likely.sum(axis=0), 1e-6)
    likely[likely < LEAST_GATE] = 0
    return np.asarray(likely / np.maximum(likely.sum(axis=0), 1e-6), np.float32)
