"""The picture on screen: 8-bit sRGB of any box, and the whole at a size."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ...core.develop.develop import clipped, for_screen
from ...core.develop.look import Look
from ...imaging.cms import proofed
from ...imaging.colour import FloatArray, encode_srgb
from ...imaging.light import light_of
from ...imaging.pyramid import Box
from ..depth import BLACK_LOST, COLOUR_LOST, WHITE_LOST, hatch
from .finished import finished, made_upright, order_map, painted_map
from .overlays import OVERLAYS, ViewOptions
from .view import View, level_for

KINDS = {**OVERLAYS, "light": painted_map, "order": order_map}


def screen(view: View, what: str, level: int, box: Box, options: ViewOptions) -> NDArray[np.uint8]:
    """8-bit sRGB (h, w, 3) of `weave`, `frame:ID`, or an overlay and the words that tell it which: `share`, `mask:ID`, `mask-alone:ID`,
    `difference:ID:ID:TIMES` and `matched:` likewise, `outlines:ID:ID`, `capture:NAME:ID`, `edges:ID`, `drift:ID`, `area:N`, `veils`, `light:N`,
    `order`.

    Raises KeyError for frames that are not there and ValueError for anything else.
    """
    kind, *words = what.split(":")
    if kind in KINDS:
        return made_upright(view, level, box, options, lambda part: KINDS[kind](view, words, level, part, options.look))
    picture = finished(view, what, level, box, options) if options.finish else view.developed(what, level, box, options.look)
    if options.paper:
        shown, lost = proofed(np.round(encode_srgb(light_of(picture)) * 65535).astype(np.uint16), options.paper)
        shown[lost & (hatch(COLOUR_LOST[0], box) > 0)] = COLOUR_LOST[1]
        return shown
    shown = for_screen(picture)
    return _hatched(shown, picture, box) if options.clipping else shown


def _hatched(shown: NDArray[np.uint8], picture: FloatArray, box: Box) -> NDArray[np.uint8]:
    """Lines over what is lost in black and in white; the picture stays readable between them."""
    shown = shown.copy()
    for lost, (place, colour) in zip(clipped(picture), (BLACK_LOST, WHITE_LOST), strict=True):
        shown[lost & (hatch(place, box) > 0)] = colour
    return shown


def viewport(view: View, what: str, box: tuple[float, float, float, float], wide: int, options: ViewOptions) -> tuple[NDArray[np.uint8], Box]:
    """A box (x, y, w, h) of the full-size picture, about `wide` pixels across, and the box it turned out to be."""
    level, inside = level_for(view, box, wide)
    picture = screen(view, what, level, inside, options)
    if picture.shape[1] > wide:
        picture = np.asarray(cv2.resize(picture, (wide, max(1, round(picture.shape[0] * wide / picture.shape[1]))), interpolation=cv2.INTER_AREA), np.uint8)
    x, y, w, h = (v << level for v in inside)
    return picture, (x, y, w, h)


def overview(view: View, what: str, wide: int, look: Look) -> FloatArray:
    """All of the picture, developed, about `wide` pixels across: what a histogram is made of."""
    level, inside = level_for(view, (0, 0, *view.size), wide)
    return view.developed(what, level, inside, look)
