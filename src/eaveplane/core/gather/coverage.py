"""Where no frame of a scene is sharp enough: soft bands, with the two frames that fail to meet there."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from .defocus import Defocus

SOFT = 1.3
"""Radius in pixels of a disc from which a place is soft."""
LEAST_HEIGHT, LEAST_PART = 0.02, 0.006
"""Parts of the height and of the picture below which a soft place is no band."""
KNOWN_PART = 0.3
ACROSS = 0.3
INFINITE = 0.03
"""Dioptres from infinity within which a frame is focused on it."""
SHARP = 1.0
"""Radius in pixels up to which a frame is called sharp."""
LEAST_LOST = 0.01
"""Part of the picture that may come out softer before it is said."""
BEYOND_BELIEF = 6.0
"""Beyond the first or last focus, what seems blurred by more is a smooth thing sooner than a far one."""


@dataclass(frozen=True)
class SoftBand:
    """`box` (x, y, w, h) in pixels of the reference frame; `blur_px`: radius of the smallest disc there, `near` and
    `far` the frames on either side (None: beyond the first or the last), `metres` the distances where they are known."""

    box: tuple[int, int, int, int]
    blur_px: float
    near: int | None
    far: int | None
    metres: tuple[float, float] | None

    def told(self) -> str:
        """In one sentence."""
        strip = f"a strip {self.box[3]} px high, blurred by {self.blur_px:.1f} px"
        if self.metres:
            near, far = self.metres
            if far > 500:
                return f"Nothing is sharp beyond {near:.1f} m: {strip}."
            return f"Nothing is sharp between {near:.1f} m and {far:.1f} m: {strip}."
        if self.near is None:
            return f"Nothing is sharp nearer than the first frame: {strip}."
        if self.far is None:
            return f"Nothing is sharp beyond the last frame: {strip}."
        return f"Frames {self.near + 1} and {self.far + 1} do not meet: {strip}."


def soft_map(defocus: Defocus, frames: list[int]) -> FloatArray:
    """Radius (h, w) of the smallest disc of `frames`, evened over neighbouring blocks; nan where nothing can be told."""
    least = defocus.least(frames)
    weight = defocus.known.astype(np.float32)
    total = cv2.GaussianBlur(np.where(defocus.known, least, 0).astype(np.float32), (0, 0), 1.0)
    share = cv2.GaussianBlur(weight, (0, 0), 1.0)
    return np.where(share > 0.25, total / np.maximum(share, 1e-6), np.nan).astype(np.float32)


def newly_soft(defocus: Defocus, frames: list[int]) -> float:
    """The part of what shows detail that only frames other than these have sharp."""
    if not defocus.known.any():
        return 0.0
    lost = (defocus.least(frames) > SOFT) & (defocus.least() <= SHARP) & defocus.known
    return float(lost.sum()) / float(defocus.known.sum())


def soft_bands(defocus: Defocus, frames: list[int], size: tuple[int, int], dioptres: NDArray[np.float64] | None) -> list[SoftBand]:
    """The soft bands of a picture of `size` (w, h) for the `frames` kept, widest first; `dioptres` (n,) of the frames'
    focus, negative so that far is more, nan where unknown."""
    radius = soft_map(defocus, frames)
    soft = (np.nan_to_num(radius) > SOFT).astype(np.uint8)
    soft = np.asarray(cv2.morphologyEx(cv2.morphologyEx(soft, cv2.MORPH_OPEN, np.ones((1, 3), np.uint8)), cv2.MORPH_CLOSE, np.ones((3, 7), np.uint8)), np.uint8)
    count, labels, stats, _ = cv2.connectedComponentsWithStats(soft, connectivity=8)
    order = sorted(frames, key=lambda k: defocus.focus[k])
    focus = defocus.focus[order]
    found = []
    for number in range(1, count):
        x, y, w, h, area = (int(v) for v in stats[number])
        inside = (labels == number) & defocus.known
        # the usual height of the band, not that of what sticks out of it
        columns = (labels[:, x : x + w] == number).sum(axis=0)
        height = float(np.percentile(columns, 75))
        if height < LEAST_HEIGHT * soft.shape[0] or area < LEAST_PART * soft.size or inside.sum() < KNOWN_PART * area:
            continue
        places = defocus.place[inside]
        middle = float(np.median(places))
        after = int(np.searchsorted(focus, middle))
        near, far = (order[after - 1] if after > 0 else None), (order[after] if after < len(order) else None)
        blur = float(np.median(radius[inside & np.isfinite(radius)]))
        if (near is None or far is None) and not _at_the_end(near is None, (x, y, w, h), soft.shape, order, dioptres):
            continue
        if not _believable(blur, np.subtract(*np.percentile(places, [80, 20])), focus[after] - focus[after - 1] if near is not None and far is not None else None):
            continue
        side = defocus.block
        box = (x * side, y * side, min(w * side, size[0] - x * side), min(h * side, size[1] - y * side))
        found.append(SoftBand(box, round(blur, 2), near, far, _metres(defocus, near, far, places, dioptres)))
    return sorted(found, key=lambda band: -band.box[2] * band.box[3])


def _at_the_end(nearest: bool, box: tuple[int, int, int, int], shape: tuple[int, ...], order: list[int], dioptres: NDArray[np.float64] | None) -> bool:
    """Whether a band beyond the first or last frame is where one can be: right across the bottom, or not past infinity."""
    _, y, w, h = box
    if w < ACROSS * shape[1]:
        return False
    if nearest:
        return y + h > 0.96 * shape[0]
    return dioptres is None or not dioptres[order[-1]] > -INFINITE


def _believable(blur: float, spread: float, gap: float | None) -> bool:
    """Whether blocks make one band: they lie about alike, and between two frames nothing can be blurred by more than
    half of what lies between their focus."""
    if gap is None:
        return blur < BEYOND_BELIEF and spread < blur
    return blur < 0.5 * gap + 0.6 and spread < 0.6 * gap


def _metres(defocus: Defocus, near: int | None, far: int | None, places: FloatArray, dioptres: NDArray[np.float64] | None) -> tuple[float, float] | None:
    """Between which distances nothing is sharp, by the frames whose distance is known."""
    if dioptres is None:
        return None
    known = np.isfinite(dioptres)
    if known.sum() < 2 or np.ptp(dioptres[known]) < 1e-3:
        return None
    slope, offset = np.polyfit(defocus.focus[known], dioptres[known], 1)
    first, last = np.percentile(places, [8, 92])
    first = defocus.focus[near] + SHARP if near is not None else first
    last = defocus.focus[far] - SHARP if far is not None else last
    nearest, farthest = (max(-(offset + slope * float(p)), 1e-6) for p in (first, last))
    return float(1 / nearest), float(1 / farthest)
