"""The weave as it will be finished, for any box at any level, and the very pixels of the output around a place."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ...core.depth.order import DepthOrder, order_of
from ...core.develop.develop import develop, for_screen, needs_guide, reaches
from ...core.develop.look import Look
from ...core.finish import maps, noise
from ...core.finish.finish import Known, Whole, changes_light, known_of, lay_light, level_of, needs_order, needs_whole, reach_of, whole_of
from ...core.finish.geometry import cut_part, cut_size, keystone, to_output
from ...core.finish.level import WIDE, Level, tilt_of
from ...core.finish.output import Sharpening, grain_width, lay_grain, sharpened, sharpening_for
from ...core.finish.output import reach_of as sharpening_reach
from ...core.finish.settings import Finish
from ...core.masks.parts import Site
from ...imaging.colour import SRGB_FROM_WORK, FloatArray
from ...imaging.light import light_of, root_into, root_luma
from ...imaging.placement import scaled, through
from ...imaging.pyramid import Box, Size
from ...imaging.resample import warp
from ..depth import depth_colour, hatch
from .overlays import AREA as MAPPED
from .overlays import ViewOptions
from .view import View, around, cut_out, level_for, short

LEAST_RADIUS = 0.3
"""Sharpening with a smaller radius on screen is not seen there."""
WHOLE = 0.999
"""Pixels of the output for one of the weave from which on grain is seen as it will be."""


def made_upright(view: View, level: int, box: Box, options: ViewOptions, draw: Callable[[Box], NDArray[Any]]) -> NDArray[Any]:
    """What `draw` makes of a box (h, w, 3), with the finish's uprights upright; black beyond the picture."""
    if options.finish is None or len(options.finish.uprights) < 2:
        return draw(box)
    matrix = scaled(keystone(options.finish.uprights, options.canvas), 1 << level)
    x, y, w, h = box
    corners = through(np.array([[x, y], [x + w, y], [x, y + h], [x + w, y + h]], np.float64), np.asarray(np.linalg.inv(matrix), np.float64))
    low, high = np.floor(corners.min(axis=0)).astype(int) - 4, np.ceil(corners.max(axis=0)).astype(int) + 5
    source = view.box_inside(level, (int(low[0]), int(low[1]), int(high[0] - low[0]), int(high[1] - low[1])))
    drawn = draw(source)
    laid = warp(drawn, matrix @ np.array([[1.0, 0, source[0]], [0, 1, source[1]], [0, 0, 1]]), box)
    return np.clip(np.rint(laid), 0, 255).astype(np.uint8) if drawn.dtype == np.uint8 else laid


def finished(view: View, what: str, level: int, box: Box, options: ViewOptions) -> FloatArray:
    """The signed square root (h, w, 3) of linear sRGB light of `weave` or what stands for it, developed and finished, uprights upright, but not
    turned, cropped or brought to size.

    Sharpening is shown where an output's pixel is seen, grain where it is seen as it will be.
    """
    return made_upright(view, level, box, options, lambda part: _finished(view, what, level, part, options))


def _finished(view: View, what: str, level: int, box: Box, options: ViewOptions) -> FloatArray:
    assert options.finish is not None
    finish = options.finish.shown()
    longest = max(options.size)
    output = longest / max(cut_size(finish, options.canvas))
    sharpening = sharpening_for(finish, longest)
    radius = sharpening.radius / output * 0.5**level
    sharpening = Sharpening(sharpening.amount if radius >= LEAST_RADIUS else 0, radius, sharpening.spare)
    margin = sharpening_reach(sharpening)
    wide = around(box, margin, view.size_at(level)) if margin else box
    picture = lit(view, what, level, wide, options, finish)
    picture = cut_out(sharpened(picture.copy(), sharpening), wide, box) if margin else picture
    if finish.grain.strength and level == 0 and output > WHOLE:
        picture = picture.copy()
        lay_grain(picture, finish.grain, grain_width(finish.grain, finish.paper, longest), (box[0] - options.canvas[0], box[1] - options.canvas[1]))
    return picture


