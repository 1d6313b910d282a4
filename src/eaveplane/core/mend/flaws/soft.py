"""Places that some frame shows sharper than the weave does: soft ones, and bright or plain ones given by a blurred frame."""

from __future__ import annotations

from collections.abc import Iterator

import cv2
import numpy as np

from ....imaging.colour import FloatArray
from ....imaging.light import root_luma
from .finding import Examined, Finding, Patch, patches

WINDOW = 5
"""Cells over which fine energy is compared."""
LOST, LEAST = 0.6, 0.008
"""A place is soft where the weave has less than this part of a frame's contrast, and that contrast exceeds it by so much root light."""
JOINED, SMALLEST = 3, 30
"""Cells by which parts of one flaw may be apart, and of which it has at least so many."""
BLURS = (0.6, 0.9, 1.3, 1.8, 2.5, 3.5, 5.0)
"""Pixels (sigma) by which the sharper frame is blurred to look like the weave."""
ALIKE = 0.35
"""What blur must leave of the difference: else the frame shows something else rather than the same thing sharper."""
LOOKED = 96
"""Cells each way that are looked at in full size at most."""
VISIBLE = 0.05
"""Contrast, in root light, whose loss is as bad as can be."""
BRIGHT = 0.8
"""Root light from which a place is a reflection or a light."""


def soft_places(seen: Examined) -> Iterator[Finding]:
    """Findings of kind soft or source, each with the frame that is sharpest there first."""
    best = np.stack([np.max([_around(frame[band]) * inside for frame, inside in zip(seen.contrasts, seen.reach, strict=True)], axis=0) for band in range(len(seen.woven))])
    woven = np.stack([_around(band) for band in seen.woven])
    gap = best - woven
    lost = (gap > LEAST) & (woven < LOST * best)
    for patch in patches(lost.any(axis=0), JOINED, SMALLEST):
        inside = patch.mask
        by_frame = [seen.energy_in(patch, k) for k in range(len(seen.contrasts))]
        order = np.argsort(by_frame)[::-1]
        sharpest = int(order[0])
        told = gap[:, patch.part[0], patch.part[1]].max(axis=0)
        if not _same_but_softer(seen, _worst_of(patch, told), sharpest):
            continue
        told = told[inside]
        severity = float(np.clip(np.percentile(told, 75) / VISIBLE, 0, 1)) * _size_of(patch)
        bright = float(np.median(root_luma(seen.frames[sharpest].astype(np.float32))[patch.part][inside])) > BRIGHT
        said = "A bright place is given by a blurred frame; frame {0} shows it sharp." if bright else "Frame {0} is sharper here."
        others = tuple(int(k) for k in order[:2] if by_frame[k] > 0.5 * by_frame[sharpest])
        yield Finding("source" if bright else "soft", seen.around(patch.box, 0), patch.outline(), severity, others, said)


def _around(contrast: np.ndarray) -> FloatArray:
    # running sums leave a little less than nothing where there is nothing
    return np.asarray(np.sqrt(np.maximum(cv2.blur(np.square(contrast.astype(np.float32)), (WINDOW, WINDOW)), 0)), np.float32)


def _size_of(patch: Patch) -> float:
    """How much a place's size adds to how visible it is, 0.5 to 1: some hundred cells are seen at once."""
    return float(np.clip(0.5 + 0.25 * np.log10(max(1, patch.mask.sum()) / SMALLEST), 0.5, 1))


def _worst_of(patch: Patch, told: FloatArray) -> Patch:
    """A piece of a patch, of at most LOOKED cells each way, around where most is lost: that tells of all of it."""
    x, y, w, h = patch.box
    row, column = np.unravel_index(int((told * patch.mask).argmax()), patch.mask.shape)
    left, top = (min(max(0, int(at) - LOOKED // 2), max(0, side - LOOKED)) for at, side in ((column, w), (row, h)))
    mask = patch.mask[top : top + LOOKED, left : left + LOOKED]
    return Patch((x + left, y + top, mask.shape[1], mask.shape[0]), mask)


def _same_but_softer(seen: Examined, patch: Patch, frame: int) -> bool:
    """Whether the weave is the frame, blurred, there."""
    box = seen.around(patch.box, 12)
    sharp, woven = (root_luma(seen.read(k, box)) for k in (frame, None))
    mask = cv2.resize(cv2.copyMakeBorder(patch.mask.astype(np.uint8), 1, 1, 1, 1, cv2.BORDER_CONSTANT), (box[2], box[3]), interpolation=cv2.INTER_NEAREST) > 0
    if not mask.any():
        return False
    # tone may differ a little between frames: that is no matter of sharpness
    sharp, woven = (picture - cv2.GaussianBlur(picture, (0, 0), 12) for picture in (sharp, woven))
    before = _rest(sharp, woven, mask, seen.noise)
    return bool(before > 0 and min(_rest(cv2.GaussianBlur(sharp, (0, 0), blur), woven, mask, 0.5 * seen.noise) for blur in BLURS) < ALIKE * before)


def _rest(one: FloatArray, other: FloatArray, mask: FloatArray, noise: float) -> float:
    return max(float(np.square(one - other)[mask].mean()) - noise, 0.0)
