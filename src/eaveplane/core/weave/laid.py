"""Registered frames as weaving reads them, and what is at hand to weave a box of the picture."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.light import root_luma
from ...imaging.placement import Placement
from ...imaging.pyramid import Box
from ...imaging.resample import spread
from ...parameter import Parameters, parameter
from ..gather.detail import POOL
from .bands import strength_of
from .places import Places
from .span import Limits

MARGIN = 48
"""Pixels around a box that can have a part in it: the reach of the bands, of the energy's window and of sums over frames."""
QUIET = 2.0
"""Fine energy in multiples of the noise's below which frames are averaged rather than chosen from."""
TANGLE_OCTAVES = 4
"""Octaves in which fine tangle chooses."""
WayName = Literal["joint-light", "crisp-seams", "fine-tangle", "gentle"]
WAYS: dict[WayName, tuple[str, str]] = {
    "joint-light": ("Joint light", "Sums the light of all frames, so that thin things stay whole and noise falls."),
    "crisp-seams": ("Crisp seams", "Takes every pixel from the sharpest frame there; where things moved, this is safest."),
    "fine-tangle": ("Fine tangle", "Chooses octave by octave: for twigs and grass that cross at all depths."),
    "gentle": ("Gentle", "A mean weighed by sharpness: no seams, a little less crisp."),
}
"""What each way is called, and a line of what it does."""
SEAMS: dict[str, tuple[str, float]] = {"narrow-seams": ("Narrow seams", 1.0), "broad-seams": ("Broad seams", 5.0)}
"""Crisp seams of another width than they have elsewhere, which a region may be given: what they are called, and their octaves."""
REGIONS: dict[str, str] = {**{name: label for name, (label, _) in WAYS.items()}, **{name: label for name, (label, _) in SEAMS.items()}}
"""Everything a region may be woven by, and what it is called."""


class Weaving(Parameters):
    """How the sharp zones are blended."""

    way: WayName = "joint-light"
    detail: float = parameter(2.0, 0.8, 8.0, 0.1, "Detail size", "Size of the window in which frames are compared; larger is calmer, smaller follows thin things.", "px", "Seams")
    decision: float = parameter(4.0, 0.5, 8.0, 0.1, "Decision", "How strictly the sharper of two frames is preferred.", "", "Seams")
    seam: float = parameter(2.0, 1.0, 5.0, 1.0, "Seam softness", "Number of octaves over which frames pass into each other.", "oct.", "Seams")
    quiet: float = parameter(1.0, 0.2, 4.0, 0.1, "Quiet areas", "How firmly areas without detail follow their surroundings.", "×", "Seams")

    def of_region(self, way: str) -> Weaving:
        """How a region is blended that is woven by one of REGIONS."""
        return self.model_copy(update={"way": "crisp-seams", "seam": SEAMS[way][1]} if way in SEAMS else {"way": way})

    @property
    def octaves(self) -> int:
        """Into how many octaves pictures are parted."""
        return TANGLE_OCTAVES if self.way == "fine-tangle" else int(self.seam)


@dataclass(frozen=True, eq=False)
class HandMask:
    """A frame's mask that is not found but made by hand: as much of the frame `everywhere` (0 for hidden, 1 for whole), or what
    `read(level, box)` gives (h, w), 0 to 1."""

    everywhere: float = 0.0
    read: Callable[[int, Box], FloatArray] | None = None

    @property
    def hidden(self) -> bool:
        """Whether nothing of the frame shows before it is painted in."""
        return self.read is None and self.everywhere == 0

    def within(self, level: int, box: Box) -> FloatArray:
        """The mask (h, w) in a box of the picture halved `level` times."""
        return self.read(level, box) if self.read else np.full((box[3], box[2]), self.everywhere, np.float32)


@dataclass(frozen=True, eq=False)
class ByHand:
    """What is decided by hand about which frame shows what: `masks` that are not found, by frame, and the `limits` of the sharp span."""

    masks: Mapping[int, HandMask] = field(default_factory=dict)
    limits: Limits | None = None


@dataclass(frozen=True, eq=False)
class RegisteredFrames:
    """The frames of a scene laid on the reference grid.

    `read(k, level, box)` gives frame k (h, w, 3) in the weaving encoding, evened out, for a box inside the reference grid,
    edges of the frame repeated beyond it;
    `placements` and `size` (w, h) are those of the full size, `noise` the variance that noise has in
    their Laplacians; `by_hand` are the masks of frames that are not found, `places` is where the others are focused, as far as that is known,
    and `limits` are set to those by the sharp span. What lies `beside` the weave, by name, has no part in it and can be drawn from: the second
    of two frames that lie on the same grid.
    """

    names: Sequence[str]
    reference: int
    size: tuple[int, int]
    placements: Sequence[Placement]
    noise: float
    read: Callable[[int, int, Box], FloatArray]
    places: Places | None = None
    by_hand: Mapping[int, HandMask] = field(default_factory=dict)
    limits: Limits | None = None
    beside: Mapping[str, RegisteredFrames] = field(default_factory=dict)

    def drawn_from(self, name: str) -> tuple[RegisteredFrames, int] | None:
        """Where a picture of a name lies that can be drawn from, and which it is there; None where there is none."""
        if name in self.beside:
            return self.beside[name], 1
        return (self, list(self.names).index(name)) if name in self.names else None

    @cached_property
    def found(self) -> list[int]:
        """The frames that are woven by themselves."""
        return [k for k in range(len(self.names)) if k not in self.by_hand]

    @cached_property
    def noisier(self) -> dict[int, float]:
        """How many times the noise of the quieter frames those have that have more, as far as it is known."""
        return {k: times for k, times in zip(self.found, self.places.noisier, strict=True) if times > 1} if self.places else {}

    @cached_property
    def alone(self) -> RegisteredFrames:
        """Only those frames; there must be one. Where the reference is none of them the nearest in order stands for it."""
        if not self.by_hand:
            return self
        found, read = self.found, self.read
        nearest = min(range(len(found)), key=lambda i: abs(found[i] - self.reference))
        return replace(
            self, names=[self.names[k] for k in found], reference=nearest, placements=[self.placements[k] for k in found], read=lambda i, level, box: read(found[i], level, box), by_hand={}
        )

    def covers(self, k: int, level: int, box: Box) -> NDArray[np.bool_]:
        """Where (h, w) frame k reaches in a box of the picture halved `level` times."""
        if self.placements[k].is_reference:
            return np.ones((box[3], box[2]), np.bool_)
        return self.placements[k].at(level).covers(box)

    def size_at(self, level: int) -> tuple[int, int]:
        """Size (w, h) of the picture halved `level` times."""
        return -(-self.size[0] >> level), -(-self.size[1] >> level)


