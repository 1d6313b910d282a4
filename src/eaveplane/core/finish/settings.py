"""How a picture is finished, as data. Everything at zero is no change at all."""

from __future__ import annotations

from typing import Annotated, Literal, get_args

from pydantic import Field

from ...imaging.brush import Coordinate
from ...imaging.placement import Carry, around, carried
from ...imaging.pyramid import Box
from ...parameter import Parameters, parameter
from ..masks.parts import BrushedLine

Ratio = Annotated[str, Field(pattern=r"^(frame|free|[1-9]\d{0,3}:[1-9]\d{0,3})$")]
"""As the frame, free, or width to height in whole numbers."""
Kind = Literal["lighter", "darker", "richer", "warmer", "glow"]
PartName = Literal["noise", "air", "light", "glow", "detail", "vignette", "sharpen", "grain"]
PARTS: tuple[PartName, ...] = get_args(PartName)
Guides = Literal["none", "thirds", "golden", "diagonals", "centre", "triangles"]
Upright = tuple[Coordinate, Coordinate, Coordinate, Coordinate]
"""A line (x0, y0, x1, y1) in the picture along something that is upright, in pixels of the reference frame."""
IN_AIR = "Air"


class Crop(Parameters):
    """A box in the canvas, as fractions of its width and height."""

    x: float = Field(0.0, ge=0, le=1)
    y: float = Field(0.0, ge=0, le=1)
    w: float = Field(1.0, gt=0, le=1)
    h: float = Field(1.0, gt=0, le=1)

    def moved(self, carry: Carry, before: Box, after: Box) -> Crop:
        """The same box on a picture into which `carry` leads; `before` and `after` are the canvases (x, y, w, h) of either."""
        if self == Crop():
            return self
        x, y = before[0] + (self.x + self.w / 2) * before[2], before[1] + (self.y + self.h / 2) * before[3]
        (cx, cy), (scale, _) = carried([(x, y)], carry)[0], around((x, y), carry)
        w, h = min(self.w * before[2] * scale / after[2], 1.0), min(self.h * before[3] * scale / after[3], 1.0)
        left, top = (min(max((c - at) / length - part / 2, 0.0), 1 - part) for c, at, length, part in ((cx, after[0], after[2], w), (cy, after[1], after[3], h)))
        return Crop(x=left, y=top, w=w, h=h)


class NoiseLeft(Parameters):
    """What is done about the noise that the weave has left."""

    strength: float = parameter(0, 0, 100, 5, "Brightness", "Takes away the grain that each place of the weave has, as much as was measured there.", "%", "Noise")
    colour: float = parameter(0, 0, 100, 5, "Colour", "Takes away blotches of colour in the same way.", "%", "Noise")
    mixed: float = parameter(0, 0, 100, 5, "Mix back", "How much of the picture as it was is laid over it again.", "%", "Noise")


class AirAt(Parameters):
    """What the air does at one place from near to far."""

    contrast: float = parameter(0, -100, 100, 1, "Contrast", "Less makes it paler, more brings it nearer.", "%", IN_AIR)
    darks: float = parameter(0, -100, 100, 1, "Darks", "Raises or deepens dark tones.", "%", IN_AIR)
    warmth: float = parameter(0, -100, 100, 1, "Temperature", "Cooler or warmer.", "", IN_AIR)
    saturation: float = parameter(0, -100, 100, 1, "Colour", "Strength of colours.", "%", IN_AIR)
    haze: float = parameter(0, -100, 100, 1, "Haze", "Lays the light of the distance over it; below zero it is cleared.", "%", IN_AIR)


class Air(Parameters):
    """Air between near and far: its three handles, of which the middle one stands `at` a place from 0 (near) to 1."""

    near: AirAt = AirAt()
    middle: AirAt = AirAt()
    far: AirAt = AirAt()
    at: float = parameter(0.5, 0.05, 0.95, 0.01, "Middle stands at", "Where from near to far the middle handle stands.", "", "Air")


class PaintedMap(Parameters):
    """Light painted with a brush, in pixels of the reference frame: what it does, how strongly, and to what it is bound.

    `low` and `high` are encoded brightness of the picture as it is seen, `near` and `far` places from 0 (the nearest frame) to 1."""

    name: str = Field("", max_length=60)
    kind: Kind = "lighter"
    on: bool = True
    strength: float = parameter(50, 0, 100, 1, "Strength", "Paint strongly, then turn it down. 100 is one step of exposure, double or no colour, or 100 mired.", "%", "Map")
    feather: float = parameter(0, 0, 300, 1, "Feather", "Softens all of it, in pixels of the full size.", "px", "Map")
    low: float = parameter(0, 0, 1, 0.01, "From tone", "Darker tones than this are left.", "", "Bound to")
    high: float = parameter(1, 0, 1, 0.01, "To tone", "Brighter tones than this are left.", "", "Bound to")
    near: float = parameter(0, 0, 1, 0.01, "From near", "What is nearer than this is left; 0 is the nearest frame, 1 the farthest.", "", "Bound to")
    far: float = parameter(1, 0, 1, 0.01, "To far", "What is farther than this is left; 0 is the nearest frame, 1 the farthest.", "", "Bound to")
    soft: float = parameter(0.12, 0.02, 0.5, 0.01, "Softness", "How softly those bounds end.", "", "Bound to")
    lines: list[BrushedLine] = Field(default_factory=list, max_length=500)

    def moved(self, carry: Carry, middle: tuple[float, float]) -> PaintedMap:
        """The same map on a picture into which `carry` leads; `middle` of the picture, where its feather is measured."""
        feather = min(self.feather * around(middle, carry)[0], 300.0)
        return self.model_copy(update={"lines": [line.moved(carry) for line in self.lines], "feather": feather})

    @property
    def by_depth(self) -> bool:
        """Whether it is bound to a part of near to far."""
        return self.near > 0 or self.far < 1

    @property
    def acts(self) -> bool:
        """Whether it does anything."""
        return self.on and self.strength > 0 and any(not line.erase for line in self.lines)


