"""Where frames are focused, in pixels of blur, told by the pictures: at the right places single planes explain most tiles."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import LUMA, FloatArray
from ...imaging.resample import halve
from .planes import disc_left

Line = NDArray[np.float64]
"""Places (n,) of frames on the line of blur."""

TILE = 64
"""Side of a tile in cells of two pixels."""
AROUND = 10
"""Cells around a tile that its band needs."""
RINGS = 40
"""Rings of frequency in which a tile's energies are summed."""
MISFIT = 0.03
"""Part of the energy that discs never explain."""
FIRST_STEP, ROUGH_STEP, LAST_STEP, ROUNDS = 0.6, 0.3, 0.07, 60
"""Pixels by which places are moved at first, until few tiles no longer tell, and at last."""
FEW, MOST_SEEN = 4, 512
"""One tile of so many tells the way at first; tables that are kept of what frames see of planes."""
SCALES = (1.0, 0.8, 0.9, 1.1, 1.25)
STEPS_TRIED = (1.2, 2.0, 3.4, 6.0)
"""Pixels of blur between neighbours to begin with, beside a guess: the search from one start may end in the wrong place."""
PLANES_APART, CLOSELY = 0.4, 0.1
"""Pixels of blur between the planes that are tried, and where one number is sought, that planes further apart would pull to where one of them
happens to lie."""
STRICTLY = 0.01
"""Part of the energy that discs leave then: where they fit best tells, not how many places they fit somehow."""
PAIRS_TRIED = np.exp(np.arange(-0.5, 0.5, 0.02))
"""Parts of the distance between two frames."""
NOTHING = 0.9
"""Unexplained by more than this, places are not to be trusted."""


@dataclass(frozen=True)
class Places:
    """Where frames are focused (n,) in pixels of blur, what these places leave unexplained (0 to 1), and the variance of noise: of a
    pixel of `evened` pictures, and of the finest octave of all channels, in most frames, and how many times that frames (n,) have."""

    at: tuple[float, ...]
    unexplained: float
    evened: float
    finest: float
    noisier: tuple[float, ...]

    @property
    def trusted(self) -> bool:
        """Whether they explain the frames."""
        return self.unexplained < NOTHING

    def halved(self, level: int) -> Places:
        """The same for pictures halved `level` times: noise shrinks by half with every halving, its variance by a quarter."""
        less = 0.25**level
        return Places(tuple(u * 0.5**level for u in self.at), self.unexplained, self.evened * less, self.finest * less, self.noisier)

    def of(self, frames: Sequence[int]) -> Places:
        """The same for some of the frames."""
        return Places(tuple(self.at[k] for k in frames), self.unexplained, self.evened, self.finest, tuple(self.noisier[k] for k in frames))


def evened(light: Sequence[FloatArray]) -> tuple[FloatArray, FloatArray]:
    """Luminance of frames (h, w, 3) in linear light at half size, divided by the square root of what lies around, so that noise is about
    equal everywhere while blur still adds up: what is fine in it (n, h/2, w/2), and the coarse, which any plane explains."""
    return evened_luma(np.stack([halved_luma(frame) for frame in light]))


def halved_luma(light: FloatArray) -> FloatArray:
    """Luminance (h/2, w/2) of a frame (h, w, 3) in linear light, at half the size."""
    return halve(np.ascontiguousarray(light @ LUMA))


def evened_luma(luma: FloatArray) -> tuple[FloatArray, FloatArray]:
    """`evened` of halved luminances (n, h/2, w/2)."""
    luma = luma / np.sqrt(cv2.GaussianBlur(luma.mean(axis=0), (0, 0), 15, borderType=cv2.BORDER_REPLICATE) + np.float32(0.005))
    coarse = np.stack([cv2.GaussianBlur(y, (0, 0), 3, borderType=cv2.BORDER_REPLICATE) for y in luma])
    return luma - coarse, coarse


@dataclass(frozen=True, eq=False)
class Tiles:
    """Energies a cell that the `pairs` (p, 2) of frames, each with itself first, share in tiles, in rings of `frequencies` (RINGS,) in cycles
    a pixel: `shared` (tiles, p * RINGS), those of two different frames counted twice; the frames' own `energy` (tiles, n), and the `noise`'s."""

    pairs: NDArray[np.int64]
    shared: FloatArray
    energy: NDArray[np.float64]
    frequencies: NDArray[np.float64]
    noise: float

    def some(self, every: int) -> Tiles:
        """One of so many tiles."""
        return Tiles(self.pairs, self.shared[::every], self.energy[::every], self.frequencies, self.noise)


def shared_energies(tiles: FloatArray, noise: float) -> Tiles:
    """What `unexplained` needs to know of tiles (t, n, TILE, TILE) of evened pictures."""
    window = np.outer(*[np.hanning(TILE + 2)[1:-1]] * 2).astype(np.float32)
    waves = np.fft.rfft2(tiles * window)
    length = np.hypot(np.fft.fftfreq(TILE)[:, None], np.fft.rfftfreq(TILE)[None]) / 2
    twice = np.full(length.shape, 2.0)
    twice[:, [0, -1]] = 1
    ring = np.digitize(length.ravel(), np.linspace(0.005, 0.25, RINGS + 1)) - 1
    within = (ring >= 0) & (ring < RINGS)
    count, n = np.maximum(np.bincount(ring[within], minlength=RINGS), 1), tiles.shape[1]
    membership = np.zeros((length.size, RINGS))
    membership[np.nonzero(within)[0], ring[within]] = 1
    pairs = [(k, k) for k in range(n)] + [(i, j) for i in range(n) for j in range(i + 1, n)]
    shared = np.stack([((waves[:, i] * waves[:, j].conj()).real * (twice if i == j else 2 * twice)).reshape(len(tiles), -1) @ membership for i, j in pairs], axis=1)
    shared /= float((window**2).sum()) * TILE**2
    energy = shared[:, :n].sum(axis=2)
    return Tiles(np.array(pairs), shared.reshape(len(tiles), -1).astype(np.float32), energy, np.bincount(ring[within], length.ravel()[within], RINGS) / count, noise)


