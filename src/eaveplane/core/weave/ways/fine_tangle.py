"""Fine tangle: octave by octave from the frame that is strongest there (Burt and Kolczynski 1993).

Where twigs and grass cross at all depths no frame is right for a whole neighbourhood; each octave is then taken from where it is
strongest, and thin things stay whole. What is coarser than all octaves follows the labels.
"""

from __future__ import annotations

import cv2
import numpy as np

from ....imaging.colour import LUMA, FloatArray
from ..bands import add_weighed, bands_of, joined
from ..laid import Piece
from .crisp_seams import weights_in

WINDOW = 1.0
"""Pixels of the octave (sigma) in which frames are compared."""
STRICT = 2
"""How often the ratio of energies is squared before it weighs: nearly the strongest alone."""


def fine_tangle(piece: Piece) -> tuple[FloatArray, dict[int, FloatArray]]:
    """The picture (h, w, 3) of a wide box, and the weights (h, w), which sum to one, of the finest octave."""
    octaves = piece.weaving.octaves
    parts = {k: bands_of(picture, octaves) for k, picture in piece.pictures.items()}
    coarse = weights_in(piece)
    reach = {k: inside.astype(np.float32) for k, inside in piece.reach.items()}
    out: list[FloatArray] = []
    finest: dict[int, FloatArray] = {}
    for octave in range(octaves + 1):
        shape = next(iter(parts.values()))[octave].shape
        if octave == octaves:
            weights = coarse
        else:
            floor = np.float32(piece.floor * 0.25**octave + 1e-9)
            strength = {}
            for k, bands in parts.items():
                luma = bands[octave] @ LUMA
                ratio = cv2.GaussianBlur(luma * luma, (0, 0), WINDOW, borderType=cv2.BORDER_REPLICATE) / floor + np.float32(1)
                for _ in range(STRICT):
                    ratio *= ratio
                strength[k] = ratio * reach[k]
            total = np.maximum(np.sum(list(strength.values()), axis=0), np.float32(1e-20))
            weights = {k: s / total for k, s in strength.items()}
        mixed = np.zeros(shape, np.float32)
        for k, bands in parts.items():
            add_weighed(mixed, bands[octave], weights[k])
        out.append(mixed)
        finest = finest or weights
        if octave < octaves:
            coarse, reach = ({k: np.asarray(cv2.pyrDown(mask), np.float32) for k, mask in masks.items()} for masks in (coarse, reach))
    return joined(out), finest
