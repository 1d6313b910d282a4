"""Register: every frame laid on the reference frame, and how well it lies there."""

from __future__ import annotations

from typing import Any

import numpy as np
from flask import Blueprint, Response, jsonify

from ...imaging.placement import Shift, around, carried
from ..scene import decided, posted, queued, stage_page
from ..scene.opened import ScenePage, opened, stage
from ..security import refuse

blueprint = Blueprint("register", __name__, template_folder="templates", url_prefix="/scene/<int:number>/register")

LINES = 24
"""Lines of the grid that shows shifts, across the picture."""


@stage("register", "Register")
def bench(scene: ScenePage) -> dict[str, Any]:
    found = scene.view.registered if scene.view else None
    return {"fits": fits(scene), "moved": bool(found and found.camera_moved), "area": found.area if found else None}


def fits(scene: ScenePage) -> list[dict[str, Any]]:
    """Shift of the centre (px), change of scale (%), turn (degrees), remaining error (px) and how far near things are shifted beside (px,
    None where the camera stood) of each frame, far first."""
    if scene.view is None or scene.view.registered is None or scene.plan is None:
        return []
    found, place = scene.view.registered, {f.id: i for i, f in enumerate(scene.recipe.frames)}
    rows = []
    middle = ((scene.view.size[0] - 1) / 2, (scene.view.size[1] - 1) / 2)
    for id, placement, residual, warning in zip(scene.plan.ids, found.placements, found.residual, found.warnings, strict=True):
        (x, y), (scale, turn) = carried([middle], placement.onto)[0], around(middle, placement.onto)
        rows.append(
            {
                "id": id,
                "number": place[id] + 1,
                "dx": x - middle[0],
                "dy": y - middle[1],
                "scale": 100 * (scale - 1),
                "turn": turn,
                "residual": residual,
                "near": placement.shift.reach() if placement.shift else None,
                "warning": warning,
                "reference": id == scene.plan.ids[scene.plan.reference],
            }
        )
    return rows[::-1]


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
    wanted = "reference" if posted("canvas") == "reference" else "common"
    said = "Full reference frame kept" if wanted == "reference" else "Common area kept"
    return decided(number, "register", said, lambda recipe: recipe.model_copy(update={"canvas": wanted}))


@blueprint.post("/go")
def go(number: int) -> Response:
    """Register, or on to Weave where that is done."""
    if opened(number).registered:
        return queued(number, "weave", "weave")
    return queued(number, "register", "register")
