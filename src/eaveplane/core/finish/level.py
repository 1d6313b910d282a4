"""What is level: a horizon that is found, or things that stand upright together, or a line that a hand draws along one of these.

A horizon is the straight line along which brightness steps the same way from side to side. The steps are counted, not
measured, so that one strong edge of a few pixels is worth no more than a faint one; lines are summed by shearing the
picture (a Radon transform near the level).

Uprights are straight pieces of edges (von Gioi, Jakubowicz, Morel and Randall 2010) that lean alike, or run together evenly from side to side as
they do where the camera looked up or down: what grows as it likes leans as it likes, and tells nothing.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray

WIDE, SMALLEST = 1200, 48
"""Pixels across at which it is looked at, and those that either side has at least."""
MOST = 8.0
"""Degrees to both sides in which it is sought."""
FAINT = 0.005
"""Step of root light a pixel from which an edge counts in full."""
NEAR_BY, COLUMNS = 3, 60
"""Pixels to both sides in which a line is followed, and in how many columns."""
CLEAR = 1.85
"""How many times as straight as lines are anywhere a horizon is at least."""
TALL = 0.06
"""Part of the height from which an edge is taken for something upright."""
ALIKE, TOGETHER = 0.3, 8.0
"""Degrees within which uprights lean alike, and by which they run together at most from one side to the other."""
AGREED, AS_TALL, PLACES, ASIDE = 0.5, 0.8, 4, 0.02
"""What the uprights that agree are at least: this part of all by length, this many heights together, at so many places this part of the width apart."""
TELLING = 120
"""So many uprights, the longest, are asked how the others lean."""
SPREAD = 0.25
"""Part of the width that uprights take in at least before they can tell how they run together."""

Line = tuple[float, float, float, float]
"""x0, y0, x1, y1."""


@dataclass(frozen=True)
class Level:
    """By how many degrees the picture falls to the right, what tells so, and its lines in fractions of width and height."""

    tilt: float
    by: str
    lines: tuple[Line, ...]


def tilt_of(luma: FloatArray) -> Level | None:
    """What is level in a picture's root luminance (h, w), at most MOST degrees off: by its horizon, else by what stands upright; None where
    neither is clear."""
    return horizon_of(luma) or uprights_of(luma)


def _small(luma: FloatArray) -> FloatArray | None:
    """The picture at the size at which it is looked at; None where it is too small to tell anything."""
    scale = min(1.0, WIDE / luma.shape[1])
    small = np.asarray(cv2.resize(luma, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA), np.float32)
    return small if min(small.shape) >= SMALLEST else None


def uprights_of(luma: FloatArray) -> Level | None:
    """The uprights of a picture's root luminance (h, w) that lean alike, or run together evenly; None where there are too few of them."""
    small = _small(luma)
    if small is None:
        return None
    height, width = small.shape
    found = cv2.createLineSegmentDetector(cv2.LSD_REFINE_STD).detect(np.rint(255 * np.clip(small, 0, 1)).astype(np.uint8))[0]
    if found is None:
        return None
    lines = found.reshape(-1, 4).astype(np.float64)
    lines = np.where((lines[:, 1] > lines[:, 3])[:, None], lines[:, [2, 3, 0, 1]], lines)
    across, down = lines[:, 2] - lines[:, 0], lines[:, 3] - lines[:, 1]
    length, lean = np.hypot(across, down), np.degrees(np.arctan2(across, down))
    tall = np.flatnonzero((length > TALL * height) & (np.abs(lean) < MOST + TOGETHER / 2))
    taken = tall[np.argsort(-length[tall], kind="stable")]
    lines, length, lean = lines[taken], length[taken], lean[taken]
    place = (lines[:, 0] + lines[:, 2]) / 2 / width - 0.5
    agreed = _agreed(place, lean, length)
    if agreed is None:
        return None
    places = 1 + int((np.diff(np.sort(place[agreed])) > ASIDE).sum())
    if places < PLACES or length[agreed].sum() < max(AGREED * length.sum(), AS_TALL * height):
        return None
    tilt = -float(_fitted(place[agreed], lean[agreed], length[agreed])[0])
    if abs(tilt) > MOST:
        return None
    shown = lines[agreed] / np.array([width, height] * 2)
    return Level(tilt, "what stands upright", tuple((a, b, c, d) for a, b, c, d in shown.tolist()))


def _agreed(place: FloatArray, lean: FloatArray, length: FloatArray) -> NDArray[np.bool_] | None:
    """Which uprights (n,) agree, by length: every one by itself, and every two that stand apart, say how all would lean."""
    best, most = None, 0.0
    for i in range(min(len(lean), TELLING)):
        for k in range(i + 1):
            apart = place[i] - place[k]
            if k < i and abs(apart) < SPREAD:
                continue
            slope = (lean[i] - lean[k]) / apart if k < i else 0.0
            if abs(slope) > TOGETHER:
                continue
            agree = np.abs(lean - lean[i] - slope * (place - place[i])) < ALIKE
            # what runs together has to be the better for it: any two lines run together somehow
            told = float(length[agree].sum()) * (0.8 if slope else 1.0)
            if told > most:
                best, most = agree, told
    return best


