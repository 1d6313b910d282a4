"""Which frames of a scene are better left out, and the evidence for it."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import LUMA, FloatArray
from ...imaging.exif import Metadata
from .defocus import Defocus
from .octaves import RADII, attenuation

Flaw = Literal["shaken", "overshot", "redundant", "settings", "marker", "intruder"]

DIRECTED = 0.06
"""Lean of a frame's slopes, in log units against the other frames, from which its blur has a direction."""
NOWHERE = -0.22
"""Log energy against the sharpest other frame that a frame must pass somewhere not to be sharp nowhere."""
OWN = 0.06
"""Log energy by which a frame must be ahead somewhere to have a part of its own."""
OWN_PART = 0.0025
SPARE_WORST, SPARE_COST = 0.5, 0.18
"""A frame is redundant if without it no place is blurred by more than the first, or by more than the second on top."""
APART_EV, APART_COLOUR, APART_MIRED = 0.55, 0.16, 14.0
FOREIGN, FOREIGN_PART = 0.33, (0.00025, 0.35)
"""Stops by which something in one frame alone differs, and how much of the picture it may take."""


@dataclass(frozen=True)
class Verdict:
    """What is found about one frame: `flaw` None to keep it, `evidence` in a sentence, `box` (x, y, w, h) in pixels of
    the reference frame where there is something to point at; `share` of the textured picture in which it is the
    sharpest, `sharp_rows` (0 at the top), `blur_px`, radius of its disc where it is sharpest;
    `needed`: without it some places would be soft."""

    flaw: Flaw | None = None
    evidence: str = ""
    share: float = 0.0
    sharp_rows: tuple[float, float] = (0.0, 0.0)
    blur_px: float = 0.0
    needed: bool = False
    box: tuple[int, int, int, int] | None = None


def leans(slopes: Sequence[FloatArray], clear: Sequence[NDArray[np.bool_]]) -> list[float]:
    """For each frame how far its blur has a direction that the other frames' has not, in log units.

    `slopes` (n) of (4, h, w), mean squares along x, a diagonal, y and the other, laid on one grid; `clear` (n) of
    (h, w) where they are above the noise. Defocus takes from all directions alike.
    """
    logs = [np.log(s + 1e-12) for s in slopes]
    turned = [log - log.mean(axis=0, keepdims=True) for log in logs]
    strength = np.stack([log.mean(axis=0) for log in logs])
    found = []
    for k in range(len(slopes)):
        use = clear[k]
        if len(slopes) < 2 or use.sum() < 60:
            found.append(0.0)
            continue
        usual = np.median([turned[j] for j in range(len(slopes)) if j != k], axis=0)
        behind = (strength[k] - strength.max(axis=0))[use]
        sharp = behind >= np.median(behind)
        lean = np.median((turned[k] - usual)[:, use][:, sharp], axis=1)
        found.append(float(np.hypot(lean[0] - lean[2], lean[1] - lean[3]) / 2))
    return found


def _fine(energies: Sequence[FloatArray], noises: Sequence[FloatArray]) -> FloatArray:
    """Log energy (n, h, w) of the two finest octaves, noise taken for what is least."""
    return np.stack([np.log(np.maximum(e[:2] - n[:2], 0).sum(axis=0) + n[:2].sum(axis=0) + 1e-12) for e, n in zip(energies, noises, strict=True)])


def unlike(energies: Sequence[FloatArray], noises: Sequence[FloatArray], known: NDArray[np.bool_]) -> list[float]:
    """How differently sharp each frame (n) and the next one are, in log units; n - 1 of them."""
    signal = _fine(energies, noises)
    return [float(np.median(np.abs(a - b)[known])) if known.any() else 1.0 for a, b in pairwise(signal)]


def ahead(energies: Sequence[FloatArray], noises: Sequence[FloatArray], known: NDArray[np.bool_], rivals: Sequence[int]) -> list[FloatArray]:
    """For each frame by how much (h, w) its fine log energy is ahead of the sharpest of `rivals` beside it, evened over
    neighbouring blocks; -inf where nothing is known."""
    signal = _fine(energies, noises)
    weight = cv2.GaussianBlur(known.astype(np.float32), (0, 0), 1.2)
    found = []
    for k in range(len(signal)):
        others = [j for j in rivals if j != k]
        lead = np.where(known, signal[k] - signal[others].max(axis=0), 0).astype(np.float32) if others else known.astype(np.float32)
        found.append(np.where(weight > 0.3, cv2.GaussianBlur(lead, (0, 0), 1.2) / np.maximum(weight, 1e-6), -np.inf).astype(np.float32))
    return found


