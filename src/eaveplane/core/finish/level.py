"""What is level: a horizon that is found, or a line that a hand draws along one or along something upright.

A horizon is the straight line along which brightness steps the same way from side to side. The steps are counted, not
measured, so that one strong edge of a few pixels is worth no more than a faint one; lines are summed by shearing the
picture (a Radon transform near the level).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import cv2
import numpy as np

from ...imaging.colour import FloatArray

WIDE = 1200
"""Pixels across which it is looked at."""
MOST = 8.0
"""Degrees to both sides in which it is sought."""
FAINT = 0.005
"""Step of root light a pixel from which an edge counts in full."""
NEAR_BY, COLUMNS = 3, 60
"""Pixels to both sides in which a line is followed, and in how many columns."""
CLEAR = 1.85
"""How many times as straight as lines are anywhere a horizon is at least."""


@dataclass(frozen=True)
class Level:
    """By how many degrees the picture falls to the right, what tells so, and its line (x0, y0, x1, y1) in fractions of width and height."""

    tilt: float
    by: str
    line: tuple[float, float, float, float]


def horizon_of(luma: FloatArray) -> Level | None:
    """The horizon of a picture's root luminance (h, w), at most MOST degrees off; None where none is clear."""
    scale = min(1.0, WIDE / luma.shape[1])
    small = np.asarray(cv2.resize(luma, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA), np.float32)
    if min(small.shape) < 48:
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
    return Level(tilt, "the horizon", (0.0, middle - rise, 1.0, middle + rise))


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
