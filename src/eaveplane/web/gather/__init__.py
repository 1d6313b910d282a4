"""Gather: the frames of a scene, their names, their order, which of them are left out."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, request

from ...pipeline.frames import in_order
from ...recipe import FrameChoice, Recipe
from ..desk import desk
from ..scene import decided, posted, stage_page
from ..scene.opened import Opened, opened, stage
from ..security import refuse

blueprint = Blueprint("gather", __name__, template_folder="templates", url_prefix="/scene/<int:number>/gather")


@stage("gather", "Gather")
def bench(scene: Opened) -> dict[str, Any]:
    return {"problems": desk().library.outing_problems(scene.row["outing_id"])}


@blueprint.get("")
def page(number: int) -> str:
    return stage_page(number, "gather")


def _with(recipe: Recipe, id: str, **changes: Any) -> Recipe:
    frames = [FrameChoice(**{**f.model_dump(), **changes}) if f.id == id else f for f in recipe.frames]
    return recipe.model_copy(update={"frames": frames})


@blueprint.post("/name")
def name(number: int) -> str:
    id, wanted = posted("frame"), posted("name").strip()[:80]
    opened(number).choice(id)
    return decided(number, "gather", f"Frame named {wanted or 'nothing'}", lambda recipe: _with(recipe, id, name=wanted))


@blueprint.post("/leave-out")
def leave_out(number: int) -> str:
    """Leave a frame out, or bring it back."""
    id = posted("frame")
    scene = opened(number)
    frame = scene.choice(id)
    place = scene.recipe.frames.index(frame) + 1
    slug = request.form.get("stage", "gather")
    if frame.state == "keep":
        if len(scene.recipe.kept()) == 1:
            refuse("This is the last frame. Bring another one back first.")
        return decided(number, slug, f"Frame {place} left out", lambda recipe: _with(recipe, id, state="leave_out", reason="by hand"))
    return decided(number, slug, f"Frame {place} brought back", lambda recipe: _with(recipe, id, state="keep", reason=None))


@blueprint.post("/move")
def move(number: int) -> str:
    """Move a frame in the order: `to` counts from the nearest, 0."""
    id = posted("frame")
    frame = opened(number).choice(id)
    try:
        to = int(posted("to"))
    except ValueError:
        refuse("That is not a place.")

    def moved(recipe: Recipe) -> Recipe:
        frames = [f for f in recipe.frames if f.id != id]
        frames.insert(max(0, min(to, len(frames))), next(f for f in recipe.frames if f.id == id))
        return recipe.model_copy(update={"frames": frames})

    return decided(number, "gather", f"{frame.name or frame.file} moved", moved)


@blueprint.post("/order")
def order(number: int) -> str:
    """Put the frames in order from near to far, from distances or from where each is sharp."""
    scene = opened(number)
    # what marks a scene has no place from near to far
    there = [f for f in scene.recipe.frames if f.id in scene.keys and f.reason != "marker"]
    found = [there[i].id for i in in_order(desk().library.cache, [scene.keys[f.id] for f in there])]
    place = {id: i for i, id in enumerate(found)}
    return decided(
        number, "gather", "Ordered near to far", lambda recipe: recipe.model_copy(update={"frames": sorted(recipe.frames, key=lambda f: place.get(f.id, len(place)))})
    )
