"""What is laid over the picture or shown in its place, by kind: share map, masks, differences, edges, single corrections, drift, areas, veils."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ...core.develop.areas import mask_of
from ...core.develop.develop import develop, for_screen, reaches
from ...core.develop.look import Look
from ...core.even.capture.correction import edge_mask
from ...core.even.capture.settings import without
from ...core.even.drift import MOST_SIDE, apart_map
from ...core.finish.settings import Finish
from ...core.masks.parts import Site
from ...core.register.looking import REACH, edges_of, matched_difference
from ...imaging.cms import Paper
from ...imaging.colour import FloatArray
from ...imaging.light import light_of, root_of
from ...imaging.pyramid import Box, Size
from ..depth import WHITE_LOST, depth_colour, hatch
from .view import View, around, cut_out

DIFFERENT = 3.0
AREA = (31, 110, 90)
OURS, THEIRS = (255, 120, 70), (70, 230, 180)
MARGIN = 8
"""Pixels beside a box from which edges in it may begin."""
MASKED = np.float32(118)
"""Grey of what a mask hides."""


@dataclass(frozen=True)
class ViewOptions:
    """What is asked for on top of the picture: the look, lost tones hatched, and the finish of a canvas (x, y, w, h) which becomes
    an output of a `size` (w, h); printed on `paper`, what that cannot show hatched."""

    look: Look
    clipping: bool = False
    finish: Finish | None = None
    canvas: Box = (0, 0, 1, 1)
    size: Size = (1, 1)
    paper: Paper | None = None


Overlay = Callable[[View, list[str], int, Box, Look], NDArray[np.uint8]]
"""8-bit sRGB (h, w, 3) of a box at a level, under a look; what is meant is told by words such as a frame's id. Raises KeyError,
IndexError, ValueError where there is no such thing."""


def _share_map(view: View, words: list[str], level: int, box: Box, look: Look) -> NDArray[np.uint8]:
    """Which frame has which part, in its colour and hatch; plain where none is sharper than the others."""
    picture = for_screen(view.developed("weave", level, box, look))
    out = np.repeat(picture.mean(axis=2, keepdims=True), 3, axis=2)
    order = [f.id for f in view.recipe.in_depth()]
    wide = around(box, 4 * CALM, view.size_at(level))
    shares = view.shares(level, wide)
    clear = cut_out(clear_in(list(shares.values()), CALM * 0.5**level), wide, box) if shares else None
    for id, mask in shares.items():
        mask = cut_out(mask, wide, box) * clear
        place = order.index(id)
        line = hatch(place, box)[..., None]
        tint = np.array(depth_colour(place, len(order)), np.float32)
        strength = mask[..., None] * (0.50 + 0.22 * line)
        out = out * (1 - strength) + tint * strength
    return np.asarray(np.clip(out, 0, 255), np.uint8)


CALM = 8
"""Pixels of the full size over which it is told whether any frame gives more than the others."""
NOISY = 0.35
"""How far, from an even part (0) to all (1), noise alone lets a frame lead; twice that is clear."""


def clear_in(masks: Sequence[FloatArray], calm: float) -> FloatArray:
    """How clear (h, w), 0 to 1, it is which of several masks (h, w) leads: where nothing is to be seen all frames give about as much, and noise
    alone tells them apart.

    >>> even, none = np.full((9, 9), 0.2, np.float32), np.zeros((9, 9), np.float32)
    >>> float(clear_in([even] * 5, 2.0).max()), float(clear_in([even + 0.8, none, none, none, none], 2.0).min())
    (0.0, 1.0)
    """
    if len(masks) < 2:
        return np.ones_like(masks[0]) if masks else np.ones((1, 1), np.float32)
    # between two zones two frames lead together
    leading = 2 if len(masks) > 2 else 1
    lead = np.sort(np.stack(masks), axis=0)[-leading:].sum(axis=0)
    lead = cv2.GaussianBlur(lead, (0, 0), max(1.0, calm), borderType=cv2.BORDER_REPLICATE)
    even = leading / len(masks)
    return np.asarray(np.clip(((lead - even) / (1 - even) - NOISY) / NOISY, 0, 1), np.float32)


def _mask(view: View, words: list[str], level: int, box: Box, look: Look) -> NDArray[np.uint8]:
    """A frame where it has a part, grey elsewhere."""
    (id,) = words
    picture = for_screen(view.developed(f"frame:{id}", level, box, look))
    mask = view.shares(level, box).get(id, np.zeros(picture.shape[:2], np.float32))[..., None]
    return np.asarray(picture * mask + MASKED * (1 - mask), np.uint8)


def _mask_alone(view: View, words: list[str], level: int, box: Box, look: Look) -> NDArray[np.uint8]:
    """A frame's mask by itself: white where it gives all, black where nothing."""
    (id,) = words
    if id not in view.frames:
        raise KeyError(id)
    mask = view.shares(level, box).get(id, np.zeros((box[3], box[2]), np.float32))
    return np.asarray(np.round(255 * mask), np.uint8)[..., None].repeat(3, axis=2)


def _difference(view: View, words: list[str], level: int, box: Box, look: Look) -> NDArray[np.uint8]:
    """What two frames differ by, so many times, around grey."""
    *ids, times = words
    a, b = (view.developed(f"frame:{id}", level, box, look) for id in ids)
    return np.asarray(np.clip(128 + _strength(times) * 255 * (a - b), 0, 255), np.uint8)


