"""The finish of a developed picture, in an order that is fixed:

noise (on the weave's own light, before the look, for there it is known), air, painted light, glow, fine detail, vignette; then straightened,
cropped and brought to size; then, at the very pixels of the output, sharpening and grain.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from ...imaging.colour import LUMA, FloatArray, Matrix
from ...imaging.light import light_of
from ...imaging.oklab import LAB_FROM_ROOT, ROOT_FROM_LAB, WHITE_LMS_FROM_WORK, reach
from ...imaging.pyramid import Box, Size
from ...imaging.rows import by_rows, in_strips
from ..depth.order import DepthOrder
from ..develop.look import Light, balance
from ..masks.parts import Site
from . import detail as fine
from . import maps
from .air import airs_of, changes, light_of_distance
from .geometry import cut, cut_size, to_crop
from .glow import SpreadLight, glowing, spread_light
from .kernels import Airs, Colour, Glowing, Painted, light_rows
from .output import grain_width, lay_grain, sharpened, sharpening_for
from .settings import Finish
from .vignette import lay_vignette

MIRED = 100.0
"""Change of the light by the strongest warmth."""
PALE = np.full(3, 0.6, np.float32)


@dataclass(frozen=True, eq=False)
class Known:
    """What only the whole picture tells: where things stand from near to far, the light (3,) of haze, the light that lies around what
    glows. None and grey where nothing asks for them."""

    order: DepthOrder | None = None
    haze: FloatArray | None = None
    glow: SpreadLight | None = None


def needs_order(finish: Finish) -> bool:
    """Whether a finish asks how far off things are."""
    return changes(finish.air) or maps.needs_order(finish.light)


def needs_whole(finish: Finish) -> bool:
    """Whether a finish asks for a rendition of the whole picture."""
    return needs_order(finish) or finish.glow.strength > 0


def changes_light(finish: Finish) -> bool:
    """Whether it does anything between development and geometry."""
    return bool(changes(finish.air) or any(m.acts for m in finish.light) or finish.glow.strength or finish.detail.strength or finish.vignette.strength)


def reach_of(finish: Finish, level: int) -> int:
    """Pixels around a box, at a level, that its finish depends on."""
    return max(maps.reach_of(finish.light, level), fine.reach_of(finish.detail, level))


SMALL = 512
"""Pixels that the long side has at least of what the whole is told from."""


def rendition(root: FloatArray) -> tuple[int, FloatArray]:
    """A whole picture (h, w, 3) halved as often as it may be and still be told from: how often, and it."""
    level = level_of((root.shape[1], root.shape[0]))
    return level, np.asarray(cv2.resize(root, (-(-root.shape[1] >> level), -(-root.shape[0] >> level)), interpolation=cv2.INTER_AREA)) if level else root


def level_of(size: Size) -> int:
    """How often a picture of a size (w, h) is halved for what the whole tells."""
    level = 0
    while max(size) >> (level + 1) >= SMALL:
        level += 1
    return level


@dataclass(frozen=True, eq=False)
class Whole:
    """A small rendition of the whole picture: where it lies, developed in working light (h, w, 3), and what it tells of depth: the order, its
    places (h, w) and the light (3,) of the distance."""

    site: Site
    developed: FloatArray
    order: DepthOrder | None = None
    places: FloatArray | None = None
    haze: FloatArray | None = None


def whole_of(woven: FloatArray, developed: FloatArray, order: DepthOrder | None, site: Site) -> Whole:
    """What a small rendition (h, w, 3) tells, as woven and developed; of depth only where there is an order."""
    if order is None:
        return Whole(site, developed)
    places = order.at(site, woven)
    return Whole(site, developed, order, places, light_of_distance(light_of(developed), places))


def known_of(finish: Finish, whole: Whole) -> Known:
    """What a finish needs to know of the whole picture."""
    if finish.glow.strength == 0:
        return Known(whole.order, whole.haze)
    lit = whole.developed.copy()
    painted, where = maps.laid_out(finish.light, whole.site, light_of(lit), whole.places)
    airs = airs_of(finish.air, PALE if whole.haze is None else whole.haze)
    _lay_rows(lit, _places(whole.places, lit), airs, painted, glowing(finish.glow, None, None, whole.site), colour_for(np.eye(3)))
    return Known(whole.order, whole.haze, spread_light(lit, finish.glow, where))


def _places(order: FloatArray | None, root: FloatArray) -> FloatArray:
    # where nothing is known of depth, all of it lies in the middle
    return order if order is not None else np.full(root.shape[:2], 0.5, np.float32)


def colour_for(shown: Matrix) -> Colour:
    """Matrices for colours, where `shown` (3, 3) makes the channels they are shown by of working light."""
    warmer, cooler = (balance(1e6 / (1e6 / Light().kelvin + sign * MIRED), 0.0, Light()) for sign in (-1, 1))
    most = reach(shown)
    safe = (0.8 * most.min(axis=1)) ** 2
    matrices = (warmer, cooler, shown, WHITE_LMS_FROM_WORK, LAB_FROM_ROOT, ROOT_FROM_LAB, np.linalg.inv(WHITE_LMS_FROM_WORK))
    a, b, c, d, e, f, g = (np.asarray(m, np.float32) for m in matrices)
    return Colour(a, b, c, d, e, f, g, LUMA, most, np.minimum(safe, np.append(safe[1:], 0)))


def lay_light(picture: FloatArray, woven: FloatArray, finish: Finish, site: Site, known: Known, canvas: Box, shown: Matrix) -> None:
    """Air, painted light, glow, fine detail and vignette on a piece (h, w, 3) of a developed picture, signed square root of working light, in place.

    `woven` (h, w, 3) is the same piece before its development; `canvas` (x, y, w, h) in pixels of the full size; `shown` (3, 3) makes the
    channels that it will be shown by of working light. Within `reach_of` of the piece's edges it is only nearly right.
    """
    if not changes_light(finish):
        return
    colour, airs = colour_for(shown), airs_of(finish.air, PALE if known.haze is None else known.haze)
    at_work = airs.on or any(m.acts for m in finish.light) or finish.glow.strength > 0
    place, size = to_crop(finish, canvas), cut_size(finish, canvas)

    def lay(piece: FloatArray, above: int) -> None:
        below = above + len(piece)
        part = site.rows(above, below)
        if at_work:
            order = known.order.at(part, woven[above:below]) if known.order is not None and needs_order(finish) else None
            painted, where = maps.laid_out(finish.light, part, light_of(piece) if finish.light else piece, order)
            _lay_rows(piece, _places(order, piece), airs, painted, glowing(finish.glow, known.glow, where, part), colour)
        fine.lay_detail(piece, finish.detail, site.level)
        lay_vignette(piece, finish.vignette, place, size[0] / size[1], part)

    in_strips(picture, reach_of(finish, site.level), lay)


def _lay_rows(root: FloatArray, order: FloatArray, airs: Airs, painted: Painted, glow: Glowing, colour: Colour) -> None:
    def cut_(map_: FloatArray, a: int, b: int) -> FloatArray:
        return map_[a:b] if len(map_) == len(root) else map_

    def rows(a: int, b: int) -> None:
        laid = painted._replace(steps=cut_(painted.steps, a, b), rich=cut_(painted.rich, a, b), warm=cut_(painted.warm, a, b))
        light_rows(root[a:b], order[a:b], airs, laid, glow._replace(around=cut_(glow.around, a, b), where=cut_(glow.where, a, b)), colour)

    by_rows(rows, *root.shape[:2])


def finish(picture: FloatArray, finishing: Finish, canvas: Box, size: Size) -> FloatArray:
    """Geometry, a size (w, h), sharpening and grain, in that order, of a developed canvas (h, w, 3) in the square root of light, which lies at
    (x, y, w, h) of the reference frame."""
    picture = cut(picture, finishing, canvas, size)
    longest = max(picture.shape[:2])
    picture = sharpened(picture, sharpening_for(finishing, longest))
    lay_grain(picture, finishing.grain, grain_width(finishing.grain, finishing.paper, longest))
    return picture
