"""Even out: one look for all frames, and drift between them taken away."""

from __future__ import annotations

from typing import Any

import numpy as np
from flask import Blueprint, Response, abort, request
from pydantic import ValidationError

from ...core.even.look import NEUTRAL, RAW_LOOK, Look, neutral_light
from ...imaging.light import light_of
from ...parameter import controls
from ...store import looks
from ..desk import desk
from ..scene import decided, pieces, posted, posted_control, queued, stage_page
from ..scene.opened import Opened, opened, stage
from ..security import refuse

blueprint = Blueprint("even", __name__, template_folder="templates", url_prefix="/scene/<int:number>/even")
PICKED = 9
"""Side of the square of pixels whose mean is picked."""
CLIPPED = 0.985
MOST_BYTES = 100_000
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
    start = RAW_LOOK if raw else NEUTRAL
    return {"controls": list(CONTROLS.values()), "values": scene.recipe.look, "start": start, "drift": drift, "shot": scene.view.shot if scene.view else None, "looks": looks.saved_looks(desk().db)}


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


@blueprint.post("/neutral")
def neutral(number: int) -> str:
    """What is at a place of the picture, in pixels of the reference frame, is to be neutral."""
    scene = opened(number)
    if scene.view is None:
        abort(404)
    try:
        x, y = (round(float(posted(name))) for name in ("x", "y"))
    except (ValueError, OverflowError):
        refuse("That is not a place.")
    if not (0 <= x < scene.view.size[0] and 0 <= y < scene.view.size[1]):
        refuse("That is outside of the picture.")
    box = scene.view.box_inside(0, (x - PICKED // 2, y - PICKED // 2, PICKED, PICKED))
    light = light_of(scene.view.weave(0, box))
    if light.max() > CLIPPED:
        refuse("That is clipped, its colour is lost. Pick something less bright.")
    try:
        found = neutral_light(light.reshape(-1, 3).mean(axis=0).astype(np.float64), scene.view.shot)
    except ValueError as error:
        refuse(str(error))
    kelvin, tint = float(np.clip(round(found.kelvin / 50) * 50, 1700, 15000)), float(np.clip(round(scene.view.shot.tint - found.tint), -100, 100))
    said = f"Neutral picked: {kelvin:g} K, tint {tint:+g}"
    return decided(number, "even", said, lambda recipe: recipe.model_copy(update={"look": Look(**{**recipe.look.model_dump(), "kelvin": kelvin, "tint": tint})}), bench=True)


@blueprint.post("/looks/save")
def save(number: int) -> str:
    """Keep the look of this scene under a name."""
    name = posted("name").strip()[:80]
    if not name:
        refuse("A look needs a name.")
    looks.save_look(desk().db, name, opened(number).recipe.look)
    return pieces(opened(number), "even", bench=True)


@blueprint.post("/looks/apply")
def apply(number: int) -> str:
    name = posted("name")
    look = looks.saved_look(desk().db, name)
    if look is None:
        refuse("There is no such look any more.")
    assert look is not None
    return decided(number, "even", f"Look {name}", lambda recipe: recipe.model_copy(update={"look": look}), bench=True)


@blueprint.get("/look.json")
def exported(number: int) -> Response:
    """The look as a file of its own."""
    scene = opened(number)
    name = "".join(c if c.isalnum() or c in " -_" else "-" for c in str(scene.row["name"]))
    return Response(scene.recipe.look.model_dump_json(indent=1), mimetype="application/json", headers={"Content-Disposition": f'attachment; filename="{name} look.json"'})


@blueprint.post("/looks/import")
def imported(number: int) -> str:
    """A look from a file: it is applied, and can be saved under a name."""
    file = request.files.get("file")
    try:
        look = Look.model_validate_json(file.read(MOST_BYTES) if file else b"")
    except ValidationError as error:
        first = error.errors()[0]
        refuse(f"{file.filename if file else 'This'} is not a look: {'.'.join(str(p) for p in first['loc']) or 'it'} {first['msg'].lower()}. Choose a file that was exported here.")
    return decided(number, "even", f"Look from {file.filename if file else 'a file'}"[:120], lambda recipe: recipe.model_copy(update={"look": look}), bench=True)


@blueprint.post("/go")
def go(number: int) -> Response:
    """On to Register, which starts."""
    return queued(number, "register", "register")
