"""Whether two frames show one composition though a hand turned the camera, or came nearer, between them: more than glimpses look past."""

from __future__ import annotations

import numpy as np

from ...imaging.colour import FloatArray
from ...imaging.placement import Placement, scaled
from ..gather.composition import alike, glimpse, shared_part
from ..gather.split import SAME, UNSURE
from .area import common_area
from .features import Features, first_fit

LEAST_COMMON = 0.7
"""Part of the picture that two frames have to share to be held against each other."""
RESTLESS, TONE_KEPT = 0.7, 0.95
"""Likeness, and part of the picture that keeps its tone, from which frames of something restless are one composition."""
TOLERANCE = 1 / 300
"""Part of the width within which features agree."""


def same_once_laid(a: FloatArray, b: FloatArray, of_a: Features, of_b: Features, width: int) -> bool:
    """Whether linear light `a` (h, w, 3) is what `b` of the same size shows, once it is laid on it as their features say; these are those of
    pictures `width` pixels wide. False where features do not agree or too little is in common: a hand before the lens stays one, since what
    is seen beside it agrees but the picture does not."""
    size = (b.shape[1], b.shape[0])
    fit, agree = first_fit(of_a, of_b, TOLERANCE * width)
    if not agree:
        return False
    laid = Placement(scaled(fit, width / size[0]), size)
    try:
        x, y, w, h = common_area([laid.corners()], size, free=True)
    except ValueError:
        return False
    if w * h < LEAST_COMMON * size[0] * size[1]:
        return False
    moved = laid.lay_maps(a, b.shape[:2])
    pair = [glimpse(np.ascontiguousarray(picture[y : y + h, x : x + w])) for picture in (moved, b)]
    likeness = alike(*pair)
    # water and grass change in detail and keep their tone; a hand before the lens has another one
    return likeness >= SAME - UNSURE / 2 or (likeness >= RESTLESS and shared_part(*pair) >= TONE_KEPT)
