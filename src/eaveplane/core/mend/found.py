"""Where fronts are, told by detail in the planes of frames: thin things by lines of it, solid ones by there being none of what lies behind.

A stem stands out in the picture of its plane, a line of detail even where its contrast is low, since the ground leaks into that plane as
texture without direction. A post or a boulder shows little inside, but hides the ground: where farther planes have no detail while its
own has, and that changes abruptly, a solid thing stands. Both are proposals; whether they stand is decided by what they explain (see `veil`).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.pyramid import Box
from ...imaging.resample import halve
from ...imaging.rows import side_by_side
from ...imaging.soft import soft

PER_OCTAVE = 20
"""Steps in which the strength of detail is kept, in octaves above a quiet place's."""
WEAK, STRONG = 7.0, 12.0
"""Detail, in a quiet place's, that belongs to a front if it hangs together with some that is strong."""
EXTENT = 14
"""Pixels that a front must extend: less is a speck."""
LENGTH, DIRECTIONS = 9, 12
"""Cells of two pixels along which detail is summed to a line, in so many directions."""
LINE, CLEAR_LINE = 0.8, 1.3
"""Octaves by which a line's detail exceeds what lies around: then it counts as weak, and as strong."""
LEAST, ABOVE, BESIDE = 1.3, 0.7, 4.0
"""Octaves of detail that a pixel of a line has at least, and at least above what is usual within so many cells (sigma)."""
CALM = 1.25
"""Cells (sigma) over which detail is smoothed to tell which plane a place shows."""
SAME = 0.75
"""Pixels of blur below which two planes are not told apart inside a thing."""
STEPS = 32
"""Steps an octave in which it is kept by how much a plane's detail exceeds that of all farther ones."""
ABRUPT, AROUND = 1.0, 7
"""Octaves by which that falls at the border of a solid thing, in windows of so many cells."""
BORDERED = 0.6
"""Part of a border at which it does, or where a line runs."""
SMALLEST = 40
"""Cells that a solid thing must have."""
INSIDE = 5
"""Pixels from its border within which a solid thing may cover less than all."""
HIDES = 0.12
"""Octaves by which the detail inside must exceed that of all that is farther."""


