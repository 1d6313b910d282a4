"""The order of frames from near to far, read from where each is sharp."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from .octaves import Octaves

PROFILE_ROWS = 48
_GRID = (36, 24)
BLURRED = 0.2
"""Log energy by which wide blur may lower the coarsest octave of a frame."""
SHARPNESS = 3.0
"""How much more the sharpest frame counts: the power to which energies are raised."""


def _lines(octaves: Sequence[Octaves]) -> tuple[FloatArray, FloatArray, NDArray[np.int64]]:
    """Log fine energies (n, places) against their mean over frames, weights (places,) and rows (places,) of places where
    there is something to see, on a coarse grid that does not mind if frames are not registered."""
    maps, floors = [], []
    height, width = octaves[0].energy.shape[1:]
    grid = _GRID[::-1] if height > width else _GRID
    if width < grid[0]:
        grid = (width, height)
    for seen in octaves:
        fine = np.maximum(seen.energy[:2] - seen.noise[:2], 0).sum(axis=0)
        maps.append(cv2.resize(fine, grid, interpolation=cv2.INTER_AREA))
        floors.append(cv2.resize(seen.noise[:2].sum(axis=0), grid, interpolation=cv2.INTER_AREA))
    energy, noise = np.stack(maps), np.stack(floors)
    clear = energy.max(axis=0) > 2 * noise.max(axis=0)
    if clear.sum() < 12:
        clear = np.ones_like(clear)
    # brightness must not pass for sharpness; a little less of what is coarse is blur
    coarse = np.array([float(np.median(np.log(seen.energy[-1] + 1e-9))) for seen in octaves])
    middle = float(np.median(coarse))
    exposed = coarse - np.clip(coarse, middle - BLURRED, middle + BLURRED)
    # noise of one frame must not either: all are held against what rises above the noisiest
    lines = np.log(energy + 0.5 * noise.max(axis=0) + 1e-12)[:, clear] - exposed.astype(np.float32)[:, None]
    rows = np.nonzero(clear)[0]
    return lines - lines.mean(axis=0), np.sqrt(energy.max(axis=0))[clear], rows


def near_to_far(octaves: Sequence[Octaves]) -> list[int]:
    """Indices from near to far.

    Frames whose sharpness is distributed alike stand next to each other: they are put in line by the second eigenvector
    of the Laplacian of their likeness (spectral seriation; Atkins, Boman and Hendrickson 1998). Which end is near is
    told by the picture: near lies low in a landscape.
    """
    count = len(octaves)
    if count < 2:
        return list(range(count))
    lines, seen, rows = _lines(octaves)
    share = np.exp(SHARPNESS * (lines - lines.max(axis=0)))
    share = share / share.sum(axis=0) * seen
    if not share.any():
        return list(range(count))
    if count == 2:
        line = np.array([0.0, 1.0])
    else:
        apart = np.array([[float(np.abs(a - b).mean()) for b in lines] for a in lines])
        scale = float(np.median(np.sort(apart, axis=1)[:, 1:3])) + 1e-9
        alike = np.exp(-((apart / scale) ** 2)) + 1e-6
        np.fill_diagonal(alike, 0)
        line = np.linalg.eigh(np.diag(alike.sum(axis=1)) - alike)[1][:, 1]
    # frames count by how much is sharp in them: one focused before everything says nothing
    rank = np.argsort(np.argsort(line)).astype(np.float64)
    mass = share.sum(axis=1) / share.sum()
    fall = ((share @ (rows - (share * rows).sum() / share.sum())) * (rank - (mass * rank).sum())).sum()
    if fall > 0:
        line = -line
    return sorted(range(count), key=lambda k: float(line[k]))


def profiles(octaves: Sequence[Octaves]) -> FloatArray:
    """Sharp-zone profile (n, 48) of each frame: row by row from the top, how much of the sharpest detail is its own."""
    signals = [np.maximum(o.energy[:2] - o.noise[:2], 0).sum(axis=0) for o in octaves]
    grid = (PROFILE_ROWS * 3 // 2, PROFILE_ROWS)
    energy = np.stack([cv2.resize(s, grid, interpolation=cv2.INTER_AREA) for s in signals])
    share = energy**2 / np.maximum((energy**2).sum(axis=0), 1e-18)
    weight = np.sqrt(energy.max(axis=0))
    return np.asarray((share * weight).sum(axis=2) / np.maximum(weight.sum(axis=1), 1e-9), np.float32)
