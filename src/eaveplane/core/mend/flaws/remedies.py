"""What may put a flaw right: another frame drawn over it, the place woven another way, the spot healed, a frame's tone trimmed; and whether a
flaw has been mended."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ....imaging.brush import draw_line
from ....imaging.pyramid import Box
from ...masks.strokes import Stroke
from .finding import Finding

AROUND = 6
"""Pixels around an outline that are covered, too."""
GRAIN = 160
"""Places along the longer side of a flaw at which it is decided what is covered."""
NARROWEST, WIDEST = 12.0, 160.0
"""Pixels of a brush."""
APART = 0.45
"""Of a brush's width, by which its lines lie apart."""
SOFT = 0.5
SPARED = 2.6
"""Sides of a speck that heal with it: its rim is part of it."""
COVERED = 0.6
"""Part of a flaw under strokes from which it counts as mended."""
OTHER_WAYS = ("joint-light", "crisp-seams", "gentle")
"""Ways of weaving that may do better at a place."""
SPREAD = "broad-seams"
"""That which spreads a step of tone."""
PLACE = 32
"""Pixels within which a flaw is taken for the same one when the weave is made anew."""


@dataclass(frozen=True)
class Remedy:
    """One thing that may be done about a flaw: from which `frame` it draws (its number among those woven), by which `way` the place is woven
    anew, by how many stops the frame is to be made brighter; where there is neither frame nor way it heals."""

    frame: int | None
    strokes: tuple[Stroke, ...] = ()
    stops: float = 0.0
    way: str = ""

    @property
    def heals(self) -> bool:
        return self.frame is None and not self.way


def name_of(finding: Finding) -> str:
    """By what a flaw is known, though the weave be made anew.

    >>> name_of(Finding("soft", (100, 70, 40, 20), (), 0.4, (1,), ""))
    'soft-3-2'
    """
    x, y, w, h = finding.box
    return f"{finding.kind}-{(x + w // 2) // PLACE}-{(y + h // 2) // PLACE}"


def remedies(finding: Finding, ids: Sequence[str], reference: int, ways: Sequence[str] = ()) -> list[Remedy]:
    """What may be tried; `ids` name the frames that are woven, `reference` is one of them, `ways` are those of weaving by which the place is
    not woven. A remedy that heals still lacks its source."""
    if finding.kind == "seam":
        a, b = finding.frames
        # the second is out of tune with the others; of two frames nobody knows which is, and the reference is to be trusted
        trims = [Remedy(b, stops=round(-finding.stops, 2)), Remedy(a, stops=round(finding.stops, 2))]
        trims = trims if len(ids) > 2 else [remedy for remedy in trims if remedy.frame != reference]
        return [*trims, Remedy(None, _woven(strokes_over(finding.outline, ""), SPREAD), way=SPREAD)]
    if finding.kind == "speck":
        x, y, w, h = finding.box
        lead = finding.frames[0]
        heal = Stroke(action="heal", width=max(NARROWEST, SPARED * max(w, h) / 2), softness=SOFT, opacity=1, points=[(x + w / 2, y + h / 2)])
        others = [k for k in (lead - 1, lead + 1) if 0 <= k < len(ids)]
        return [Remedy(None, (heal,)), *(Remedy(k, (heal.model_copy(update={"action": "draw", "frame": ids[k], "fitted": True}),)) for k in others)]
    drawn = [Remedy(k, tuple(strokes_over(finding.outline, ids[k]))) for k in finding.frames]
    return [*drawn, *(Remedy(None, _woven(drawn[0].strokes, way), way=way) for way in (ways if drawn else ()))]


def _woven(strokes: Sequence[Stroke], way: str) -> tuple[Stroke, ...]:
    """Strokes that weave by another way what these draw over."""
    return tuple(stroke.model_copy(update={"action": "way", "frame": "", "fitted": False, "way": way}) for stroke in strokes)