@dataclass(frozen=True, eq=False)
class Detail:
    """What is told of detail: the number of the frame (h, w) whose plane has the strongest, or a line of it, and how strong it is (h, w), in
    steps (PER_OCTAVE) above a quiet place's; in cells of two pixels (h/2, w/2), the frame whose plane exceeds all farther ones most, and by
    how much, in STEPS."""

    owner: NDArray[np.uint16]
    strength: NDArray[np.uint8]
    nearest: NDArray[np.uint16]
    hides: NDArray[np.int8]

    @staticmethod
    def empty(size: tuple[int, int]) -> Detail:
        """Of a picture of `size` (w, h), before any is told."""
        shape, cells = size[::-1], (-(-size[1] // 2), -(-size[0] // 2))
        return Detail(np.zeros(shape, np.uint16), np.zeros(shape, np.uint8), np.zeros(cells, np.uint16), np.full(cells, -128, np.int8))

    def put(self, part: Detail, x: int, y: int) -> None:
        """Lay what is told of a block at an even place."""
        for whole, piece, at in ((self.owner, part.owner, 1), (self.strength, part.strength, 1), (self.nearest, part.nearest, 2), (self.hides, part.hides, 2)):
            whole[y // at : y // at + piece.shape[0], x // at : x // at + piece.shape[1]] = piece


@dataclass(frozen=True, eq=False)
class Fronts:
    """Fronts by number (h, w), from 1, 0 for none, and where (h, w) they cover all behind them for sure."""

    number: NDArray[np.uint16]
    solid: NDArray[np.bool_]

    def within(self, box: Box) -> Fronts:
        x, y, w, h = box
        return Fronts(self.number[y : y + h, x : x + w], self.solid[y : y + h, x : x + w])


def octaves_of(detail: FloatArray, quiet: float) -> FloatArray:
    """Detail over that of quiet places, in octaves, 0 at least."""
    return np.asarray(np.maximum(np.log2(np.maximum(detail, np.float32(1e-9)) / np.float32(quiet)), 0), np.float32)


def in_steps(octaves: FloatArray) -> NDArray[np.uint8]:
    """The same in steps (PER_OCTAVE)."""
    return np.asarray(np.clip(octaves * PER_OCTAVE, 0, 255), np.uint8)


def _lines() -> list[FloatArray]:
    """Kernels that sum along a line, one a direction."""
    out, middle = [], LENGTH // 2
    for angle in np.arange(DIRECTIONS) * np.pi / DIRECTIONS:
        kernel = np.zeros((LENGTH, LENGTH), np.float32)
        along = np.array([np.cos(angle), np.sin(angle)]) * middle
        ends = [tuple(int(v) for v in np.round((middle + sign * along) * 16)) for sign in (-1, 1)]
        cv2.line(kernel, ends[0], ends[1], 1.0, 1, cv2.LINE_AA, 4)
        out.append(kernel / kernel.sum())
    return out


LINES = _lines()


def detail_of(octaves: Sequence[FloatArray], places: Sequence[float], numbers: Sequence[int], fronts: Sequence[int]) -> Detail:
    """What detail in the planes of frames tells: `octaves` (n) of (h, w), all frames near to far, focused at `places` (n,) and of `numbers` (n,);
    `fronts` are those that may show fronts."""
    shape = octaves[0].shape
    small = [halve(plane) for plane in octaves]
    calm = [soft(plane, CALM) for plane in small]
    of = np.array([numbers[k] for k in fronts], np.uint16)
    strong = np.stack([octaves[k] for k in fronts])
    best = strong.argmax(axis=0)
    owner, strength = of[best], strong.max(axis=0)
    usual = [soft(small[k], BESIDE) for k in fronts]
    line = np.stack([_enlarged(np.max([cv2.filter2D(small[k], cv2.CV_32F, kernel, borderType=cv2.BORDER_REFLECT) for kernel in LINES], axis=0) - u, shape) for k, u in zip(fronts, usual, strict=True)])
    along = line.argmax(axis=0)
    own = np.take_along_axis(strong, along[None], 0)[0]
    beside = np.take_along_axis(np.stack([_enlarged(u, shape) for u in usual]), along[None], 0)[0]
    on_line = (line.max(axis=0) > LINE) & (own > np.maximum(beside + ABOVE, LEAST)) & (strength < np.log2(WEAK))
    # a little above the levels, that rounding to steps does not take it below them
    counts = np.where(line.max(axis=0) > CLEAR_LINE, np.float32(np.log2(STRONG)), np.float32(np.log2(WEAK))) + np.float32(1.5 / PER_OCTAVE)
    owner, strength = np.where(on_line, of[along], owner), np.where(on_line, np.maximum(counts, own), strength)
    hides = []
    for k in fronts:
        apart = [abs(places[j] - places[k]) for j in range(len(places))]
        mine, farther = [calm[j] for j in range(len(places)) if apart[j] < SAME], [calm[j] for j in range(k + 1, len(places)) if apart[j] >= SAME]
        hides.append(np.max(mine, axis=0) - np.max(farther, axis=0))
    most = np.argmax(hides, axis=0)
    return Detail(owner, in_steps(strength), of[most], np.asarray(np.clip(np.max(hides, axis=0) * STEPS, -128, 127), np.int8))


def fronts_in(detail: Detail) -> NDArray[np.uint16]:
    """Where (h, w) thin fronts may be: the number of the front, from 1, that has a pixel of detail, of those whose detail is the strongest
    there; 0 for none."""
    owner, strength = detail.owner, detail.strength
    weak, strong = (int(np.log2(level) * PER_OCTAVE) for level in (WEAK, STRONG))
    out = np.zeros_like(owner)

    def of(number: int) -> NDArray[np.bool_]:
        mask = ((owner == number) & (strength > weak)).astype(np.uint8)
        count, labels = cv2.connectedComponents(mask, connectivity=8)
        good = np.zeros(count, np.bool_)
        good[labels[(strength > strong) & (mask > 0)]] = True
        mask &= extended(np.asarray(cv2.morphologyEx(good[labels].astype(np.uint8) * mask, cv2.MORPH_CLOSE, disc_of(2)), np.uint8))
        return np.asarray(cv2.morphologyEx(mask & good[labels], cv2.MORPH_CLOSE, disc_of(2)) > 0)

    numbers = np.flatnonzero(np.bincount(owner[strength > strong])).tolist()
    for number, found in zip(numbers, side_by_side(of, numbers), strict=True):
        out[found & (out == 0)] = number + 1
    return out


def extended(mask: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """Those parts of a mask (h, w) that hang together over EXTENT pixels."""
    _, labels, boxes, _ = cv2.connectedComponentsWithStats(mask, connectivity=8)
    good = np.maximum(boxes[:, cv2.CC_STAT_WIDTH], boxes[:, cv2.CC_STAT_HEIGHT]) >= EXTENT
    good[0] = False
    return good[labels].astype(np.uint8)


def with_solid(thin: NDArray[np.uint16], detail: Detail) -> Fronts:
    """Fronts (h, w) that are `thin`, and solid things of which some may be the outline."""
    out, solid = thin.copy(), np.zeros(thin.shape, np.bool_)
    hides = detail.hides.astype(np.float32) / STEPS

    def of(number: int) -> tuple[NDArray[np.bool_], NDArray[np.bool_]] | None:
        place = np.where(detail.nearest == number, hides, np.minimum(hides, 0))
        mine = halve((thin == number + 1).astype(np.float32)) > 0
        things = _bordered(place, mine)
        if not things.any():
            return None
        region = in_pixels(things, 2, thin.shape)
        region |= (thin == number + 1).astype(np.uint8) & np.asarray(cv2.dilate(region, disc_of(4)), np.uint8)
        region = np.asarray(cv2.morphologyEx(region, cv2.MORPH_CLOSE, disc_of(2)), np.uint8)
        count, labels = cv2.connectedComponents(cv2.erode(region, disc_of(INSIDE), borderType=cv2.BORDER_CONSTANT, borderValue=1), connectivity=4)
        some = labels > 0
        few = labels[some]
        sure = np.bincount(few, _enlarged(place, thin.shape)[some], count) / np.maximum(np.bincount(few, minlength=count), 1) > HIDES
        inside = sure[labels] & some
        return (region > 0) & (cv2.dilate(inside.astype(np.uint8), disc_of(INSIDE + 1)) > 0), inside

    numbers = np.flatnonzero(np.bincount(detail.nearest[detail.hides > 0])).tolist()
    for number, found in zip(numbers, side_by_side(of, numbers), strict=True):
        if found is not None:
            out[found[0] & (out == 0)] = number + 1
            solid |= found[1] & (out == number + 1)
    return Fronts(out, solid)


def _bordered(place: FloatArray, lines: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Cells (h, w) of things whose plane's detail exceeds (`place`) that of all behind, and that end abruptly or at lines."""
    # lines part what lies inside of them from what lies outside
    mask = np.asarray(cv2.morphologyEx(((place > 0) & ~lines).astype(np.uint8), cv2.MORPH_OPEN, disc_of(1)), np.uint8)
    count, labels, boxes, _ = cv2.connectedComponentsWithStats(mask, connectivity=4)
    beyond = np.float32(1) - mask
    inner, outer = (cv2.blur(place * part, (AROUND, AROUND)) / (cv2.blur(part, (AROUND, AROUND)) + np.float32(1e-6)) for part in (mask.astype(np.float32), beyond))
    # a border is what faces outwards: texture inside that passes for lines is none
    filled = cv2.morphologyEx(mask | (lines & (cv2.dilate(mask, disc_of(1)) > 0)).astype(np.uint8), cv2.MORPH_CLOSE, disc_of(3))
    ends = (inner - outer > ABRUPT) | (cv2.dilate(lines.astype(np.uint8), disc_of(2)) > 0)
    border = (cv2.dilate(filled, disc_of(1)) > 0) & (filled == 0)
    whose = cv2.dilate(labels.astype(np.float32), disc_of(4))[border].astype(np.int64)
    along, clear = np.bincount(whose, minlength=count), np.bincount(whose, ends[border], minlength=count)
    good = (clear > BORDERED * along) & (along > 0) & (boxes[:, cv2.CC_STAT_AREA] >= SMALLEST)
    good[0] = False
    return np.asarray(good[labels], np.bool_)


def disc_of(radius: int) -> NDArray[np.uint8]:
    """A disc that masks are grown by."""
    return np.asarray(cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1, 2 * radius + 1)), np.uint8)


def in_pixels(cells: NDArray[np.bool_], side: int, shape: tuple[int, ...]) -> NDArray[np.uint8]:
    """Cells of so many pixels each way as a mask of a picture of a shape (h, w)."""
    return np.ascontiguousarray(np.repeat(np.repeat(cells.astype(np.uint8), side, axis=0), side, axis=1)[: shape[0], : shape[1]])


def _enlarged(cells: FloatArray, shape: tuple[int, ...]) -> FloatArray:
    """Cells of two pixels, each as large as it is, as a picture of a shape (h, w)."""
    wide = cv2.resize(cells, (2 * cells.shape[1], 2 * cells.shape[0]), interpolation=cv2.INTER_LINEAR)
    return np.asarray(wide[: shape[0], : shape[1]], np.float32)