def _fitted(place: FloatArray, lean: FloatArray, length: FloatArray) -> tuple[float, float]:
    """Lean in the middle of the picture, and how it grows from side to side, of uprights by length."""
    if np.ptp(place) < SPREAD:
        return float(np.average(lean, weights=length)), 0.0
    slope, middle = np.polyfit(place, lean, 1, w=np.sqrt(length))
    return float(middle), float(slope)


def horizon_of(luma: FloatArray) -> Level | None:
    """The horizon of a picture's root luminance (h, w), at most MOST degrees off; None where none is clear."""
    small = _small(luma)
    if small is None:
        return None
    step = cv2.Sobel(cv2.GaussianBlur(small, (0, 0), 1.5), cv2.CV_32F, 0, 1, ksize=3) / 8
    counted = np.asarray(step / (np.abs(step) + np.float32(FAINT)))
    coarse = np.arange(-MOST, MOST + 0.01, 0.1)
    found = np.array([_along(counted, angle).max() for angle in coarse])
    best = float(coarse[found.argmax()])
    if found.max() < CLEAR * np.median(found) or abs(best) > MOST - 0.05:
        return None
    fine = np.arange(best - 0.15, best + 0.151, 0.01)
    tilt = float(fine[np.argmax([_along(counted, angle).max() for angle in fine])])
    middle = 0.0
    for _ in range(3):
        sheared = _sheared(counted, tilt)
        sums = sheared.mean(axis=1)
        row = int(np.abs(sums).argmax())
        off, slope = _line_beside(sheared * np.sign(sums[row]), row)
        tilt = math.degrees(math.atan(math.tan(math.radians(tilt)) + slope))
        middle = (row + off) / small.shape[0]
    rise = math.tan(math.radians(tilt)) * small.shape[1] / small.shape[0] / 2
    return Level(tilt, "the horizon", ((0.0, middle - rise, 1.0, middle + rise),))


def _sheared(counted: FloatArray, degrees: float) -> FloatArray:
    """The steps (h, w) with lines of a tilt laid level, about the middle column."""
    height, width = counted.shape
    slope = math.tan(math.radians(degrees))
    return np.asarray(cv2.warpAffine(counted, np.array([[1, 0, 0], [-slope, 1, slope * (width - 1) / 2]]), (width, height), flags=cv2.INTER_LINEAR))


def _along(counted: FloatArray, degrees: float) -> FloatArray:
    """How alike (h,) the steps along lines of a tilt are, by where they cross the middle."""
    return np.asarray(np.abs(_sheared(counted, degrees).mean(axis=1)))


def _line_beside(steps: FloatArray, row: int) -> tuple[float, float]:
    """By how much, and with what slope, the line of steps lies off a row: through where the step is in each of many columns, those that lie
    far off counting less and less (Tukey's biweight)."""
    height, width = steps.shape
    first, last = max(0, row - NEAR_BY), min(height, row + NEAR_BY + 1)
    columns = np.array_split(np.arange(width), COLUMNS)
    profiles = np.maximum(np.stack([steps[first:last, part].mean(axis=1) for part in columns]), 0)
    x = np.array([part.mean() for part in columns]) - (width - 1) / 2
    weight = profiles.max(axis=1)
    # around the peak, where the step is to a part of a pixel
    near = profiles * (profiles > 0.5 * weight[:, None])
    y = (near * np.arange(first, last)).sum(axis=1) / np.maximum(near.sum(axis=1), 1e-9) - row
    off, slope = 0.0, 0.0
    for round_ in range(8):
        left = y - off - slope * x
        reach = max(1.5, NEAR_BY / 2**round_)
        share = weight * np.clip(1 - (left / reach) ** 2, 0, None) ** 2
        if (share > 0).sum() < 3:
            break
        slope, off = np.polyfit(x, y, 1, w=np.sqrt(share))
    return float(off), float(slope)


def upright(x0: float, y0: float, x1: float, y1: float) -> bool:
    """Whether a line is meant to be upright rather than level."""
    return abs(y1 - y0) > abs(x1 - x0)


def level_of_line(x0: float, y0: float, x1: float, y1: float) -> float:
    """Degrees by which a picture is to be turned clockwise so that a line in it (y down) is level, or upright where it is nearer to that.

    >>> round(level_of_line(0, 0, 100, 2), 2), level_of_line(10, 0, 10, 50)
    (-1.15, -0.0)
    """
    angle = math.degrees(math.atan2(y1 - y0, x1 - x0))
    off = (angle + 90) % 180 - 90
    return -off if not upright(x0, y0, x1, y1) else -((angle % 180) - 90)