def unexplained(places: Line, tiles: Tiles, apart: float = PLANES_APART, misfit: float = MISFIT) -> float:
    """Mean over tiles of what the best single plane leaves of them, each between 0 and 1: those with depth edges drop out. Planes lie so many
    pixels of blur `apart`, and `misfit` of the energy is left by any."""
    low, high, frequencies = float(places.min()), float(places.max()), tuple(tiles.frequencies.tolist())
    seen = np.stack([_seen_by(float(place), low, high, apart, frequencies) for place in places])
    # the energy that a plane explains is a quadratic form of the shared energies, frequency by frequency
    seen /= np.sqrt((seen**2).sum(axis=0) + np.float32(1e-3))
    form = seen[tiles.pairs[:, 0]] * seen[tiles.pairs[:, 1]]
    told = tiles.shared @ form.reshape(-1, form.shape[2])
    left = tiles.energy.sum(axis=1) - told.max(axis=1)
    ratio = left / (len(places) * tiles.noise * 2 + misfit * tiles.energy.max(axis=1))
    return float((ratio / (1 + ratio)).mean())


@lru_cache(MOST_SEEN)
def _seen_by(place: float, low: float, high: float, apart: float, frequencies: tuple[float, ...]) -> FloatArray:
    """What a frame focused at a place leaves of waves (RINGS, planes) in the planes that are tried from `low` to `high`. A search moves one
    frame at a time, and the others see what they saw."""
    tried = np.linspace(low, high, max(2, int(np.ceil((high - low) / apart))) + 1)
    return disc_left(np.array(frequencies)[:, None] * (place - tried)).astype(np.float32)


def find_places(tiles: Tiles, guess: Line) -> tuple[Line, float]:
    """Places (n,) of the frames' focus from a `guess` or from even steps, and what they leave unexplained (0 to 1; above NOTHING
    they are not to be trusted). Only their differences mean anything, and blur does not tell which end is near."""
    few = tiles.some(FEW)
    starts = [guess, *(np.arange(len(guess)) * np.float64(step) for step in STEPS_TRIED)]
    scaled = [min((start * scale for scale in SCALES), key=lambda u: unexplained(u, few)) for start in starts]
    every = range(len(guess))
    rough = [_refined(start, few, every, FIRST_STEP, ROUGH_STEP) for start in scaled]
    # few tiles tell where to go from a start, not which start was right
    places = min(rough, key=lambda u: unexplained(u, tiles))
    places = _refined(_exchanged(_brought_back(places, tiles, every), tiles), tiles, every, ROUGH_STEP, LAST_STEP)
    if len(places) == 2:
        places = min((places * part for part in PAIRS_TRIED), key=lambda u: unexplained(u, tiles, CLOSELY, STRICTLY))
    return places, unexplained(places, tiles)


def place_among(places: Line, tiles: Tiles, loose: Sequence[int]) -> Line:
    """Places (n,) of which the `loose` ones are guesses that are mended, while the others stay."""
    return _refined(_brought_back(places, tiles, loose), tiles, loose, ROUGH_STEP, LAST_STEP)


def _brought_back(places: Line, tiles: Tiles, loose: Sequence[int]) -> Line:
    """Places of which single `loose` ones are put elsewhere, between two others or beyond all, where that leaves less unexplained: where a frame shows
    next to nothing sharp it may lie far off on the wrong side, and small steps do not lead back."""
    least = unexplained(places, tiles)
    for k in loose:
        others = np.sort(np.delete(places, k))
        step = float(np.median(np.diff(others))) if len(others) > 1 else 0.0
        for place in (others[0] - step, *(others[:-1] + others[1:]) / 2, others[-1] + step):
            tried = places.copy()
            tried[k] = place
            left = unexplained(tried, tiles)
            if left < least - 1e-5:
                places, least = tried, left
    return places


def _exchanged(places: Line, tiles: Tiles) -> Line:
    """Places of which neighbours on the line are exchanged where that leaves less unexplained: frames may have come in a wrong order, and
    small steps do not lead past one another."""
    least, better = unexplained(places, tiles), True
    while better:
        better, order = False, np.argsort(places)
        for a, b in pairwise(order):
            tried = places.copy()
            tried[[a, b]] = tried[[b, a]]
            left = unexplained(tried, tiles)
            if left < least - 1e-5:
                places, least, better = tried, left, True
                break
    return places


def _refined(places: Line, tiles: Tiles, loose: Sequence[int], step: float, last: float) -> Line:
    """Places at which less is left unexplained: one of the `loose` moved after the other, and, if that is all, all drawn apart or together, in steps
    that are halved."""
    least = unexplained(places, tiles)
    moves: list[int | None] = [*loose, *([None] if len(loose) == len(places) else [])]
    for _ in range(ROUNDS):
        better = False
        for move in moves:
            for by in (step, -step):
                tried = places.copy()
                if move is not None:
                    tried[move] += by
                else:
                    tried = (tried - tried.mean()) * (1 + by / max(np.ptp(tried), 1.0)) + tried.mean()
                left = unexplained(tried, tiles)
                if left < least - 1e-5:
                    places, least, better = tried, left, True
                    break
        if not better:
            step /= 2
            if step < last:
                break
    return places
