"""Writing the finished picture."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np

from ...core.depth.distance import distances_of
from ...core.depth.order import DepthOrder, order_of
from ...core.develop.develop import develop, needs_guide
from ...core.develop.look import Light, Look
from ...core.develop.relief import Guide, guide_of
from ...core.finish.finish import Known, changes_light, finish, known_of, lay_light, needs_order, needs_whole, rendition
from ...core.finish.noise import changes, denoised, measure
from ...core.finish.settings import Finish
from ...core.masks.parts import Site
from ...core.weave.laid import RegisteredFrames
from ...imaging.colour import FloatArray, Matrix
from ...imaging.formats.registry import write_picture
from ...imaging.icc import Encoding, standard_encoding
from ...imaging.light import to_codes
from ...imaging.pyramid import Box, Size
from ...recipe import Recipe
from ..cache import Cache
from ..canvas import canvas_of
from ..ticket import Ticket
from .frame import Frame, encoding_of, open_frame
from .label import open_labels
from .mask import by_hand
from .register import open_registration, registered_frames
from .weave import Weave, apply_strokes, open_weave, places_for


def deliver(root: str, woven: Weave, result: str, recipe: Recipe, out: str, replace: bool, ticket: str) -> str:
    """Strokes, look, finish of a weave as it lies under the key `result`; write the picture to `out`. Stroke frames are ids, in the order
    of `recipe.kept()`."""
    cache, tell = Cache(Path(root)), Ticket(ticket)
    tell.tell(0.01)
    registered = woven.labelled.registered
    frames, laid = [open_frame(cache, frame) for frame in registered.frames], open_registration(cache, registered.key)
    source = frames[laid.reference]
    target = output_encoding(source, recipe)
    picture = open_weave(cache, result).whole(0)
    guided, finishing = needs_guide(recipe.look), recipe.finish.shown()
    hand = by_hand(cache, recipe, laid.size)
    painted, noisy, deep = bool(recipe.strokes or hand.masks or hand.limits), changes(finishing.noise), needs_order(finishing)
    weights = open_labels(cache, woven.labelled.key) if painted or guided or noisy or deep else np.empty(0, np.float32)
    size = (picture.shape[1], picture.shape[0])
    guide = guide_of(picture, size, distances_of(weights, [frame.meta.focus_m for frame in frames])) if guided else None
    readers = registered_frames(frames, [f.id for f in recipe.kept()], laid, recipe.even_out, [f.trim for f in recipe.kept()], places_for(cache, woven), hand)
    if painted:
        apply_strokes(picture, readers, weights, recipe.weaving, recipe.strokes, open_weave(cache, result).read, tell)
    if noisy:
        picture = _without_noise(picture, readers, weights, finishing)
    canvas = canvas_of(recipe, {f.id: placement.corners() for f, placement in zip(recipe.kept(), laid.placements, strict=True)}, size)
    tell.tell(0.5)
    # colours are drawn into what the target can hold, then carried in the widest primaries to be encoded
    look = Development(recipe.look, source.shot, size, guide, np.asarray(np.linalg.inv(target.to_work), np.float64))
    picture = _finished(picture, look, finishing, canvas, order_of(weights, picture) if deep else None)
    tell.tell(0.65)
    picture = finish(picture, finishing, recipe.delivery.long_edge)
    codes = to_codes(picture, target)
    del picture
    tell.tell(0.8)
    write_picture(Path(out), codes, target.profile, source.meta, int(recipe.delivery.quality), replace)
    tell.tell(1.0)
    return out


@dataclass(frozen=True)
class Development:
    """The look of a picture of a size (w, h), and what makes the channels it is shown by of working light (3, 3)."""

    look: Look
    shot: Light
    size: Size
    guide: Guide | None
    shown: Matrix

    def of(self, root: FloatArray, site: Site) -> FloatArray:
        """A piece in the weaving encoding, developed, in working light."""
        return develop(root, self.look, self.shot, "rec2020", site, self.guide, self.shown)


def _without_noise(picture: FloatArray, readers: RegisteredFrames, weights: FloatArray, finishing: Finish) -> FloatArray:
    def part(box: Box) -> FloatArray:
        x, y, w, h = box
        return picture[y : y + h, x : x + w]

    size = readers.size
    noise = measure(part, [partial(readers.read, k, 0) for k in range(len(weights))], size, weights)
    return denoised(picture, finishing.noise, noise, Site(size, 0, (0, 0, *size)))


def _finished(picture: FloatArray, look: Development, finishing: Finish, canvas: Box, order: DepthOrder | None) -> FloatArray:
    """The canvas (x, y, w, h) of a weave (h, w, 3), developed, with all that is done to its light."""
    known = Known()
    if needs_whole(finishing):
        level, small = rendition(picture)
        site = Site(look.size, level, (0, 0, small.shape[1], small.shape[0]))
        known = known_of(finishing, small, look.of(small, site), order, site)
    x, y, w, h = canvas
    woven, site = np.ascontiguousarray(picture[y : y + h, x : x + w]), Site(look.size, 0, canvas)
    developed = look.of(woven, site)
    if changes_light(finishing):
        developed = developed.copy() if developed is woven else developed
        lay_light(developed, woven, finishing, site, known, canvas, look.shown)
    return developed


def output_encoding(source: Frame, recipe: Recipe) -> Encoding:
    """What the result is written in: the input's own encoding (sRGB for raw), or the one chosen."""
    if recipe.delivery.profile != "input":
        return standard_encoding(recipe.delivery.profile)
    # frames that were corrected or merged are kept in an encoding of our own: what the file said is kept beside it
    profile = (source.folder / "profile.icc").read_bytes()
    return standard_encoding("srgb") if source.raw or not profile else encoding_of(profile)