def strokes_over(outline: Sequence[tuple[float, float]], frame: str) -> list[Stroke]:
    """Strokes that lay a frame over all that an outline holds, its tone fitted to what lies around."""
    points = np.array(outline, np.float32)
    left, top = points.min(axis=0) - AROUND - 1
    right, bottom = points.max(axis=0) + AROUND + 1
    step = max(1.0, float(max(right - left, bottom - top)) / GRAIN)
    mask = np.zeros((int(np.ceil((bottom - top) / step)) + 1, int(np.ceil((right - left) / step)) + 1), np.uint8)
    cv2.fillPoly(mask, [np.round((points - (left, top)) / step).astype(np.int32)], 1)
    grown = 2 * max(1, round(AROUND / step)) + 1
    mask = np.asarray(cv2.dilate(mask, cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (grown, grown))), np.uint8)
    depth = float(cv2.distanceTransform(cv2.copyMakeBorder(mask, 1, 1, 1, 1, cv2.BORDER_CONSTANT), cv2.DIST_L2, 3).max()) * step
    width = float(np.clip(1.6 * depth, NARROWEST, WIDEST))
    inset = 0.25 * width / step
    chains: list[list[tuple[float, float]]] = []
    open_chains: list[list[tuple[float, float]]] = []
    top_row, last_row = min(inset, mask.shape[0] / 2), max(mask.shape[0] - 1 - inset, mask.shape[0] / 2)
    for row in np.linspace(top_row, last_row, int(np.ceil((last_row - top_row) / (APART * width / step))) + 1):
        still = []
        for first, last in _runs(mask[int(row)]):
            inside = min(inset, (last - first) / 2)
            ends = [(first + inside, float(row)), (last - inside, float(row))]
            before = next((c for c in open_chains if first <= c[-1][0] <= last), None)
            if before is None:
                chains.append(ends)
                still.append(ends)
                continue
            # there and back, so that a brush is set down once
            open_chains.remove(before)
            before += ends if abs(before[-1][0] - ends[0][0]) <= abs(before[-1][0] - ends[1][0]) else ends[::-1]
            still.append(before)
        open_chains = still
    lines = [[(float(left + x * step), float(top + y * step)) for x, y in chain] for chain in chains]
    return [Stroke(action="draw", frame=frame, width=width, softness=SOFT, opacity=1, points=line, fitted=True) for line in lines]


def _runs(row: NDArray[np.uint8]) -> list[tuple[int, int]]:
    edges = np.flatnonzero(np.diff(np.concatenate([[0], row, [0]]).astype(np.int8)))
    return [(int(a), int(b) - 1) for a, b in zip(edges[::2], edges[1::2], strict=True)]


def is_mended(finding: Finding, strokes: Sequence[Stroke]) -> bool:
    """Whether a hand has covered most of a flaw, in masks or over the weave."""
    cover, inside = covered_by(finding, strokes), inside_of(finding)
    return bool(inside.any()) and float(cover[inside].mean()) > COVERED


def covered_by(finding: Finding, strokes: Sequence[Stroke]) -> NDArray[np.float32]:
    """How far (h, w), 0 to 1, strokes cover the box of a flaw, a quarter of its size."""
    x, y, w, h = (v // 4 for v in finding.box)
    box: Box = (x, y, w + 1, h + 1)
    cover = np.zeros((h + 1, w + 1), np.float32)
    for stroke in strokes:
        # a way that is taken back leaves the place as it was
        drawn = draw_line(stroke, box, 2) if stroke.action != "way" or stroke.way else None
        if drawn is not None:
            cover = np.maximum(cover, drawn)
    return cover


def inside_of(finding: Finding) -> NDArray[np.bool_]:
    """What of its box (h, w) a flaw's outline holds, a quarter of its size."""
    x, y, w, h = (v // 4 for v in finding.box)
    mask = np.zeros((h + 1, w + 1), np.uint8)
    cv2.fillPoly(mask, [np.round(np.array(finding.outline) / 4 - (x, y)).astype(np.int32)], 1)
    return mask > 0
