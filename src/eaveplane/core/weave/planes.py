"""What frames show of planes: each frame blurs a plane by a disc as wide as its focus is away from it, and such blurs add up.

In linear light, where a window shows planes a and b, frame j is disc(|u_j - a|) * A + disc(|u_j - b|) * B with u_j the place of its
focus in pixels of blur. Frequency by frequency these are n equations for two unknowns. How much of the frames such a pair (or a
single plane) cannot explain, and the weights by which the frames sum up to A + B, depend on the frequency's length alone, since
discs are round. That one thing hides another is neglected.
"""

from __future__ import annotations

import itertools
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ...imaging.waves import FREQUENCIES

MOST_KEPT = 160
"""Tables kept in memory: those of one stack, at up to a megabyte each."""
COARSE = np.linspace(0, FREQUENCIES[-1], 512)
"""Frequencies at which weights are worked out; they change slowly enough to be linear between them."""
Table = NDArray[np.float32]
Planes = tuple[float, ...]
"""Places, near or far in any order, of planes that are tried together."""

STEP = 0.8
"""Pixels between single planes that are tried."""
ALIKE = 0.3
"""Pixels below which two planes are tried as one."""
LEAST_APART = 1.2
"""Pixels that two planes must be apart to be tried as a pair."""
MOST_PLANES = 8
"""Planes of which pairs are made; of denser stacks some frames' places are left out."""
RIDGE, SINGLE_RIDGE = 0.002, 0.02
"""Error of the model, as part of the energy, of several planes and of a single one."""
PARTING_RIDGE = 0.01
"""The same where each frame's plane is parted from the others."""
OTHERS = 0.003
"""Part of the energy that may lie in the planes of other frames."""
SLOPE = 2.2
"""A natural picture's energy falls with frequency to this power."""
BETWEEN, UNLIKE = 0.2, 0.3
"""Pixels from where all frames are focused in which a plane lies between them: no frame shows it sharp, and that discs are unlike those that are
reckoned with counts as so much of the energy at one cycle a pixel."""


def disc_left(turns: NDArray[np.float64]) -> NDArray[np.float64]:
    """What a disc leaves of a wave; `turns` is its radius times the wave's frequency."""
    from scipy.special import j1

    x = np.maximum(2 * np.pi * np.abs(turns), 1e-6)
    return np.asarray(2 * j1(x) / x, np.float64)


def explanations(places: tuple[float, ...]) -> list[Planes]:
    """Planes that are tried together: each alone, pairs of those where frames are focused, and all."""
    rising = np.sort(places)
    steps = [np.linspace(a, b, max(1, round((b - a) / STEP)) + 1) for a, b in itertools.pairwise(rising)]
    alone = np.unique(np.concatenate(steps)) if steps else rising
    least = max(ALIKE, float(np.ptp(rising)) / (MOST_PLANES - 0.5)) if len(rising) > MOST_PLANES else ALIKE
    focused = _spaced(rising, least)
    pairs = [(a, b) for a, b in itertools.combinations(focused, 2) if b - a >= LEAST_APART]
    return [*((z,) for z in _spaced(alone, ALIKE)), *pairs, tuple(float(z) for z in rising)]


def _spaced(rising: NDArray[np.float64], least: float) -> list[float]:
    """Of rising places those that lie at least so far behind the last that was taken."""
    taken = [float(rising[0])]
    for place in rising[1:]:
        if place - taken[-1] >= least:
            taken.append(float(place))
    return taken


@lru_cache(MOST_KEPT)
def explained_by(places: tuple[float, ...], planes: Planes, width: float, noisier: tuple[float, ...]) -> tuple[Table, Table]:
    """What planes can explain of frames, in two steps: weights (m, n, STEPS) by which waves of all frames sum up to m pictures, and by which these sum
    up to what is explained of each frame. Planes are told by quiet frames first: `noisier` (n) is how many times their noise frames have. The
    waves are those of pictures in cells of `width` pixels."""
    seen = disc_left(COARSE[:, None, None] / width * (np.array(places)[None, :, None] - np.array(planes)))
    less = min(noisier) / np.array(noisier)
    # as many pictures as planes, but not those in the planes: these would be large where planes are hardly told apart
    root = np.linalg.cholesky((np.swapaxes(seen, 1, 2) * less) @ seen + 1e-3 * np.eye(len(planes)))
    to_frames = np.moveaxis(np.linalg.solve(root, np.swapaxes(seen, 1, 2)), 0, 2)
    return _spread(to_frames * less[:, None]), _spread(to_frames)


