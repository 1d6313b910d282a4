"""Weaving registered frames into one picture, box by box, and what a hand painted over it.

Only the frames that have a part in a box are read for it, so memory does not grow with their number.
"""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np

from ...imaging.colour import FloatArray
from ...imaging.pyramid import Box, meeting
from ..masks.strokes import Stroke
from .drawn import Below, draw_over
from .edges import cover_of
from .laid import MARGIN, Piece, RegisteredFrames, Weaving, piece_of, wide_of
from .ways.crisp_seams import crisp_seams, paint, weights_in
from .ways.fine_tangle import fine_tangle
from .ways.gentle import gentle
from .ways.joint_light import joint_light

PLAIN = {"fine-tangle": fine_tangle, "gentle": gentle}
"""Ways that know nothing of gates or paint."""
EVIDENT = 4.0
"""Where a stroke covers a pixel by the inverse of this or more, its frame stands there whatever the way."""
SMOOTH = 1.5
"""Pixels (sigma) over which it is smoothed how far off places lie: masks of single pixels would show as specks."""
Woven = tuple[FloatArray, dict[int, FloatArray]]
"""A picture (h, w, 3) in the weaving encoding, and the masks (h, w) of the frames in it."""


def woven_by(laid: RegisteredFrames, weaving: Weaving) -> str:
    """The way by which frames are woven: the one chosen, or crisp seams where joint light does not know where they are focused."""
    summed = weaving.way != "joint-light" or (laid.places is not None and laid.places.trusted and len(laid.found) > 1)
    return weaving.way if summed else "crisp-seams"


def weave_box(laid: RegisteredFrames, gates: FloatArray, weaving: Weaving, strokes: Sequence[Stroke], box: Box, level: int) -> Woven:
    """The weave (h, w, 3) in a box of the picture halved `level` times, and the masks (h, w) of frames in it.

    `gates` (n, h/4, w/4) belong to the full size. The same box at any place gives the same pixels, up to
    rounding, whichever larger box it is cut from. Masks sum to one.
    """
    regions = _regions(strokes, laid, box, level)
    # masks lie over regions and what lies beyond the span: where there are any they are painted after them
    if woven_by(laid, weaving) == "crisp-seams" and not regions and laid.limits is None:
        touching = _touching(strokes, laid, weaving, box, level)
        picture, masks = _crisp(laid, gates, weaving, touching, box, level)
    else:
        picture, masks = found_in(laid, gates, weaving, box, level)
        limit(picture, masks, laid, distances_in(laid, gates, weaving, box, level), box, level)
        _lay_ways(picture, regions, laid, gates, weaving, box, level)
        _paint(picture, masks, laid, gates, weaving, strokes, box, level)
    draw_over(picture, laid, strokes, lambda at, part: found_in(laid, gates, weaving, part, at)[0], box, level)
    return picture, masks


def found_in(laid: RegisteredFrames, gates: FloatArray, weaving: Weaving, box: Box, level: int) -> Woven:
    """The weave of the frames whose masks are found, without anything made by hand; where there are none, or none reaches, the reference."""
    if not laid.found:
        return laid.read(laid.reference, level, box), {laid.reference: np.ones((box[3], box[2]), np.float32)}
    alone, gates, way = laid.alone, gates[laid.found] if laid.by_hand else gates, woven_by(laid, weaving)
    if way == "joint-light":
        picture, shares = joint_light(alone, gates, weaving, box, level)
    elif way == "crisp-seams":
        picture, shares = _crisp(alone, gates, weaving, [], box, level)
    else:
        piece = piece_of(alone, gates, weaving, box, level)
        picture, shares = _inner(piece, *PLAIN[way](piece))
    masks = {laid.found[k]: share for k, share in shares.items()}
    if laid.reference in laid.by_hand:
        beyond = ~np.any([laid.covers(k, level, box) for k in laid.found], axis=0)
        picture[beyond] = laid.read(laid.reference, level, box)[beyond] if beyond.any() else 0
        for mask in masks.values():
            mask[beyond] = 0
        masks[laid.reference] = beyond.astype(np.float32)
    return picture, masks


def _crisp(laid: RegisteredFrames, gates: FloatArray, weaving: Weaving, strokes: Sequence[Stroke], box: Box, level: int) -> Woven:
    """Crisp seams with masks by hand and the strokes in and out."""
    piece = piece_of(laid, gates, weaving, box, level, _beside(strokes, laid))
    return _inner(piece, *crisp_seams(piece, strokes))


