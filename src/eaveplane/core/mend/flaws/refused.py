"""Halos: veils of near things that were tried and could not be lifted, so that they still lie over what is beyond."""

from __future__ import annotations

from collections.abc import Iterator

import cv2
import numpy as np

from ....imaging.colour import FloatArray
from .finding import Examined, Finding, patches

TRIED = 0.25
"""Part of a cell in which a veil was refused, from which it counts."""
JOINED, SMALLEST = 2, 10
NARROWEST = 4.0
"""Pixels that a veil reaches beyond its thing from which it is seen."""
WORST = 0.45
"""A halo is where joint light left it, and as bad as that: it never alone makes a result doubtful."""
VISIBLE = 0.08
"""Fine contrast of a near thing against which its veil is as visible as can be."""


def halos(seen: Examined, refused: FloatArray) -> Iterator[Finding]:
    """Findings of kind halo; `refused` (h, w), 0 to 1, on the pooled grid, is where veils were tried and left."""
    for patch in patches(refused > TRIED, JOINED, SMALLEST):
        inside = patch.mask
        energy = [seen.energy_in(patch, k) / inside.sum() for k in range(len(seen.contrasts))]
        order = [int(k) for k in np.argsort(energy)[::-1][:2]]
        wide = 2 * max(1.0, float(cv2.distanceTransform(np.pad(inside, 1).astype(np.uint8), cv2.DIST_L2, 3).max()))
        severity = WORST * float(np.clip(np.sqrt(max(energy)) / VISIBLE, 0, 1))
        blur = abs(seen.places[order[0]] - seen.places[order[1]]) if seen.places is not None and len(order) > 1 else wide
        if blur < NARROWEST:
            continue
        yield Finding("halo", seen.around(patch.box, 0), patch.outline(), severity, tuple(order), f"A veil of about {max(1, round(blur))} px beside a near thing could not be lifted.")