@lru_cache(MOST_KEPT)
def weights_of(places: tuple[float, ...], planes: Planes, error: float, noisier: tuple[float, ...]) -> Table:
    """Weights (n, STEPS) of the frames' waves in the best linear estimate (Wiener) of the sum of pictures in `planes`.

    Best in the mean over pictures whose energy lies in the planes in equal parts, a little of it where other frames are focused;
    `error` is what noise has of their energy at one cycle a pixel, `noisier` (n) how many times that frames have. The mean is kept as it is.
    """
    n, m = len(places), len(planes)
    at, part = np.concatenate([planes, places]), np.concatenate([np.full(m, (1 - OTHERS) / m), np.full(n, OTHERS / n)])
    seen = disc_left(COARSE[:, None, None] * (np.array(places)[None, :, None] - at))
    both = np.einsum("fiz,fjz,z->fij", seen, seen, part)
    spectrum = np.maximum(COARSE, 1 / 512) ** SLOPE
    ridge = (np.outer(error * spectrum, noisier) * 2 / m + (RIDGE if m > 1 else SINGLE_RIDGE)) * 2 / n
    if max(np.abs(np.array(places) - plane).min() for plane in planes) > BETWEEN:
        ridge += UNLIKE * spectrum[:, None]
    found = np.linalg.solve(both + ridge[:, :, None] * np.eye(n), np.einsum("fjz,z->fj", seen, part)[..., None])[..., 0]
    return _spread((found / found[:1].sum(axis=1, keepdims=True)).T)


@lru_cache(MOST_KEPT)
def layer_of(places: tuple[float, ...], k: int) -> Table:
    """Weights (n, STEPS) of the frames' waves in the picture of what lies where frame `k` is focused, if every frame has a plane of its
    own and their blurs add up. What is coarser than blurs tell is shared out among the planes as it comes."""
    seen = disc_left(COARSE[:, None, None] * (np.array(places)[:, None] - np.array(places)))
    turned = np.swapaxes(seen, 1, 2)
    inverse = np.linalg.solve(turned @ seen + PARTING_RIDGE * np.eye(len(places)), turned)
    return _spread(np.ascontiguousarray(inverse[:, k].T))


@lru_cache(MOST_KEPT)
def seen_from(places: tuple[float, ...], k: int, others: tuple[int, ...]) -> Table:
    """Weights (m, STEPS) of the waves of m frames, the `others`, in what frame `k` shows of things that lie where they are focused."""
    theirs = np.array(places)[list(others)]
    seen = disc_left(COARSE[:, None, None] * (theirs[:, None] - theirs))
    mine = disc_left(COARSE[:, None] * (places[k] - theirs))
    found = np.linalg.solve(seen @ np.swapaxes(seen, 1, 2) + PARTING_RIDGE * np.eye(len(theirs)), seen @ mine[..., None])[..., 0]
    return _spread(np.ascontiguousarray((found / found[:1].sum(axis=1, keepdims=True)).T))


@lru_cache(MOST_KEPT)
def blurred_by(radius: float) -> Table:
    """Weights (1, STEPS) of a picture's waves in the picture blurred by a disc."""
    return _spread(disc_left(COARSE * radius)[None])


def _spread(weights: NDArray[np.float64]) -> Table:
    """Weights (..., 512) at COARSE, at all FREQUENCIES."""
    at = np.arange(len(FREQUENCIES)) * ((len(COARSE) - 1) / (len(FREQUENCIES) - 1))
    first = np.minimum(at.astype(int), len(COARSE) - 2)
    part = (at - first).astype(np.float32)
    low, high = weights[..., first].astype(np.float32), weights[..., first + 1].astype(np.float32)
    return np.ascontiguousarray(low + (high - low) * part)
