"""How much brighter or redder one frame is than the reference, measured on what both show at low frequencies.

Estimated after registration: before it, different parts of the landscape are compared and gains go wrong by
tenths of an EV. Blurred far beyond any defocus, frames of one scene differ by exposure and colour alone.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import SRGB_FROM_WORK, FloatArray, encode_srgb
from ...imaging.difference import ciede2000
from ...imaging.placement import Placement
from ...imaging.resample import halve
from ...parameter import Parameters, parameter

MOST_SIDE = 450
SPREAD = 1 / 60
"""Standard deviation of the low-pass in lengths of the picture's long side."""
DARKEST, BRIGHTEST = 0.004, 0.85
CLIPPED = 0.97
STRAY = 0.008
"""Deviation of log gain at which a place counts a quarter."""
MOST_FALLOFF = 0.4
FEWEST = 200
"""Pixels of the small pictures that must be comparable."""


@dataclass(frozen=True)
class Drift:
    """What makes a frame like the reference: `gain` of its linear channels, and 1 + `falloff` r², r being 1 in its
    corners. `before` and `left`: median CIEDE2000 between the two without and with that."""

    gain: tuple[float, float, float] = (1.0, 1.0, 1.0)
    falloff: float = 0.0
    before: float = 0.0
    left: float = 0.0


class Trim(Parameters):
    """What a hand gives to one frame beside the others; in EV, on the channels of working light."""

    exposure: float = parameter(0, -2, 2, 0.01, "Exposure", "This frame alone, brighter or darker.", "EV", "Trim")
    warmth: float = parameter(0, -1, 1, 0.01, "Warmth", "This frame alone: red against blue.", "EV", "Trim")
    tint: float = parameter(0, -1, 1, 0.01, "Tint", "This frame alone: green against magenta.", "EV", "Trim")

    def gains(self) -> tuple[float, float, float]:
        """Factors on red, green and blue."""
        return 2.0 ** (self.exposure + self.warmth / 2), 2.0 ** (self.exposure + self.tint), 2.0 ** (self.exposure - self.warmth / 2)


def measure_drift(small: list[FloatArray], placements: Sequence[Placement], reference: int) -> list[Drift]:
    """How each frame drifted from the reference in exposure, white balance and falloff towards the corners.

    `small` are linear renditions (h, w, 3) of one small size and `placements` where they lie on each other at that size. Where a
    frame shares too little unclipped picture with the reference, nothing is known of it.
    """
    small, placements = reduced(small, placements)
    height, width = small[reference].shape[:2]
    sigma = SPREAD * max(width, height)
    open_base = unclipped(small[reference])
    found = []
    for k, picture in enumerate(small):
        if k == reference:
            found.append(Drift())
            continue
        # what is clipped in either must not bleed into what is compared
        mask = placements[k].lay_maps(unclipped(picture), (height, width), repeat_edge=False) * open_base
        mask *= placements[k].covers((0, 0, width, height)).astype(np.float32)
        weight = cv2.GaussianBlur(mask, (0, 0), sigma, borderType=cv2.BORDER_CONSTANT)
        inside = cv2.GaussianBlur(np.ones_like(mask), (0, 0), sigma, borderType=cv2.BORDER_CONSTANT)
        laid = placements[k].lay_maps(picture, (height, width), repeat_edge=False)
        base, other = (np.asarray(cv2.GaussianBlur(p * mask[..., None], (0, 0), sigma, borderType=cv2.BORDER_CONSTANT)) / np.maximum(weight, 1e-6)[..., None] for p in (small[reference], laid))
        use = (weight > 0.5 * inside) & (mask > 0.5)
        for side in (base, other):
            use &= (side.max(axis=2) < BRIGHTEST) & (side.min(axis=2) > DARKEST)
        if use.sum() < FEWEST:
            found.append(Drift())
            continue
        radius = placements[k].lay_maps(radius_squared(height, width), (height, width), repeat_edge=False)
        # blurred so far, a few places tell as much as all
        step = max(1, int(sigma / 1.5))
        few = np.zeros_like(use)
        few[::step, ::step] = use[::step, ::step]
        found.append(_fitted(base[few], other[few], radius[few].astype(np.float64)))
    return found


