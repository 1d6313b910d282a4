"""How far a fit can be trusted, in numbers and in plain words."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

FEWEST_TILES = 8
MOST_ERROR = 1.5
"""Remaining error, in pixels of the frame, above which a fit is to be looked at."""
LOOSE_ERROR = 0.7
"""The same for a frame to which no chain of features leads."""
LEAST_AGREEING = 0.25
"""Part of the textured tiles that agree, below which a frame without a chain of features is not taken for the same scene."""
Verdict = Literal["good", "look at it", "cannot be trusted"]


@dataclass(frozen=True)
class Trust:
    """What tells how well a frame lies: the error that remains over all of it and where it is the sharper one (pixels of the frame, None
    where it cannot be told), the part of it that was used to judge that (0..1), the verdict, and a sentence where it is not good."""

    residual: float | None
    own: float | None
    judged: float
    verdict: Verdict = "good"
    said: str | None = None


REFERENCE = Trust(0.0, 0.0, 1.0)


def trust(residual: float, own: float, judged: float, tiles: int, textured: int, linked: bool) -> Trust:
    """The verdict on a fit. `tiles` agree of the `textured` ones; `linked` where features of neighbours lead to the reference; errors may be nan."""

    def told(verdict: Verdict, said: str | None = None) -> Trust:
        return Trust(residual if math.isfinite(residual) else None, own if math.isfinite(own) else None, judged, verdict, said)

    if textured < FEWEST_TILES:
        return told("cannot be trusted", "Too few structures in this frame: where it lies is a guess.")
    if tiles < FEWEST_TILES or (tiles < LEAST_AGREEING * textured and not linked):
        return told("cannot be trusted", "Another composition, or moved as a whole: too little in this frame matches its neighbours.")
    if not math.isfinite(residual) or residual > MOST_ERROR:
        return told("look at it", f"Something moved, or it lies wrong: it is still {residual:.1f} px off on average. Look at its edges.")
    if not linked and residual > LOOSE_ERROR:
        return told("look at it", "No features led from this frame to the reference. Look at its edges.")
    return told("good")
