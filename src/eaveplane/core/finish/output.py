"""The last touch, at the very pixels of the output: sharpening and grain, both in brightness only."""

from __future__ import annotations

import math
from typing import NamedTuple

import cv2
import numpy as np
from numba import njit

from ...imaging.colour import FloatArray
from ...imaging.light import root_luma
from ...imaging.rows import by_rows, in_strips
from .settings import Finish, Grain

HALO = 0.12
"""Share of the contrast around a place by which sharpening may pass what is there."""
EYE = math.tan(math.radians(1 / 60))
"""What an eye resolves, as a part of the distance."""
INK = 0.0035
"""How far ink runs, in cm."""
SCREEN, PAPER = (60.0, 0.5), 120.0
"""Amount and radius for a screen, amount for paper, in percent and pixels."""
GRAINY = 0.16
"""Deviation of root light by the strongest grain, times the light and what it lacks to white: most in middle tones."""
GRAIN_SEED = 0x5EED


class Sharpening(NamedTuple):
    """Amount in percent, radius in pixels of the output, and how far quiet areas are spared, in percent."""

    amount: float
    radius: float
    spare: float


def sharpening_for(finish: Finish, long_edge: int) -> Sharpening:
    """How a picture of so many pixels is sharpened: as set by hand, or for what it is meant for, by the strength that is set.

    On paper what an eye resolves from where it stands and what ink runs apart are made up for.

    >>> sharpening_for(Finish(sharpen_for="paper", sharpen=100, paper=60, seen_from=60), 6000)
    Sharpening(amount=120.0, radius=0.94, spare=20)
    """
    if finish.sharpen_for == "hand":
        return Sharpening(finish.sharpen, finish.radius, finish.spare)
    if finish.sharpen_for == "screen":
        return Sharpening(SCREEN[0] * finish.sharpen / 100, SCREEN[1], finish.spare)
    across = long_edge / finish.paper
    radius = math.hypot(EYE / 2 * finish.seen_from * across, INK * across)
    return Sharpening(PAPER * finish.sharpen / 100, round(min(max(radius, 0.3), 3.0), 2), finish.spare)


def reach_of(sharpening: Sharpening) -> int:
    """Pixels around a box that have a part in it."""
    return int(np.ceil(8 * sharpening.radius)) + 4 if sharpening.amount else 0


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _brought_to(root: np.ndarray, before: np.ndarray, after: np.ndarray) -> None:
    """Channels multiplied so that the root of luminance changes from one to another, hue and colour kept; in place."""
    for j in range(root.shape[0]):
        for i in range(root.shape[1]):
            f = min(max((max(after[j, i], np.float32(0.0)) + np.float32(0.004)) / (before[j, i] + np.float32(0.004)), np.float32(0.2)), np.float32(5.0))
            root[j, i, 0], root[j, i, 1], root[j, i, 2] = root[j, i, 0] * f, root[j, i, 1] * f, root[j, i, 2] * f


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _steepened(luma: np.ndarray, detail: np.ndarray, around: np.ndarray, low: np.ndarray, high: np.ndarray, strength: float, level: float, after: np.ndarray) -> None:
    """Brightness with detail laid on, less where there is little around, and hardly beyond what is there."""
    for j in range(luma.shape[0]):
        for i in range(luma.shape[1]):
            d = detail[j, i] * np.float32(strength)
            if level > 0:
                d *= around[j, i] / (around[j, i] + np.float32(level))
            room = np.float32(HALO * strength) * (high[j, i] - low[j, i])
            after[j, i] = min(max(luma[j, i] + d, low[j, i] - room), high[j, i] + room)