def shaken(lean: Sequence[float], lead: Sequence[FloatArray], known: NDArray[np.bool_]) -> dict[int, str]:
    """Frames whose blur has a direction, or that are sharp nowhere though neighbours on both sides are."""
    found = {}
    own = [_best(field, known) for field in lead]
    for k in range(len(lean)):
        if lean[k] > DIRECTED and sum(v > DIRECTED for v in lean) <= len(lean) / 2:
            found[k] = "Its blur has a direction: the camera moved while the shutter was open."
            continue
        if own[k] < NOWHERE and any(v > OWN for v in own[:k]) and any(v > OWN for v in own[k + 1 :]):
            found[k] = "It is sharp nowhere, though the frames before and after it are."
    return found


def _best(lead: FloatArray, known: NDArray[np.bool_]) -> float:
    values = lead[known & np.isfinite(lead)]
    return float(np.percentile(values, 100 * (1 - OWN_PART))) if len(values) > 60 else 0.0


def overshot(lead: Sequence[FloatArray], known: NDArray[np.bool_], spoilt: set[int]) -> dict[int, str]:
    """Frames at either end of the order that are the sharpest nowhere."""
    found: dict[int, str] = {}
    good = [k for k in range(len(lead)) if k not in spoilt]
    for line in (good[::-1], good):
        for k in line:
            if len(good) - len(found) <= 2 or k in found or _best(lead[k], known) > OWN:
                break
            found[k] = f"It was focused {'beyond' if line[0] > line[-1] else 'nearer than'} everything there is: another frame is sharper everywhere."
    return found


def redundant(defocus: Defocus, good: list[int], protected: set[int], lead: Sequence[FloatArray]) -> dict[int, str]:
    """Frames whose neighbours cover all they cover, the cheapest to leave out first; of two alike, the softer."""
    found: dict[int, str] = {}
    known = defocus.known
    if known.sum() < 60:
        return found
    left = list(good)
    while len(left) > 2:
        now = defocus.least(left)
        best: tuple[float, int, float] | None = None
        for k in left:
            if k in protected:
                continue
            without = defocus.least([j for j in left if j != k])
            own = known & (defocus.radius(k) <= now + 1e-6)
            if not own.any():
                continue
            ends = [j for j in left if j != k]
            line = sorted(defocus.focus[j] for j in ends)
            between = line[0] < defocus.focus[k] < line[-1]
            worst = float(np.percentile(without[own], 95))
            cost = float(np.percentile((without - now)[own], 95))
            if between:
                at = int(np.searchsorted(line, defocus.focus[k]))
                apart = (defocus.focus[k] - line[at - 1], line[at] - defocus.focus[k])
                worst, cost = max(worst, sum(apart) / 2), max(cost, min(apart) / 2)
            # what it costs in steps that matter, then how far ahead of the others it ever is
            rank = round(cost / SPARE_COST / 2) + 0.1 * min(max(_best(lead[k], known), -1.0), 1.0)
            if (worst <= SPARE_WORST or cost <= SPARE_COST) and (best is None or rank < best[0]):
                best = (rank, k, worst)
        if best is None:
            break
        _, k, worst = best
        found[k] = f"Its neighbours cover all it covers: without it nothing there is blurred by more than {max(worst, 0.1):.1f} px."
        left.remove(k)
    return found


def other_settings(facts: Sequence[Metadata], shots: Sequence[tuple[float, float]], gains: Sequence[tuple[float, float, float]]) -> dict[int, str]:
    """Frames whose settings are not those of most; `shots` are light as shot (kelvin, tint), `gains` what makes a frame
    as bright as the reference."""
    found: dict[int, str] = {}

    def differing(values: Sequence[float | None], unlike: float, told: str) -> None:
        known = [v for v in values if v is not None]
        if len(known) < len(values) or len(set(known)) < 2:
            return
        usual, times = Counter(round(v, 4) for v in known).most_common(1)[0]
        if times <= len(known) / 2:
            usual = float(np.median(known))
        for k, v in enumerate(known):
            if abs(math.log2(v / usual)) > unlike:
                found.setdefault(k, told.format(v, usual))

    differing([m.f_number for m in facts], 0.12, "It was taken at f/{:g}, the others at f/{:g}.")
    differing([float(m.iso) if m.iso else None for m in facts], 0.2, "It was taken at ISO {:g}, the others at ISO {:g}.")
    differing([m.focal_mm for m in facts], 0.04, "It was taken at {:g} mm, the others at {:g} mm.")
    mired = np.array([1e6 / max(kelvin, 1000.0) for kelvin, _ in shots])
    tint = np.array([t for _, t in shots])
    for k in range(len(shots)):
        if abs(mired[k] - np.median(mired)) > APART_MIRED or abs(tint[k] - np.median(tint)) > APART_MIRED:
            found.setdefault(k, f"Its white balance is {shots[k][0]:.0f} K, that of the others {1e6 / np.median(mired):.0f} K.")
    stops = -np.log2(np.array(gains))
    middle = stops - np.median(stops, axis=0)
    for k in range(len(gains)):
        if len(gains) > 2 and abs(middle[k, 1]) > APART_EV:
            found.setdefault(k, f"It is {abs(middle[k, 1]):.1f} EV {'brighter' if middle[k, 1] > 0 else 'darker'} than the others.")
        elif len(gains) > 2 and np.abs(middle[k, [0, 2]] - middle[k, 1]).max() > APART_COLOUR / math.log(2):
            found.setdefault(k, "Its white balance is not that of the others.")
    return found if len(found) <= len(facts) / 2 else {}


