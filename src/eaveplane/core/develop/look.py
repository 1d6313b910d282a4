"""The look: the development that all frames of a scene and their weave share."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise
from typing import Annotated

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator

from ...imaging.colour import BRADFORD, D65_XY, WORK_FROM_XYZ, XYZ_FROM_WORK, Matrix, adaptation, temperature_of, white_of, white_xyz
from ...parameter import Parameters, parameter
from .areas import Area

DARKEST_NEUTRAL = 0.004
Share = Annotated[float, Field(ge=0, le=1, allow_inf_nan=False)]


class HuePoint(Parameters):
    """What happens to colours around one hue, in degrees on Oklab's ring."""

    hue: float = Field(ge=0, lt=360)
    shift: float = parameter(0, -60, 60, 1, "Shift", "Turns this hue towards its neighbours on the ring.", "°", "Hue ring")
    strength: float = parameter(0, -100, 100, 1, "Strength", "Strength of colours around this hue.", "%", "Hue ring")
    lightness: float = parameter(0, -100, 100, 1, "Lightness", "How light colours around this hue are.", "%", "Hue ring")


class Look(Parameters):
    """All zero is the picture as it came; temperature 0 stands for the light as shot.

    `curve` are points (x, y) of the tone curve in encoded brightness, x rising; none is a straight line. Areas are
    laid on in their order.
    """

    kelvin: float = parameter(0, 0, 15000, 50, "Temperature", "Colour of the light that is to look white; 0 is as shot.", "K", "White balance")
    tint: float = parameter(0, -100, 100, 1, "Tint", "Green against magenta, on top of the light as shot.", "", "White balance")
    saturation: float = parameter(0, -100, 100, 1, "Saturation", "Strength of all colours.", "%", "White balance")
    boost: float = parameter(0, -100, 100, 1, "Muted colours", "Strength of weak colours; what is strong already and the tones of skin and dusk are spared.", "%", "White balance")
    compress: float = parameter(0, 0, 100, 5, "Soft gamut", "Colours stronger than can be shown are drawn in gently, hue and lightness kept, instead of being cut.", "%", "White balance")
    scale_ev: float = Field(0, ge=-32, le=0, description="Darkens merged exposures that are written as they came, so that what the darkest holds stays below white.")
    exposure: float = parameter(0, -4, 4, 0.05, "Exposure", "Brightness in steps of a doubling.", "EV", "Tone")
    contrast: float = parameter(0, -100, 100, 1, "Contrast", "Steepness around the pivot. Keep it low before weaving.", "%", "Tone")
    pivot: float = parameter(46, 10, 90, 1, "Pivot", "The brightness that contrast leaves as it is.", "%", "Tone")
    highlights: float = parameter(0, -100, 100, 1, "Highlights", "Bright tones, darker or lighter.", "%", "Tone")
    shadows: float = parameter(0, -100, 100, 1, "Shadows", "Dark tones, darker or lighter.", "%", "Tone")
    white_end: float = parameter(0, -100, 100, 1, "White end", "Where the scale ends in white. What is lost is hatched while it is held.", "%", "Tone")
    black_end: float = parameter(0, -100, 100, 1, "Black end", "Where the scale ends in black. What is lost is hatched while it is held.", "%", "Tone")
    shoulder: float = parameter(0, 0, 100, 1, "Shoulder", "How gently the brightest tones run into white.", "%", "Tone")
    fine: float = parameter(0, -100, 100, 1, "Fine", "Local contrast of grain and leaves, edges apart.", "%", "Relief and haze")
    middle: float = parameter(0, -100, 100, 1, "Middle", "Local contrast of stones and folds, edges apart.", "%", "Relief and haze")
    broad: float = parameter(0, -100, 100, 1, "Broad", "Local contrast of slopes and clouds, edges apart.", "%", "Relief and haze")
    haze: float = parameter(0, -100, 100, 1, "Clear haze", "Clears the veil of the distance; below zero a veil is laid on.", "%", "Relief and haze")
    tint_darks: float = parameter(0, 0, 100, 1, "Darks", "How strongly dark tones are tinted.", "%", "Tints")
    tint_darks_hue: float = parameter(260, 0, 359, 1, "Hue of darks", "The hue that dark tones are given.", "°", "Tints")
    tint_middles: float = parameter(0, 0, 100, 1, "Middles", "How strongly middle tones are tinted.", "%", "Tints")
    tint_middles_hue: float = parameter(60, 0, 359, 1, "Hue of middles", "The hue that middle tones are given.", "°", "Tints")
    tint_lights: float = parameter(0, 0, 100, 1, "Lights", "How strongly light tones are tinted.", "%", "Tints")
    tint_lights_hue: float = parameter(80, 0, 359, 1, "Hue of lights", "The hue that light tones are given.", "°", "Tints")
    tint_balance: float = parameter(0, -100, 100, 1, "Balance", "Below zero more tones count as dark, above zero more as light.", "%", "Tints")
    curve: list[tuple[Share, Share]] = Field(default_factory=list, max_length=16)
    hues: list[HuePoint] = Field(default_factory=list, max_length=12)
    areas: list[Area] = Field(default_factory=list, max_length=24)
    frame: tuple[int, int] | None = Field(None, description="Size (w, h) of the frame in whose pixels areas are told, where the look stands by itself.")

    def told_in(self, size: tuple[int, int]) -> Look:
        """The look as it is carried elsewhere: it says of which frame size (w, h) its areas are."""
        return self.model_copy(update={"frame": size if self.areas else None})

    def onto(self, size: tuple[int, int]) -> Look:
        """A look from elsewhere on frames of a size (w, h): its areas keep their place in the frame."""
        if self.frame in (None, size):
            return self.model_copy(update={"frame": None})
        w, h = self.frame or size
        factors = np.array([size[0] / w, size[1] / h])
        return self.model_copy(update={"areas": [area.moved(lambda points: points * factors, (w / 2, h / 2)) for area in self.areas], "frame": None})

    @field_validator("curve")
    @classmethod
    def _rising(cls, points: list[tuple[float, float]]) -> list[tuple[float, float]]:
        if len(points) == 1 or any(b[0] - a[0] < 0.004 for a, b in pairwise(points)):
            raise ValueError("a tone curve has no points or at least two, from left to right")
        return points

    @field_validator("hues")
    @classmethod
    def _around(cls, points: list[HuePoint]) -> list[HuePoint]:
        points = sorted(points, key=lambda p: p.hue)
        if any(b.hue - a.hue < 1 for a, b in pairwise(points)):
            raise ValueError("two hues lie on each other")
        return points


