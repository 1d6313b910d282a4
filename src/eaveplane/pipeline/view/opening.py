"""Opening a scene's view from what is kept."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ...core.even.capture.settings import Capture
from ...core.weave.places import Places
from ...recipe import Recipe
from ..cache import Cache
from ..scene import Plan, inspection_of
from ..steps import (
    Frame,
    FrameStep,
    Lift,
    Register,
    by_hand,
    corrected_as_read,
    laid_beside,
    open_forming,
    open_frame,
    open_labels,
    open_lifted,
    open_places,
    open_registration,
    open_veils,
    registered_frames,
)
from .memory import Memory
from .view import View

PLAIN = Capture()
NOTHING: Mapping[str, Register] = {}


@dataclass(frozen=True)
class Frames:
    """Frames by id that are there: read plainly, read as the recipe asks (else plainly), and corrected as it asks."""

    plain: Mapping[str, FrameStep]
    read: Mapping[str, FrameStep]
    final: Mapping[str, FrameStep]


def open_view(
    cache: Cache,
    recipe: Recipe,
    there: Frames,
    planned: Plan | None,
    memory: Memory,
    pictures: Memory,
    guides: Memory,
    inspected: Sequence[str] = (),
    beside: Mapping[str, Register] = NOTHING,
) -> View | None:
    """What there is of a scene; None before any frame has been decoded.

    Where a frame has not been corrected yet, it is corrected as it is looked at.
    `inspected` the frames that were looked at, near to far, `beside` what is registered and has no part in the weave; `memory` keeps what many views of a scene have in common, `pictures`
    the last boxes looked at, `guides` what relief and haze know of the last pictures.
    """

    def corrected(id: str, capture: Capture) -> Frame:
        read = there.plain[id] if (capture.demosaic, capture.highlights) == (PLAIN.demosaic, PLAIN.highlights) and id in there.plain else there.read[id]
        plain = memory.get(read.key, lambda: open_frame(cache, read))
        found: Frame = memory.get((read.key, capture), lambda: corrected_as_read(cache, plain, read.key, capture))
        return found

    def opened(id: str) -> Frame:
        if id not in there.final:
            return corrected(id, recipe.capture)
        found: Frame = memory.get(there.final[id].key, lambda: open_frame(cache, there.final[id]))
        return found

    frames = {id: opened(id) for id in [*(f.id for f in recipe.frames), *beside] if id in there.read or id in there.final}
    if not frames:
        return None
    first = next(iter(frames.values()))
    trims = {f.id: f.trim for f in recipe.frames}
    registered, laid, steadied, weights, woven, veils, forming = (None,) * 7
    if planned and planned.registered.is_there(cache):
        registered = memory.get(planned.registered.key, lambda: open_registration(cache, planned.registered.key))
        hand = by_hand(cache, recipe, registered.size)
        laid = registered_frames([frames[i] for i in planned.ids], planned.ids, registered, recipe.even_out, [trims[id] for id in planned.ids], _places(cache, planned, memory), hand)
        laid = laid_beside(laid, cache, beside, trims[planned.ids[planned.reference]])
        if planned.labelled.is_there(cache):
            weights = memory.get(planned.labelled.key, lambda: open_labels(cache, planned.labelled.key))
        there_whole = all(step.is_there(cache) for step in planned.seen)
        made = planned.result if there_whole else planned.woven if planned.woven.is_there(cache) else None
        woven = open_lifted(cache, planned.woven, made.key, planned.strength) if made else None
        veils = open_veils(cache, made.key) if isinstance(made, Lift) else None
        forming = open_forming(cache, planned.woven.key) if weights is not None and not made else None
    elif inspected and all(id in frames for id in inspected):
        ways = [inspection_of([by[id] for id in inspected]).registered for by in (there.final, there.read, there.plain) if all(id in by for id in inspected)]
        key = next((step.key for step in ways if step.is_there(cache)), "")
        if key:
            found = memory.get(key, lambda: open_registration(cache, key))
            steadied = key, registered_frames([frames[id] for id in inspected], list(inspected), found, recipe.even_out, [trims[id] for id in inspected])
    shot = frames[planned.ids[planned.reference]].shot if planned else first.shot
    return View(recipe, first.size, shot, frames, registered, laid, steadied, planned, weights, woven, veils, forming, pictures, guides, corrected)


def _places(cache: Cache, planned: Plan, memory: Memory) -> Places | None:
    """Where the frames of a weave are focused, as far as that has been found."""
    located = planned.labelled.located
    if located is None or not located.is_there(cache):
        return None
    found: Places | None = memory.get(located.key, lambda: open_places(cache, located.key))
    return found
