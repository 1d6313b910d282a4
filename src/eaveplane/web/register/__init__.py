"""Register: every frame laid on the reference frame, and how well it lies there."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

import numpy as np
from flask import Blueprint, Response, jsonify
from pydantic import ValidationError

from ...core.register.movement import movement_of
from ...core.register.nudge import FEWEST_PINS, STILL, Nudge, pinned
from ...imaging.placement import Shift
from ...parameter import controls
from ...recipe import FrameChoice, Recipe
from ..scene import decided, posted, queued, stage_page
from ..scene.opened import ScenePage, opened
from ..scene.stages import stage
from ..security import refuse
from .loupes import loupes

blueprint = Blueprint("register", __name__, template_folder="templates", url_prefix="/scene/<int:number>/register")

LINES = 24
"""Lines of the grid that shows shifts, across the picture."""
MOST_PINS = 40
CANVASES = {"common": "Common area kept", "free": "Common area of any ratio kept", "reference": "Full reference frame kept"}


@stage("register", "Register")
def bench(scene: ScenePage) -> dict[str, Any]:
    found = scene.view.registered if scene.view else None
    return {
        "fits": fits(scene),
        "moved": bool(found and found.camera_moved),
        "nudge_controls": controls(Nudge),
        "fewest_pins": FEWEST_PINS,
        "others": others(scene),
    }


def fits(scene: ScenePage) -> list[dict[str, Any]]:
    """How each frame lies, far first: its movement, how far near things are shifted beside (px, None where the camera stood), how far that can be
    trusted, what it costs of the common area (None where it does not count), and how it was nudged."""
    if scene.view is None or scene.view.registered is None or scene.plan is None:
        return []
    found, place = scene.view.registered, {f.id: i for i, f in enumerate(scene.recipe.frames)}
    rows = []
    for id, placement, trusted in zip(scene.plan.ids, found.placements, found.trusted, strict=True):
        choice = scene.recipe.frames[place[id]]
        rows.append(
            {
                "id": id,
                "number": place[id] + 1,
                "movement": movement_of(placement.matrix, placement.size),
                "near": placement.shift.reach() if placement.shift else None,
                "trust": trusted,
                "cost": scene.area_costs.get(id),
                "nudge": choice.nudge,
                "nudged": choice.nudge != STILL,
                "reference": id == scene.plan.ids[scene.plan.reference],
            }
        )
    return rows[::-1]


def others(scene: ScenePage) -> list[tuple[str, int, float]]:
    """Frames that may be the reference, by id and number, with the pixels by which corners of all others would move on each, the least first."""
    found, numbers = scene.view.registered if scene.view else None, {f.id: i + 1 for i, f in enumerate(scene.recipe.frames)}
    if found is None or scene.plan is None:
        return []
    whole = found.placements[found.reference].corners()
    sums = []
    for id, base in zip(scene.plan.ids, found.placements, strict=True):
        total = sum(float(np.linalg.norm(base.back(placement.corners()) - whole, axis=1).max()) for placement in found.placements if placement is not base)
        sums.append((id, numbers[id], total))
    return sorted(sums, key=lambda entry: entry[2])


@blueprint.get("")
def page(number: int) -> str:
    return stage_page(number, "register")


@blueprint.get("/shifts.json")
def shifts(number: int) -> Response:
    """By frame, how a grid over the reference is shifted for a camera that moved, as an SVG path, so many times too far that it is seen."""
    scene = opened(number)
    found, shown = scene.view.registered if scene.view else None, {}
    for id, placement in zip(scene.plan.ids, found.placements, strict=True) if found and scene.plan else ():
        if placement.shift:
            shown[id] = shifted_grid(placement.shift)
    return jsonify(shown)


def shifted_grid(shift: Shift) -> dict[str, Any]:
    """`path` of a grid of LINES lines across the picture whose places are shifted `times` too far."""
    width, height = shift.size
    cell = width / LINES
    across, down = np.meshgrid(np.arange(cell / 2, width, cell / 4), np.arange(cell / 2, height, cell / 4))
    places = np.stack([across, down], -1)
    moved = shift.at(places.reshape(-1, 2)).reshape(places.shape)
    most = float(np.percentile(np.linalg.norm(moved, axis=2), 98))
    times = next((t for t in (50, 20, 10, 5, 2) if t * most < cell), 1)
    places = np.round(places + times * moved, 1)
    lines = [*places[::4], *places.transpose(1, 0, 2)[::4]]
    return {"times": times, "path": "".join("M" + "L".join(f"{x:g} {y:g}" for x, y in line) for line in lines)}


@blueprint.get("/loupes.json")
def places(number: int) -> Response:
    """Where a sheet of loupes looks."""
    return jsonify(loupes(opened(number)))


@blueprint.post("/reference")
def reference(number: int) -> str:
    """Choose the reference frame; empty for the one suggested."""
    id = posted("frame")
    said = "Reference as suggested"
    if id:
        scene = opened(number)
        said = f"Frame {scene.recipe.frames.index(scene.choice(id)) + 1} is the reference"
    return decided(number, "register", said, lambda recipe: recipe.model_copy(update={"reference": id}), bench=True)


@blueprint.post("/camera")
def camera(number: int) -> str:
    """Say whether the camera itself moved between frames, or leave it to what is measured."""
    words: dict[str, str] = {"auto": "Camera's movement as measured", "yes": "The camera moved", "no": "The camera did not move"}
    chosen = posted("camera")
    if chosen not in words:
        refuse("Say whether the camera moved: as measured, moved or stood.")
    return decided(number, "register", words[chosen], lambda recipe: recipe.model_copy(update={"camera_moved": chosen}), bench=True)


@blueprint.post("/canvas")
def canvas(number: int) -> str:
    wanted = posted("canvas")
    if wanted not in CANVASES:
        refuse("Keep the common area, the common area of any ratio, or the full reference frame.")
    return decided(number, "register", CANVASES[wanted], lambda recipe: recipe.model_copy(update={"canvas": wanted}), bench=True)


# ---- by hand ----------------------------------------------------------------------------------------------


@blueprint.post("/nudge")
def nudge(number: int) -> str:
    """Move a frame by hand from where registration laid it; all four numbers are given."""
    known = {control.name: control for control in controls(Nudge)}
    values = {}
    for name, control in known.items():
        try:
            values[name] = round(float(posted(name)), 4)
        except ValueError:
            refuse(f"{control.label} is not a number.")
        if not control.low <= values[name] <= control.high:
            refuse(f"{control.label} goes from {control.low:g} to {control.high:g}.")
    wanted = Nudge(**values)
    return _changed(number, "nudged" if wanted != STILL else "lies as registered again", lambda frame: {"nudge": wanted})


@blueprint.post("/pins")
def pins(number: int) -> str:
    """Lay a frame by pairs of points: where it shows something now, and where the reference shows the same."""
    scene, id = opened(number), posted("frame")
    if scene.view is None or not scene.registered:
        refuse("Register the frames first.")
    assert scene.view is not None
    try:
        pairs = np.array(json.loads(posted("pairs")), np.float64)
    except (ValueError, TypeError):
        refuse("These are not pairs of points.")
    if pairs.ndim != 3 or pairs.shape[1:] != (2, 2) or len(pairs) > MOST_PINS or not np.isfinite(pairs).all() or np.abs(pairs).max() > 1e6:
        refuse(f"Pin {FEWEST_PINS} to {MOST_PINS} pairs of points.")
    before = scene.choice(id).nudge
    try:
        step, left = pinned(pairs[:, 0], pairs[:, 1], scene.view.size)
        wanted = step.after(before)
    except ValidationError:
        refuse("With these pairs the frame would lie too far away. One of them is wrong: take it away.")
    except ValueError as error:
        refuse(str(error))
    return _changed(number, f"laid by {len(pairs)} pins, {left:.1f} px apart on average", lambda frame: {"nudge": wanted})


@blueprint.post("/counts")
def counts(number: int) -> str:
    """Say whether the common area is held to what a frame reaches."""
    wanted = posted("counts") == "1"
    return _changed(number, "counts for the common area" if wanted else "is kept with what it has", lambda frame: {"counts": wanted})


def _changed(number: int, said: str, change: Callable[[FrameChoice], dict[str, Any]]) -> str:
    """Change one frame, named by `frame` in the form."""
    scene, id = opened(number), posted("frame")
    place = scene.recipe.frames.index(scene.choice(id)) + 1
    if scene.plan and id == scene.plan.ids[scene.plan.reference]:
        refuse("The reference frame stays where it is. Choose another frame on the rail.")

    def changed(recipe: Recipe) -> Recipe:
        return recipe.model_copy(update={"frames": [FrameChoice(**{**f.model_dump(), **change(f)}) if f.id == id else f for f in recipe.frames]})

    return decided(number, "register", f"Frame {place} {said}", changed, bench=True)


@blueprint.post("/go")
def go(number: int) -> Response:
    """Register, or on to Weave where that is done."""
    if opened(number).registered:
        return queued(number, "weave", "weave")
    return queued(number, "register", "register")
