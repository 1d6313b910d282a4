"""Even out: one look for all frames, and drift between them taken away."""

from __future__ import annotations

from typing import Any

import numpy as np
from flask import Blueprint, Response

from ...core.even.look import NEUTRAL, RAW_LOOK, Look
from ...parameter import controls
from ..scene import decided, posted, posted_control, queued, stage_page
from ..scene.opened import Opened, opened, stage

blueprint = Blueprint("even", __name__, template_folder="templates", url_prefix="/scene/<int:number>/even")
CONTROLS = {c.name: c for c in controls(Look)}


@stage("even", "Even out")
def bench(scene: Opened) -> dict[str, Any]:
    drift: list[dict[str, Any]] = []
    if scene.view is not None and scene.view.registered is not None and scene.plan is not None:
        place = {f.id: i + 1 for i, f in enumerate(scene.recipe.frames)}
        for k, (id, measured) in enumerate(zip(scene.plan.ids, scene.view.registered.drifts, strict=True)):
            stops = -np.log2(measured.gain)
            drift.append(
                {
                    "number": place[id],
                    "id": id,
                    "reference": k == scene.plan.reference,
                    "ev": float(stops[1]),
                    "red": float(stops[0] - stops[1]),
                    "blue": float(stops[2] - stops[1]),
                    # what the corners of this frame are brighter by
                    "corner": -float(np.log2(1 + measured.falloff)),
                    "before": measured.before,
                    "left": measured.left,
                }
            )
    raw = bool(scene.view and next(iter(scene.view.frames.values())).raw)
    return {"controls": list(CONTROLS.values()), "values": scene.recipe.look, "start": RAW_LOOK if raw else NEUTRAL, "drift": drift, "shot": scene.view.shot if scene.view else None}


@blueprint.get("")
def page(number: int) -> str:
    return stage_page(number, "even")


@blueprint.post("/set")
def set_value(number: int) -> str:
    control, value = posted_control(CONTROLS)
    said = f"{control.label} {value:+g} {control.unit}".strip()
    return decided(number, "even", said, lambda recipe: recipe.model_copy(update={"look": Look(**{**recipe.look.model_dump(), control.name: value})}))


@blueprint.post("/reset")
def reset(number: int) -> str:
    """Back to where frames of this kind start: one column, or everything."""
    group = posted("group")
    start = bench(opened(number))["start"].model_dump()
    names = [c.name for c in CONTROLS.values() if group in ("all", c.group)]
    return decided(
        number,
        "even",
        "Look reset" if group == "all" else f"{group} reset",
        lambda recipe: recipe.model_copy(update={"look": Look(**{**recipe.look.model_dump(), **{n: start[n] for n in names}})}),
        bench=True,
    )


@blueprint.post("/drift")
def drift(number: int) -> str:
    on = posted("on") == "1"
    return decided(number, "even", f"Drift {'evened out' if on else 'left in'}", lambda recipe: recipe.model_copy(update={"even_out": on}), bench=True)


@blueprint.post("/go")
def go(number: int) -> Response:
    """On to Register, which starts."""
    return queued(number, "register", "register")
