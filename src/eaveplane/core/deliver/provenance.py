"""Where each pixel of a picture comes from: from which frame, and what was lifted, painted, drawn or healed there.

It is read off what the weave and the hand did, never guessed from the picture.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.pyramid import Box
from ..finish.geometry import to_output
from ..finish.maps import coverage_of
from ..finish.settings import Finish
from ..masks.parts import Site
from ..masks.strokes import Stroke
from ..weave.edges import cover_of
from ..weave.laid import RegisteredFrames, Weaving
from ..weave.weave import masks_in

Origins = NDArray[np.uint16]
"""Codes (h, w): the number of the frame that gave most, near to far from 1, in the low byte, and flags above it."""
FRAME = 0x00FF
LIFTED, PAINTED, DRAWN, HEALED, LIGHT, SEVERAL = 0x0100, 0x0200, 0x0400, 0x0800, 0x1000, 0x2000
SEEN = 0.05
"""Coverage from which a stroke or a lifted veil counts as having been there."""
ALONE = 0.75
"""Share of the strongest frame below which a pixel is the light of several."""
TOLD = {
    LIFTED: "a veil was lifted: computed from several frames",
    PAINTED: "a mask was painted or a way of weaving chosen by hand",
    DRAWN: "a frame was drawn over the weave by hand",
    HEALED: "healed: pixels of another place of the picture",
    LIGHT: "light was painted by hand",
    SEVERAL: "woven of the light of several frames, none of which gave three quarters",
}
ACTIONS = {"in": PAINTED, "out": PAINTED, "way": PAINTED, "draw": DRAWN, "heal": HEALED}


def origins_in(laid: RegisteredFrames, gates: FloatArray, weaving: Weaving, strokes: Sequence[Stroke], lifted: Callable[[Box], FloatArray] | None, box: Box) -> Origins:
    """Codes for a box of the full size, without painted light; `lifted` reads how far veils were lifted, 0 to 1."""
    masks, numbers_of = masks_in(laid, gates, weaving, strokes, box, 0), {name: k for k, name in enumerate([*laid.names, *laid.beside], 1)}
    numbers = np.array(list(masks), np.uint16) + 1
    stack = np.stack(list(masks.values()))
    codes = numbers[np.argmax(stack, axis=0)]
    codes |= np.where(stack.max(axis=0) < ALONE, np.uint16(SEVERAL), np.uint16(0))
    if lifted is not None:
        codes |= np.where(lifted(box) > SEEN, np.uint16(LIFTED), np.uint16(0))
    for stroke in strokes:
        cover = cover_of(stroke, laid, box, 0)
        if cover is not None:
            codes |= np.where(cover > SEEN, np.uint16(ACTIONS[stroke.action]), np.uint16(0))
            if stroke.action == "draw" and stroke.frame in numbers_of:
                number = np.uint16(numbers_of[stroke.frame])
                codes = np.where(cover > 0.5, (codes & ~np.uint16(FRAME)) | number, codes)
    return np.asarray(codes, np.uint16)


def mark_light(codes: Origins, finish: Finish, size: tuple[int, int], light: FloatArray, order: FloatArray | None) -> None:
    """Mark where painted light lies on a whole picture (h, w) of a size (w, h), in place; `light` (h, w, 3) is as it is seen."""
    site = Site(size, 0, (0, 0, *size))
    for map_ in finish.light:
        if map_.acts:
            codes |= np.where(coverage_of(map_, site, light, order) * map_.strength / 100 > SEEN, np.uint16(LIGHT), np.uint16(0))


def brought_to(codes: Origins, finish: Finish, canvas: Box, size: tuple[int, int]) -> Origins:
    """Codes (h, w) of the reference frame's grid as they lie in an output of a size (w, h), each pixel that of the nearest place."""
    return np.asarray(cv2.warpPerspective(codes, to_output(finish, canvas, size), size, flags=cv2.INTER_NEAREST, borderMode=cv2.BORDER_REPLICATE), np.uint16)


class Provenance(NamedTuple):
    """Shares of a picture, which add up to 1: of each frame by its number, as it is; lifted, painted, drawn and healed. Beside them the shares that
    lie under painted light, and that several frames gave."""

    frames: dict[int, float]
    lifted: float
    painted: float
    drawn: float
    healed: float
    light: float
    several: float

    def told(self) -> str:
        """In one sentence.

        >>> Provenance({1: 0.5, 3: 0.41}, 0.06, 0.0, 0.028, 0.002, 0.1, 0.2).told()
        '91 % from 2 frames as they are (20 % the light of several), 6 % lifted, 2.8 % drawn by hand, 0.2 % healed; light painted on 10 %'
        """

        def percent(share: float) -> str:
            return f"{100 * share:.0f} %" if share >= 0.0995 else f"{100 * share:.1f}".removesuffix(".0") + " %"

        whole = sum(self.frames.values())
        count = len([s for s in self.frames.values() if s > 0])
        parts = [f"{percent(whole)} from {count} frame{'s' if count != 1 else ''} as they are" + (f" ({percent(self.several)} the light of several)" if self.several else "")]
        for share, word in ((self.lifted, "lifted"), (self.painted, "with masks painted by hand"), (self.drawn, "drawn by hand"), (self.healed, "healed")):
            if share:
                parts.append(f"{percent(share)} {word}")
        return ", ".join(parts) + (f"; light painted on {percent(self.light)}" if self.light else "")


def shares_in(codes: Origins) -> Provenance:
    """The shares in codes (h, w). What was healed counts as that, whatever else was done there; then what was drawn, painted, lifted.

    >>> shares_in(np.array([[1, 2, 2 | LIFTED, 1 | HEALED | DRAWN]], np.uint16))[:5]
    ({1: 0.25, 2: 0.25}, 0.25, 0.0, 0.0, 0.25)
    """
    counts = np.bincount(codes.ravel(), minlength=1)
    frames: dict[int, float] = {}
    sums = dict.fromkeys((LIFTED, PAINTED, DRAWN, HEALED, LIGHT, SEVERAL), 0.0)
    for code in np.flatnonzero(counts):
        share = float(counts[code]) / codes.size
        kind = next((flag for flag in (HEALED, DRAWN, PAINTED, LIFTED) if code & flag), None)
        if kind is None:
            frames[int(code) & FRAME] = frames.get(int(code) & FRAME, 0.0) + share
        else:
            sums[kind] += share
        for flag in (LIGHT, SEVERAL):
            if code & flag:
                sums[flag] += share
    return Provenance(frames, sums[LIFTED], sums[PAINTED], sums[DRAWN], sums[HEALED], sums[LIGHT], sums[SEVERAL])


def legend(names: Sequence[str]) -> dict[str, object]:
    """What codes mean, for frames of these names from near to far."""
    return {
        "low byte": {str(k): name for k, name in enumerate(names, 1)},
        "flags": {f"0x{flag:04x}": text for flag, text in TOLD.items()},
        "coverage from which a flag is set": SEEN,
    }
