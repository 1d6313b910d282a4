"""Where frames are focused, told by themselves: their blocks on the reference's, and a first guess to begin with."""

from __future__ import annotations

import math
from collections.abc import Sequence

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.placement import Placement
from ...imaging.resample import halve
from .defocus import find_defocus
from .octaves import BLOCK, Octaves
from .verdicts import unlike

MOST_BLOCKS_ACROSS = 130
USUAL_STEP = 1.2
"""Pixels of radius between the focus of neighbours, as a first guess."""


def halvings_of(octaves: Octaves) -> int:
    """How often blocks are halved so that they are not too many."""
    return max(0, math.ceil(math.log2(max(octaves.energy.shape[1:]) / MOST_BLOCKS_ACROSS)))


def laid(maps: FloatArray, placement: Placement, block: int) -> FloatArray:
    """Maps (c, h, w) of a frame's blocks on those of the reference, the edge repeated."""
    height, width = maps.shape[1:]
    blocks = placement.in_cells(block, (width, height))
    # between squares, so that what is large does not drown what is small
    return np.stack([blocks.lay_maps(np.sqrt(m), (height, width)) ** 2 for m in maps])


def coarser(maps: FloatArray, halvings: int) -> FloatArray:
    """Maps (c, h, w) halved."""
    for _ in range(halvings):
        maps = np.stack([halve(m) for m in maps])
    return maps


def reach_of(placement: Placement, shape: tuple[int, int], block: int) -> NDArray[np.bool_]:
    """Which of the reference's blocks (h, w) a frame reaches, but for a tenth of them."""
    # eight places a block are enough to tell nine tenths of it
    small = placement.at(max(0, block.bit_length() - 4))
    inside = small.covers((0, 0, *small.size)).astype(np.float32)
    return np.asarray(cv2.resize(inside, shape[::-1], interpolation=cv2.INTER_AREA) > 0.9)


def first_guess(dioptres: NDArray[np.float64], beyond: set[int], unlike: list[float]) -> tuple[NDArray[np.float64], bool]:
    """Where to begin looking for the focus of frames on the line, and whether only the scale is in question; `unlike`
    tells how differently sharp neighbours are."""
    count = len(dioptres)
    inner = [k for k in range(count) if k not in beyond]
    known = np.isfinite(dioptres).all() and len(inner) > 1 and (np.diff(dioptres[inner]) > -1e-9).all() and np.ptp(dioptres[inner]) > 1e-6
    if not known:
        usual = float(np.median(unlike)) if unlike else 1.0
        return np.concatenate([[0.0], np.cumsum([USUAL_STEP * max(0.05, min(u / max(usual, 1e-6), 3.0)) for u in unlike])]), False
    step = np.ptp(dioptres[inner]) / (len(inner) - 1)
    guess = (dioptres - dioptres[inner[0]]) / step * USUAL_STEP
    # what lies past infinity bears no distance
    for k in sorted(beyond):
        if k > 0 and guess[k] <= guess[k - 1]:
            guess[k] = guess[k - 1] + USUAL_STEP
    return np.array(guess, dtype=np.float64), not beyond


def focus_of(octaves: Sequence[Octaves], placements: Sequence[Placement], dioptres: NDArray[np.float64]) -> NDArray[np.float64]:
    """Where frames in order from near to far are focused (n,), as pixels of radius of the blur disc, rising: two of them blur what the other
    holds sharp by the difference. `octaves` are those of frames in the same light, `dioptres` (n,) are minus what their files say, nan where they do not."""
    halvings = halvings_of(octaves[0])
    block = BLOCK << halvings
    energies, noises = ([laid(coarser(m, halvings), placement, block) for m, placement in zip(maps, placements, strict=True)] for maps in ([o.energy for o in octaves], [o.noise for o in octaves]))
    reach = [reach_of(placement, energies[0].shape[1:], block) for placement in placements]
    start, to_scale = first_guess(dioptres, set(), unlike(energies, noises, np.all(reach, axis=0)))
    return find_defocus(energies, noises, reach, block, start, to_scale, list(range(len(octaves)))).focus
