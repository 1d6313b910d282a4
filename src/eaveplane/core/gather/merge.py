"""Merging the exposures of one focus position into one frame of wide range, in linear light.

Each exposure counts by what it knows: a pixel of value v seen t times as long has photon and read noise of variance
(v + read) / t² (Granados et al. 2010, Optimal HDR Reconstruction with Linear Digital Cameras), and nothing where it
is clipped. What moved between exposures is taken from the base alone.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from itertools import pairwise

import cv2
import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.rows import by_rows

CLIPS_FROM, CLIPS_AT = 0.78, 0.94
"""Largest channel of a pixel, 1 being white, from which it counts less, and from which not at all."""
READ = 4e-4
"""Read noise as the light whose photon noise is as strong."""
DARK = 0.0012
"""Light below which an exposure's black level is not trusted."""
SMALL = 8
MOVED = 0.22
"""Difference in stops, beyond what noise explains, at which an exposure counts half: something moved."""
TOP = 65535


def exposure_times(small: Sequence[FloatArray], told: Sequence[float | None]) -> list[float]:
    """How much light each exposure took, the first being 1: measured on small linear renditions (h, w, 3) where two
    have enough in common, else as the files tell."""
    order = sorted(range(len(small)), key=lambda k: float(small[k].mean()))
    times = {order[0]: 1.0}
    for before, now in pairwise(order):
        ratio = _ratio(small[before], small[now])
        if math.isnan(ratio):
            a, b = told[before], told[now]
            ratio = b / a if a and b else float(small[now].mean() / max(float(small[before].mean()), 1e-6))
        times[now] = times[before] * ratio
    return [times[k] / times[0] for k in range(len(small))]


def _ratio(dark: FloatArray, bright: FloatArray) -> float:
    """How many times as much light the second took, from what both hold; nan where that is too little."""
    use = (bright.max(axis=2) < 0.8) & (dark.min(axis=2) > 0.004)
    if use.sum() < 60:
        return float("nan")
    return float(np.exp(np.median(np.log(bright[use].sum(axis=-1) / dark[use].sum(axis=-1)))))


def base_of(times: Sequence[float]) -> int:
    """The exposure in the middle, on which others are laid."""
    order = sorted(range(len(times)), key=lambda i: times[i])
    return order[len(order) // 2]


def steadiness(small: Sequence[FloatArray], times: Sequence[float], base: int) -> list[FloatArray]:
    """For each exposure where (h, w) it shows what the base does, 1 yes and 0 no, from small linear renditions (h, w, 3)
    laid on the base; 1 also where that cannot be told."""
    own = cv2.GaussianBlur(small[base], (0, 0), 1.0).sum(axis=2) / times[base]
    trusted = (small[base].max(axis=2) < CLIPS_FROM) & (small[base].mean(axis=2) > 3 * DARK)
    found = []
    for k, picture in enumerate(small):
        if k == base:
            found.append(np.ones(own.shape, np.float32))
            continue
        other = cv2.GaussianBlur(picture, (0, 0), 1.0).sum(axis=2) / times[k]
        both = trusted & (picture.max(axis=2) < CLIPS_FROM) & (picture.mean(axis=2) > 3 * DARK)
        stops = np.abs(np.log2(np.maximum(other, 1e-6) / np.maximum(own, 1e-6)))
        # an edge that lies a little off is no movement
        steep = np.abs(cv2.Laplacian(np.log2(np.maximum(own, 1e-6)), cv2.CV_32F))
        off = np.where(both, np.maximum(stops - 0.08 - 0.5 * steep, 0), 0).astype(np.float32)
        off = np.asarray(cv2.dilate(cv2.GaussianBlur(off, (0, 0), 0.8), np.ones((3, 3), np.uint8)), np.float32)
        found.append((1 / (1 + (off / MOVED) ** 4)).astype(np.float32))
    return found


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _add(light: np.ndarray, time: float, steady: np.ndarray, y0: int, scale_y: float, scale_x: float, last_resort: bool, total: np.ndarray, weights: np.ndarray) -> None:
    """Add an exposure's rows (r, w, 3), linear, to the sums."""
    rows, width = steady.shape
    for j in range(light.shape[0]):
        sy = min(max((y0 + j + 0.5) * scale_y - 0.5, 0.0), rows - 1.001)
        iy = int(sy)
        fy = sy - iy
        for i in range(light.shape[1]):
            r, g, b = light[j, i, 0], light[j, i, 1], light[j, i, 2]
            most = max(r, max(g, b))
            sure = min(max((CLIPS_AT - most) / (CLIPS_AT - CLIPS_FROM), 0.0), 1.0)
            sure = sure * sure * (3 - 2 * sure)
            mean = (r + 2 * g + b) * 0.25
            sx = min(max((i + 0.5) * scale_x - 0.5, 0.0), width - 1.001)
            ix = int(sx)
            fx = sx - ix
            s = (steady[iy, ix] * (1 - fx) + steady[iy, ix + 1] * fx) * (1 - fy) + (steady[iy + 1, ix] * (1 - fx) + steady[iy + 1, ix + 1] * fx) * fy
            lit = max(mean, 0.0)
            weight = sure * s * time * time / (lit + READ) * (lit + 0.02 * DARK) / (lit + DARK)
            # the darkest says something even where it is clipped
            weight = max(weight, 1e-7 if last_resort else 0.0)
            weights[j, i] += weight
            total[j, i, 0] += weight * r / time
            total[j, i, 1] += weight * g / time
            total[j, i, 2] += weight * b / time


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _coded(total: np.ndarray, weights: np.ndarray, peak: float, out: np.ndarray) -> None:
    for j in range(total.shape[0]):
        for i in range(total.shape[1]):
            for c in range(3):
                light = max(total[j, i, c] / weights[j, i], 0.0)
                out[j, i, c] = np.uint16(min(np.sqrt(light / peak), 1.0) * TOP + 0.5)


def merge(light_rows: Sequence[Callable[[int, int], FloatArray]], times: Sequence[float], steady: Sequence[FloatArray], shape: tuple[int, int], peak: float) -> NDArray[np.uint16]:
    """Codes (h, w, 3) whose light is `peak` times their square, 1 being white of an exposure of time 1.

    `light_rows[k](first, last)` gives rows (r, w, 3) of linear light of exposure k, `times` how long each is, `steady`
    (h', w') where it is to be trusted, at any smaller size.
    """
    height, width = shape
    out = np.empty((height, width, 3), np.uint16)
    darkest = int(np.argmin(times))

    def rows(first: int, last: int) -> None:
        for top in range(first, last, 64):
            bottom = min(top + 64, last)
            total, weights = np.zeros((bottom - top, width, 3), np.float32), np.zeros((bottom - top, width), np.float32)
            for k, read in enumerate(light_rows):
                light = np.ascontiguousarray(read(top, bottom), np.float32)
                _add(light, times[k], steady[k], top, steady[k].shape[0] / height, steady[k].shape[1] / width, k == darkest, total, weights)
            _coded(total, weights, peak, out[top:bottom])

    by_rows(rows, height, width)
    return out


def peak_of(times: Sequence[float]) -> float:
    """The brightest light that the shortest exposure holds, 1 being white of an exposure of time 1."""
    return max(1.0, 1.02 / min(times))
