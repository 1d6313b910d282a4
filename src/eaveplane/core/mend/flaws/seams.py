"""Steps of tone or colour where one frame passes into another."""

from __future__ import annotations

from collections.abc import Iterator

import cv2
import numpy as np

from ....imaging.colour import FloatArray
from ....imaging.light import root_luma
from .finding import Examined, Finding, Patch, patches

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
WORST_LOCAL = 0.49
"""Where neither frame is out of tune all over it may be a veil that passes for a step: that never alone makes a result doubtful."""
AROUND, ALIKE, FAINT = 9, 4.0, 1e-4
"""A frame gives a place where what the weave differs by from it varies, in squares of so many cells, no more than so many times what it does from the
frame that varies least, or by next to nothing: labels may name a frame there of which the weave has nothing."""
DARKEST = 0.03
"""Root light below which nothing is compared: there noise is all."""
BLUR, EVERY = 3.0, 4
"""Cells (sigma) over which frames are smoothed before they are compared as wholes, and of which one in so many each way is looked at."""
ODD = 0.01
"""Root light, as part of it, by which a whole frame must be lighter or darker than the others to be told."""


_Step = tuple[list[Patch], tuple[int, int], float]
"""Parts of the border of two frames' zones, these frames, and by how much, in logarithms of root light, the weave is lighter on the second's side."""


def seam_steps(seen: Examined) -> Iterator[Finding]:
    """Findings of kind seam, the frame that is out of tune with the others second: both frames agree that the weave steps between them by what
    neither shows, or one of them is lighter or darker than the others all over."""
    owner, off = seen.gates.argmax(axis=0), _off(seen)
    given = seen.reach.all(axis=0) & _given(seen, owner)
    steps = _by_pair(seen, owner, given)
    # one frame is too light or too dark wherever it meets others: that is one flaw
    found: dict[int, list[_Step]] = {}
    for pair, there in steps.items():
        parts = _along(owner, pair, np.abs(there) > LEAST)
        if parts:
            found.setdefault(max(pair, key=lambda k: abs(off[k])), []).append((parts, pair, float(np.median(np.concatenate([there[p.part][p.mask] for p in parts])))))
    for k in np.flatnonzero(np.abs(off) > ODD):
        if k not in found:
            borders = [(_along(owner, pair, _densest(owner, pair, given)), pair, float(off[pair[1]] - off[pair[0]])) for pair in steps if k in pair]
            found[int(k)] = [border for border in borders if border[0]]
    for odd, of_frame in found.items():
        if of_frame:
            yield _flaw(seen, odd, off, sorted(of_frame, key=lambda step: -_cells(step[0])))


def _flaw(seen: Examined, odd: int, off: FloatArray, steps: list[_Step]) -> Finding:
    """The flaw that steps around the zones of one frame are, the longest first."""
    parts, (a, b), told = steps[0]
    all_over, worst = abs(off[odd]) > ODD, 1.0
    if all_over:
        # what a frame is off by is told better by all of it than beside a seam
        told = float(off[b] - off[a])
    elif len(off) > 2:
        worst = WORST_LOCAL
    if odd == a:
        a, b, told = b, a, -told
    length = float(np.clip(0.5 + 0.25 * np.log10(sum(_cells(step[0]) for step in steps) / LEAST_CELLS), 0.5, 1))
    severity = worst * float(np.clip(abs(told) / VISIBLE, 0, 1)) * length
    beside = sum(len(step[0]) for step in steps) - 1
    more = f", here and in {beside} more place{'s' if beside > 1 else ''}" if beside else ""
    said = f"Tone steps by {100 * np.expm1(2 * abs(told)):.0f} % between frames {{0}} and {{1}}{more}."
    return Finding("seam", seen.around(parts[0].box, 0), parts[0].outline(), severity, (a, b), said, stops=float(2 * told / np.log(2)))


def _cells(parts: list[Patch]) -> int:
    return sum(int(patch.mask.sum()) for patch in parts)


def _off(seen: Examined) -> FloatArray:
    """By how much (n,) each frame is lighter, in logarithms of root light, than most are, where all reach; nothing where that is too little."""
    logs = np.stack([np.log(np.maximum(cv2.GaussianBlur(root_luma(frame.astype(np.float32)), (0, 0), BLUR)[::EVERY, ::EVERY], DARKEST)) for frame in seen.frames])
    common = np.asarray(seen.reach.all(axis=0))[::EVERY, ::EVERY]
    apart = (logs - np.median(logs, axis=0))[:, common]
    if apart.shape[1] <= LEAST_CELLS:
        return np.zeros(len(logs), np.float32)
    off = np.asarray(np.median(apart, axis=1), np.float32)
    # two frames have no middle: all that they differ by is said of one
    return np.array([0, off[1] - off[0]], np.float32) if len(off) == 2 else off


