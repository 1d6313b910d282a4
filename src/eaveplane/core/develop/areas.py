"""Areas: parts of the picture with adjustments of their own, in pixels of the reference frame.

An area is made of parts, each added to, taken from or cut with what stands before it.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Literal, Self

import cv2
import numpy as np
from numba import njit
from pydantic import Field

from ...imaging.brush import BrushLine, draw_line
from ...imaging.colour import LUMA, FloatArray
from ...imaging.oklab import oklab
from ...imaging.placement import Carry, around, carried
from ...imaging.pyramid import Box
from ...imaging.resample import spread
from ...parameter import Parameters, controls, parameter
from .relief import Guide
from .tone import encode

Coordinate = Annotated[float, Field(ge=-1e6, le=1e6, allow_inf_nan=False)]
IN_AREA = "In this area"
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


class Area(Parameters):
    """A named part of the picture and what is done there. `feather` softens its shape, in pixels of the full size."""

    name: str = Field("Area", max_length=80)
    on: bool = True
    invert: bool = False
    feather: float = parameter(0, 0, 300, 1, "Feather", "Softens the edge of all of it, in pixels of the full size.", "px", "Edge")
    parts: list[AnyPart] = Field(default_factory=list, max_length=20)
    exposure: float = parameter(0, -4, 4, 0.05, "Exposure", "Brightness in steps of a doubling.", "EV", IN_AREA)
    contrast: float = parameter(0, -100, 100, 1, "Contrast", "Steepness around the pivot.", "%", IN_AREA)
    highlights: float = parameter(0, -100, 100, 1, "Highlights", "Bright tones, darker or lighter.", "%", IN_AREA)
    shadows: float = parameter(0, -100, 100, 1, "Shadows", "Dark tones, darker or lighter.", "%", IN_AREA)
    warmth: float = parameter(0, -100, 100, 1, "Temperature", "Warmer or cooler, in steps of 2 mired of the light.", "", IN_AREA)
    tint: float = parameter(0, -100, 100, 1, "Tint", "Green against magenta.", "", IN_AREA)
    saturation: float = parameter(0, -100, 100, 1, "Saturation", "Strength of colours.", "%", IN_AREA)
    relief: float = parameter(0, -100, 100, 1, "Relief", "Local contrast, all three scales together.", "%", IN_AREA)
    haze: float = parameter(0, -100, 100, 1, "Clear haze", "Clears the veil of the distance; below zero a veil is laid on.", "%", IN_AREA)

    def moved(self, carry: Carry, middle: tuple[float, float]) -> Self:
        """The same area on a picture into which `carry` leads; `middle` of the picture, where its feather is measured."""
        feather = min(self.feather * around(middle, carry)[0], 300.0)
        return self.model_copy(update={"parts": [part.moved(carry) for part in self.parts], "feather": feather})

    def changes(self) -> bool:
        """Whether anything is done in it."""
        return any(getattr(self, control.name) for control in controls(Area) if control.group == IN_AREA)


@dataclass(frozen=True, eq=False)
class Site:
    """Where a piece of picture lies: a box at a level of the picture of full size `size`; `guide` what is known of all of it."""

    size: tuple[int, int]
    level: int
    box: Box
    guide: Guide | None = None

    def rows(self, first: int, last: int) -> Site:
        """A slice of its rows."""
        x, y, w, _ = self.box
        return Site(self.size, self.level, (x, y + first, w, last - first), self.guide)

    def spread(self, maps: FloatArray) -> FloatArray:
        """Maps (h, w) or (h, w, 2) of the whole picture at the pixels of the box."""
        x, y, w, h = self.box
        scale = 1 << self.level
        across, down = maps.shape[1] / self.size[0] * scale, maps.shape[0] / self.size[1] * scale
        return spread(maps, (across, down), ((x + 0.5) * across - 0.5, (y + 0.5) * down - 0.5), (w, h))


def _step(t: FloatArray) -> FloatArray:
    t = np.clip(t, 0, 1)
    return t * t * (3 - 2 * t)


def _between(value: FloatArray, low: float, high: float, soft: float) -> FloatArray:
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


def _shape(part: AnyPart, site: Site, light: FloatArray) -> FloatArray:
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
        table = _between(encode(level), part.low, part.high, part.soft).astype(np.float32)
        _by_tone(light, LUMA, np.append(table, table[-1:]), mask)
        return mask
    if isinstance(part, HueRange):
        lab = oklab(np.maximum(light, 0))
        apart = np.abs((np.degrees(np.arctan2(lab[..., 2], lab[..., 1])) - part.hue + 180) % 360 - 180)
        return _step((part.width - apart) / part.soft + 1) * _step(np.hypot(lab[..., 1], lab[..., 2]) / 0.04)
    if site.guide is None or site.guide.distance is None:
        return np.zeros((h, w), np.float32)
    far = np.log(np.maximum(site.spread(site.guide.distance), 0.01))
    soft = np.log(part.soft)
    return _between(far, np.log(part.near) if part.near else -1e6, np.log(part.far) if part.far else 1e6, soft)


def reach_of(areas: list[Area], level: int) -> int:
    """Pixels around a box that have a part in the masks inside it."""
    return max((int(np.ceil(3 * area.feather / (1 << level))) for area in areas if area.on and area.feather), default=0)


def mask_of(area: Area, site: Site, light: FloatArray) -> FloatArray:
    """How much of an area there is (h, w), 0..1, at each pixel of a piece of picture whose linear light as shot is
    `light` (h, w, 3). Within `reach_of` of the piece's edges a feathered mask is only nearly right."""
    sigma = area.feather / (1 << site.level)
    if sigma < 0.3:
        mask = _joined(area, site, light)
    else:
        # softened on a grid as coarse as the softness allows
        halvings = max(0, int(np.log2(sigma / 2)))
        x, y, w, h = site.box
        unit = 1 << halvings
        x0, y0 = x // unit, y // unit
        box = (x0, y0, -(-(x + w) // unit) - x0, -(-(y + h) // unit) - y0)
        small = np.asarray(cv2.resize(light, box[2:], interpolation=cv2.INTER_AREA)) if halvings else light
        coarse = cv2.GaussianBlur(_joined(area, Site(site.size, site.level + halvings, box, site.guide), small), (0, 0), sigma / unit)
        mask = spread(coarse, (1 / unit, 1 / unit), ((x + 0.5) / unit - 0.5 - x0, (y + 0.5) / unit - 0.5 - y0), (w, h))
    return np.ascontiguousarray(1 - mask if area.invert else mask, np.float32)


def _joined(area: Area, site: Site, light: FloatArray) -> FloatArray:
    mask = np.zeros(site.box[:1:-1], np.float32)
    for part in area.parts:
        shape = _shape(part, site, light).astype(np.float32)
        if part.invert:
            shape = 1 - shape
        mask = np.maximum(mask, shape) if part.join == "add" else np.minimum(mask, 1 - shape if part.join == "subtract" else shape)
    return mask
