"""What may be wrong with a weave: places, each with its kind, how bad it is, and the frames it is about."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from ....imaging.colour import FloatArray
from ....imaging.pyramid import Box
from ...gather.detail import POOL

Kind = Literal["halo", "ghost", "soft", "source", "seam", "speck"]
KINDS: dict[Kind, str] = {"halo": "Halo", "ghost": "Ghost", "soft": "Soft", "source": "Wrong source", "seam": "Seam step", "speck": "Speck"}
"""What each kind is called."""
BAD = 0.5
"""Severity from which a result should not be delivered unseen."""


@dataclass(frozen=True)
class Finding:
    """A flaw: the `box` (x, y, w, h) and the outline in pixels of the reference frame, how visible it is (0 to 1), the numbers of the frames it is about,
    those that may mend it first, and what there is to say, in which {0}, {1} stand for these frames; of a seam by how many `stops` the weave is
    brighter on the second frame's side."""

    kind: Kind
    box: Box
    outline: tuple[tuple[float, float], ...]
    severity: float
    frames: tuple[int, ...]
    said: str
    stops: float = 0.0

    def told(self, names: Sequence[str]) -> str:
        """The sentence with frames by their names."""
        return self.said.format(*(names[k] for k in self.frames))


@dataclass(frozen=True, eq=False)
class Examined:
    """A weave and the frames it is made of, as findings are looked for, on the pooled grid of the reference frame.

    `contrasts` (n, 3, h, w) are the roots of the frames' fine energies above noise, `woven` (3, h, w) of the weave's, `reach` (n, h, w) where
    frames are; `small` (h, w, 3) is the weave in root light and `frames` (n, h, w, 3) the frames; `gates` (n, h, w) their label weights. What there
    is of every frame is kept in half precision: there may be a hundred.
    `places` are where they are focused, as pixels of blur at full size, if that is known. `read(k, box)` gives frame k and, for None,
    the weave, at full size (h, w, 3).
    """

    contrasts: NDArray[np.float16]
    woven: FloatArray
    reach: NDArray[np.bool_]
    small: FloatArray
    frames: NDArray[np.float16]
    gates: FloatArray
    places: Sequence[float] | None
    size: tuple[int, int]
    noise: float
    read: Callable[[int | None, Box], FloatArray] = field(repr=False)

    def energy_in(self, patch: Patch, k: int | None, mask: NDArray[np.bool_] | None = None) -> float:
        """Sum of the fine energy of frame k, or of the weave, in a patch or in a `mask` (h, w) of its box."""
        contrast = (self.woven if k is None else self.contrasts[k])[:, patch.part[0], patch.part[1]].astype(np.float32)
        return float(np.square(contrast).sum(axis=0)[patch.mask if mask is None else mask].sum())

    def around(self, part: Box, margin: int) -> Box:
        """A box of the pooled grid as pixels, with a margin, within the picture."""
        x, y, w, h = part
        left, top = max(0, x * POOL - margin), max(0, y * POOL - margin)
        return left, top, min(self.size[0], (x + w) * POOL + margin) - left, min(self.size[1], (y + h) * POOL + margin) - top


@dataclass(frozen=True, eq=False)
class Patch:
    """Cells that hang together: their box on the pooled grid and which of it (h, w) they are."""

    box: Box
    mask: NDArray[np.bool_]

    @property
    def part(self) -> tuple[slice, slice]:
        x, y, w, h = self.box
        return np.s_[y : y + h, x : x + w]

    def outline(self) -> tuple[tuple[float, float], ...]:
        """The largest of its outlines, in pixels of the full size."""
        padded = cv2.copyMakeBorder(self.mask.astype(np.uint8), 2, 2, 2, 2, cv2.BORDER_CONSTANT)
        lines, _ = cv2.findContours(cv2.dilate(padded, np.ones((3, 3), np.uint8)), cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
        line = cv2.approxPolyDP(max(lines, key=cv2.contourArea), 0.8, True)[:, 0]
        return tuple((float((x - 2 + self.box[0] + 0.5) * POOL), float((y - 2 + self.box[1] + 0.5) * POOL)) for x, y in line)


def patches(mask: NDArray[np.bool_], joined: int, least: int) -> Iterator[Patch]:
    """Parts of a mask (h, w) no farther than `joined` cells apart, of at least so many cells."""
    wide = cv2.dilate(mask.astype(np.uint8), cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * joined + 1,) * 2)) if joined else mask.astype(np.uint8)
    count, labels, boxes, _ = cv2.connectedComponentsWithStats(wide, connectivity=8)
    for number in range(1, count):
        x, y, w, h = (int(v) for v in boxes[number, :4])
        inside = (labels[y : y + h, x : x + w] == number) & mask[y : y + h, x : x + w]
        if inside.sum() >= least:
            ys, xs = np.flatnonzero(inside.any(axis=1)), np.flatnonzero(inside.any(axis=0))
            top, left, bottom, right = int(ys[0]), int(xs[0]), int(ys[-1]) + 1, int(xs[-1]) + 1
            yield Patch((x + left, y + top, right - left, bottom - top), inside[top:bottom, left:right])


def ranked(found: Sequence[Finding], most: int = 99) -> list[Finding]:
    """Worst first; of two that lie on each other only the worse stands."""
    stands: list[Finding] = []
    for finding in sorted(found, key=lambda f: -f.severity):
        if len(stands) < most and not any(_mostly_in(finding.box, other.box) for other in stands):
            stands.append(finding)
    return stands


def _mostly_in(one: Box, other: Box) -> bool:
    w = min(one[0] + one[2], other[0] + other[2]) - max(one[0], other[0])
    h = min(one[1] + one[3], other[1] + other[3]) - max(one[1], other[1])
    return w > 0 and h > 0 and w * h > 0.5 * min(one[2] * one[3], other[2] * other[3])
