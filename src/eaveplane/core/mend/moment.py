"""The whole of a thing that moved, as one frame has it: what is to be laid over the weave at once, so that the thing stands once."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.light import root_luma
from ...imaging.pyramid import Box
from ...imaging.rows import side_by_side
from ...imaging.soft import soft
from ..gather.detail import LAPLACIAN, POOL, POOL_LEVEL
from ..weave.contradiction import WIDEST, contradicts
from ..weave.drawn import Below
from ..weave.laid import RegisteredFrames
from .flaws.finding import patches

LARGE = 2000
"""Pixels of the longer side up to which pictures are compared as they are; larger ones are halved first."""
REACH = 96
"""Cells of four pixels, at the size compared, around a place that are looked at: what is larger is cut there."""
JOINED = 3
"""Cells that parts of a thing may be apart."""
SMALLEST = 6
MEANT = 5
"""Cells around a place in which a thing is meant by it."""
SHARP = 0.6
"""Part of the fine contrast of the sharpest frame that a frame must have around the place to be offered."""
OWN, BESIDE = 0.6, 4
"""A thing is the frame's where it has this part of the weave's fine contrast, and so many cells beside that, in which the weave may have it at another
moment. Farther away a blurred ground would be laid over a sharp one."""
MOST = 4


@dataclass(frozen=True)
class Moment:
    """What `frame` shows otherwise than the weave does: its `outline` in pixels of the reference frame, and the fine contrast of the thing itself, as part
    of the weave's there."""

    frame: int
    outline: tuple[tuple[float, float], ...]
    fine: float


def moments_at(laid: RegisteredFrames, weave: Below, place: Box) -> list[Moment]:
    """The frames that show something else than the weave at a `place` (x, y, w, h) in pixels, the sharpest first, each with the whole of what is else: it ends
    where the frame and the weave agree. Only frames that hold the place about sharp are asked; empty where none differs, or where nobody knows
    where frames are focused.
    """
    numbers, places = laid.found, laid.places
    if places is None or len(numbers) < 2:
        return []
    # it is known only of those that are woven by themselves where they are focused
    laid = laid.alone
    level = 0
    while max(laid.size) >> level > LARGE and level < POOL_LEVEL:
        level += 1
    floor = laid.noise * 0.25**level

    def luma(k: int, box: Box) -> FloatArray:
        return root_luma(laid.read(k, level, box))

    # of many frames only those are read farther around that are sharp here
    near, here = _window(laid, place, level, MEANT)
    there = [k for k in range(len(numbers)) if laid.covers(k, level, here).mean() > 0.5]
    told = dict(zip(there, side_by_side(lambda k: float(_contrast(luma(k, here), floor, near).max()), there), strict=True))
    order = sorted((k for k in told if told[k] > SHARP * max(told.values())), key=lambda k: -told[k])[: 2 * MOST]
    cells, box = _window(laid, place, level, REACH << level)
    woven = root_luma(weave(level, box))
    of_weave = _contrast(woven, floor, cells)
    meant = np.s_[near[1] - cells[1] : near[1] - cells[1] + near[3], near[0] - cells[0] : near[0] - cells[0] + near[2]]

    def moment(k: int) -> Moment | None:
        apart = abs(places.at[k] - places.at[order[0]]) / 2**level
        if apart > 2 * WIDEST:
            return None
        mine = luma(k, box)
        fine = _contrast(mine, floor, cells)
        other = contradicts(mine, woven, max(apart, 1.0), floor / LAPLACIAN, of_weave.shape) & _reaches(laid, k, level, box, of_weave.shape)
        own = other & (fine > OWN * of_weave)
        beside = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * BESIDE + 1, 2 * BESIDE + 1))
        other &= cv2.dilate(cv2.morphologyEx(own.astype(np.uint8), cv2.MORPH_OPEN, np.ones((2, 2), np.uint8)), beside) > 0
        things = [patch for patch in patches(other, JOINED, SMALLEST) if _touches(patch.box, patch.mask, meant)]
        if not things:
            return None
        patch = max(things, key=lambda patch: int(patch.mask.sum()))
        whole = tuple((px + cells[0] * POOL, py + cells[1] * POOL) for px, py in patch.outline())
        sharp = patch.mask & own[patch.part]
        return Moment(numbers[k], whole, float(fine[patch.part][sharp].sum() / max(float(of_weave[patch.part][sharp].sum()), 1e-6)))

    return [found for found in side_by_side(moment, order) if found is not None][:MOST]


def _window(laid: RegisteredFrames, place: Box, level: int, reach: int) -> tuple[Box, Box]:
    """What lies up to `reach` cells of four pixels around a place: in such cells, and in pixels of the picture halved `level` times."""
    x, y, w, h = place
    step = POOL >> level
    width, height = (-(-n // POOL) for n in laid.size)
    left, top = max(0, x // POOL - reach), max(0, y // POOL - reach)
    right, bottom = min(width, (x + w) // POOL + reach + 1), min(height, (y + h) // POOL + reach + 1)
    across, down = laid.size_at(level)
    return (left, top, right - left, bottom - top), (left * step, top * step, min(right * step, across) - left * step, min(bottom * step, down) - top * step)


def _contrast(luma: FloatArray, floor: float, cells: Box) -> FloatArray:
    """Fine contrast in cells: the root of the energy of a Laplacian above noise."""
    lap = cv2.Laplacian(luma, cv2.CV_32F, borderType=cv2.BORDER_REPLICATE)
    energy = soft(lap * lap, 2.0) - np.float32(floor)
    return np.asarray(cv2.resize(np.sqrt(np.maximum(energy, 0)), cells[2:], interpolation=cv2.INTER_AREA), np.float32)


def _reaches(laid: RegisteredFrames, k: int, level: int, box: Box, shape: tuple[int, ...]) -> NDArray[np.bool_]:
    inside = laid.covers(k, level, box).astype(np.float32)
    return np.asarray(cv2.resize(inside, shape[::-1], interpolation=cv2.INTER_AREA), np.float32) > 0.99


def _touches(box: Box, mask: NDArray[np.bool_], meant: tuple[slice, slice]) -> bool:
    """Whether cells of a patch lie in the part that is meant."""
    rows, columns = (slice(max(0, part.start - at), max(0, part.stop - at)) for part, at in zip(meant, (box[1], box[0]), strict=True))
    return bool(mask[rows, columns].any())
