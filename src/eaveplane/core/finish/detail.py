"""Fine detail: what lies around the local mean of brightness grows or fades, edges left as they are.

The mean is a guided filter's (He, Sun and Tang 2013) of the picture by itself, over log luminance as relief's is: differences
above half a step of exposure are edges and belong to the mean, so that no rim arises beside them.
"""

from __future__ import annotations

import cv2
import numpy as np
from numba import njit

from ...imaging.colour import FloatArray
from ...imaging.rows import by_rows
from ..develop.kernels import exp2
from ..develop.relief import log_luminance
from .settings import FineDetail

EDGE = 0.18
"""Spread of brightness, in EV, of which half is taken for an edge."""
QUIET = 0.012
"""Spread of brightness, in EV in middle tones, below which detail is taken for noise."""
MOST = 1.5
"""How often detail is laid on at full strength."""


def radius_of(detail: FineDetail, level: int) -> int:
    """Pixels at a level over which the mean is taken; 0 where they are too few to be seen."""
    return round(detail.size / (1 << level))


def reach_of(detail: FineDetail, level: int) -> int:
    """Pixels around a box that have a part in it."""
    return 2 * radius_of(detail, level) + 1 if detail.strength else 0


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _laid_on(root: np.ndarray, ev: np.ndarray, slope: np.ndarray, offset: np.ndarray, strength: float, quiet: float) -> None:
    # `quiet` is told of a quarter of white, two stops down, and goes on for so many stops to both sides
    one, stops_down, low, high = np.float32(1.0), np.float32(2.0), np.float32(-6.0), np.float32(2.0)
    width = root.shape[1]
    x, q, whole = np.empty(width, np.float32), np.empty(width, np.float32), np.empty(width, np.int32)
    for j in range(root.shape[0]):
        seen, a, b = ev[j], slope[j], offset[j]
        # noise is a larger part of what is dark
        for i in range(width):
            x[i] = np.float32(-0.5) * min(max(seen[i] + stops_down, low), high)
        exp2(x, q, whole)
        for i in range(width):
            d, n = seen[i] - a[i] * seen[i] - b[i], np.float32(quiet) * q[i]
            d *= d * d / (d * d + n * n)
            x[i] = np.float32(0.5 * strength) * d / (one + abs(d))
        exp2(x, q, whole)
        for i in range(width):
            root[j, i, 0], root[j, i, 1], root[j, i, 2] = root[j, i, 0] * q[i], root[j, i, 1] * q[i], root[j, i, 2] * q[i]


def lay_detail(root: FloatArray, detail: FineDetail, level: int) -> None:
    """Change the fine detail of a piece (h, w, 3) of a developed picture in the square root of light, in place. Within `reach_of` of its
    edges it is only nearly right."""
    radius = radius_of(detail, level)
    if radius < 1 or detail.strength == 0:
        return
    side = (2 * radius + 1, 2 * radius + 1)
    ev = log_luminance(root * np.abs(root))
    mean = cv2.blur(ev, side, borderType=cv2.BORDER_REFLECT_101)
    spread = np.maximum(cv2.blur(ev * ev, side, borderType=cv2.BORDER_REFLECT_101) - mean * mean, 0)
    slope = np.asarray(spread / (spread + np.float32(EDGE**2)), np.float32)
    offset = cv2.blur(mean - slope * mean, side, borderType=cv2.BORDER_REFLECT_101)
    slope = np.asarray(cv2.blur(slope, side, borderType=cv2.BORDER_REFLECT_101), np.float32)
    strength = detail.strength / 100 * (MOST if detail.strength > 0 else 1.0)
    base = np.asarray(offset, np.float32)
    by_rows(lambda a, b: _laid_on(root[a:b], ev[a:b], slope[a:b], base[a:b], strength, QUIET), *ev.shape)
