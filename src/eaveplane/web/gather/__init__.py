"""Gather: the frames of a scene, their names, their order, which of them are left out."""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np
from flask import Blueprint, Response, jsonify, request
from numpy.typing import NDArray

from ...pipeline.decisions import decide
from ...pipeline.frames import in_order
from ...pipeline.scene import leave_out as leave_out_all
from ...recipe import FrameChoice, Reason, Recipe
from ..desk import desk
from ..scene import decided, posted, queued, stage_page
from ..scene.opened import ScenePage, opened
from ..scene.stages import STAGES, stage
from ..security import refuse

blueprint = Blueprint("gather", __name__, template_folder="templates", url_prefix="/scene/<int:number>/gather")


@stage("gather", "Gather")
def bench(scene: ScenePage) -> dict[str, Any]:
    bracketed = any(f.exposures for f in scene.recipe.frames)
    left_out = [f for f in scene.recipe.frames if f.state == "leave_out" and f.reason not in ("marker", "unreadable")]
    return {"problems": desk().library.outing_problems(scene.row["outing_id"]), "bracketed": bracketed, "left_out": left_out}


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
    if slug not in STAGES:
        refuse("There is no such stage.")
    if frame.state == "keep":
        if len(scene.recipe.kept()) == 1:
            refuse("This is the last frame. Bring another one back first.")
        said, changes = f"Frame {place} left out", dict[str, Any](state="leave_out", reason="by hand")
    else:
        said, changes = f"Frame {place} brought back", dict[str, Any](state="keep", reason=None)
    return decided(number, slug, said, lambda recipe: _with(recipe, id, **changes))


@blueprint.post("/proposals")
def proposals(number: int) -> str:
    """Leave out all frames without which nothing is lost, each with its reason."""
    scene = opened(number)
    reasons: dict[str, Reason] = {id: flaw for id in scene.spared() if (flaw := scene.inspected[id].flaw)}
    if len(reasons) >= len(scene.recipe.kept()):
        refuse("That would leave no frame. Leave them out one by one.")
    said = f"{len(reasons)} frame{'s' if len(reasons) != 1 else ''} left out as proposed"
    return decided(number, "gather", said, lambda recipe: leave_out_all(recipe, reasons), bench=True)


@blueprint.post("/bring-back")
def bring_back(number: int) -> str:
    """Bring back everything but markers and what cannot be read."""
    change = {"state": "keep", "reason": None}
    return decided(
        number,
        "gather",
        "All frames brought back",
        lambda recipe: recipe.model_copy(update={"frames": [f if f.reason in ("marker", "unreadable") else f.model_copy(update=change) for f in recipe.frames]}),
        bench=True,
    )


@blueprint.post("/exposure")
def exposure(number: int) -> Response:
    """Merge a frame's exposures, or use one of them; for this frame or for all."""
    id, wanted, everywhere = posted("frame"), posted("use"), request.form.get("all") == "1"
    frame = opened(number).choice(id)
    place = next((k for k, e in enumerate(frame.exposures) if e.id == wanted), None)
    if wanted and place is None:
        refuse("There is no such exposure.")

    def used(other: FrameChoice) -> FrameChoice:
        if not other.exposures or (other.id != id and not everywhere):
            return other
        return other.model_copy(update={"use": "" if place is None else other.exposures[min(place, len(other.exposures) - 1)].id})

    whose = "all frames" if everywhere else f"frame {opened(number).recipe.frames.index(frame) + 1}"
    said = f"Exposures of {whose} merged" if place is None else f"Exposure {place + 1} used for {whose}"
    decide(desk().library, number, said, lambda recipe: recipe.model_copy(update={"frames": [used(f) for f in recipe.frames]}))
    return queued(number, "gather", "inspect")


@blueprint.post("/inspect")
def inspect(number: int) -> Response:
    """Look at the frames again."""
    opened(number)
    return queued(number, "gather", "inspect")


@blueprint.get("/zones.json")
def zones(number: int) -> Response:
    """Outlines of sharp zones by frame and boxes of soft bands and intruders, in pixels of the reference frame."""
    scene = opened(number)
    side = scene.block
    found = {id: outline(zone, side) for id, zone in scene.zones().items()}
    boxes = [{"box": v.box, "frame": id} for id, v in scene.inspected.items() if v.box]
    bands = [{"box": b.box, "told": b.told()} for b in scene.bands]
    return jsonify({"zones": found, "boxes": boxes, "bands": bands})


SPECK = 140
"""Area of a zone, in sixteenths of a block, below which it is not drawn."""


def outline(zone: NDArray[np.bool_], side: int) -> str:
    """A zone (h, w) of blocks of `side` pixels as an SVG path, its few stray blocks left out."""
    grown = cv2.morphologyEx(zone.astype(np.uint8), cv2.MORPH_CLOSE, np.ones((3, 3), np.uint8))
    grown = cv2.morphologyEx(grown, cv2.MORPH_OPEN, cv2.getStructuringElement(cv2.MORPH_CROSS, (3, 3)))
    # twice as large, so that outlines run round blocks and not through their middles
    large = cv2.GaussianBlur(cv2.resize(grown * 255, None, fx=4, fy=4, interpolation=cv2.INTER_NEAREST), (0, 0), 2.0) > 127
    lines, _ = cv2.findContours(large.astype(np.uint8), cv2.RETR_CCOMP, cv2.CHAIN_APPROX_SIMPLE)
    parts = []
    for line in lines:
        if cv2.contourArea(line) < SPECK:
            continue
        points = cv2.approxPolyDP(line, 0.7, True)[:, 0] * (side / 4)
        parts.append("M" + "L".join(f"{x:.0f} {y:.0f}" for x, y in points) + "Z")
    return "".join(parts)


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
    there = [f for f in scene.recipe.frames if f.id in scene.there.read and f.reason != "marker"]
    found = [there[i].id for i in in_order(desk().library.cache, [scene.there.read[f.id] for f in there])]
    place = {id: i for i, id in enumerate(found)}
    return decided(
        number, "gather", "Ordered near to far", lambda recipe: recipe.model_copy(update={"frames": sorted(recipe.frames, key=lambda f: place.get(f.id, len(place)))})
    )
