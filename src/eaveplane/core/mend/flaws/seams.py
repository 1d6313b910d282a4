"""Steps of tone or colour where one frame passes into another."""

from __future__ import annotations

from collections.abc import Iterator

import cv2
import numpy as np

from ....imaging.colour import FloatArray
from ....imaging.light import root_luma
from .finding import Examined, Finding, patches

BAND = 6
"""Cells beside a seam in which its sides are compared."""
NARROW = np.ones((7, 7), np.uint8)
"""Cells around a seam that are outlined, and by which its parts may be apart:"""
JOINED = 12
TILE = 24
"""Cells of the squares in which a step is measured, about 100 pixels."""
LEAST = 0.008
"""Step, as part of the root light around, that counts."""
SURE = 4.0
"""Standard errors by which a step must stand out from what texture leaves."""
CLEAR = 0.7
"""And standard deviations of a single cell: among twigs the two sides differ in any case."""
LEAST_CELLS = 20
"""Cells on either side that tell a step."""
VISIBLE = 0.03
"""Step that is as bad as can be."""
AROUND, ALIKE, FAINT = 9, 4.0, 1e-4
"""A frame gives a place where what the weave differs by from it varies, in squares of so many cells, no more than so many times what it does from the
frame that varies least, or by next to nothing: labels may name a frame there of which the weave has nothing."""
DARKEST = 0.03
"""Root light below which nothing is compared: there noise is all."""


def seam_steps(seen: Examined) -> Iterator[Finding]:
    """Findings of kind seam: both frames agree that the weave steps between them by what neither shows."""
    owner = seen.gates.argmax(axis=0)
    height, width = owner.shape
    reached = seen.reach.all(axis=0)
    light = np.maximum(seen.small, DARKEST)
    reached &= _given(seen, owner)
    steps: dict[tuple[int, int], FloatArray] = {}
    for a, b in _neighbours(owner):
        sides = [cv2.dilate((owner == k).astype(np.uint8), np.ones((2 * BAND + 1,) * 2)) > 0 for k in (b, a)]
        here = [(owner == k) & side & reached for k, side in zip((a, b), sides, strict=True)]
        apart = [np.log(light / np.maximum(seen.frames[k], DARKEST)) for k in (a, b)]
        of_tile = np.repeat(np.repeat(_steps(here, apart), TILE, axis=0), TILE, axis=1)[:height, :width]
        steps[a, b] = np.where(here[0] | here[1], of_tile, 0)
    for (a, b), found in steps.items():
        near_a, near_b = (cv2.dilate((owner == k).astype(np.uint8), NARROW) > 0 for k in (a, b))
        parts = sorted(patches((np.abs(found) > LEAST) & near_a & near_b, JOINED, LEAST_CELLS), key=lambda patch: -int(patch.mask.sum()))
        if not parts:
            continue
        # one frame is too light or too dark wherever it meets the other: that is one flaw
        told = float(np.median(np.concatenate([found[patch.part][patch.mask] for patch in parts])))
        length = float(np.clip(0.5 + 0.25 * np.log10(sum(patch.mask.sum() for patch in parts) / LEAST_CELLS), 0.5, 1))
        severity = float(np.clip(abs(told) / VISIBLE, 0, 1)) * length
        more = f", here and in {len(parts) - 1} more place{'s' if len(parts) > 2 else ''}" if len(parts) > 1 else ""
        said = f"Tone steps by {100 * 2 * abs(told):.0f} % between frames {{0}} and {{1}}{more}."
        yield Finding("seam", seen.around(parts[0].box, 0), parts[0].outline(), severity, (a, b), said, stops=float(2 * told / np.log(2)))


def _given(seen: Examined, owner: np.ndarray) -> np.ndarray:
    """Where (h, w) the weave is, but for tone, the frame that `owner` (h, w) names."""
    woven = np.log(np.maximum(root_luma(seen.small), DARKEST))
    least, own = np.full(owner.shape, np.inf, np.float32), np.zeros(owner.shape, np.float32)
    for k, frame in enumerate(seen.frames):
        apart = woven - np.log(np.maximum(root_luma(frame.astype(np.float32)), DARKEST))
        varies = np.maximum(cv2.blur(apart * apart, (AROUND, AROUND)) - np.square(cv2.blur(apart, (AROUND, AROUND))), 0)
        least, own = np.minimum(least, varies), np.where(owner == k, varies, own)
    return np.asarray(own <= ALIKE * least + np.float32(FAINT))


def _neighbours(owner: np.ndarray) -> list[tuple[int, int]]:
    """Pairs of frames that meet somewhere."""
    pairs: set[tuple[int, int]] = set()
    for one, other in ((owner[:, :-1], owner[:, 1:]), (owner[:-1], owner[1:])):
        differ = one != other
        pairs |= {(int(min(p)), int(max(p))) for p in set(zip(one[differ].tolist(), other[differ].tolist(), strict=True))}
    return sorted(pairs)


def _steps(here: list[np.ndarray], apart: list[FloatArray]) -> FloatArray:
    """By how much the weave steps in each tile (h', w') from one side of a seam to the other against both frames, in the channel that steps
    most; 0 where they do not agree. `here` (2) of (h, w) are the sides, `apart` (2) of (h, w, 3) what the weave differs by from the frames."""
    cells = [_in_tiles(side[..., None]) for side in here]
    told = []
    for log in apart:
        sums = [(_in_tiles(np.where(side[..., None], log, 0)), _in_tiles(np.where(side[..., None], np.square(log, dtype=np.float64), 0))) for side in here]
        means = [total / np.maximum(n, 1) for (total, _), n in zip(sums, cells, strict=True)]
        spreads = [np.maximum(square / np.maximum(n, 1) - mean**2, 0) for (_, square), n, mean in zip(sums, cells, means, strict=True)]
        # neighbouring cells are alike: a quarter of them tell as much as all
        error = np.sqrt(4 * sum(spread / np.maximum(n, 1) for spread, n in zip(spreads, cells, strict=True)))
        told.append((means[1] - means[0], np.maximum(SURE * error, CLEAR * np.sqrt(sum(spreads) / 2))))
    (one, least), (other, least_of_other) = told
    sure = (one * other > 0) & (np.abs(one) > least) & (np.abs(other) > least_of_other) & (np.minimum(*cells) >= LEAST_CELLS)
    steps = np.where(sure, np.sign(one) * np.minimum(np.abs(one), np.abs(other)), 0)
    return np.asarray(np.take_along_axis(steps, np.abs(steps).argmax(axis=2)[..., None], axis=2)[..., 0], np.float32)


def _in_tiles(values: np.ndarray) -> np.ndarray:
    """Sums (h', w', c) over tiles of what is given (h, w, c)."""
    rows, cols = (np.arange(0, n, TILE) for n in values.shape[:2])
    return np.asarray(np.add.reduceat(np.add.reduceat(values, rows, axis=0, dtype=np.float64), cols, axis=1))
