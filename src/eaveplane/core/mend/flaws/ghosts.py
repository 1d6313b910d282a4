"""Ghosts: things that stand elsewhere in some frame and twice, cut off or half there in the weave."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise

import cv2
import numpy as np
from numpy.typing import NDArray

from ....imaging.colour import FloatArray
from ....imaging.light import root_luma
from ....imaging.soft import soft
from ...gather.detail import POOL
from .finding import Examined, Finding, patches

CALM = 3.0
"""Cells (sigma) around which tone is taken away before frames are compared."""
BLUR = 0.7
"""Neighbours are blurred by this part of the step between their foci, so that defocus does not look like a move."""
SHIFT = 0.35
"""Cells by which a thing must have moved."""
EXPLAINED, DIFFERENT, FAINT = 0.35, 0.15, 0.008
"""A move stands where it leaves less than this part of the difference of two frames, where that is more than this part of what they show, and more
than so much root light."""
LEAST_SIDE = 16
"""Cells of the shorter side below which moves cannot be searched for."""
MANY = 600_000
"""Cells from which moves are searched for at half the size, and are told finely enough."""
WINDOW = 1.5
"""Cells (sigma) over which that is judged, and over which the weave is compared with frames."""
APART = 0.02
"""Root light by which the weave must differ from every single frame where things moved."""
AROUND, SHARP = 0.82, 0.8
"""Around a ghost the weave is some frame's: it differs from it by less than this part of what it does there, and the frame has this part of its
fine energy."""
JOINED, SMALLEST = 3, 12
VISIBLE = 0.08
"""Difference that is as bad as can be."""


def ghosts(seen: Examined) -> Iterator[Finding]:
    """Findings of kind ghost, each with the frames that come nearest to what the weave shows around it."""
    luma = np.stack([root_luma(frame.astype(np.float32)) for frame in seen.frames])
    if len(luma) < 2 or seen.places is None or min(luma.shape[1:]) < LEAST_SIDE:
        return
    moved = _moved(luma, seen)
    woven = root_luma(seen.small)
    apart = np.stack([soft(np.square(woven - frame), WINDOW) for frame in luma])
    apart[~seen.reach] = 1
    least = np.sqrt(apart.min(axis=0))
    for patch in patches(moved & (least > APART), JOINED, SMALLEST):
        told = float(np.percentile(least[patch.part][patch.mask], 75))
        ring = cv2.dilate(patch.mask.astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
        order = np.argsort([float(frame[patch.part][ring].mean()) for frame in apart])
        near = int(order[0])
        around, strong = np.sqrt(float(apart[near][patch.part][ring].mean())), [seen.energy_in(patch, k, ring) for k in (near, None)]
        if around > AROUND * told or strong[0] < SHARP * strong[1]:
            # the light of several frames in which nothing is sharp alone, rather than one moment cut off
            continue
        said = "Something moved between frames and is not as any of them shows it; frame {0} is nearest."
        yield Finding("ghost", seen.around(patch.box, 0), patch.outline(), float(np.clip(told / VISIBLE, 0, 1)), tuple(int(k) for k in order[:2]), said)


def _moved(luma: FloatArray, seen: Examined) -> NDArray[np.bool_]:
    """Where (h, w) things are elsewhere in one of two frames that are neighbours in focus (dense inverse search, Kroeger 2016)."""
    assert seen.places is not None
    order = np.argsort(seen.places)
    height, width = luma.shape[1:]
    out = np.zeros((height, width), np.bool_)
    search = cv2.DISOpticalFlow.create(cv2.DISOPTICAL_FLOW_PRESET_MEDIUM)
    search.setVariationalRefinementIterations(0)
    search.setFinestScale(0 if height * width < MANY else 1)
    down, across = np.mgrid[:height, :width].astype(np.float32)
    for a, b in pairwise(order):
        blur = max(0.6, BLUR * abs(seen.places[a] - seen.places[b]) / POOL)
        one, other = (soft(luma[k], blur) for k in (a, b))
        one, other = one - soft(one, CALM), other - soft(other, CALM)
        scale = 50 / max(float(one.std()), 1e-3)
        first, second = (np.clip(128 + picture * scale, 0, 255).astype(np.uint8) for picture in (one, other))
        flow = search.calc(first, second, np.zeros((height, width, 2), np.float32))
        back = cv2.remap(other, across + flow[..., 0], down + flow[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        before, after, energy = (soft(e, WINDOW) for e in (np.square(one - other), np.square(one - back), np.square(one) + np.square(other)))
        out |= (after < EXPLAINED * before) & (before > DIFFERENT * energy) & (before > FAINT**2) & (soft(np.hypot(flow[..., 0], flow[..., 1]), 1) > SHIFT) & seen.reach[a] & seen.reach[b]
    return cv2.dilate(out.astype(np.uint8), np.ones((3, 3), np.uint8)) > 0
