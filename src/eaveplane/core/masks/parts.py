"""What masks are made of: shapes, painted lines, ranges of tone, hue and distance, in pixels of the reference frame.

Areas, weaving, mending and finishing share them. Each part is added to, taken from or cut with what stands before it.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Annotated, Literal, Self

import cv2
import numpy as np
from numba import njit
from pydantic import Field

from ...imaging.brush import BrushLine, draw_line
from ...imaging.colour import LUMA, FloatArray, encode_srgb
from ...imaging.oklab import oklab
from ...imaging.placement import Carry, around, carried
from ...imaging.pyramid import Box, Size
from ...imaging.resample import spread
from ...parameter import Parameters, parameter

Coordinate = Annotated[float, Field(ge=-1e6, le=1e6, allow_inf_nan=False)]
TONE_STEPS = 4096
Operation = Literal["add", "subtract", "intersect"]


class Part(Parameters):
    """What all parts have: how they join what stands before them, and whether they are turned inside out."""

    join: Operation = "add"
    invert: bool = False

    def moved(self, carry: Carry) -> Self:
        """The same part on a picture into which `carry` leads; what goes by tone, hue or distance stays."""
        return self


class Graduated(Part):
    """From whole beyond the line through (x0, y0) to nothing beyond the one through (x1, y1), both across the way between them."""

    kind: Literal["graduated"] = "graduated"
    x0: Coordinate
    y0: Coordinate
    x1: Coordinate
    y1: Coordinate

    def moved(self, carry: Carry) -> Self:
        (x0, y0), (x1, y1) = carried([(self.x0, self.y0), (self.x1, self.y1)], carry)
        return self.model_copy(update={"x0": x0, "y0": y0, "x1": x1, "y1": y1})


class Elliptical(Part):
    """An ellipse with half axes `rx` and `ry`, turned clockwise by `angle` degrees; `soft` is the share of its radius that fades."""

    kind: Literal["elliptical"] = "elliptical"
    x: Coordinate
    y: Coordinate
    rx: float = Field(gt=0, le=1e6)
    ry: float = Field(gt=0, le=1e6)
    angle: float = Field(0, ge=-360, le=360)
    soft: float = parameter(0.5, 0, 1, 0.01, "Softness", "Share of the radius over which it fades.", "", "Shape")

    def moved(self, carry: Carry) -> Self:
        (x, y), (scale, turn) = carried([(self.x, self.y)], carry)[0], around((self.x, self.y), carry)
        angle = (self.angle + turn + 180) % 360 - 180
        return self.model_copy(update={"x": x, "y": y, "rx": min(self.rx * scale, 1e6), "ry": min(self.ry * scale, 1e6), "angle": angle})


class BrushedLine(BrushLine):
    """A movement of the brush that lays on or takes away."""

    erase: bool = False


class Brushed(Part):
    """What a brush has laid on and taken away, in that order."""

    kind: Literal["brushed"] = "brushed"
    lines: list[BrushedLine] = Field(default_factory=list, max_length=500)

    def moved(self, carry: Carry) -> Self:
        return self.model_copy(update={"lines": [line.moved(carry) for line in self.lines]})


class ToneRange(Part):
    """Encoded brightness of the light as shot between `low` and `high`, fading over `soft` beyond them; all 0..1."""

    kind: Literal["tones"] = "tones"
    low: float = parameter(0, 0, 1, 0.01, "From", "Brightness at which it begins.", "", "Shape")
    high: float = parameter(1, 0, 1, 0.01, "To", "Brightness at which it ends.", "", "Shape")
    soft: float = parameter(0.1, 0.01, 1, 0.01, "Softness", "Brightness over which it fades beyond both ends.", "", "Shape")


class HueRange(Part):
    """Hues within `width` degrees of `hue` on Oklab's ring, fading over `soft` degrees beyond; greys have no part in it."""

    kind: Literal["hues"] = "hues"
    hue: float = parameter(0, 0, 359, 1, "Hue", "The hue in its middle, on the ring.", "°", "Shape")
    width: float = parameter(30, 1, 180, 1, "Width", "How far to both sides it is whole.", "°", "Shape")
    soft: float = parameter(20, 1, 180, 1, "Softness", "How far beyond that it fades.", "°", "Shape")


