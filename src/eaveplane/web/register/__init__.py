"""Register: every frame laid on the reference frame, and how well it lies there."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, Response

from ...imaging.placement import around, carried
from ..scene import decided, posted, queued, stage_page
from ..scene.opened import ScenePage, opened, stage

blueprint = Blueprint("register", __name__, template_folder="templates", url_prefix="/scene/<int:number>/register")


@stage("register", "Register")
def bench(scene: ScenePage) -> dict[str, Any]:
    return {"fits": fits(scene), "area": scene.view.registered.area if scene.view and scene.view.registered else None}


def fits(scene: ScenePage) -> list[dict[str, Any]]:
    """Shift of the centre (px), change of scale (%), turn (degrees) and remaining error (px) of each frame, far first."""
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
                "warning": warning,
                "reference": id == scene.plan.ids[scene.plan.reference],
            }
        )
    return rows[::-1]


@blueprint.get("")
def page(number: int) -> str:
    return stage_page(number, "register")


@blueprint.post("/reference")
def reference(number: int) -> str:
    """Choose the reference frame; empty for the one suggested."""
    id = posted("frame")
    said = "Reference as suggested"
    if id:
        scene = opened(number)
        said = f"Frame {scene.recipe.frames.index(scene.choice(id)) + 1} is the reference"
    return decided(number, "register", said, lambda recipe: recipe.model_copy(update={"reference": id}), bench=True)


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