@dataclass(frozen=True, eq=False)
class Piece:
    """What is at hand to weave a `box` of the picture halved `level` times: the frames that may have a part in it in a `wide` box
    around it. `pictures` (h, w, 3) in the weaving encoding, `gates` and `reach` (h, w) by frame, in rising order."""

    laid: RegisteredFrames
    weaving: Weaving
    level: int
    box: Box
    wide: Box
    pictures: dict[int, FloatArray]
    gates: dict[int, FloatArray]
    reach: dict[int, NDArray[np.bool_]]

    @property
    def floor(self) -> float:
        """Fine energy that stands for nothing: noise shrinks by half with every halving, its energy by a quarter."""
        return max(QUIET * self.laid.noise * 0.25**self.level, 1e-7)

    @property
    def window(self) -> float:
        """The window in which frames are compared, at this size."""
        return max(0.6, self.weaving.detail * 0.5**self.level) if self.level else self.weaving.detail

    @property
    def inner(self) -> tuple[slice, slice]:
        """The box in the wide one."""
        x, y = self.box[0] - self.wide[0], self.box[1] - self.wide[1]
        return np.s_[y : y + self.box[3], x : x + self.box[2]]

    @cached_property
    def spare(self) -> dict[int, FloatArray]:
        """How strong (h, w) each frame is by its own fine energy, whatever its gate; 0 where it does not reach."""
        noisier = self.laid.noisier
        return {k: strength_of(root_luma(picture), self.window, self.weaving.decision, self.floor, noisier.get(k, 1.0)) * self.reach[k] for k, picture in self.pictures.items()}


def wide_of(laid: RegisteredFrames, box: Box, level: int, octaves: int) -> Box:
    """The box that is read for a box of the picture, aligned so that octaves fall alike wherever it is cut."""
    unit = 1 << octaves
    x, y, w, h = box
    left, top = (x - MARGIN) // unit * unit, (y - MARGIN) // unit * unit
    right, bottom = -(-(x + w + MARGIN - left) // unit) * unit + left, -(-(y + h + MARGIN - top) // unit) * unit + top
    width, height = laid.size_at(level)
    x0, y0 = max(0, left), max(0, top)
    return x0, y0, min(width, right) - x0, min(height, bottom) - y0


def piece_of(laid: RegisteredFrames, gates: FloatArray, weaving: Weaving, box: Box, level: int, also: Sequence[int] = ()) -> Piece:
    """Read what a box needs: the frames whose `gates` (n, h/4, w/4), of the full size, are open in it, and `also` others."""
    wide = wide_of(laid, box, level, weaving.octaves)
    chosen = (set(active(gates, wide, level)) or {laid.reference}) | set(also) | {k for k, mask in laid.by_hand.items() if not mask.hidden}
    reach = {k: laid.covers(k, level, wide) for k in chosen}
    if not all(inside.all() for inside in reach.values()):
        reach.setdefault(laid.reference, laid.covers(laid.reference, level, wide))
    order = sorted(reach)
    return Piece(laid, weaving, level, box, wide, {k: laid.read(k, level, wide) for k in order}, {k: gate_in(gates[k], wide, level) for k in order}, {k: reach[k] for k in order})


def gate_in(gate: FloatArray, box: Box, level: int) -> FloatArray:
    """A gate of the pooled grid, interpolated in a box of the picture halved `level` times."""
    x, y, w, h = box
    step = 2.0**level / POOL
    offset = ((2.0**level - 1) / 2 - (POOL - 1) / 2) / POOL
    return spread(gate, (step, step), (x * step + offset, y * step + offset), (w, h))


def active(gates: FloatArray, box: Box, level: int) -> list[int]:
    """Frames whose gates (n, h, w) are open somewhere in a box of the picture halved `level` times."""
    x, y, w, h = (round(v * 2.0**level / POOL) for v in box)
    part = gates[:, max(0, y - 2) : max(0, y) + h + 3, max(0, x - 2) : max(0, x) + w + 3]
    return [k for k in range(len(gates)) if part[k].size and part[k].max() > 0]
