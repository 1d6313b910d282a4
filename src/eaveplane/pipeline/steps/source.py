"""What a delivery is made of: a weave and its frames, opened as its recipe asks for them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

from ...core.depth.distance import distances_of
from ...core.depth.order import order_of
from ...core.develop.develop import needs_guide
from ...core.develop.relief import guide_of
from ...core.finish.finish import needs_order
from ...core.masks.parts import Site
from ...core.weave.laid import ByHand, RegisteredFrames
from ...imaging.colour import FloatArray, Matrix
from ...imaging.light import light_of
from ...imaging.pyramid import Box, Size
from ...recipe import Recipe
from ..cache import Cache
from ..canvas import canvas_of
from ..ticket import Ticket
from .finish import Development, finished, reduces_noise, without_noise
from .frame import Frame, open_frame
from .label import open_labels
from .mask import by_hand
from .register import Register, Registration, laid_beside, open_registration, registered_frames
from .weave import Weave, WovenPicture, apply_strokes, open_lifted, places_for


@dataclass(frozen=True, eq=False)
class Source:
    """A weave that lies under the key `result`, under a recipe, and what lies `beside` it. Stroke frames are ids, in the order of `recipe.kept()`."""

    cache: Cache
    woven: Weave
    result: str
    beside: Mapping[str, Register]
    recipe: Recipe

    @cached_property
    def frames(self) -> list[Frame]:
        return [open_frame(self.cache, frame) for frame in self.woven.labelled.registered.frames]

    @cached_property
    def registration(self) -> Registration:
        return open_registration(self.cache, self.woven.labelled.registered.key)

    @property
    def reference(self) -> Frame:
        return self.frames[self.registration.reference]

    @property
    def levels(self) -> WovenPicture:
        return open_lifted(self.cache, self.woven, self.result, self.recipe.veil_strength)

    @property
    def size(self) -> Size:
        return self.registration.size

    @cached_property
    def hand(self) -> ByHand:
        return by_hand(self.cache, self.recipe, self.size)

    @cached_property
    def readers(self) -> RegisteredFrames:
        kept = self.recipe.kept()
        trims = [f.trim for f in kept]
        laid = registered_frames(self.frames, [f.id for f in kept], self.registration, self.recipe.even_out, trims, places_for(self.cache, self.woven), self.hand)
        return laid_beside(laid, self.cache, self.beside, trims[laid.reference])

    @cached_property
    def weights(self) -> FloatArray:
        return open_labels(self.cache, self.woven.labelled.key)

    @cached_property
    def canvas(self) -> Box:
        ids = [f.id for f in self.recipe.kept()]
        return canvas_of(self.recipe, {id: placement.corners() for id, placement in zip(ids, self.registration.placements, strict=True)}, self.size)

    def picture(self, tell: Ticket) -> FloatArray:
        """The whole weave (h, w, 3) with what was painted, before its noise is reduced."""
        picture = self.levels.read(0, (0, 0, *self.size))
        if self.recipe.strokes or self.hand.masks or self.hand.limits:
            apply_strokes(picture, self.readers, self.weights, self.recipe.weaving, self.recipe.strokes, self.levels.read, tell)
        return picture

    def development(self, picture: FloatArray, shown: Matrix) -> Development:
        """What develops a whole weave (h, w, 3), and frames like it; `shown` (3, 3) makes the channels it will be shown by of working light."""
        guide = None
        if needs_guide(self.recipe.look):
            guide = guide_of(picture, self.size, distances_of(self.weights, [frame.meta.focus_m for frame in self.frames]))
        return Development(self.recipe.look, self.reference.shot, self.size, guide, shown)

    def clean(self, picture: FloatArray) -> FloatArray:
        """A whole weave (h, w, 3) without its noise, where that is asked for."""
        finishing = self.recipe.finish.shown()
        return without_noise(picture, self.readers, self.weights, finishing) if reduces_noise(finishing) else picture

    def finished(self, picture: FloatArray, look: Development) -> FloatArray:
        """The canvas of a whole clean weave (h, w, 3), developed, with its light finished."""
        finishing = self.recipe.finish.shown()
        return finished(picture, look, finishing, self.canvas, order_of(self.weights, picture) if needs_order(finishing) else None)

    def light_and_order(self, picture: FloatArray, look: Development) -> tuple[FloatArray, FloatArray | None]:
        """What painted light is bound to: the developed picture's light (h, w, 3) and its places from near to far (h, w), where a map asks for them."""
        site = Site(self.size, 0, (0, 0, *self.size))
        order = order_of(self.weights, picture).at(site, picture) if needs_order(self.recipe.finish) else None
        return light_of(look.of(picture, site)), order
