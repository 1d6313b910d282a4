"""Gentle: a mean of all frames, weighed by their own fine detail around each pixel. No seams at all, at the cost of some crispness."""

from __future__ import annotations

import numpy as np

from ....imaging.colour import FloatArray
from ..bands import add_weighed
from ..laid import Piece


def gentle(piece: Piece) -> tuple[FloatArray, dict[int, FloatArray]]:
    """The picture (h, w, 3) and the weights (h, w), which sum to one, of a wide box."""
    total = np.maximum(sum(piece.spare.values()), np.float32(1e-20))
    weights = {k: strength / total for k, strength in piece.spare.items()}
    out = np.zeros_like(next(iter(piece.pictures.values())))
    for k, picture in piece.pictures.items():
        add_weighed(out, picture, weights[k])
    return out, weights