def lit(view: View, what: str, level: int, box: Box, options: ViewOptions, finish: Finish) -> FloatArray:
    """The same before sharpening and grain."""
    noisy = noise.changes(finish.noise) and view.woven is not None and what == "weave"
    if not noisy and not changes_light(finish):
        return view.developed(what, level, box, options.look)
    margin = max(reach_of(finish, level), reaches(options.look, level), noise.REACH if noisy else 0)
    wide = around(box, margin, view.size_at(level)) if margin else box
    site = Site(view.size, level, wide)
    woven = view.weave(level, wide) if what == "weave" else view.frame(what.partition(":")[2], level, wide)
    if noisy:
        woven = noise.denoised(woven, finish.noise, woven_noise(view), site)
    guide = view.guide() if needs_guide(options.look) else None
    picture = develop(woven, options.look, view.shot, "rec2020", site, guide, SRGB_FROM_WORK)
    picture = picture.copy() if picture is woven else picture
    lay_light(picture, woven, finish, site, known(view, options, finish), options.canvas, SRGB_FROM_WORK)
    return cut_out(root_into(picture, SRGB_FROM_WORK), wide, box)


def known(view: View, options: ViewOptions, finish: Finish) -> Known:
    """What a finish needs to know of the whole picture; kept, and made of what it depends on only."""
    if not needs_whole(finish):
        return Known()
    deep = needs_order(finish)
    name = short(view.weave_version(), options.look, deep)

    def made() -> Whole:
        level = level_of(view.size)
        box = view.box_inside(level, (0, 0, *view.size))
        site, woven = Site(view.size, level, box), view.weave(level, box)
        guide = view.guide() if needs_guide(options.look) else None
        developed = develop(woven, options.look, view.shot, "rec2020", site, guide, SRGB_FROM_WORK)
        return whole_of(woven, developed, depth_order(view) if deep else None, site)

    def told() -> Known:
        return known_of(finish, view.guides.get(("whole", name), made))

    # what glows depends on all that comes before it; near and far do not
    found: Known = view.guides.get(("known", name, short(finish.air, finish.light, finish.glow) if finish.glow.strength else ""), told)
    return found


def depth_order(view: View) -> DepthOrder | None:
    """Where everything stands from near to far; None before it has been found which frame is sharp where."""
    if view.gates is None:
        return None
    gates = view.gates

    def made() -> DepthOrder:
        level = 0
        while level < view.levels - 1 and -(-view.size[0] >> (level + 1)) >= gates.shape[2]:
            level += 1
        return order_of(gates, view.weave(level, view.box_inside(level, (0, 0, *view.size))))

    found: DepthOrder = view.guides.get(short("order", view.weave_version()), made)
    return found


def woven_noise(view: View) -> noise.WovenNoise:
    """The noise that the weave has left, place by place."""
    laid, gates = view.laid, view.gates
    assert laid is not None and gates is not None

    def made() -> noise.WovenNoise:
        return noise.measure(lambda part: view.weave(0, part), [lambda part, k=k: laid.read(k, 0, part) for k in range(len(gates))], view.size, gates)  # type: ignore[misc]

    found: noise.WovenNoise = view.guides.get(short("noise", view.weave_version()), made)
    return found


def place_in(view: View, level: int, box: Box) -> FloatArray:
    """From 0, near, to 1, far, what a box shows (h, w); a half where nothing is known."""
    order = depth_order(view)
    return np.full((box[3], box[2]), 0.5, np.float32) if order is None else order.at(Site(view.size, level, box), view.weave(level, box))


# ---- what is told of it ---------------------------------------------------------------------------------------


