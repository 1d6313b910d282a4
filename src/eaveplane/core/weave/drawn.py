"""What a hand lays over the weave: pixels of chosen frames, and patches of the picture itself, their tone fitted to what lies around.

Tone is fitted by a membrane: the difference between what is there and what is laid over it, taken around the patch and carried into it so
that it is nowhere rough (Laplace's equation, as in Pérez, Gangnet and Blake 2003). The patch keeps its own detail and noise.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import cv2
import numpy as np
from numba import njit

from ...imaging.colour import FloatArray
from ...imaging.pyramid import Box, meeting
from ..masks.strokes import Stroke
from .edges import cover_of
from .laid import RegisteredFrames

Below = Callable[[int, Box], FloatArray]
"""The weave (h, w, 3) without anything laid over it, in a box at a level."""
RING = 3
"""Pixels beside a patch, at the size of its membrane, from which tone is taken."""
MEMBRANE = 96
"""Pixels on the longer side at which a membrane is stretched: it is smooth."""
MOST_TONE = 0.06
"""By how much, in root light, the tone of a patch is changed at one side more than at the other."""
ROUNDS, RELAXED = 220, 1.9
"""Rounds of successive over-relaxation, and by how much."""


def draw_over(picture: FloatArray, laid: RegisteredFrames, strokes: Sequence[Stroke], below: Below, box: Box, level: int) -> None:
    """Lay what strokes draw and heal over a weave, in place, in their order."""
    for stroke in strokes:
        lies = laid.drawn_from(stroke.frame) if stroke.action == "draw" else None
        if not stroke.mends or (stroke.action == "draw" and lies is None):
            continue
        cover = cover_of(stroke, laid, box, level)
        if cover is None or not cover.any():
            continue
        if lies is not None:
            there, k = lies
            cover = (cover * there.covers(k, level, box)).astype(np.float32)
            patch = there.read(k, level, box)
        else:
            patch = below(level, _moved(box, stroke, laid, level))
        if stroke.action == "heal" or stroke.fitted:
            patch = patch + _tone(stroke, laid, lies, below, box, level)
        picture += (patch - picture) * cover[..., None]


def _moved(box: Box, stroke: Stroke, laid: RegisteredFrames, level: int) -> Box:
    """The box from which a patch is taken, kept inside the picture."""
    width, height = laid.size_at(level)
    right, down = (round(v / 2**level) for v in stroke.source)
    x, y = min(max(0, box[0] + right), width - box[2]), min(max(0, box[1] + down), height - box[3])
    return x, y, box[2], box[3]


def _tone(stroke: Stroke, laid: RegisteredFrames, lies: tuple[RegisteredFrames, int] | None, below: Below, box: Box, level: int) -> FloatArray:
    """What (h, w, 3) is to be added to a patch in a box that is drawn from what `lies` there, or healed; it depends on the whole stroke, wherever
    it is cut."""
    x, y, w, h = (v >> level for v in stroke.bounds())
    margin = max(4, RING * max(w, h) // MEMBRANE + 4)
    width, height = laid.size_at(level)
    x0, y0, x1, y1 = max(0, x - margin), max(0, y - margin), min(width, x + w + margin + 1), min(height, y + h + margin + 1)
    whole = (x0, y0, x1 - x0, y1 - y0)
    cover = cover_of(stroke, laid, whole, level)
    assert cover is not None
    there = below(level, whole)
    patch = lies[0].read(lies[1], level, whole) if lies else below(level, _moved(whole, stroke, laid, level))
    tone = membrane(there - patch, cover > 1e-3)
    wanted, known = meeting(box, whole)
    out = np.zeros((box[3], box[2], 3), np.float32)
    out[wanted] = tone[known]
    return out


def membrane(apart: FloatArray, inside: FloatArray | np.ndarray) -> FloatArray:
    """Values (h, w, c) known outside a patch (h, w) carried into it as smoothly as can be, none further than MOST_TONE from their median. A patch that fills
    everything gets zeros.

    >>> flat = np.full((40, 40, 1), 0.25, np.float32); hole = np.zeros((40, 40), bool); hole[10:30, 10:30] = True
    >>> flat[hole] = 9
    >>> bool(np.abs(membrane(flat, hole) - 0.25).max() < 1e-5)
    True
    """
    height, width = inside.shape
    scale = min(1.0, MEMBRANE / max(height, width))
    size = (max(4, round(width * scale)), max(4, round(height * scale)))
    known = 1 - inside.astype(np.float32)
    weight = np.asarray(cv2.resize(known, size, interpolation=cv2.INTER_AREA), np.float32)
    sums = np.atleast_3d(np.asarray(cv2.resize(np.ascontiguousarray(apart * known[..., None]), size, interpolation=cv2.INTER_AREA), np.float32))
    fixed = weight > 0.5
    if not fixed.any():
        return np.zeros_like(apart)
    # noise beside the patch must not be drawn into it
    values: FloatArray = np.stack([cv2.GaussianBlur(sums[..., c], (0, 0), 1.2) for c in range(sums.shape[2])], axis=-1)
    values = np.asarray(values / np.maximum(cv2.GaussianBlur(weight, (0, 0), 1.2), 1e-4)[..., None], np.float32)
    middle = np.median(values[fixed], axis=0)
    # where something else goes on beside the patch than in it, its tone must not run into it
    values = np.clip(values, middle - np.float32(MOST_TONE), middle + np.float32(MOST_TONE))
    values[~fixed] = middle
    _relax(values, ~fixed, ROUNDS, np.float32(RELAXED))
    return np.atleast_3d(np.asarray(cv2.resize(values, (width, height), interpolation=cv2.INTER_LINEAR), np.float32))


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _relax(values: np.ndarray, free: np.ndarray, rounds: int, by: np.float32) -> None:
    """Bring free cells (h, w) to the mean of their neighbours, in place; beyond the border lies what is beside it."""
    height, width, channels = values.shape
    for _ in range(rounds):
        for y in range(height):
            for x in range(width):
                if free[y, x]:
                    up, down, left, right = max(0, y - 1), min(height - 1, y + 1), max(0, x - 1), min(width - 1, x + 1)
                    for c in range(channels):
                        mean = np.float32(0.25) * (values[up, x, c] + values[down, x, c] + values[y, left, c] + values[y, right, c])
                        values[y, x, c] += by * (mean - values[y, x, c])