NEUTRAL = Look()
RAW_LOOK = Look(contrast=14, saturation=8, shadows=10, shoulder=60, compress=100)
"""What raw frames start from."""
GROUPS = {
    "White balance": ("kelvin", "tint"),
    "Tone": ("exposure", "contrast", "pivot", "highlights", "shadows", "white_end", "black_end", "shoulder", "curve"),
    "Colour": ("saturation", "boost", "compress", "hues", "tint_darks", "tint_darks_hue", "tint_middles", "tint_middles_hue", "tint_lights", "tint_lights_hue", "tint_balance"),
    "Relief and haze": ("fine", "middle", "broad", "haze"),
    "Areas": ("areas",),
}
"""Parts of a look that can be carried over by themselves."""


def with_groups(look: Look, other: Look, groups: list[str]) -> Look:
    """`look` with the named groups taken from `other`. Raises KeyError for a group there is not."""
    names = [name for group in groups for name in GROUPS[group]]
    return look.model_copy(update={name: getattr(other, name) for name in names})


@dataclass(frozen=True)
class Light:
    """The light as shot: temperature in kelvin and tint, as the file's white balance names it."""

    kelvin: float = 6504.0
    tint: float = 0.0


def white_balance(look: Look, shot: Light) -> Matrix:
    """Matrix (3, 3) on working light that makes the chosen light look white instead of the light as shot."""
    if look.kelvin == 0 and look.tint == 0:
        return np.eye(3)
    return balance(float(np.clip(look.kelvin or shot.kelvin, 1667, 25000)), shot.tint - look.tint, shot)


def balance(kelvin: float, tint: float, shot: Light) -> Matrix:
    """Matrix (3, 3) on working light under which a light of that colour is seen as the light as shot was."""
    change = adaptation(white_of(kelvin, tint), white_of(shot.kelvin, shot.tint))
    return np.asarray(WORK_FROM_XYZ @ change @ XYZ_FROM_WORK)


def neutral_light(seen: NDArray[np.float64], shot: Light) -> Light:
    """The light under which a colour (3,), linear Rec. 2020 under the light as shot, is neutral. Raises ValueError for
    what is too dark, or too colourful to have been neutral under any light."""
    xyz = XYZ_FROM_WORK @ np.asarray(seen, np.float64)
    if xyz[1] < DARKEST_NEUTRAL or (seen <= 0).any():
        raise ValueError("That is too dark to tell its colour. Pick something brighter.")
    cones = (BRADFORD @ white_of(shot.kelvin, shot.tint)) * (BRADFORD @ (xyz / xyz[1])) / (BRADFORD @ white_xyz(D65_XY))
    light = np.linalg.solve(BRADFORD, cones)
    kelvin, tint = temperature_of(light / light[1])
    if not 1700 < kelvin < 24000 or abs(tint) > 150:
        raise ValueError("Under no light would that be neutral. Pick something grey or white.")
    return Light(kelvin, tint)


def scene_light(small: NDArray[np.floating], shot: Light) -> Light:
    """The light of a scene, measured: the one under which its greyest edges (h, w, 3, linear) are neutral on the whole
    (grey edge, van de Weijer, Gevers and Gijsenij 2007, with the 6-norm). Raises ValueError as `neutral_light` does."""
    open_ = (small.max(axis=2) < 0.97) & (small.min(axis=2) > 0.002)
    across, down = np.diff(small, axis=1)[:-1], np.diff(small, axis=0)[:, :-1]
    inside = open_[:-1, :-1] & open_[1:, :-1] & open_[:-1, 1:]
    if inside.sum() < 100:
        raise ValueError("Too little of the picture is neither black nor white to measure its light.")
    edges = np.sqrt(across[inside].astype(np.float64) ** 2 + down[inside].astype(np.float64) ** 2)
    level = float(np.median(small[open_] @ XYZ_FROM_WORK[1]))
    tone = np.mean(edges**6, axis=0) ** (1 / 6)
    return neutral_light(tone / (tone @ XYZ_FROM_WORK[1]) * max(level, 2 * DARKEST_NEUTRAL), shot)
