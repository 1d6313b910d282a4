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
from .consequence import Loss
from .defocus import Defocus
from .octaves import RADII, attenuation
from .shake import Shake

Flaw = Literal["shaken", "overshot", "redundant", "settings", "marker", "intruder"]

DIRECTED = 0.045
"""Lean of a frame's slopes, in log units against the other frames, from which its blur has a direction."""
NOWHERE = -0.22
"""Log energy against the sharpest other frame that a frame must pass somewhere not to be sharp nowhere."""
OWN = 0.06
"""Log energy by which a frame must be ahead somewhere to have a part of its own."""
OWN_PART = 0.0025
PAST_PX = 0.6
"""Pixels of blur at its sharpest from which a frame is past everything: one that is hardly softer averages noise away."""
SPARE_WORST, SPARE_COST = 0.5, 0.18
"""A frame is redundant if without it no place is blurred by more than the first, or by more than the second on top."""
APART_EV, APART_COLOUR, APART_MIRED = 0.55, 0.16, 14.0
ASIDE = 5
"""Pixels of a small rendition by which leaves, stems and near things may be elsewhere in a frame."""
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


class Leads:
    """By how much frames are ahead of others in fine detail, from `energies` and `noises` (n) of (octaves, h, w) on one grid and
    `known` (h, w)."""

    def __init__(self, energies: Sequence[FloatArray], noises: Sequence[FloatArray], known: NDArray[np.bool_]) -> None:
        self.known = known
        self._signal = _fine(energies, noises)
        self._weight = cv2.GaussianBlur(known.astype(np.float32), (0, 0), 1.2)

    def over(self, k: int, rivals: Sequence[int]) -> FloatArray:
        """By how much (h, w) the fine log energy of frame k is ahead of the sharpest of `rivals` beside it, evened over
        neighbouring blocks; -inf where nothing is known."""
        others = [j for j in rivals if j != k]
        lead = np.where(self.known, self._signal[k] - self._signal[others].max(axis=0), 0).astype(np.float32) if others else self.known.astype(np.float32)
        return np.where(self._weight > 0.3, cv2.GaussianBlur(lead, (0, 0), 1.2) / np.maximum(self._weight, 1e-6), -np.inf).astype(np.float32)

    def best(self, k: int, rivals: Sequence[int]) -> float:
        """The lead of frame k where it is at its best, over a place large enough to count."""
        values = self.over(k, rivals)[self.known]
        values = values[np.isfinite(values)]
        return float(np.percentile(values, 100 * (1 - OWN_PART))) if len(values) > 60 else 0.0


def suspect(lean: float) -> bool:
    """Whether a frame's blur seems to have a direction, so that it is worth asking whether the camera moved."""
    return lean > DIRECTED


def nowhere(best: Sequence[float]) -> list[int]:
    """Frames that are sharp nowhere though frames on both sides are; `best` are their leads over the others."""
    return [k for k in range(len(best)) if best[k] < NOWHERE and any(v > OWN for v in best[:k]) and any(v > OWN for v in best[k + 1 :])]


def shaken(shake: Shake) -> str:
    """The sentence for a frame during which the camera moved."""
    return f"Its blur has a direction: the camera moved by some {shake.length:.0f} px while the shutter was open."


SPARING = "Leave it out where things moved; it still helps against noise."
IDLE = f"Nothing lies where it was focused: other frames are sharper everywhere. {SPARING}"


BEYOND, NEARER = "beyond", "nearer than"


def at_the_ends(leads: Leads, good: list[int]) -> dict[int, str]:
    """Frames at either end of the order, and on which side, that are ahead nowhere of those that would be left: neither
    they nor any that would go with them."""
    found: dict[int, str] = {}
    for line, side in ((good[::-1], BEYOND), (good, NEARER)):
        going: list[int] = []
        for k in line:
            left = [j for j in good if j not in found and j not in going and j != k]
            if k in found or len(left) < 2 or any(leads.best(j, left) > OWN for j in (*going, k)):
                break
            going.append(k)
        found |= dict.fromkeys(going, side)
    return found


OVERSHOT = "It was focused past everything there is: other frames are sharper everywhere."


def outside(defocus: Defocus, frames: dict[int, str]) -> dict[int, str]:
    """Those of `frames` at the ends whose focus lies past the nearest or the farthest thing."""
    places = defocus.place[defocus.known]
    if not len(places):
        return frames
    nearest, farthest = np.percentile(places, [0.5, 99.5])
    return {k: side for k, side in frames.items() if (defocus.focus[k] > farthest + PAST_PX if side == BEYOND else defocus.focus[k] < nearest - PAST_PX)}


def borne_out(past: dict[int, str], spare: dict[int, str], steady: list[int], needed: set[int]) -> tuple[dict[int, str], dict[int, str]]:
    """Frames past everything, and spare ones, without those that are `needed`. What is not at an end after that
    stands between things and is spare."""
    ends: dict[int, str] = {}
    for line, side in ((steady[::-1], BEYOND), (steady, NEARER)):
        for k in line:
            if past.get(k) != side or k in needed:
                break
            ends[k] = side
    inner = {k: IDLE for k in past if k not in ends and k not in needed}
    return ends, {k: v for k, v in spare.items() if k not in needed} | inner


