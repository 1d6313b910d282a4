"""Pictures as waves, weighed by the length of their frequency alone, as round blurs and their inverses weigh them.

Waves are kept in the packed real form of the transform: a weight that is real weighs every number in it alike.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import cv2
import numpy as np
from numba import njit
from numpy.typing import NDArray

from .colour import FloatArray

STEPS = 2048
HIGHEST = 0.7072
"""Cycles per pixel of the finest diagonal wave."""
FREQUENCIES = np.linspace(0.0, HIGHEST, STEPS)
"""Cycles per pixel at which weights are given."""


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _weigh(waves: np.ndarray, index: np.ndarray, weights: np.ndarray, row: np.ndarray, out: np.ndarray) -> None:
    """Sum over n of waves (n, c, h, w) times weights (n, STEPS) at `index` (h, w), into `out` (c, h, w); `row` (w,) is scratch."""
    for y in range(out.shape[1]):
        at = index[y]
        for k in range(waves.shape[0]):
            table = weights[k]
            for x in range(row.shape[0]):
                row[x] = table[at[x]]
            for c in range(out.shape[0]):
                line, to = waves[k, c, y], out[c, y]
                if k == 0:
                    for x in range(row.shape[0]):
                        to[x] = row[x] * line[x]
                else:
                    for x in range(row.shape[0]):
                        to[x] += row[x] * line[x]


class Waves:
    """Transforms of pictures of `shape` (h, w), lengthened by at least `pad` mirrored rows and columns, `before` of them in front."""

    def __init__(self, shape: tuple[int, int], pad: tuple[int, int], before: tuple[int, int] = (0, 0)) -> None:
        self.shape, self._before = shape, before
        self._size = cv2.getOptimalDFTSize(shape[0] + pad[0]), cv2.getOptimalDFTSize(shape[1] + pad[1])
        self._index = _steps(*self._size)

    def of(self, pictures: Sequence[FloatArray]) -> FloatArray:
        """The waves (n, c, H, W) of pictures (h, w) or (h, w, c)."""
        (h, w), (top, left), (height, width) = self.shape, self._before, self._size
        planes: list[FloatArray] = [p.reshape(h, w, -1) for p in pictures]
        out = np.empty((len(planes), planes[0].size // (h * w), height, width), np.float32)
        for n, picture in enumerate(planes):
            for c in range(picture.shape[2]):
                wide = cv2.copyMakeBorder(picture[:, :, c], top, height - h - top, left, width - w - left, cv2.BORDER_REFLECT)
                cv2.dft(wide, out[n, c])
        return out

    def sums(self, waves: FloatArray, weights: FloatArray) -> FloatArray:
        """Waves (m, c, H, W) of sums of pictures whose `waves` (n, c, H, W) are weighed by `weights` (m, n, STEPS), given at FREQUENCIES."""
        out: FloatArray = np.empty((len(weights), *waves.shape[1:]), np.float32)
        for total, some in zip(out, weights, strict=True):
            _weigh(waves, self._index, some, np.empty(waves.shape[3], np.float32), total)
        return out

    def picture(self, waves: FloatArray, weights: FloatArray) -> FloatArray:
        """The sum (c, h, w) of pictures whose `waves` (n, c, H, W) are weighed by `weights` (n, STEPS), given at FREQUENCIES."""
        out = self.sums(waves, np.ascontiguousarray(weights, np.float32)[None])[0]
        (h, w), (top, left) = self.shape, self._before
        for plane in out:
            cv2.idft(plane, plane, cv2.DFT_SCALE)
        return out[:, top : top + h, left : left + w]


@lru_cache(32)
def _steps(height: int, width: int) -> NDArray[np.uint16]:
    """Which of FREQUENCIES each number of a packed transform (height, width) has."""
    length = np.hypot(np.abs(np.fft.fftfreq(height))[:, None], _packed(width)[None])
    for column in (0, width - 1) if width % 2 == 0 else (0,):
        # waves along the rows alone, and the shortest: their numbers are packed down the column
        length[:, column] = np.hypot(_packed(height), _packed(width)[column])
    return np.round(length * ((STEPS - 1) / HIGHEST)).astype(np.uint16)


def _packed(count: int) -> NDArray[np.float64]:
    """Frequencies (count,) of the numbers of a packed real transform: the mean, then cosine and sine of each wave."""
    return np.asarray((np.arange(count) + 1) // 2 / count, np.float64)