def painted_map(view: View, words: list[str], level: int, box: Box, look: Look) -> NDArray[np.uint8]:
    """A map of painted light, hatched over the picture in greys; plain where it has nothing."""
    if not words[0].isdecimal():
        raise ValueError(words[0])
    number = int(words[0])
    map_ = view.recipe.finish.light[number]
    wide = around(box, maps.reach_of([map_.model_copy(update={"on": True})], level), view.size_at(level))
    picture = view.developed("weave", level, wide, look)
    order = place_in(view, level, wide) if map_.by_depth else None
    mask = cut_out(maps.coverage_of(map_, Site(view.size, level, wide), light_of(picture), order), wide, box)
    grey = for_screen(cut_out(picture, wide, box)).mean(axis=2, keepdims=True).repeat(3, axis=2)
    strength = mask[..., None] * (0.3 + 0.5 * hatch(number % 6, box)[..., None])
    return np.asarray(grey * (1 - strength) + np.array(MAPPED, np.float32) * strength, np.uint8)


def order_map(view: View, words: list[str], level: int, box: Box, look: Look) -> NDArray[np.uint8]:
    """Where everything stands from near to far, in the rail's colours over the picture's greys."""
    grey = for_screen(view.developed("weave", level, box, look)).mean(axis=2, keepdims=True)
    place = np.rint(place_in(view, level, box) * 63).astype(np.uint8)
    colours = np.array([depth_colour(k, 64) for k in range(64)], np.float32)
    return np.asarray(grey * 0.45 + colours[place] * 0.55, np.uint8)


def found_level(view: View) -> Level | None:
    """What is level in the weave, its lines in pixels of the picture."""

    def made() -> Level | None:
        level, box = level_for(view, (0, 0, *view.size), WIDE)
        return tilt_of(root_luma(view.weave(level, box)))

    found: Level | None = view.guides.get(short("level", view.weave_version()), made)
    if found is None:
        return None
    w, h = view.size
    return Level(found.tilt, found.by, tuple((x0 * w, y0 * h, x1 * w, y1 * h) for x0, y0, x1, y1 in found.lines))


def proof(view: View, what: str, place: tuple[float, float], size: Size, options: ViewOptions) -> NDArray[np.uint8]:
    """The very pixels (h, w, 3) of the output around a place of the picture: straightened, brought to size, sharpened and grained as in the file.
    At most of a size (w, h), smaller where the output is."""
    assert options.finish is not None
    finish = options.finish.shown()
    whole = options.size
    turn = to_output(finish, options.canvas, whole)
    sharpening = sharpening_for(finish, max(whole))
    margin = sharpening_reach(sharpening)
    x, y = (turn @ [*place, 1])[:2]
    w, h = min(size[0], whole[0]), min(size[1], whole[1])
    left, top = (int(min(max(v - side / 2, 0), length - side)) for v, side, length in ((x, w, whole[0]), (y, h, whole[1])))
    x0, y0, x1, y1 = max(0, left - margin), max(0, top - margin), min(whole[0], left + w + margin), min(whole[1], top + h + margin)
    corners = through(np.array([[x0, y0], [x1, y0], [x0, y1], [x1, y1]], np.float64) - 0.5, np.asarray(np.linalg.inv(turn), np.float64))
    low, high = np.floor(corners.min(axis=0)).astype(int) - 4, np.ceil(corners.max(axis=0)).astype(int) + 5
    source = view.box_inside(0, (int(low[0]), int(low[1]), int(high[0] - low[0]), int(high[1] - low[1])))
    picture = lit(view, what, 0, source, options, finish)
    picture = cut_part(picture, source, finish, options.canvas, whole, (x0, y0, x1 - x0, y1 - y0))
    picture = sharpened(picture, sharpening)
    lay_grain(picture, finish.grain, grain_width(finish.grain, finish.paper, max(whole)), (x0, y0))
    return for_screen(np.ascontiguousarray(picture[top - y0 : top - y0 + h, left - x0 : left - x0 + w]))