def _inner(piece: Piece, picture: FloatArray, masks: dict[int, FloatArray]) -> Woven:
    return np.ascontiguousarray(picture[piece.inner]), {k: np.ascontiguousarray(mask[piece.inner]) for k, mask in masks.items()}


def _regions(strokes: Sequence[Stroke], laid: RegisteredFrames, box: Box, level: int) -> list[tuple[Stroke, FloatArray]]:
    """Strokes that ask for another way in a box, with how far (h, w) they cover it."""
    meeting = [s for s in strokes if s.action == "way" and _meets(s.bounds(), box, level)]
    return [(s, cover) for s in meeting if (cover := cover_of(s, laid, box, level)) is not None]


def distances_in(laid: RegisteredFrames, gates: FloatArray, weaving: Weaving, box: Box, level: int) -> FloatArray | None:
    """How far off (h, w) what a box shows lies, from 0 for the nearest frame to 1, as the masks have it; None where there is no sharp span."""
    if laid.limits is None:
        return None
    piece = piece_of(laid.alone, gates[laid.found] if laid.by_hand else gates, weaving, box, level)
    places = sum((mask * np.float32(laid.limits.at[k]) for k, mask in weights_in(piece).items()), np.zeros((piece.wide[3], piece.wide[2]), np.float32))
    return np.ascontiguousarray(cv2.GaussianBlur(places, (0, 0), max(0.3, SMOOTH * 0.5**level), borderType=cv2.BORDER_REPLICATE)[piece.inner], np.float32)


def limit(picture: FloatArray, masks: dict[int, FloatArray], laid: RegisteredFrames, places: FloatArray | None, box: Box, level: int) -> None:
    """Lay the last frames within the sharp span over what lies beyond it, and into the masks, in place. `places` are `distances_in` the box."""
    if laid.limits is None or places is None:
        return
    alone = laid.alone
    for k, first, last in laid.limits.last():
        t = np.clip((places - first) / (last - first), 0, 1) * alone.covers(k, level, box)
        cover = np.asarray(t * t * (3 - 2 * t), np.float32)
        if not cover.any():
            continue
        picture += (alone.read(k, level, box) - picture) * cover[..., None]
        for j in {*masks, laid.found[k]} if masks else ():
            before = masks.get(j, np.zeros_like(cover))
            masks[j] = before + (np.float32(j == laid.found[k]) - before) * cover


def _lay_ways(picture: FloatArray, regions: Sequence[tuple[Stroke, FloatArray]], laid: RegisteredFrames, gates: FloatArray, weaving: Weaving, box: Box, level: int) -> None:
    """Weave regions by the ways they ask for, in their order, in place."""
    woven = {"": picture.copy()} if regions else {}
    for stroke, cover in regions:
        if stroke.way not in woven:
            woven[stroke.way] = found_in(laid, gates, weaving.of_region(stroke.way), box, level)[0]
        picture += (woven[stroke.way] - picture) * cover[..., None]


def masks_in(laid: RegisteredFrames, gates: FloatArray, weaving: Weaving, strokes: Sequence[Stroke], box: Box, level: int) -> dict[int, FloatArray]:
    """The masks of `weave_box`, without its picture where that is not needed."""
    if laid.limits or woven_by(laid, weaving) not in ("joint-light", "crisp-seams"):
        return weave_box(laid, gates, weaving, strokes, box, level)[1]
    touching = _touching(strokes, laid, weaving, box, level)
    piece = piece_of(laid, gates, weaving, box, level, _beside(touching, laid))
    masks = weights_in(piece)
    paint(masks, piece, touching)
    return {k: np.ascontiguousarray(mask[piece.inner]) for k, mask in masks.items()}


def repaint(
    picture: FloatArray,
    laid: RegisteredFrames,
    gates: FloatArray,
    weaving: Weaving,
    strokes: Sequence[Stroke],
    box: Box,
    level: int,
    below: Below | None = None,
    places: FloatArray | None = None,
) -> None:
    """Lay what a hand decided over a weave (h, w, 3) without it that is there, in place. `below` reads that weave elsewhere (else it is woven
    there), `places` are `distances_in` the box where they are known."""
    if laid.limits:
        limit(picture, {}, laid, distances_in(laid, gates, weaving, box, level) if places is None else places, box, level)
    for part in touched(strokes, laid, box, level):
        there = picture[meeting(box, part)[0]]
        _repaint(there, laid, gates, weaving, strokes, part, level)
        draw_over(there, laid, strokes, below or (lambda at, where: found_in(laid, gates, weaving, where, at)[0]), part, level)