class DistanceRange(Part):
    """From `near` to `far` metres as the woven frames tell it, fading over a factor `soft` of distance; `far` 0 is without end."""

    kind: Literal["distance"] = "distance"
    near: float = parameter(0, 0, 300, 0.1, "Farther than", "Where it begins; 0 is from the feet on.", "m", "Shape")
    far: float = parameter(0, 0, 300, 0.1, "Nearer than", "Where it ends; 0 is without end.", "m", "Shape")
    soft: float = parameter(1.5, 1.05, 10, 0.05, "Softness", "Factor of distance over which it fades.", "×", "Shape")


AnyPart = Annotated[Graduated | Elliptical | Brushed | ToneRange | HueRange | DistanceRange, Field(discriminator="kind")]


@dataclass(frozen=True, eq=False)
class Site:
    """Where a piece of picture lies: a box at a level of the picture of full size `size`."""

    size: Size
    level: int
    box: Box

    def rows(self, first: int, last: int) -> Site:
        """A slice of its rows."""
        x, y, w, _ = self.box
        return Site(self.size, self.level, (x, y + first, w, last - first))

    def spread(self, maps: FloatArray) -> FloatArray:
        """Maps (h, w) or (h, w, 2) of the whole picture at the pixels of the box."""
        x, y, w, h = self.box
        scale = 1 << self.level
        across, down = maps.shape[1] / self.size[0] * scale, maps.shape[0] / self.size[1] * scale
        return spread(maps, (across, down), ((x + 0.5) * across - 0.5, (y + 0.5) * down - 0.5), (w, h))


def _step(t: FloatArray) -> FloatArray:
    t = np.clip(t, 0, 1)
    return t * t * (3 - 2 * t)


def between(value: FloatArray, low: float, high: float, soft: float) -> FloatArray:
    """1 where a value lies between two ends, fading smoothly over `soft` beyond them."""
    return _step((value - low) / soft + 1) * _step((high - value) / soft + 1)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _fade(x0: float, y0: float, unit: float, across: np.ndarray, down: np.ndarray, fade: float, round_: bool, mask: np.ndarray) -> None:
    """A smooth step of 1 - u, or of 1 - |u| over `fade` where it is round; u = (across, down) · place from (x0, y0)."""
    one, zero = np.float32(1.0), np.float32(0.0)
    for j in range(mask.shape[0]):
        y = np.float32((j + 0.5) * unit - 0.5 - y0)
        for i in range(mask.shape[1]):
            x = np.float32((i + 0.5) * unit - 0.5 - x0)
            u = across[0] * x + across[1] * y
            if round_:
                v = down[0] * x + down[1] * y
                u = np.sqrt(u * u + v * v)
            t = min(max((one - u) / np.float32(fade), zero), one)
            mask[j, i] = t * t * (np.float32(3.0) - t - t)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _by_tone(light: np.ndarray, weights: np.ndarray, table: np.ndarray, mask: np.ndarray) -> None:
    """A table over the square root of luminance, read at each pixel."""
    last = np.uint32(table.shape[0] - 2)
    for j in range(mask.shape[0]):
        for i in range(mask.shape[1]):
            t = np.sqrt(min(max(weights[0] * light[j, i, 0] + weights[1] * light[j, i, 1] + weights[2] * light[j, i, 2], np.float32(0.0)), np.float32(1.0))) * np.float32(last)
            n = min(np.uint32(t), last)
            mask[j, i] = table[n] + (table[n + np.uint32(1)] - table[n]) * (t - np.float32(n))