def _matched(view: View, words: list[str], level: int, box: Box, look: Look) -> NDArray[np.uint8]:
    """The same in greys, the sharper one blurred to match the other: what is left lies elsewhere, or moved."""
    *ids, times = words
    wide = around(box, REACH, view.size_at(level))
    a, b = (view.developed(f"frame:{id}", level, wide, look).mean(axis=2) for id in ids)
    apart = cut_out(matched_difference(a, b), wide, box)
    return np.asarray(np.clip(128 + _strength(times) * 255 * apart, 0, 255), np.uint8)[..., None].repeat(3, axis=2)


def _strength(times: str) -> int:
    if times not in ("4", "8", "16", "32"):
        raise ValueError(times)
    return int(times)


def _outlines(view: View, words: list[str], level: int, box: Box, look: Look) -> NDArray[np.uint8]:
    """Edges of a frame in rust over those of another in green, white where both lie on each other, on the other's greys."""
    wide = around(box, MARGIN, view.size_at(level))
    a, b = (view.developed(f"frame:{id}", level, wide, look).mean(axis=2) for id in words)
    ours, theirs = (cut_out(edges_of(picture), wide, box) for picture in (a, b))
    out = (for_screen(cut_out(b, wide, box)[..., None].repeat(3, axis=2)) * np.float32(0.4)).astype(np.uint8)
    out[theirs], out[ours], out[ours & theirs] = THEIRS, OURS, 255
    return out


def _capture(view: View, words: list[str], level: int, box: Box, look: Look) -> NDArray[np.uint8]:
    """A frame on its own grid without one of its corrections, or with `all`."""
    name, id = words
    return for_screen(develop(view.captured(name, id, level, box), look, view.shot, "srgb", Site(view.size, level, box)))


def _edges(view: View, words: list[str], level: int, box: Box, look: Look) -> NDArray[np.uint8]:
    """Where capture sharpening acts, white, over the frame's greys."""
    (id,) = words
    capture = view.recipe.capture
    frame = view.uncorrected(id, capture.model_copy(update={"sharpen": 5}))
    measured = frame.correct(True) if frame.correct else None
    assert measured is not None
    light = view.uncorrected(id, without(capture, "sharpening")).channels(level, box)
    mask = edge_mask(light, np.array(measured.noise, np.float32), capture.edges)[..., None]
    grey = for_screen(root_of(light) @ np.full((3, 3), 1 / 3, np.float32)) * np.float32(0.45)
    return np.asarray(grey * (1 - mask) + 255 * mask, np.uint8)


def _drift(view: View, words: list[str], level: int, box: Box, look: Look) -> NDArray[np.uint8]:
    """The frame in grey, rust where it is still unlike the reference: full strength at a CIEDE2000 of DIFFERENT."""
    (id,) = words
    picture = for_screen(view.developed(f"frame:{id}", level, box, look)).mean(axis=2, keepdims=True)

    def made() -> FloatArray:
        return apart_map(*(light_of(view.whole(f"frame:{i}", MOST_SIDE)) for i in (view.middle, id)))

    found = view.pictures.get(("drift", view.frame_version(id), view.frame_version(view.middle)), made)
    strength = np.clip(Site(view.size, level, box).spread(found) / DIFFERENT, 0, 1)[..., None]
    return np.asarray(picture * (1 - 0.8 * strength) + np.array(WHITE_LOST[1], np.float32) * 0.8 * strength, np.uint8)


def _area(view: View, words: list[str], level: int, box: Box, look: Look) -> NDArray[np.uint8]:
    """The weave with an area hatched as far as it goes."""
    number = int(words[0])
    picture = for_screen(view.developed("weave", level, box, look)).astype(np.float32)
    area = look.areas[number]
    margin = reaches(look.model_copy(update={"areas": [area.model_copy(update={"on": True})]}), level)
    wide = around(box, margin, view.size_at(level))
    mask = mask_of(area, Site(view.size, level, wide), light_of(view.weave(level, wide)), view.guide().distance)
    line = hatch(number % 6, box)[..., None]
    strength = cut_out(mask, wide, box)[..., None] * (0.25 + 0.45 * line)
    return np.asarray(picture * (1 - strength) + np.array(AREA, np.float32) * strength, np.uint8)


def _veils(view: View, words: list[str], level: int, box: Box, look: Look) -> NDArray[np.uint8]:
    """The weave in greys, hatched where veils were lifted and, otherwise, where they were tried and left."""
    picture = for_screen(view.developed("weave", level, box, look)).mean(axis=2, keepdims=True).repeat(3, axis=2)
    if view.veils is not None:
        told = view.veils.read(level, box).astype(np.float32) / 255
        for place, colour in enumerate((AREA, WHITE_LOST[1])):
            strength = told[..., place : place + 1] * (0.3 + 0.6 * hatch(place, box)[..., None])
            picture = picture * (1 - strength) + np.array(colour, np.float32) * strength
    return np.asarray(picture, np.uint8)


OVERLAYS: dict[str, Overlay] = {
    "share": _share_map,
    "mask": _mask,
    "mask-alone": _mask_alone,
    "difference": _difference,
    "matched": _matched,
    "outlines": _outlines,
    "capture": _capture,
    "edges": _edges,
    "drift": _drift,
    "area": _area,
    "veils": _veils,
}
