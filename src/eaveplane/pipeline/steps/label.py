"""Finding the sharp zones: label weights of the frames."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from ...core.gather.detail import LAPLACIAN, covered, lay_on, pooled_shape, signal
from ...core.weave.contradiction import contradicts
from ...core.weave.labels import aggregate, costs, label_weights
from ...imaging.colour import FloatArray
from ...imaging.placement import Placement
from ..cache import Cache
from ..ticket import Ticket
from .frame import Frame, open_frame
from .nudge import Nudged
from .register import Register, open_registration
from .step import Step


@dataclass(frozen=True)
class Label(Step):
    """Label weights of the frames that were registered, from their detail; 0 for those whose masks are not found, if only some are."""

    name, version = "label", 5
    registered: Register | Nudged
    quiet: float
    found: tuple[int, ...]

    def build(self, cache: Cache, folder: Path, ticket: Ticket) -> None:
        frames, laid = [open_frame(cache, frame) for frame in self.registered.frames], open_registration(cache, self.registered.key)
        size = frames[0].size
        shape = pooled_shape(size[1], size[0])
        energies, noises, reach = [], [], []
        standard = frames[laid.reference].luma()
        for k, (frame, placement) in enumerate(zip(frames, laid.placements, strict=True)):
            detail = frame.detail()
            energies.append(lay_on(signal(detail), placement, shape))
            noises.append(detail.noise)
            inside = covered(placement, shape)
            if laid.focus and k != laid.reference:
                inside &= ~_elsewhere(frame, placement, standard, laid.focus[k] - laid.focus[laid.reference], shape)
            reach.append(inside)
            ticket.tell(0.5 * (k + 1) / len(frames))
        guide = cv2.resize(standard, shape[::-1], interpolation=cv2.INTER_AREA)
        energies, noises, reach = ([of[k] for k in self.found] for of in (energies, noises, reach))
        weights = np.zeros((len(frames), *shape), np.float32)
        if self.found:
            weights[list(self.found)] = label_weights(aggregate(costs(energies, noises, reach), guide, self.quiet), reach)
        ticket.tell(0.95)
        np.save(folder / "gates.npy", weights.astype(np.float16))
        winner = weights.argmax(axis=0)
        texture = np.max([e[0] for e in energies], axis=0) > 4 * max(float(n[0]) for n in noises) if self.found else np.zeros(shape, np.bool_)
        counts = np.bincount(winner[texture], minlength=len(frames)) / max(1, int(texture.sum()))
        rows = [np.asarray(((winner == k) & texture).sum(axis=1)) / np.maximum(texture.sum(axis=1), 1) for k in range(len(frames))]
        np.savez(folder / "zones.npz", shares=counts, rows=np.array(rows, np.float32))


def _elsewhere(frame: Frame, placement: Placement, standard: FloatArray, apart: float, shape: tuple[int, int]) -> NDArray[np.bool_]:
    """Where (h, w) a frame taken by a camera that moved shows something else than the reference, of luma `standard`."""
    level = frame.detail().level
    height, width = standard.shape
    noise = frame.fine_noise() / LAPLACIAN / 4.0**level
    return contradicts(placement.at(level).lay(frame.luma(), (0, 0, width, height)), standard, abs(apart), noise, shape)


def open_labels(cache: Cache, key: str) -> FloatArray:
    """Label weights (frames, h, w) of a key."""
    return np.asarray(np.load(cache.path(key) / "gates.npy").astype(np.float32))


def zone_shares(cache: Cache, key: str) -> list[float]:
    """In how much of the textured picture each frame is the sharpest."""
    return [float(s) for s in np.load(cache.path(key) / "zones.npz")["shares"]]
