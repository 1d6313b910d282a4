"""Writing the finished picture."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ...core.depth.distance import distances_of
from ...core.depth.order import order_of
from ...core.develop.develop import needs_guide
from ...core.develop.relief import guide_of
from ...core.finish.finish import finish, needs_order
from ...core.finish.noise import changes
from ...imaging.formats.registry import write_picture
from ...imaging.icc import Encoding, standard_encoding
from ...imaging.light import to_codes
from ...recipe import Recipe
from ..cache import Cache
from ..canvas import canvas_of
from ..ticket import Ticket
from .finish import Development, finished, without_noise
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
        picture = without_noise(picture, readers, weights, finishing)
    canvas = canvas_of(recipe, {f.id: placement.corners() for f, placement in zip(recipe.kept(), laid.placements, strict=True)}, size)
    tell.tell(0.5)
    # colours are drawn into what the target can hold, then carried in the widest primaries to be encoded
    look = Development(recipe.look, source.shot, size, guide, np.asarray(np.linalg.inv(target.to_work), np.float64))
    picture = finished(picture, look, finishing, canvas, order_of(weights, picture) if deep else None)
    tell.tell(0.65)
    picture = finish(picture, finishing, canvas, recipe.delivery.long_edge)
    codes = to_codes(picture, target)
    del picture
    tell.tell(0.8)
    write_picture(Path(out), codes, target.profile, source.meta, int(recipe.delivery.quality), replace)
    tell.tell(1.0)
    return out


def output_encoding(source: Frame, recipe: Recipe) -> Encoding:
    """What the result is written in: the input's own encoding (sRGB for raw), or the one chosen."""
    if recipe.delivery.profile != "input":
        return standard_encoding(recipe.delivery.profile)
    # frames that were corrected or merged are kept in an encoding of our own: what the file said is kept beside it
    profile = (source.folder / "profile.icc").read_bytes()
    return standard_encoding("srgb") if source.raw or not profile else encoding_of(profile)
