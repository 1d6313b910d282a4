"""Weave: sharp zones blended, masks painted."""

from __future__ import annotations

import json
from typing import Any, cast

import numpy as np
from flask import Blueprint, Response, abort
from pydantic import ValidationError

from ...core.masks.strokes import Stroke
from ...core.mend.heal import around_spot, source_for
from ...core.weave.laid import REGIONS, WAYS, WayName, Weaving
from ...core.weave.weave import woven_by
from ...imaging.brush import draw_line
from ...parameter import controls
from ...pipeline.scene import why_veils_stay
from ...pipeline.steps import Lift, veils_of
from ...pipeline.view import View
from ...recipe import Recipe
from ..scene import decided, posted, posted_control, queued, stage_page
from ..scene.opened import ScenePage, opened
from ..scene.stages import stage
from ..security import refuse

blueprint = Blueprint("weave", __name__, template_folder="templates", url_prefix="/scene/<int:number>/weave")
CONTROLS = {c.name: c for c in controls(Weaving)}
VEIL = {c.name: c for c in controls(Recipe)}
"""The strength of lifting, which asks for no new weave."""


@stage("weave", "Weave")
def bench(scene: ScenePage) -> dict[str, Any]:
    strokes = [s for s in scene.recipe.strokes if not s.mends]
    laid = scene.view.laid if scene.view else None
    located = scene.plan.labelled.located if scene.plan else None
    stands_in = bool(laid and located and scene.has(located.key) and woven_by(laid, scene.recipe.weaving) != scene.recipe.weaving.way)
    lifted = veils_of(scene.desk.library.cache, scene.plan.result.key) if scene.plan and isinstance(scene.plan.result, Lift) and scene.woven else None
    return {
        "starts": hand.STARTS,
        "evidence": scene.plan.labelled.registered.key if scene.plan and scene.view and scene.view.gates is not None else "",
        "variants": variants.listed(scene),
        "kept_name": variants.name_for(scene.recipe),
        "ways": WAYS,
        "stands_in": stands_in,
        "veil": scene.recipe.veil,
        "veils": lifted,
        "why_veils_stay": why_veils_stay(scene.recipe.weaving.way, len(scene.recipe.found())),
        "strength": VEIL["veil_strength"],
        "controls": list(CONTROLS.values()),
        "values": scene.recipe.weaving,
        "start": Weaving(),
        "mask_strokes": len(strokes),
        "regions": [(name, label) for name, label in REGIONS.items() if name != "joint-light" or (scene.recipe.weaving.way == name and scene.recipe.veil == "lift")],
    }


@blueprint.get("")
def page(number: int) -> str:
    return stage_page(number, "weave")


@blueprint.post("/set")
def set_value(number: int) -> str:
    control, value = posted_control(CONTROLS)
    said = f"{control.label} {value:g} {control.unit}".strip()
    return decided(number, "weave", said, lambda recipe: recipe.model_copy(update={"weaving": Weaving(**{**recipe.weaving.model_dump(), control.name: value})}))


@blueprint.post("/way")
def way(number: int) -> str:
    chosen = cast(WayName, posted("value"))
    if chosen not in WAYS:
        refuse("There is no such way to weave. Choose one of those offered.")
    return decided(number, "weave", f"Woven by {WAYS[chosen][0].lower()}", lambda recipe: recipe.model_copy(update={"weaving": Weaving(**{**recipe.weaving.model_dump(), "way": chosen})}), bench=True)


@blueprint.post("/veil")
def veil(number: int) -> str:
    """Lift veils, or leave them as they are."""
    chosen = posted("value")
    if chosen not in ("lift", "leave"):
        refuse("Veils are lifted or left. Choose one of these.")
    return decided(number, "weave", "Veils lifted" if chosen == "lift" else "Veils left as they are", lambda recipe: recipe.model_copy(update={"veil": chosen}), bench=True)


@blueprint.post("/strength")
def strength(number: int) -> str:
    """How much of a veil is lifted."""
    control, value = posted_control(VEIL)
    return decided(number, "weave", f"Veils lifted by {value:g} %", lambda recipe: recipe.model_copy(update={control.name: value}))


@blueprint.post("/reset")
def reset(number: int) -> str:
    group, start = posted("group"), Weaving().model_dump()
    names = [c.name for c in CONTROLS.values() if group in ("all", c.group)]
    return decided(
        number,
        "weave",
        f"{group} reset",
        lambda recipe: recipe.model_copy(update={"weaving": Weaving(**{**recipe.weaving.model_dump(), **{n: start[n] for n in names}})}),
        bench=True,
    )


