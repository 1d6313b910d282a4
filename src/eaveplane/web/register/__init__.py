"""Register: every frame laid on the reference frame, and how well it lies there."""

from __future__ import annotations

import math
from typing import Any

from flask import Blueprint, Response

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
    cx, cy = (scene.view.size[0] - 1) / 2, (scene.view.size[1] - 1) / 2
    rows = []
    for id, fit, residual, warning in zip(scene.plan.ids, found.fits, found.residual, found.warnings, strict=True):
        w = fit[2, 0] * cx + fit[2, 1] * cy + fit[2, 2]
        dx, dy = (fit[0, 0] * cx + fit[0, 1] * cy + fit[0, 2]) / w - cx, (fit[1, 0] * cx + fit[1, 1] * cy + fit[1, 2]) / w - cy
        rows.append(
            {
                "id": id,
                "number": place[id] + 1,
                "dx": dx,
                "dy": dy,
                "scale": 100 * (math.hypot(fit[0, 0], fit[1, 0]) - 1),
                "turn": math.degrees(math.atan2(fit[1, 0], fit[0, 0])),
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