def reduced(small: list[FloatArray], placements: Sequence[Placement]) -> tuple[list[FloatArray], Sequence[Placement]]:
    """Pictures (h, w, 3) of one size halved until they are as small as light is compared at, and where they lie then."""
    while max(small[0].shape) > MOST_SIDE:
        small, placements = [halve(np.ascontiguousarray(p)) for p in small], [placement.at(1) for placement in placements]
    return small, placements


def radius_squared(height: int, width: int, box: tuple[int, int, int, int] | None = None) -> FloatArray:
    """Squared distance (h, w) from the middle of a picture, 1 in its corners, for a box (x, y, w, h) of it."""
    x, y, w, h = box or (0, 0, width, height)
    half = (width**2 + height**2) / 4
    across = (np.arange(x, x + w) + 0.5 - width / 2) ** 2 / half
    down = (np.arange(y, y + h) + 0.5 - height / 2) ** 2 / half
    return (across[None, :] + down[:, None]).astype(np.float32)


def unclipped(picture: FloatArray) -> FloatArray:
    """Where (h, w) no channel is clipped, 1 or 0, with a margin."""
    clipped = (picture.max(axis=2) > CLIPPED).astype(np.uint8)
    return 1 - np.asarray(cv2.dilate(clipped, np.ones((3, 3), np.uint8)), np.float32)


def _fitted(base: FloatArray, other: FloatArray, radius: NDArray[np.float64]) -> Drift:
    """The drift from pixels (n, 3) of both and their squared distances (n,) from the middle: least squares on log
    ratios, in which what lies far off, having moved, counts little (Cauchy weights)."""
    ratio = np.log(base.astype(np.float64) / other)
    gain, falloff = np.median(ratio, axis=0), 0.0
    far = radius - radius.mean()
    for turn in range(14):
        rest = ratio - gain - falloff * radius[:, None]
        off = np.abs(rest).max(axis=1)
        # begin with what most agree on, then come closer
        stray = max(STRAY, 0.12 * 0.7**turn)
        weight = 1 / (1 + (off / stray) ** 2) ** 2
        total = weight.sum()
        middle = (weight * radius).sum() / total
        spread = (weight * (radius - middle) ** 2).sum()
        mean = (weight[:, None] * ratio).sum(axis=0) / total
        if spread > 1e-3 * len(far):
            falloff = float(np.clip((weight * (radius - middle) * (ratio - mean).mean(axis=1)).sum() / spread, -MOST_FALLOFF, MOST_FALLOFF))
        gain = mean - falloff * middle
    factors = np.exp(gain)
    evened = other * factors * (1 + falloff * radius)[:, None]
    return Drift((float(factors[0]), float(factors[1]), float(factors[2])), round(falloff, 4), apart(base, other), apart(base, evened))


def apart_map(one: FloatArray, other: FloatArray) -> FloatArray:
    """CIEDE2000 (h, w) between two small linear pictures (h, w, 3) on one grid, blurred as drift is measured."""
    sigma = SPREAD * max(one.shape[:2])
    shown = (encode_srgb(np.clip(np.asarray(cv2.GaussianBlur(p, (0, 0), sigma)) @ SRGB_FROM_WORK.T, 0, 1).astype(np.float32)).astype(np.float64) for p in (one, other))
    return np.asarray(ciede2000(*shown), np.float32)


def apart(one: NDArray[np.floating], other: NDArray[np.floating]) -> float:
    """Median CIEDE2000 between linear colours (n, 3)."""
    shown = (encode_srgb(np.clip(p @ SRGB_FROM_WORK.T, 0, 1).astype(np.float32)).astype(np.float64) for p in (one, other))
    return round(float(np.median(ciede2000(*shown))), 3)
