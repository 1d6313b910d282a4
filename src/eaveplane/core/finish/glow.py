"""Glow: part of the light of what is bright is spread around it, so that no light is made or lost."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from ...imaging.colour import LUMA, FloatArray
from ...imaging.oklab import from_oklab
from ...imaging.rows import by_rows
from ..masks.parts import Site
from .kernels import Glowing, glowing_rows
from .settings import Glow

TINTED = 0.12
"""Chroma of the strongest tint."""


def tint_of(glow: Glow) -> FloatArray:
    """What the channels (3,) of the spread light are multiplied by, of luminance 1."""
    hue, chroma = np.radians(glow.hue), TINTED * glow.tint / 100
    light = np.maximum(from_oklab(np.array([0.8, chroma * np.cos(hue), chroma * np.sin(hue)])), 0.01)
    return np.asarray(light / (light @ LUMA), np.float32)


def above_of(glow: Glow) -> float:
    """The root light from which tones glow."""
    return glow.above / 100


@dataclass(frozen=True, eq=False)
class SpreadLight:
    """Light spread over the whole picture: red and green (h, w, 2), and blue (h, w)."""

    pair: FloatArray
    blue: FloatArray

    def at(self, site: Site) -> FloatArray:
        """The light (h, w, 3) of a piece."""
        out = np.empty((site.box[3], site.box[2], 3), np.float32)

        def rows(first: int, last: int) -> None:
            part = site.rows(first, last)
            out[first:last, :, :2], out[first:last, :, 2] = part.spread(self.pair), part.spread(self.blue)

        by_rows(rows, site.box[3], site.box[2])
        return out


def spread_light(root: FloatArray, glow: Glow, where: FloatArray | None) -> SpreadLight:
    """The light around what glows in a small rendition (h, w, 3) of the whole developed picture; `where` (h, w) glow was painted in."""
    share = np.float32(glow.strength / 100) * (where if where is not None else np.ones((1, 1), np.float32))
    taken = np.empty(root.shape, np.float32)
    glowing_rows(np.ascontiguousarray(root), np.ascontiguousarray(share, np.float32), above_of(glow), LUMA, taken)
    sigma = glow.radius / 100 * max(root.shape[:2])
    light = np.asarray(cv2.GaussianBlur(taken, (0, 0), sigma, borderType=cv2.BORDER_REFLECT) * tint_of(glow), np.float32)
    return SpreadLight(np.ascontiguousarray(light[..., :2]), np.ascontiguousarray(light[..., 2]))


def glowing(glow: Glow, around: SpreadLight | None, where: FloatArray | None, site: Site) -> Glowing:
    """The glow on a piece of the picture as its kernel takes it, from what `spread_light` made of the whole."""
    nothing = np.zeros((1, 1, 3), np.float32)
    if around is None or glow.strength == 0:
        return Glowing(nothing, np.zeros((1, 1), np.float32), 0.5, False)
    share = np.float32(glow.strength / 100) * (where if where is not None else np.ones((1, 1), np.float32))
    return Glowing(around.at(site), np.ascontiguousarray(share, np.float32), above_of(glow), True)