def intruders(small: Sequence[FloatArray], known: Sequence[NDArray[np.bool_]], blur: Sequence[FloatArray], reference_scale: float) -> dict[int, tuple[str, tuple[int, int, int, int]]]:
    """Things that are in one frame alone: the sentence and the box in pixels of the reference frame.

    `small` (n) of (h, w, 3): linear renditions laid on the reference and equally bright, `known` (n) of (h, w) where
    each reaches, `blur` (n) of (h, w) radii of the discs in their pixels; `reference_scale`: full pixels for one.
    """
    if len(small) < 3:
        return {}
    # what is blurred most sets the scale on which frames can be compared
    sigma = float(np.clip(np.nanpercentile(np.stack(blur), 90), 1.5, 6.0))
    logs = np.stack([np.log2(np.maximum(cv2.GaussianBlur(p @ LUMA.astype(np.float32), (0, 0), sigma), 2e-3)) for p in small])
    colours = np.stack([cv2.GaussianBlur(p, (0, 0), sigma)[..., [0, 2]] / np.maximum(cv2.GaussianBlur(p, (0, 0), sigma)[..., 1:2], 2e-3) for p in small])
    found: dict[int, tuple[str, tuple[int, int, int, int]]] = {}
    area = logs[0].size
    for k in range(len(small)):
        others = [j for j in range(len(small)) if j != k]
        usual, spread = np.median(logs[others], axis=0), np.ptp(logs[others], axis=0)
        hue = np.abs(np.log2(np.maximum(colours[k], 0.05) / np.maximum(np.median(colours[others], axis=0), 0.05))).max(axis=-1)
        edge = np.hypot(cv2.Sobel(usual, cv2.CV_32F, 1, 0), cv2.Sobel(usual, cv2.CV_32F, 0, 1)) / 8 * sigma
        off = np.maximum(np.abs(logs[k] - usual), 0.8 * hue) - 1.2 * spread - 1.2 * edge
        inside = known[k] & np.all([known[j] for j in others], axis=0)
        inside = cv2.erode(inside.astype(np.uint8), np.ones((9, 9), np.uint8)) > 0
        mask = ((off > FOREIGN) & inside).astype(np.uint8)
        count, _, stats, _ = cv2.connectedComponentsWithStats(cv2.dilate(mask, np.ones((3, 3), np.uint8)), connectivity=8)
        parts = [s for s in stats[1:] if FOREIGN_PART[0] * area <= s[4] <= FOREIGN_PART[1] * area]
        if count > 1 and parts:
            x, y, w, h, _ = max(parts, key=lambda s: s[4])
            box = tuple(round(float(v) * reference_scale) for v in (x, y, w, h))
            found[k] = ("Something is in this frame alone: look at the box.", box)  # type: ignore[assignment]
    return found if len(found) <= max(1, len(small) // 3) else {}


def zone_of(defocus: Defocus, frame: int, frames: list[int]) -> NDArray[np.bool_]:
    """Blocks (h, w) in which a frame is the sharpest of `frames`."""
    return np.asarray(defocus.known & (defocus.radius(frame) <= defocus.least(frames) + 1e-6))


def rows_of(zone: NDArray[np.bool_], block: int, height: int) -> tuple[float, float]:
    """Extent of a zone as parts of the height, 0 at the top, leaving out its few farthest blocks."""
    rows = np.flatnonzero(zone)
    if not len(rows):
        return 0.0, 0.0
    at = rows // zone.shape[1]
    low, high = np.percentile(at, [4, 96])
    return float(low * block / height), float(min((high + 1) * block / height, 1.0))


def blur_beside(lead: FloatArray, known: NDArray[np.bool_], clearest: float) -> float:
    """Radius of a disc that would leave as little as a frame has at its best, beside the sharpest of the others, whose
    own disc there is `clearest`."""
    left = min(_best(lead, known), 0.0)
    table = np.log(attenuation()[:2].mean(axis=0))
    base = float(np.interp(clearest, RADII, table))
    return float(np.interp(-(left + base), -table, RADII))
