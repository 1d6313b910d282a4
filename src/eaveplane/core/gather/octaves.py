"""What a frame shows octave by octave and in which directions, block by block, and what a blur disc does to it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from itertools import pairwise

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.resample import halve

BLOCK = 16
"""Side of the square of pixels that one value stands for."""
OCTAVES = 6
RADII = np.concatenate([[0.0], np.geomspace(0.15, 60, 71)])
"""Radii of the table of `attenuation`."""
_SLOPE = 2.2
"""Power of landscapes' textures falls with so high a power of frequency (Field 1987 found 2 to 3)."""
_SOFT = 0.6
"""What lens, filter and demosaicing spread in focus, in pixels."""


@dataclass(frozen=True, eq=False)
class Octaves:
    """`energy` (6, h/16, w/16): variance in octaves about 2, 4, 8 … 64 px long; `noise` (6, h/16, w/16): what of it is noise;
    `slopes` (4, h/16, w/16): mean square slope of the halved picture along x, one diagonal, y and the other."""

    energy: FloatArray
    noise: FloatArray
    slopes: FloatArray

    def lit(self, gain: float) -> Octaves:
        """What a frame would show in so many times the light."""
        return Octaves(self.energy * np.float32(gain), self.noise * np.float32(gain), self.slopes * np.float32(gain))

    def turned(self, quarters: int) -> Octaves:
        """What the picture shows once it is turned by so many quarters to the left."""
        slopes = np.roll(self.slopes, 2, axis=0) if quarters % 2 else self.slopes
        return Octaves(*(np.rot90(m, quarters, axes=(1, 2)) for m in (self.energy, self.noise, slopes)))


def block_shape(height: int, width: int) -> tuple[int, int]:
    """(h, w) of the maps of a frame."""
    return max(1, -(-height // BLOCK)), max(1, -(-width // BLOCK))


class Measuring:
    """Gathers octaves while a picture is taken apart into bands, so that this is done once for all that needs it."""

    def __init__(self, luma: FloatArray) -> None:
        self.shape = block_shape(*luma.shape)
        self.light = pooled(luma * luma, 0, BLOCK, self.shape)
        self.energies: list[FloatArray] = []
        self.slopes: list[FloatArray] = []

    def band(self, energy: FloatArray, pooled_by: int) -> None:
        """The next octave's mean squares over squares of `pooled_by` full pixels."""
        self.energies.append(pooled(energy, pooled_by.bit_length() - 1, BLOCK, self.shape))

    def halved(self, picture: FloatArray) -> None:
        """The picture at half size."""
        self.slopes = [pooled(s * s, 1, BLOCK, self.shape) for s in _directed(picture)]

    def done(self) -> Octaves:
        energy = np.stack(self.energies).astype(np.float32)
        return Octaves(energy, _noise(energy, self.light), np.stack(self.slopes).astype(np.float32))


def pooled(squares: FloatArray, octave: int, size: int, shape: tuple[int, int]) -> FloatArray:
    """Means over squares of `size` full pixels of a picture that is halved `octave` times already, as (h, w) `shape`."""
    for _ in range(max(0, size.bit_length() - 1 - octave)):
        squares = halve(squares)
    if squares.shape[0] < shape[0] or squares.shape[1] < shape[1]:
        return np.asarray(cv2.resize(squares, shape[::-1], interpolation=cv2.INTER_LINEAR))
    return np.ascontiguousarray(squares[: shape[0], : shape[1]])


def _noise(energy: FloatArray, light: FloatArray) -> FloatArray:
    """What of `energy` is noise: in the square root of light that of photons is the same everywhere, and the sensor's
    own, which tells in deep shadow, falls as light rises. Both are read where the picture shows least."""
    light = np.maximum(light, 1e-5)
    # where it is clipped there is no noise to be read
    open_ = (light < 0.85) & (light > 2e-5) & (energy[0] > 0)
    if open_.sum() < 40:
        open_ = np.ones_like(open_)
    edges = np.quantile(light[open_], np.linspace(0, 1, 11))
    levels, floors = [], []
    for low, high in pairwise(edges):
        inside = open_ & (light >= low) & (light <= high)
        levels.append(float(light[inside].mean()))
        floors.append([float(np.percentile(e[inside], 3.0)) for e in energy[:3]])
    floor, level = np.array(floors) * 1.2, np.array(levels)
    photons = floor.min(axis=0)
    # noise has less in each coarser octave; a floor that does not fall so is faint texture
    photons = np.minimum(photons, photons[0] / np.array([1.0, 2.5, 8.0]))
    sensor = max(0.0, float(((floor[:3, 0] - photons[0]) * level[:3]).min()))
    shape = 1 + sensor / (photons[0] + 1e-12) / light
    octaves = np.array([*photons, *(photons[2] / 4.0**k for k in range(1, OCTAVES - 2))]) + 1e-11
    return np.asarray(octaves[:, None, None] * shape, np.float32)


def _directed(picture: FloatArray) -> list[FloatArray]:
    """Slopes along x, the falling diagonal, y and the rising diagonal, of one size (h, w)."""
    soft = cv2.GaussianBlur(picture, (0, 0), 0.7)
    x = cv2.filter2D(soft, -1, np.array([[-0.5, 0, 0.5]]))
    y = cv2.filter2D(soft, -1, np.array([[-0.5], [0], [0.5]]))
    root = np.float32(np.sqrt(0.5))
    return [x, (x + y) * root, y, (y - x) * root]


@cache
def attenuation() -> NDArray[np.float64]:
    """(6, radii): what part of each octave's energy is left under a disc of each of `RADII`, in pixels; as
    `compute_attenuation` gives it, kept because that takes a second."""
    with files("eaveplane.core.gather").joinpath("attenuation.npy").open("rb") as file:
        return np.asarray(np.load(file), np.float64)


def compute_attenuation() -> NDArray[np.float64]:
    """The table of `attenuation`.

    From the transfer function of a disc, 2 J1(x) / x (Goodman, Introduction to Fourier Optics), over the pyramid's
    own bands and the spectrum of landscapes.
    """
    from scipy.special import j1

    side = 192
    f = (np.arange(side) + 0.5) / side * np.pi
    fx, fy = np.meshgrid(f, f)
    away = np.hypot(fx, fy)

    def low(w: NDArray[np.float64]) -> NDArray[np.float64]:
        return (6 + 8 * np.cos(w) + 2 * np.cos(2 * w)) / 16

    kept = np.empty((OCTAVES, len(RADII)))
    for octave in range(OCTAVES):
        scale = 1 / 2**octave
        # the same band of the halved picture, where frequencies are twice as high
        band = (1 - (low(fx) * low(fy)) ** 2) ** 2
        for k in range(octave):
            band = band * (low(fx / 2 ** (k + 1)) * low(fy / 2 ** (k + 1))) ** 2
        spectrum = band * (away * scale) ** -_SLOPE * np.exp(-((_SOFT * away * scale) ** 2))
        for i, radius in enumerate(RADII):
            x = away * scale * radius + 1e-9
            kept[octave, i] = float((spectrum * (2 * j1(x) / x) ** 2).sum() / spectrum.sum())
    # a real disc never has a transfer of nothing at all
    return np.maximum(kept, 2e-4)