def stroked(number: int, slug: str) -> str:
    """Add the stroke that was posted as JSON to the scene, in masks or drawn over the weave."""
    try:
        stroke = Stroke.model_validate(json.loads(posted("stroke")))
    except (ValueError, ValidationError, RecursionError):
        refuse("That stroke cannot be used. Load the page again.")
    if stroke.mends != (slug == "mend"):
        refuse("That brush belongs to another stage.")
    if stroke.action == "heal":
        stroke = healed(number, stroke)
        return decided(number, slug, "A spot healed", lambda recipe: recipe.model_copy(update={"strokes": [*recipe.strokes, stroke]}), bench=True)
    if stroke.action == "way":
        if stroke.way not in ("", *REGIONS):
            refuse("There is no such way to weave. Choose one of those offered.")
        said = f"A region woven by {REGIONS[stroke.way].lower()}" if stroke.way else "A region as it was woven"
        return decided(number, slug, said, lambda recipe: recipe.model_copy(update={"strokes": [*recipe.strokes, stroke]}), bench=True)
    called = painter(opened(number), stroke)
    said = {"in": f"{called} painted in", "out": f"{called} painted out", "draw": f"Drawn from {called[0].lower()}{called[1:]}"}[stroke.action]
    return decided(number, slug, said, lambda recipe: recipe.model_copy(update={"strokes": [*recipe.strokes, stroke]}), bench=True)


def painter(scene: ScenePage, stroke: Stroke) -> str:
    """What a stroke paints with, in words; refused where that cannot be: only what has a part in the weave has a mask, and what has none can be drawn
    from once it is registered."""
    for place, frame in enumerate(scene.recipe.frames, 1):
        exposures = {e.id: f"Exposure {place}.{k}" for k, e in enumerate(frame.exposures, 1)}
        if frame.id != stroke.frame and stroke.frame not in exposures:
            continue
        called = exposures.get(stroke.frame, f"Frame {place}")
        if frame.state == "keep" and frame.id == stroke.frame:
            return called
        if stroke.action != "draw":
            refuse("This frame is left out. Bring it back before you paint with it.")
        if scene.view is None or scene.view.laid is None or stroke.frame not in scene.view.laid.beside:
            refuse(f"{called} has no part in the weave. Register it under By hand; then it can be drawn from.")
        return called
    abort(404)


LARGE_SPOT = 320
"""Pixels of a spot above which its source is sought in a smaller picture."""


def healed(number: int, stroke: Stroke) -> Stroke:
    """A stroke that heals with the source that suits it best; one that was chosen stays."""
    view = opened(number).view
    if stroke.source != (0, 0) or view is None:
        return stroke
    try:
        return with_source(view, stroke)
    except ValueError:
        refuse("There is nothing around that could stand there. Take a narrower brush.")


def with_source(view: View, stroke: Stroke) -> Stroke:
    """A stroke that heals with the source that suits it best. Raises ValueError where there is none."""
    level = 0
    while level < view.levels - 1 and max(stroke.bounds()[2:]) >> level > LARGE_SPOT:
        level += 1
    x, y, w, h = (v >> level for v in stroke.bounds())
    box = around_spot((x, y, max(1, w), max(1, h)), view.size_at(level))
    cover = draw_line(stroke, box, level)
    right, down = source_for(view.weave(level, box), cover if cover is not None else np.zeros((1, 1), np.float32))
    return stroke.model_copy(update={"source": (float(right << level), float(down << level))})


def cleared(number: int, slug: str, said: str) -> str:
    """Take away all strokes of a stage."""
    mending = slug == "mend"

    def without(recipe: Recipe) -> Recipe:
        return recipe.model_copy(update={"strokes": [s for s in recipe.strokes if s.mends != mending]})

    return decided(number, slug, said, without, bench=True)


@blueprint.post("/stroke")
def stroke(number: int) -> str:
    return stroked(number, "weave")


@blueprint.post("/clear")
def clear(number: int) -> str:
    return cleared(number, "weave", "Painted masks cleared")


@blueprint.post("/go")
def go(number: int) -> Response:
    return queued(number, "weave", "weave")


from . import hand, variants  # noqa: E402  (their routes belong to this blueprint)