def sharpened(picture: FloatArray, sharpening: Sharpening) -> FloatArray:
    """Unsharp masking on the root of luminance (h, w, 3 in the square root of light) that goes beyond what lies around by no more than a part of
    its contrast, so that no bright or dark rim is seen; hue and colour stay. In place."""
    amount, radius, spare = sharpening
    if amount == 0:
        return picture
    side = 2 * max(1, round(radius)) + 1
    square = np.ones((side, side), np.uint8)
    strength, level = amount / 100, (0.006 * spare / 20) ** 2

    def steepen(piece: FloatArray, _: int) -> None:
        luma = root_luma(piece)
        detail = cv2.subtract(luma, cv2.GaussianBlur(luma, (0, 0), radius))
        around = cv2.GaussianBlur(cv2.multiply(detail, detail), (0, 0), 2 * radius + 1) if spare else detail
        fine, there, least, most = (np.asarray(map_, np.float32) for map_ in (detail, around, cv2.erode(luma, square), cv2.dilate(luma, square)))

        def rows(a: int, b: int) -> None:
            after = np.empty((b - a, luma.shape[1]), np.float32)
            _steepened(luma[a:b], fine[a:b], there[a:b], least[a:b], most[a:b], strength, level, after)
            _brought_to(piece[a:b], luma[a:b], after)

        by_rows(rows, *luma.shape)

    in_strips(picture, reach_of(sharpening), steepen)
    return picture


@njit(cache=True, nogil=True)
def _white(x0: int, y0: int, out: np.ndarray) -> None:
    """Noise without any order, of variance 1, told by the place alone, so that strips and pieces agree (counter-based: Salmon and others 2011)."""
    for j in range(out.shape[0]):
        for i in range(out.shape[1]):
            total = 0.0
            key = np.uint64(x0 + i + 0x10000) * np.uint64(0x9E3779B97F4A7C15) ^ np.uint64(y0 + j + 0x10000) * np.uint64(0xC2B2AE3D27D4EB4F) ^ np.uint64(GRAIN_SEED)
            for _ in range(2):
                key = (key ^ (key >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
                key = (key ^ (key >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
                key = key ^ (key >> np.uint64(31))
                # four numbers of sixteen bits, added up, are nearly normal
                for shift in (0, 16, 32, 48):
                    total += float((key >> np.uint64(shift)) & np.uint64(0xFFFF))
                key += np.uint64(0x9E3779B97F4A7C15)
            out[j, i] = (total / 65535.0 - 4.0) / 0.81649658


def grain_width(grain: Grain, paper: float, long_edge: int) -> float:
    """Pixels that a grain is wide in a picture whose long side has so many and is `paper` cm on paper."""
    return grain.size / 10 * long_edge / paper


def grain_field(width: float, box: tuple[int, int, int, int]) -> FloatArray:
    """Grain (h, w) of variance 1 in a box (x, y, w, h) of the output: white noise under a Gaussian `width` pixels wide at half its height,
    as pixels see it."""
    x, y, w, h = box
    sigma = width / 2.3548
    if sigma < 0.3:
        field = np.empty((h, w), np.float32)
        _white(x, y, field)
        return field
    reach = int(np.ceil(4 * sigma))
    wide = np.empty((h + 2 * reach, w + 2 * reach), np.float32)
    _white(x - reach, y - reach, wide)
    from scipy.special import ndtr

    kernel = np.diff(ndtr((np.arange(-reach, reach + 2) - 0.5) / sigma))
    kernel /= np.sqrt((kernel**2).sum())
    soft = cv2.sepFilter2D(wide, -1, kernel, kernel)
    return np.ascontiguousarray(soft[reach : reach + h, reach : reach + w], np.float32)


def lay_grain(picture: FloatArray, grain: Grain, width: float, start: tuple[int, int] = (0, 0)) -> None:
    """Lay grain `width` pixels wide on a piece (h, w, 3) that begins at `start` (x, y) of the output, in place."""
    if grain.strength == 0:
        return

    def rows(a: int, b: int) -> None:
        luma = root_luma(picture[a:b])
        field = grain_field(width, (start[0], start[1] + a, picture.shape[1], b - a))
        light = np.clip(luma, 0, 1)
        _brought_to(picture[a:b], luma, luma + np.float32(GRAINY * grain.strength / 100) * light * (1 - light) * field)

    by_rows(rows, *picture.shape[:2])