def _shape(part: AnyPart, site: Site, light: FloatArray, distance: FloatArray | None) -> FloatArray:
    x, y, w, h = site.box
    unit = 1 << site.level
    if isinstance(part, Graduated):
        dx, dy = part.x1 - part.x0, part.y1 - part.y0
        across = np.array([dx, dy], np.float32) / np.float32(max(dx * dx + dy * dy, 1.0))
        mask = np.empty((h, w), np.float32)
        _fade(part.x0 - x * unit, part.y0 - y * unit, unit, across, across, 1.0, False, mask)
        return mask
    if isinstance(part, Elliptical):
        c, s = np.cos(np.radians(part.angle)), np.sin(np.radians(part.angle))
        across, down = np.array([c, s], np.float32) / np.float32(part.rx), np.array([-s, c], np.float32) / np.float32(part.ry)
        mask = np.empty((h, w), np.float32)
        _fade(part.x - x * unit, part.y - y * unit, unit, across, down, max(part.soft, unit / min(part.rx, part.ry)), True, mask)
        return mask
    if isinstance(part, Brushed):
        mask = np.zeros((h, w), np.float32)
        for line in part.lines:
            drawn = draw_line(line, site.box, site.level)
            if drawn is not None:
                mask = mask * (1 - drawn) if line.erase else mask + (1 - mask) * drawn
        return mask
    if isinstance(part, ToneRange):
        mask = np.empty((h, w), np.float32)
        level = np.linspace(0, 1, TONE_STEPS) ** 2
        table = between(encode_srgb(level.astype(np.float32)), part.low, part.high, part.soft).astype(np.float32)
        _by_tone(light, LUMA, np.append(table, table[-1:]), mask)
        return mask
    if isinstance(part, HueRange):
        lab = oklab(np.maximum(light, 0))
        apart = np.abs((np.degrees(np.arctan2(lab[..., 2], lab[..., 1])) - part.hue + 180) % 360 - 180)
        return _step((part.width - apart) / part.soft + 1) * _step(np.hypot(lab[..., 1], lab[..., 2]) / 0.04)
    if distance is None:
        return np.zeros((h, w), np.float32)
    far = np.log(np.maximum(site.spread(distance), 0.01))
    soft = np.log(part.soft)
    return between(far, np.log(part.near) if part.near else -1e6, np.log(part.far) if part.far else 1e6, soft)


def softened(draw: Callable[[Site, int], FloatArray], site: Site, feather: float) -> FloatArray:
    """A mask (h, w) as `draw` makes it, softened by `feather` pixels of the full size; drawn on a grid as coarse as the softness allows, which
    `draw` is told as a site and how many times it is halved. Within three feathers of the piece's edges it is only nearly right."""
    sigma = feather / (1 << site.level)
    if sigma < 0.3:
        return draw(site, 0)
    halvings = max(0, int(np.log2(sigma / 2)))
    x, y, w, h = site.box
    unit = 1 << halvings
    x0, y0 = x // unit, y // unit
    box = (x0, y0, -(-(x + w) // unit) - x0, -(-(y + h) // unit) - y0)
    coarse = cv2.GaussianBlur(draw(Site(site.size, site.level + halvings, box), halvings), (0, 0), sigma / unit)
    return spread(coarse, (1 / unit, 1 / unit), ((x + 0.5) / unit - 0.5 - x0, (y + 0.5) / unit - 0.5 - y0), (w, h))


def joined(parts: Sequence[AnyPart], site: Site, light: FloatArray, distance: FloatArray | None) -> FloatArray:
    """How much of all parts together there is (h, w), 0..1, at each pixel of a piece of picture whose linear light as shot is `light`
    (h, w, 3); nothing for no parts. `distance` (h', w'), metres of the whole picture; where it is not known nothing goes by it."""
    mask = np.zeros(site.box[:1:-1], np.float32)
    for part in parts:
        shape = _shape(part, site, light, distance).astype(np.float32)
        if part.invert:
            shape = 1 - shape
        mask = np.maximum(mask, shape) if part.join == "add" else np.minimum(mask, 1 - shape if part.join == "subtract" else shape)
    return mask