class Glow(Parameters):
    """Soft light around what is bright."""

    strength: float = parameter(0, 0, 100, 1, "Glow", "Share of the bright light that is spread around.", "%", "Glow")
    radius: float = parameter(1.5, 0.3, 8, 0.1, "Radius", "How far it spreads, as a part of the long side.", "%", "Glow")
    above: float = parameter(55, 0, 95, 1, "From tone", "Only tones brighter than this glow.", "%", "Glow")
    tint: float = parameter(0, 0, 100, 1, "Tint", "How strongly the glow is coloured.", "%", "Glow")
    hue: float = parameter(70, 0, 359, 1, "Hue", "The colour of its tint, on the ring.", "°", "Glow")


class FineDetail(Parameters):
    """Presence of fine structure."""

    strength: float = parameter(0, -100, 100, 1, "Fine detail", "Presence of fine structure, without rims at edges. See it strong, then turn it down.", "%", "Fine detail")
    size: float = parameter(5, 2, 20, 1, "Size", "Size of the structure, in pixels of the full size.", "px", "Fine detail")


class Vignette(Parameters):
    """Towards the rim of the crop."""

    strength: float = parameter(0, -100, 100, 1, "Vignette", "Darker towards the corners below zero, lighter above; 100 is two steps of exposure.", "%", "Vignette")
    middle: float = parameter(40, 0, 95, 1, "Middle", "How far from the middle it begins, as a part of the way to the corners.", "%", "Vignette")
    roundness: float = parameter(0, -100, 100, 1, "Roundness", "0 has the shape of the crop; 100 is a circle, -100 follows its sides.", "%", "Vignette")
    feather: float = parameter(100, 5, 100, 1, "Feather", "Over how much of the rest of the way it grows.", "%", "Vignette")
    keep: float = parameter(0, 0, 100, 1, "Keep lights", "Spares what is bright.", "%", "Vignette")


class Grain(Parameters):
    """Even grain, for large prints."""

    strength: float = parameter(0, 0, 100, 1, "Grain", "How strong it is seen in middle tones.", "%", "Grain")
    size: float = parameter(0.15, 0.02, 1, 0.01, "Size in print", "Width of a grain on the paper.", "mm", "Grain")


class Finish(Parameters):
    """How the picture is finished. `off` names the parts that are switched off for the moment; two `uprights` that run together are made parallel."""

    noise: NoiseLeft = NoiseLeft()
    air: Air = Air()
    light: list[PaintedMap] = Field(default_factory=list, max_length=24)
    glow: Glow = Glow()
    detail: FineDetail = FineDetail()
    vignette: Vignette = Vignette()
    straighten: float = parameter(0, -15, 15, 0.1, "Straighten", "Turns the picture; its corners are cut so that nothing is invented.", "°", "Crop")
    uprights: list[Upright] = Field(default_factory=list, max_length=2)
    ratio: Ratio = "frame"
    guides: Guides = "thirds"
    crop: Crop = Crop()
    sharpen_for: Literal["hand", "screen", "paper"] = "hand"
    paper: float = parameter(60, 5, 300, 1, "Long side", "Of the picture on paper.", "cm", "Paper")
    seen_from: float = parameter(60, 10, 500, 5, "Seen from", "The distance from which it is looked at.", "cm", "Paper")
    sharpen: float = parameter(0, 0, 200, 5, "Sharpening", "For the output size, after everything else.", "%", "Sharpen for output")
    radius: float = parameter(0.8, 0.3, 3, 0.1, "Radius", "Width of the edges that are sharpened, in pixels of the output.", "px", "Sharpen for output")
    spare: float = parameter(20, 0, 100, 5, "Spare quiet areas", "Keeps noise in skies and other plain areas from being sharpened.", "%", "Sharpen for output")
    grain: Grain = Grain()
    off: list[PartName] = Field(default_factory=list, max_length=20)

    def without(self, *parts: str) -> Finish:
        """The same with some parts at nothing; `all` is all of them but the geometry."""
        start = Finish()
        names = {*PARTS} if "all" in parts else {*parts}
        return self.model_copy(update={name: getattr(start, name) for name in names})

    def lined(self, other: Finish) -> Finish:
        """The same with the lines of another's maps, where it was told without them."""
        lines = [m.lines for m in other.light]
        return self.model_copy(update={"light": [m if m.lines or k >= len(lines) else m.model_copy(update={"lines": lines[k]}) for k, m in enumerate(self.light)]})

    def in_use(self) -> list[str]:
        """The parts that are not as they begin; `crop` stands for all of the geometry."""
        start = Finish()
        cut = any(getattr(self, name) != getattr(start, name) for name in ("straighten", "crop", "ratio", "uprights"))
        return [part for part in PARTS if self.without(part) != self] + (["crop"] if cut else [])

    def shown(self) -> Finish:
        """What is done of it: without the parts that are switched off."""
        return self.without(*self.off) if self.off else self

    def moved(self, carry: Carry, before: Box, after: Box) -> Finish:
        """The same on a picture into which `carry` leads; `before` and `after` are the canvases of either."""
        middle = (before[0] + before[2] / 2, before[1] + before[3] / 2)
        uprights = [(*a, *b) for a, b in (carried([line[:2], line[2:]], carry) for line in self.uprights)]
        return self.model_copy(update={"crop": self.crop.moved(carry, before, after), "light": [map_.moved(carry, middle) for map_ in self.light], "uprights": uprights})