def redundant(defocus: Defocus, good: list[int], best_lead: Sequence[float]) -> dict[int, str]:
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
            rank = round(cost / SPARE_COST / 2) + 0.1 * min(max(best_lead[k], -1.0), 1.0)
            if (worst <= SPARE_WORST or cost <= SPARE_COST) and (best is None or rank < best[0]):
                best = (rank, k, worst)
        if best is None:
            break
        _, k, worst = best
        found[k] = f"Its neighbours cover all it covers: without it nothing there is blurred by more than {max(worst, 0.1):.1f} px. {SPARING}"
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
    radii = np.stack(blur)
    sigma = float(np.clip(np.percentile(radii[np.isfinite(radii)], 90), 1.5, 6.0)) if np.isfinite(radii).any() else 6.0
    logs = np.stack([np.log2(np.maximum(cv2.GaussianBlur(p @ LUMA.astype(np.float32), (0, 0), sigma), 2e-3)) for p in small])
    softened = [cv2.GaussianBlur(p, (0, 0), sigma) for p in small]
    hues = np.stack([np.log2(np.maximum(p[..., [0, 2]] / np.maximum(p[..., 1:2], 2e-3), 0.05)) for p in softened])
    found: dict[int, tuple[str, tuple[int, int, int, int]]] = {}
    area = logs[0].size
    everywhere, lowest, highest = np.logical_and.reduce(list(known)), _Ends(-logs), _Ends(logs)
    light_aside, hue_aside = _Aside(logs), _Aside(hues)
    middle = np.median(logs, axis=0)
    for k in range(len(small)):
        # among many frames one more hardly moves the median
        usual = middle if len(small) > 8 else np.median(np.delete(logs, k, axis=0), axis=0)
        spread = highest.without(k) + lowest.without(k)
        edge = np.hypot(cv2.Sobel(usual, cv2.CV_32F, 1, 0), cv2.Sobel(usual, cv2.CV_32F, 0, 1)) / 8 * sigma
        off = np.maximum(light_aside.beyond(k), 0.8 * hue_aside.beyond(k).max(axis=-1)) - 1.2 * spread - 1.2 * edge
        inside = cv2.erode(everywhere.astype(np.uint8), np.ones((9, 9), np.uint8)) > 0
        mask = ((off > FOREIGN) & inside).astype(np.uint8)
        count, _, stats, _ = cv2.connectedComponentsWithStats(cv2.dilate(mask, np.ones((3, 3), np.uint8)), connectivity=8)
        parts = [s for s in stats[1:] if FOREIGN_PART[0] * area <= s[4] <= FOREIGN_PART[1] * area]
        if count > 1 and parts:
            x, y, w, h, _ = max(parts, key=lambda s: s[4])
            box = tuple(round(float(v) * reference_scale) for v in (x, y, w, h))
            found[k] = ("Something is in this frame alone: look at the box.", box)  # type: ignore[assignment]
    return found if len(found) <= max(1, len(small) // 3) else {}


def but(told: str, loss: Loss | None) -> str:
    """What is wrong with a frame and that it is needed all the same, in one sentence."""
    where = f" ({loss.box[2]} × {loss.box[3]} px at {loss.box[0]}, {loss.box[1]})" if loss else ""
    return f"{told.rstrip('.')}; but without it some places would be soft{where}, so it stays unless you leave it out."


class _Ends:
    """The largest values of frames (n, …), and those of all but one."""

    def __init__(self, values: FloatArray) -> None:
        self._at = values.argmax(axis=0)
        self._first, self._second = np.partition(values, -2, axis=0)[[-1, -2]]

    def without(self, k: int) -> FloatArray:
        return np.where(self._at == k, self._second, self._first)


class _Aside:
    """What frames (n, h, w, …) show at each place or a little aside: what has only moved is no intruder."""

    def __init__(self, values: FloatArray) -> None:
        reach = np.ones((2 * ASIDE + 1, 2 * ASIDE + 1), np.uint8)
        self._values = values
        self._low = _Ends(-np.stack([cv2.erode(v, reach) for v in values]))
        self._high = _Ends(np.stack([cv2.dilate(v, reach) for v in values]))

    def beyond(self, k: int) -> FloatArray:
        """By how much the values of frame k lie outside of all that the others have there."""
        own = self._values[k]
        return np.asarray(np.maximum(np.maximum(-self._low.without(k) - own, own - self._high.without(k)), 0))


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


def blur_beside(lead: float, clearest: float) -> float:
    """Radius of a disc that would leave as little as a frame has at its best, its lead over the sharpest of the others,
    whose own disc there is `clearest`."""
    table = np.log(attenuation()[:2].mean(axis=0))
    base = float(np.interp(clearest, RADII, table))
    return float(np.interp(-(min(lead, 0.0) + base), -table, RADII))
