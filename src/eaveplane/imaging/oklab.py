"""Oklab, the perceptually even space in which colours are adjusted (Ottosson 2020), and how far colours reach in it."""

from __future__ import annotations

from functools import cache

import numpy as np
from numba import njit
from numpy.typing import NDArray

from .colour import XYZ_FROM_WORK, FloatArray, Matrix

LMS_FROM_XYZ = np.array([[0.8189330101, 0.3618667424, -0.1288597137], [0.0329845436, 0.9293118715, 0.0361456387], [0.0482003018, 0.2643662691, 0.6338517070]])
LAB_FROM_ROOT = np.array([[0.2104542553, 0.7936177850, -0.0040720468], [1.9779984951, -2.4285922050, 0.4505937099], [0.0259040371, 0.7827717662, -0.8086757660]])
LMS_FROM_WORK = LMS_FROM_XYZ @ XYZ_FROM_WORK
WHITE_LMS_FROM_WORK = LMS_FROM_WORK / LMS_FROM_WORK.sum(axis=1, keepdims=True)
"""The same with white exactly neutral, which the published figures make it to four digits: what pictures are made with."""
ROOT_FROM_LAB = np.linalg.inv(LAB_FROM_ROOT)
LIGHTNESSES, HUES = 257, 512
"""Samples of the table of reachable chroma."""


def oklab(light: FloatArray) -> NDArray[np.float64]:
    """Lightness and the two opponent axes (..., 3) of linear Rec. 2020 light (..., 3)."""
    return np.asarray(np.cbrt(np.asarray(light, np.float64) @ LMS_FROM_WORK.T) @ LAB_FROM_ROOT.T)


def from_oklab(lab: NDArray[np.floating]) -> NDArray[np.float64]:
    """The inverse of `oklab`."""
    return np.asarray((np.asarray(lab, np.float64) @ ROOT_FROM_LAB.T) ** 3 @ np.linalg.inv(LMS_FROM_WORK).T)


def hue_of_turn(turn: FloatArray) -> FloatArray:
    """Hue in radians, 0 to 2 pi, of places around the ring, 0 to 4 along the square |a| + |b| = 1, which cost no arc tangent."""
    a = np.abs(2 - turn) - 1
    b = np.where(turn <= 2, 1 - np.abs(1 - turn), np.abs(3 - turn) - 1)
    return np.mod(np.arctan2(b, a), 2 * np.pi)


def reach(from_work: Matrix) -> FloatArray:
    """The chroma (LIGHTNESSES, HUES + 1) up to which colours of a lightness 0..1 and a place around the ring 0..4 can be
    shown by channels 0..1 that a matrix (3, 3) makes of linear Rec. 2020 light."""
    return _reach(tuple(np.asarray(from_work, np.float64).ravel().tolist()))


@cache
def _reach(flat: tuple[float, ...]) -> FloatArray:
    out = np.empty((LIGHTNESSES, HUES + 1), np.float32)
    _find_reach(np.array(flat).reshape(3, 3) @ np.linalg.inv(WHITE_LMS_FROM_WORK), ROOT_FROM_LAB, hue_of_turn(np.linspace(0, 4, HUES + 1)), out)
    out[[0, -1]] = 0
    return out


@njit(cache=True, nogil=True)
def _find_reach(matrix: np.ndarray, roots: np.ndarray, hues: np.ndarray, out: np.ndarray) -> None:
    """The chroma (lightnesses, hues) at which lines of one lightness and hue leave what channels, `matrix` times the cubes of `roots` times
    Oklab, can show: by halving."""
    for j in range(len(hues)):
        # along such a line roots are linear in chroma
        by_chroma = np.cos(hues[j]) * roots[:, 1] + np.sin(hues[j]) * roots[:, 2]
        for i in range(len(out)):
            lightness = i / (len(out) - 1)
            low, high = 0.0, 0.6
            for _ in range(24):
                middle = (low + high) / 2
                long = (middle * by_chroma[0] + lightness * roots[0, 0]) ** 3
                medium = (middle * by_chroma[1] + lightness * roots[1, 0]) ** 3
                short = (middle * by_chroma[2] + lightness * roots[2, 0]) ** 3
                inside = True
                for k in range(3):
                    channel = matrix[k, 0] * long + matrix[k, 1] * medium + matrix[k, 2] * short
                    inside &= (channel >= -1e-7) & (channel <= 1 + 1e-7)
                if inside:
                    low = middle
                else:
                    high = middle
            out[i, j] = low
