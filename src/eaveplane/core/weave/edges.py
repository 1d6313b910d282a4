"""How far strokes cover what lies under them: as they were drawn, or only as far as the edges of the picture."""

from __future__ import annotations

import cv2
import numpy as np
from numba import njit

from ...imaging.brush import draw_line
from ...imaging.colour import FloatArray
from ...imaging.light import light_of
from ...imaging.oklab import oklab
from ...imaging.pyramid import Box
from ..masks.strokes import Stroke
from .laid import RegisteredFrames

SAMPLES = 16
"""Places along a stroke whose colours tell what it is meant for."""
LIKE = 0.055
"""Distance in Oklab, lightness counted half, at which a colour is taken for another thing."""
REACH = 8
"""Pixels around a box that smoothing needs."""
SMOOTH, SLACK = 2, 4e-4
"""Radius of the guided filter that lays the mask on the picture's edges (He, Sun and Tang 2013), in pixels at any size, and what it takes for
none, in squared lightness."""


def cover_of(stroke: Stroke, laid: RegisteredFrames, box: Box, level: int) -> FloatArray | None:
    """Coverage (h, w), 0 to 1, of a stroke in a box of the picture halved `level` times; None where it does not reach.

    One that stops at edges covers what has the colours that its frame has under the middle of the brush.
    """
    cover = draw_line(stroke, box, level)
    if cover is None or not stroke.edges or not cover.any():
        return cover
    lies, k = laid.drawn_from(stroke.frame) or (laid, laid.reference)
    width, height = laid.size_at(level)
    x0, y0 = max(0, box[0] - REACH), max(0, box[1] - REACH)
    wide = x0, y0, min(width, box[0] + box[2] + REACH) - x0, min(height, box[1] + box[3] + REACH) - y0
    colours = _colours(lies.read(k, level, wide))
    like = np.empty(colours.shape[:2], np.float32)
    _likeness(colours, _samples(stroke, lies, k), np.float32(LIKE), like)
    like = _guided(like, colours[..., 0])
    x, y = box[0] - x0, box[1] - y0
    like = np.clip((like[y : y + box[3], x : x + box[2]] - 0.3) / 0.4, 0, 1)
    return np.asarray(cover * like * like * (3 - 2 * like), np.float32)


def _colours(picture: FloatArray) -> FloatArray:
    """Oklab (h, w, 3) of a picture in the weaving encoding, lightness halved."""
    return np.asarray(oklab(light_of(picture)) * (0.5, 1, 1), np.float32)


def _samples(stroke: Stroke, laid: RegisteredFrames, k: int) -> FloatArray:
    """Colours (n, 3) of a frame under the middle of a stroke, at full size, so that every size keeps to the same."""
    points = np.array(stroke.points)[np.unique(np.linspace(0, len(stroke.points) - 1, SAMPLES).round().astype(int))]
    width, height = laid.size
    found = []
    for x, y in np.clip(np.round(points), 1, [width - 2, height - 2]).astype(int):
        found.append(_colours(laid.read(k, 0, (int(x) - 1, int(y) - 1, 3, 3))).mean(axis=(0, 1)))
    return np.asarray(found, np.float32)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _likeness(colours: np.ndarray, samples: np.ndarray, like: np.float32, out: np.ndarray) -> None:
    for y in range(colours.shape[0]):
        for x in range(colours.shape[1]):
            least = np.float32(1e9)
            for k in range(samples.shape[0]):
                d = (colours[y, x, 0] - samples[k, 0]) ** 2 + (colours[y, x, 1] - samples[k, 1]) ** 2 + (colours[y, x, 2] - samples[k, 2]) ** 2
                least = min(least, d)
            out[y, x] = np.exp(-least / (like * like))


def _guided(mask: FloatArray, guide: FloatArray) -> FloatArray:
    side = (2 * SMOOTH + 1, 2 * SMOOTH + 1)

    def mean(a: FloatArray) -> FloatArray:
        return np.asarray(cv2.blur(a, side, borderType=cv2.BORDER_REFLECT_101), np.float32)

    of_guide, of_mask = mean(guide), mean(mask)
    slope = (mean(guide * mask) - of_guide * of_mask) / (mean(guide * guide) - of_guide**2 + np.float32(SLACK))
    return mean(slope) * guide + mean(of_mask - slope * of_guide)
