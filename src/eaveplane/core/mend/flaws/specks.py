"""Specks: small round spots that one frame shows, or that lie at one place of the sensor in all of them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from ....imaging.colour import FloatArray
from ....imaging.light import root_luma
from ....imaging.placement import Placement
from ....imaging.pyramid import Box
from ....imaging.soft import noise_between
from ...gather.detail import POOL
from .finding import Examined, Finding

RADII = (1.5, 2.5, 4.0, 6.0)
"""Pixels (sigma) of spots that are looked for."""
ALONE = 3.2
"""By how many times a spot must stand out from what is around it."""
FAINTEST, FAINT, CLEAR_FAINT = 0.007, 0.012, 6.5
"""Root light by which it must, and below which it must do so by so many times: noise has its own peaks,"""
ABOVE_NOISE = 6.0
"""but in a large picture none of so many deviations."""
IN_OTHERS = 0.3
"""Part of a spot's strength below which another frame does not show it."""
WITHIN = 3.0
"""Radii of a spot within which it is looked for in other frames, spread by their blur."""
SWAY = 4.0
"""Pixels by which it may stand elsewhere in that frame."""
ELSEWHERE = 0.6
"""What it shows there counts as this part: ground is seldom quite plain."""
MOVED = 1.5
"""Pixels by which registration must move a place of the sensor for all frames to tell that a spot sits there."""
ROUND = 0.45
"""How alike its two curvatures are at least."""
VISIBLE = 0.12
"""Strength that is as bad as can be."""
WORST = 0.49
"""A spot never alone makes a result doubtful."""
MOST = 400
"""Spots, the clearest, that are looked at in the frames."""


