"""Finding the sharp zones: label weights of the frames."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from ...core.gather.detail import LAPLACIAN, covered, lay_on, pooled_shape, signal
from ...core.weave.contradiction import contradicts
from ...core.weave.labels import above_noise, aggregate, costs, label_weights
from ...core.weave.places import Places
from ...imaging.colour import FloatArray
from ...imaging.placement import Placement
from ..arrays import array, arrays
from ..cache import Cache
from ..ticket import Ticket
from .frame import Frame, open_frame
from .nudge import Nudged
from .places import Locate, open_places
from .register import Register, Registration, open_registration
from .step import Step


@dataclass(frozen=True)
class Label(Step):
    """Label weights of the frames that were registered, from their detail; 0 for those whose masks are not found, if only some are."""

    name, version = "label", 10
    registered: Register | Nudged
    located: Locate | None
    quiet: float
    found: tuple[int, ...]

    def build(self, cache: Cache, folder: Path, ticket: Ticket) -> None:
        frames, laid = [open_frame(cache, frame) for frame in self.registered.frames], open_registration(cache, self.registered.key)
        told = evidence(frames, laid, self.found, open_places(cache, self.located.key) if self.located else None, ticket.within(0, 0.5))
        weights = told.gates(self.quiet)
        ticket.tell(0.95)
        np.save(folder / "gates.npy", weights.astype(np.float16))
        winner, texture, count = weights.argmax(axis=0), told.texture, len(weights)
        counts = np.bincount(winner[texture], minlength=count) / max(1, int(texture.sum()))
        rows = [np.asarray(((winner == k) & texture).sum(axis=1)) / np.maximum(texture.sum(axis=1), 1) for k in range(count)]
        np.savez(folder / "zones.npz", shares=counts, rows=np.array(rows, np.float32))


@dataclass(frozen=True, eq=False)
class Evidence:
    """What tells where each of `count` frames is sharp, on the pooled grid: `cost` (n, h, w) and `reach` of the frames `found`, the picture's
    luma as a `guide` (h, w), and where there is `texture` (h, w)."""

    count: int
    found: tuple[int, ...]
    cost: FloatArray
    reach: list[NDArray[np.bool_]]
    guide: FloatArray
    texture: NDArray[np.bool_]

    def gates(self, quiet: float, part: tuple[slice, slice] = np.s_[:, :]) -> FloatArray:
        """Label weights (count, h, w) of a part of the grid, as if there were nothing beside it; 0 for frames that are not `found`."""
        weights = np.zeros((self.count, *self.guide[part].shape), np.float32)
        if self.found:
            cost = np.ascontiguousarray(self.cost[(slice(None), *part)])
            weights[list(self.found)] = label_weights(aggregate(cost, np.ascontiguousarray(self.guide[part]), quiet), [inside[part] for inside in self.reach])
        return weights


def evidence(frames: Sequence[Frame], laid: Registration, found: tuple[int, ...], places: Places | None, tell: Callable[[float], None] = lambda share: None) -> Evidence:
    """Gather what tells where registered frames are sharp. Those of a camera that moved, of which no `places` are known that explain them, have
    no part in where they show something else than the reference."""
    size = frames[0].size
    shape = pooled_shape(size[1], size[0])
    energies, noises, reach = [], [], []
    standard = frames[laid.reference].luma()
    for done, k in enumerate(found, 1):
        frame, placement = frames[k], laid.placements[k]
        detail = frame.detail()
        # brightness must not pass for sharpness
        energies.append(laid.evened(k, lay_on(signal(detail), placement, shape)))
        noises.append(np.float32(laid.gain(k)) * detail.noise)
        inside = covered(placement, shape)
        if laid.focus and k != laid.reference and not (places and places.trusted):
            inside &= ~_elsewhere(frame, placement, laid.gain(k), standard, laid.focus[k] - laid.focus[laid.reference], shape)
        reach.append(inside)
        tell(done / len(found))
    guide = np.asarray(cv2.resize(standard, shape[::-1], interpolation=cv2.INTER_AREA), np.float32)
    if not found:
        return Evidence(len(frames), found, np.zeros((0, *shape), np.float32), [], guide, np.zeros(shape, np.bool_))
    energies = above_noise(energies, noises, places.noisier if places else [1.0] * len(found))
    texture = np.any([e[0] > 4 * float(n[0]) for e, n in zip(energies, noises, strict=True)], axis=0)
    return Evidence(len(frames), found, costs(energies, noises, reach), reach, guide, texture)


def _elsewhere(frame: Frame, placement: Placement, gain: float, standard: FloatArray, apart: float, shape: tuple[int, int]) -> NDArray[np.bool_]:
    """Where (h, w) a frame taken by a camera that moved shows something else than the reference, of luma `standard`; `apart` is the distance of their foci in
    pixels of the full size, `gain` makes it as bright."""
    level = frame.detail().level
    height, width = standard.shape
    noise = gain * frame.fine_noise() / LAPLACIAN / 4.0**level
    return contradicts(placement.at(level).lay(frame.luma() * np.float32(math.sqrt(gain)), (0, 0, width, height)), standard, abs(apart) / 2**level, noise, shape)


def open_labels(cache: Cache, key: str) -> FloatArray:
    """Label weights (frames, h, w) of a key."""
    return np.asarray(array(cache.path(key) / "gates.npy"), np.float32)


def zone_shares(cache: Cache, key: str) -> list[float]:
    """In how much of the textured picture each frame is the sharpest."""
    return [float(s) for s in arrays(cache.path(key) / "zones.npz", "shares")["shares"]]
