"""Light that changed in places between frames: shadows of clouds that passed, stray light that came or went.

What frames differ by in their smooth part is light, if that is most of what they differ by; a still scene differs by defocus, and nothing
is changed.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from ...imaging.colour import FloatArray
from ...imaging.placement import Placement
from ...imaging.pyramid import Box, Size
from ..gather.smooth import COMPARED, smooth_part, soft
from .drift import DARKEST, FEWEST, Drift, apart, radius_squared, reduced, unclipped

LEAST = 0.015
"""Log gain in the hundredth of the picture that changed most below which nothing did."""
MOST = 1.2
"""Log gain by which a place is changed at most."""
CELL = 4
"""Pixels of the small picture to a cell of the map."""


@dataclass(frozen=True, eq=False)
class PassingLight:
    """`gain` (rows, cols, 3) on linear channels, spread evenly over the reference frame, that gives a frame the reference's light; `left` is
    the median CIEDE2000 between the two then."""

    gain: FloatArray
    left: float

    def on(self, box: Box, size: Size) -> FloatArray:
        """The gain (h, w, 3) on a box (x, y, w, h) of the reference frame of `size` (w, h), or of what lies around it."""
        x, y, w, h = box
        rows, cols = self.gain.shape[:2]
        across, down = ((np.arange(first, first + n) + 0.5) * (cells / whole) - 0.5 for first, n, cells, whole in ((x, w, cols, size[0]), (y, h, rows, size[1])))
        at_x, at_y = (np.asarray(a, np.float32) for a in np.meshgrid(across, down))
        return np.asarray(cv2.remap(self.gain, at_x, at_y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE), np.float32)

    def most_ev(self) -> float:
        """By how many stops a place is changed at most."""
        return float(np.abs(np.log2(self.gain.mean(axis=2))).max())


def passing_light(small: list[FloatArray], placements: Sequence[Placement], drifts: Sequence[Drift], reference: int) -> list[PassingLight | None]:
    """What each frame's light differs by from the reference's in places, beside its drift; None where that is nothing.

    `small`, `placements` and `reference` as `measure_drift` takes them, `drifts` as it found them.
    """
    small, placements = reduced(small, placements)
    return [None if k == reference else _between(small[reference], small[k], placements[k], drifts[k]) for k in range(len(small))]


def _between(base: FloatArray, other: FloatArray, placement: Placement, drift: Drift) -> PassingLight | None:
    """The light of one frame against the reference's; of small pictures (h, w, 3)."""
    height, width = base.shape[:2]
    longest = max(height, width)
    mask = placement.lay_maps(unclipped(other), (height, width), repeat_edge=False) * unclipped(base) * placement.covers((0, 0, width, height)).astype(np.float32)
    mask = (mask > 0.99).astype(np.float32)
    far = placement.lay_maps(radius_squared(height, width), (height, width), repeat_edge=False)
    laid = placement.lay_maps(other, (height, width), repeat_edge=False) * np.array(drift.gain, np.float32) * (1 + np.float32(drift.falloff) * far)[..., None]
    weight = soft(mask, COMPARED * longest) + np.float32(1e-6)
    first, second = (np.maximum(soft(p * mask[..., None], COMPARED * longest) / weight[..., None], DARKEST) for p in (base, laid))
    use = mask * (np.minimum(first, second).min(axis=2) > DARKEST)
    found = smooth_part(np.log(first / second), use) if use.sum() > FEWEST else None
    if found is None or np.percentile(np.abs(found.mean(axis=2))[use > 0], 99) < LEAST:
        return None
    found = np.clip(found, -MOST, MOST)
    few = np.s_[::CELL, ::CELL]
    there = use[few] > 0
    cells = max(width // CELL, 2), max(height // CELL, 2)
    return PassingLight(np.exp(cv2.resize(found, cells, interpolation=cv2.INTER_AREA)).astype(np.float32), apart(first[few][there], (second * np.exp(found))[few][there]))