def specks(seen: Examined, luma: FloatArray, level: int, placements: Sequence[Placement]) -> Iterator[Finding]:
    """Findings of kind speck; `luma` (h, w) is the weave's, halved `level` times, `placements` lay the frames on it at full size."""
    scale = 2**level
    for spot in spots(luma, seen.noise * 0.25**level):
        x, y, radius, strength = (spot[0] + 0.5) * scale - 0.5, (spot[1] + 0.5) * scale - 0.5, spot[2] * scale, spot[3]
        side = _side_of(radius)
        box = (int(x) - side, int(y) - side, 2 * side + 1, 2 * side + 1)
        if box[0] < 0 or box[1] < 0 or box[0] + box[2] > seen.size[0] or box[1] + box[3] > seen.size[1]:
            continue
        shown = _Shown(seen, box, radius, strength)
        at = np.s_[:, int(y) // POOL, int(x) // POOL]
        lead = int(seen.gates[at].argmax())
        if shown[lead] < 0.5:
            lead = max(range(len(placements)), key=shown.__getitem__)
            if shown[lead] < 0.5:
                continue
        # a frame that blurs the place wider than is looked at cannot deny it; those that are most alike first: they mostly show it, too
        blurs = [abs(place - seen.places[lead]) for place in seen.places] if seen.places else [0.0] * len(placements)
        others = sorted((k for k in range(len(placements)) if k != lead and seen.reach[at][k] and blurs[k] < WITHIN * radius), key=lambda k: blurs[k])
        if others and all(_flux_in(shown.luma(k), shown.luma(None), radius, strength) < IN_OTHERS for k in others):
            said = "A spot that frame {0} alone shows."
        elif _on_the_sensor(seen, placements, lead, (x, y), radius, strength, shown):
            said = "A spot at one place of the sensor: frame {0} and the others show it where registration moved it to."
        else:
            continue
        r = 2.5 * radius
        outline = tuple((x + r * float(np.cos(t)), y + r * float(np.sin(t))) for t in np.linspace(0, 2 * np.pi, 16, endpoint=False))
        yield Finding("speck", (int(x - r), int(y - r), int(2 * r) + 1, int(2 * r) + 1), outline, WORST * float(np.clip(0.3 + abs(strength) / VISIBLE, 0, 1)), (lead,), said)


def _side_of(radius: float) -> int:
    """Pixels to each side of a spot that are looked at."""
    return int(np.ceil(6 * radius)) + 4


class _Shown:
    """What part of a spot of the weave each frame shows; frames are read when they are asked for."""

    def __init__(self, seen: Examined, box: Box, radius: float, strength: float) -> None:
        self._seen, self._box, self._radius, self._strength = seen, box, radius, strength
        self._read: dict[int | None, FloatArray] = {}

    def luma(self, k: int | None) -> FloatArray:
        """Of frame k, or of the weave, around the spot (h, w)."""
        if k not in self._read:
            self._read[k] = root_luma(self._seen.read(k, self._box))
        return self._read[k]

    def __getitem__(self, k: int) -> float:
        return _strength(self.luma(k), self._radius) / self._strength


def spots(luma: FloatArray, noise: float) -> list[tuple[float, float, float, float]]:
    """Places, radii and strengths of round spots of a luma (h, w) that stand alone, the clearest first, MOST at most; `noise` is the variance it has."""
    found: list[tuple[float, tuple[float, float, float, float]]] = []
    for radius in RADII:
        # larger ones are looked for at a size at which they are as small as the smallest
        halvings = max(0, int(np.log2(radius / RADII[0])))
        small = luma
        for _ in range(halvings):
            small = np.asarray(cv2.pyrDown(small), np.float32)
        sigma = radius / 2**halvings
        response = np.asarray(cv2.GaussianBlur(small, (0, 0), sigma) - cv2.GaussianBlur(small, (0, 0), 2 * sigma), np.float32)
        size = np.abs(response)
        around = int(2 * np.ceil(4 * sigma) + 1)
        peak = (size == cv2.dilate(size, np.ones((around, around), np.uint8))) & (size > max(FAINTEST, ABOVE_NOISE * np.sqrt(noise * noise_between(radius))))
        wide, near = int(2 * np.ceil(10 * sigma) + 1), int(2 * np.ceil(4 * sigma) + 1)
        square = response * response
        ring = (cv2.blur(square, (wide, wide)) * wide**2 - cv2.blur(square, (near, near)) * near**2) / (wide**2 - near**2)
        clear = size / np.sqrt(np.maximum(ring, 1e-10))
        peak &= clear > np.where(size > FAINT, ALONE, CLEAR_FAINT)
        for y, x in np.argwhere(peak):
            if _round(response, int(x), int(y)):
                scale = 2**halvings
                found.append((float(clear[y, x]), (float((x + 0.5) * scale - 0.5), float((y + 0.5) * scale - 0.5), radius, float(response[y, x]))))
    clearest = [spot for _, spot in sorted(found, reverse=True)]
    at, stands = np.array(clearest).reshape(-1, 4), list[int]()
    for k, (x, y, radius, _) in enumerate(at):
        others = at[stands]
        if (np.hypot(x - others[:, 0], y - others[:, 1]) > 3 * np.maximum(radius, others[:, 2])).all():
            stands.append(k)
            if len(stands) == MOST:
                break
    return [clearest[k] for k in stands]


def _round(response: FloatArray, x: int, y: int) -> bool:
    if not (0 < x < response.shape[1] - 1 and 0 < y < response.shape[0] - 1):
        return False
    r = response[y - 1 : y + 2, x - 1 : x + 2]
    xx, yy, xy = r[1, 0] + r[1, 2] - 2 * r[1, 1], r[0, 1] + r[2, 1] - 2 * r[1, 1], (r[0, 0] + r[2, 2] - r[0, 2] - r[2, 0]) / 4
    mean, half = (xx + yy) / 2, float(np.hypot((xx - yy) / 2, xy))
    return bool(abs(mean) > half and (abs(mean) - half) > ROUND * (abs(mean) + half))


def _strength(luma: FloatArray, radius: float) -> float:
    """How strong a spot is in the middle of a piece."""
    middle = luma.shape[0] // 2
    near = np.s_[middle - 1 : middle + 2, middle - 1 : middle + 2]
    response = cv2.GaussianBlur(luma, (0, 0), radius) - cv2.GaussianBlur(luma, (0, 0), 2 * radius)
    return float(response[near].flat[np.abs(response[near]).argmax()])


@lru_cache(64)
def _around_it(radius: float) -> tuple[FloatArray, NDArray[np.bool_], NDArray[np.bool_]]:
    """Of a piece around a spot: the disc (k, k) in which it is summed up, the ring (h, w) that tells its ground, and how far (n, n) it may have swayed."""

    def away(side: int) -> FloatArray:
        y, x = np.mgrid[-side : side + 1, -side : side + 1]
        return np.asarray(np.hypot(x, y), np.float32)

    far = away(_side_of(radius))
    return (away(int(WITHIN * radius)) < WITHIN * radius).astype(np.float32), (far > 4 * radius) & (far < 6 * radius + 3), away(int(SWAY)) < SWAY


def _flux(luma: FloatArray, radius: float, sway: bool) -> FloatArray:
    """Sums (n, n) of what rises above its ground around the middle of a piece, or wherever it may have swayed to."""
    disc, ring, near = _around_it(radius)
    middle, reach = luma.shape[0] // 2, disc.shape[0] // 2
    more = near.shape[0] // 2 if sway else 0
    part = np.s_[middle - reach - more : middle + reach + more + 1]
    sums = cv2.filter2D(np.asarray(luma[part, part] - np.median(luma[ring]), np.float32), cv2.CV_32F, disc)
    return np.asarray(sums[reach : reach + 2 * more + 1, reach : reach + 2 * more + 1], np.float32)


def _flux_in(luma: FloatArray, woven: FloatArray, radius: float, strength: float) -> float:
    """How much of a spot of the weave a frame shows, as it is or spread by blur: what a disc spreads keeps its sum. It may have swayed a little. Both
    (h, w) around the spot."""
    shown = _strength(luma, radius) / strength
    whole = float(_flux(woven, radius, False)[0, 0])
    if shown >= IN_OTHERS or abs(whole) < 1e-6:
        return shown
    sums, near = _flux(luma, radius, True) / whole, _around_it(radius)[2]
    return max(shown, float(sums[sums.shape[0] // 2, sums.shape[1] // 2]), ELSEWHERE * float(sums[near].max()))


def _on_the_sensor(seen: Examined, placements: Sequence[Placement], lead: int, at: tuple[float, float], radius: float, strength: float, shown: _Shown) -> bool:
    """Whether most other frames show the spot at the same place of the sensor rather than at the same place of the scene, where each shows
    `shown` of its strength."""
    there = placements[lead].back(np.array([at]))
    side = _side_of(radius)
    boxes: dict[int, Box] = {}
    for k, placement in enumerate(placements):
        x, y = placement.onto(there)[0]
        box = (int(x) - side, int(y) - side, 2 * side + 1, 2 * side + 1)
        inside = box[0] >= 0 and box[1] >= 0 and box[0] + box[2] <= seen.size[0] and box[1] + box[3] <= seen.size[1]
        if k != lead and inside and np.hypot(x - at[0], y - at[1]) >= max(MOVED, 1.5 * radius):
            boxes[k] = box
    agree = 0
    for left, (k, box) in zip(range(len(boxes), 0, -1), boxes.items(), strict=True):
        if agree + left <= len(boxes) / 2:
            break
        on_sensor = _strength(root_luma(seen.read(k, box)), radius) / strength
        agree += on_sensor > 0.6 and shown[k] < 0.5 * on_sensor
    return agree > len(boxes) / 2
