"""Areas: parts of the picture with adjustments of their own."""

from __future__ import annotations

from typing import Self

import cv2
import numpy as np
from pydantic import Field

from ...imaging.colour import FloatArray
from ...imaging.placement import Carry, around
from ...parameter import Parameters, controls, parameter
from ..masks.parts import AnyPart, Site, joined, softened

IN_AREA = "In this area"


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


def reach_of(areas: list[Area], level: int) -> int:
    """Pixels around a box that have a part in the masks inside it."""
    return max((int(np.ceil(3 * area.feather / (1 << level))) for area in areas if area.on and area.feather), default=0)


def mask_of(area: Area, site: Site, light: FloatArray, distance: FloatArray | None = None) -> FloatArray:
    """How much of an area there is (h, w), 0..1, at each pixel of a piece of picture whose linear light as shot is
    `light` (h, w, 3); see `joined` for `distance`. Within `reach_of` of the piece's edges a feathered mask is only nearly right."""
    def drawn(coarse: Site, halvings: int) -> FloatArray:
        small = np.asarray(cv2.resize(light, coarse.box[2:], interpolation=cv2.INTER_AREA)) if halvings else light
        return joined(area.parts, coarse, small, distance)

    mask = softened(drawn, site, area.feather)
    return np.ascontiguousarray(1 - mask if area.invert else mask, np.float32)
