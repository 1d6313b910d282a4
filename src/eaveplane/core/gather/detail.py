"""How much fine detail a frame holds, everywhere, before anything is registered.

Detail is measured in the frame's own grid, so that no resampling blurs it, and pooled, so that what is kept of
a frame is small. Energies are variances of octave bands of the square root of luminance, where photon noise
is equally strong at every brightness; the noise itself is measured from the frame and taken off.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.placement import Placement
from ...imaging.resample import halve
from .octaves import OCTAVES, Measuring, Octaves, pooled

POOL = 4
"""Side of the square of pixels that one value of a detail map stands for."""
POOL_LEVEL = POOL.bit_length() - 1
BANDS = 3
LAPLACIAN = 20
"""By how much more the Laplacian of white noise varies than the noise itself."""
REGISTERED_SIDE = 2000
NOISE_ROWS = 34
"""Rows of a band in which the finest noise is measured."""


@dataclass(frozen=True, eq=False)
class Detail:
    """What analysis keeps of a frame.

    `energy` (3, h/4, w/4): variance of the bands of about 2, 4 and 8 px, noise not yet taken off; `noise` (3,):
    the variance that noise alone has in each, `fine_noise` that of the Laplacian; `luma`: the square root of luminance, halved `level` times so that
    it is at most 2000 pixels long, for registration; `octaves`: the same coarser, for inspection.
    """

    energy: FloatArray
    noise: FloatArray
    fine_noise: float
    luma: FloatArray
    level: int
    octaves: Octaves


def _band(picture: FloatArray) -> tuple[FloatArray, FloatArray]:
    """The finest octave of a picture, and the picture at half size without it."""
    small = cv2.pyrDown(picture)
    back = cv2.pyrUp(small, dstsize=(picture.shape[1], picture.shape[0]))
    return np.asarray(picture - back), np.asarray(small)


def pooled_shape(height: int, width: int) -> tuple[int, int]:
    """(h, w) of the detail maps of a frame."""
    return -(-height // POOL), -(-width // POOL)


def measure_detail(luma: FloatArray) -> Detail:
    """Analyse the square root of luminance (h, w) of a frame at full size."""
    shape = pooled_shape(*luma.shape)
    energies, picture, octaves = [], luma, Measuring(luma)
    for octave in range(OCTAVES):
        if octave == 1:
            octaves.halved(picture)
        band, picture = _band(picture)
        energy = band * band
        if octave < BANDS:
            energy = pooled(energy, octave, POOL, shape)
            energies.append(energy)
        octaves.band(energy, POOL if octave < BANDS else 1 << octave)
    energy = np.stack(energies)
    # a quarter of the rows, in bands spread over the picture, tell the noise as well as all
    bands = [cv2.Laplacian(luma[top : top + NOISE_ROWS], cv2.CV_32F)[1:-1] for top in range(0, max(1, luma.shape[0] - NOISE_ROWS), 4 * NOISE_ROWS)]
    squares = np.concatenate([pooled(lap * lap, 0, POOL, (len(lap) // POOL, shape[1])) for lap in bands])
    fine_noise = _noise_floor(squares)
    level = 0
    while max(luma.shape) > REGISTERED_SIDE:
        luma, level = halve(luma), level + 1
    return Detail(energy, np.array([_noise_floor(e) for e in energy], np.float32), fine_noise, luma, level, octaves.done())


def _noise_floor(energy: FloatArray) -> float:
    """Variance of a band where the frame shows nothing but noise: the low end of its pooled energies.

    A square of n independent samples of variance s has its 2nd percentile near s (1 - 2.05 sqrt(2/n)); demosaicing
    makes neighbours alike, hence the fewer samples assumed here.
    """
    smooth = cv2.blur(energy, (3, 3))
    return float(np.percentile(smooth, 2.0) * 1.25 + 1e-10)


def signal(detail: Detail) -> FloatArray:
    """Energy (3, h, w) above the noise, never negative."""
    return np.maximum(detail.energy - 1.5 * detail.noise[:, None, None], 0)


def lay_on(energy: FloatArray, placement: Placement, shape: tuple[int, int]) -> FloatArray:
    """A frame's pooled maps (bands, h, w) on the reference's pooled grid `shape` (h, w)."""
    moved = placement.at(POOL_LEVEL).lay_maps(np.moveaxis(energy, 0, -1), shape)
    return np.ascontiguousarray(np.moveaxis(np.atleast_3d(moved), -1, 0))


def covered(placement: Placement, shape: tuple[int, int]) -> NDArray[np.bool_]:
    """Where on the pooled grid a frame reaches, its last partly covered squares included.

    Weaving keeps to the exact border; gates that ended before it would shut the sharpest frame out along it.
    """
    inside = placement.at(POOL_LEVEL).covers((0, 0, shape[1], shape[0]))
    return cv2.dilate(inside.astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