def _border(owner: np.ndarray, pair: tuple[int, int]) -> np.ndarray:
    """Where (h, w) two frames' zones are near to each other."""
    near_a, near_b = (cv2.dilate((owner == k).astype(np.uint8), NARROW) > 0 for k in pair)
    return np.asarray(near_a & near_b)


def _along(owner: np.ndarray, pair: tuple[int, int], where: np.ndarray) -> list[Patch]:
    """Parts of the border of two frames' zones, the longest first."""
    return sorted(patches(where & _border(owner, pair), JOINED, LEAST_CELLS), key=lambda patch: -int(patch.mask.sum()))


def _densest(owner: np.ndarray, pair: tuple[int, int], where: np.ndarray) -> np.ndarray:
    """Of places (h, w) those around the square in which two frames' zones meet most: among twigs they meet all over."""
    border = where & _border(owner, pair)
    rows, columns = np.nonzero(border)
    shape = [-(-n // TILE) for n in owner.shape]
    row, column = np.unravel_index(int(np.bincount(rows // TILE * shape[1] + columns // TILE, minlength=shape[0] * shape[1]).argmax()), shape)
    near = np.zeros(owner.shape, np.bool_)
    near[max(0, int(row) - 1) * TILE : (int(row) + 2) * TILE, max(0, int(column) - 1) * TILE : (int(column) + 2) * TILE] = True
    return np.asarray(where & near)


def _by_pair(seen: Examined, owner: np.ndarray, given: np.ndarray) -> dict[tuple[int, int], FloatArray]:
    """Steps (h, w) between frames whose zones meet, beside where they do and both are `given`."""
    steps: dict[tuple[int, int], FloatArray] = {}
    for a, b in _neighbours(owner):
        zones = [(owner == k).astype(np.uint8) for k in (a, b)]
        sides = [zone * cv2.dilate(other, np.ones((2 * BAND + 1,) * 2)) for zone, other in zip(zones, zones[::-1], strict=True)]
        steps[a, b] = np.zeros(owner.shape, np.float32)
        rows, columns = (np.flatnonzero((sides[0] | sides[1]).any(axis=axis)) for axis in (1, 0))
        # whole tiles around where they meet
        part = np.s_[rows[0] // TILE * TILE : rows[-1] + 1, columns[0] // TILE * TILE : columns[-1] + 1]
        here = [(side[part] > 0) & given[part] for side in sides]
        of_tile = np.repeat(np.repeat(_steps(here, seen.small[part], [seen.frames[k][part] for k in (a, b)]), TILE, axis=0), TILE, axis=1)
        steps[a, b][part] = np.where(here[0] | here[1], of_tile[: here[0].shape[0], : here[0].shape[1]], 0)
    return steps


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


def _steps(here: list[np.ndarray], woven: FloatArray, frames: list[np.ndarray]) -> FloatArray:
    """By how much the weave (h, w, 3) steps in each tile (h', w') from one side of a seam to the other against both frames (2) of (h, w, 3), in the
    channel that steps most; 0 where they do not agree. `here` (2) of (h, w) are the sides."""
    shape = [-(-n // TILE) for n in here[0].shape]
    at = [np.nonzero(side) for side in here]
    tiles = [row // TILE * shape[1] + column // TILE for row, column in at]
    cells = [np.bincount(tile, minlength=shape[0] * shape[1])[:, None] for tile in tiles]

    def sums(values: FloatArray, tile: np.ndarray) -> np.ndarray:
        return np.stack([np.bincount(tile, values[:, c], shape[0] * shape[1]) for c in range(3)], axis=-1)

    told = []
    for frame in frames:
        means, spreads = [], []
        for place, tile, n in zip(at, tiles, cells, strict=True):
            log = np.log(np.maximum(woven[place], DARKEST) / np.maximum(frame[place].astype(np.float32), DARKEST))
            means.append(sums(log, tile) / np.maximum(n, 1))
            spreads.append(np.maximum(sums(log * log, tile) / np.maximum(n, 1) - means[-1] ** 2, 0))
        # neighbouring cells are alike: a quarter of them tell as much as all
        error = np.sqrt(4 * sum(spread / np.maximum(n, 1) for spread, n in zip(spreads, cells, strict=True)))
        told.append((means[1] - means[0], np.maximum(SURE * error, CLEAR * np.sqrt(sum(spreads) / 2))))
    (one, least), (other, least_of_other) = told
    sure = (one * other > 0) & (np.abs(one) > least) & (np.abs(other) > least_of_other) & (np.minimum(*cells) >= LEAST_CELLS)
    steps = np.where(sure, np.sign(one) * np.minimum(np.abs(one), np.abs(other)), 0)
    return np.asarray(np.take_along_axis(steps, np.abs(steps).argmax(axis=1)[:, None], axis=1).reshape(shape), np.float32)