def _repaint(picture: FloatArray, laid: RegisteredFrames, gates: FloatArray, weaving: Weaving, strokes: Sequence[Stroke], box: Box, level: int) -> None:
    regions = _regions(strokes, laid, box, level)
    if regions or laid.limits or woven_by(laid, weaving) != "crisp-seams":
        _lay_ways(picture, regions, laid, gates, weaving, box, level)
        _paint(picture, {}, laid, gates, weaving, strokes, box, level)
        return
    after = weave_box(laid, gates, weaving, [s for s in strokes if not s.mends], box, level)[0]
    # at smaller sizes the strokes' change is laid over the stored picture, so that nothing else moves
    picture += after - (found_in(laid, gates, weaving, box, level)[0] if level else picture)


def _paint(picture: FloatArray, masks: dict[int, FloatArray], laid: RegisteredFrames, gates: FloatArray, weaving: Weaving, strokes: Sequence[Stroke], box: Box, level: int) -> None:
    """Where masks were painted or are made by hand, lay the frames that they let through over a weave of another way, and into its masks,
    in place."""
    touching = _touching(strokes, laid, weaving, box, level)
    covers = [cover for stroke in touching if (cover := cover_of(stroke, laid, box, level)) is not None]
    covers += [mask.within(level, box) for mask in laid.by_hand.values() if not mask.hidden]
    if not covers or not any(cover.any() for cover in covers):
        return
    piece = piece_of(laid, gates, weaving, box, level, _beside(touching, laid))
    wide, shares = crisp_seams(piece, touching)
    cover = np.minimum(np.float32(EVIDENT) * np.max(covers, axis=0), np.float32(1))
    picture += (wide[piece.inner] - picture) * cover[..., None]
    for k in {*masks, *shares} if masks else ():
        before = masks.get(k, np.zeros_like(cover))
        after = shares[k][piece.inner] if k in shares else np.zeros_like(cover)
        masks[k] = before + (after - before) * cover


def _touching(strokes: Sequence[Stroke], laid: RegisteredFrames, weaving: Weaving, box: Box, level: int) -> list[Stroke]:
    """The strokes that change masks in what is read for a box."""
    wide = wide_of(laid, box, level, weaving.octaves)
    return [s for s in strokes if s.action in ("in", "out") and s.frame in laid.names and _meets(s.bounds(), wide, level)]


def _beside(strokes: Sequence[Stroke], laid: RegisteredFrames) -> list[int]:
    """The frames of strokes, and their neighbours, that take over what is painted out."""
    painted = [list(laid.names).index(stroke.frame) for stroke in strokes]
    return sorted({j for k in painted for j in (k - 1, k, k + 1) if 0 <= j < len(laid.names)})


def _meets(bounds: Box, box: Box, level: int) -> bool:
    x, y, w, h = (v * 2**level for v in box)
    return bounds[0] < x + w and bounds[0] + bounds[2] > x and bounds[1] < y + h and bounds[1] + bounds[3] > y


def touched(strokes: Sequence[Stroke], laid: RegisteredFrames, box: Box, level: int) -> list[Box]:
    """The parts of a box of the picture halved `level` times in which strokes or masks by hand can change something; none meets another."""
    x, y, w, h = box
    if not all(mask.hidden for mask in laid.by_hand.values()):
        return [box]
    parts: list[Box] = []
    for bounds in (stroke.bounds() for stroke in strokes):
        left, top = max((bounds[0] >> level) - MARGIN, x), max((bounds[1] >> level) - MARGIN, y)
        right, bottom = min((bounds[0] + bounds[2] >> level) + MARGIN, x + w), min((bounds[1] + bounds[3] >> level) + MARGIN, y + h)
        if right <= left or bottom <= top:
            continue
        part, apart = (left, top, right - left, bottom - top), False
        while not apart:
            # what meets it becomes one with it, and that may meet others
            others = [other for other in parts if not _meets(other, part, 0)]
            apart = len(others) == len(parts)
            for other in parts:
                part = _around(part, other) if other not in others else part
            parts = others
        parts.append(part)
    return parts


def _around(one: Box, other: Box) -> Box:
    left, top = min(one[0], other[0]), min(one[1], other[1])
    right, bottom = max(one[0] + one[2], other[0] + other[2]), max(one[1] + one[3], other[1] + other[3])
    return left, top, right - left, bottom - top
