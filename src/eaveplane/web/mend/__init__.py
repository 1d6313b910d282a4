"""Mend: pixels of a chosen frame drawn over the weave, spots healed, edges walked along."""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np
from flask import Blueprint, Response, jsonify, request

from ...core.gather.detail import POOL
from ...core.mend.walk import walk
from ...imaging.light import root_luma
from ..desk import desk
from ..scene import posted, queued, stage_page, view_of
from ..scene.opened import ScenePage, opened
from ..scene.stages import stage
from ..security import refuse
from ..weave import cleared, stroked

blueprint = Blueprint("mend", __name__, template_folder="templates", url_prefix="/scene/<int:number>/mend")
WIDEST, LEAST = 160, 12
"""Pixels around a place in which frames are compared, at most and at least."""
AHEAD = 1.15
"""By how much more fine energy one frame must have to be named as the sharpest."""


@stage("mend", "Mend")
def bench(scene: ScenePage) -> dict[str, Any]:
    return {"drawn_strokes": sum(s.mends for s in scene.recipe.strokes), "flaws": findings.told(scene) if scene.flaws is not None else None, "specks": len(findings.open_specks(scene))}


@blueprint.get("")
def page(number: int) -> str:
    return stage_page(number, "mend")


@blueprint.post("/stroke")
def stroke(number: int) -> str:
    return stroked(number, "mend")


@blueprint.post("/beside")
def beside(number: int) -> Response:
    """Register what has no part in the weave, so that it can be drawn from."""
    scene, id = opened(number), posted("frame")
    if not scene.registered:
        refuse("Register the frames first; then others can be laid on them.")
    if any(f.id == id for f in scene.recipe.kept()):
        refuse("That frame has its part in the weave: draw from it as it is.")
    if all(f.id != id for f in scene.recipe.beside()):
        refuse("There is no such frame. Load the page again.")
    return queued(number, "mend", "beside", frame=id)


@blueprint.post("/clear")
def clear(number: int) -> str:
    return cleared(number, "mend", "All that was drawn taken away")


@blueprint.get("/walk.json")
def stops(number: int) -> Response:
    """Places on the depth edges of the picture, from near to far, in its pixels."""
    scene, view, _ = view_of(number)
    if view.gates is None or view.plan is None:
        return jsonify([])
    gates, numbers = view.gates, {f.id: k for k, f in enumerate(scene.recipe.frames, 1)}
    found = desk().kept.get(("walk", view.plan.labelled.key), lambda: walk(gates))
    x, y, w, h = scene.canvas
    told = [{"x": s.x * POOL, "y": s.y * POOL, "near": numbers[view.plan.ids[s.near]], "far": numbers[view.plan.ids[s.far]]} for s in found]
    return jsonify([t for t in told if x <= t["x"] < x + w and y <= t["y"] < y + h])


@blueprint.get("/sharpest.json")
def sharpest(number: int) -> Response:
    """Which kept frame is the sharpest around a place, by its fine energy; none where they are alike."""
    _, view, _ = view_of(number)
    try:
        x, y, width = (float(request.args[k]) for k in ("x", "y", "width"))
    except (KeyError, ValueError):
        refuse("A place and a width are needed.")
    if view.laid is None or not (abs(x) < 1e6 and abs(y) < 1e6 and 0 < width < 1e6):
        return jsonify({"frame": None})
    side = int(min(max(LEAST, width), WIDEST))
    box = view.box_inside(0, (int(x) - side // 2, int(y) - side // 2, side, side))
    energies = {}
    for k, id in enumerate(view.laid.names):
        if view.laid.covers(k, 0, box).all():
            lap = cv2.Laplacian(root_luma(view.laid.read(k, 0, box)), cv2.CV_32F, borderType=cv2.BORDER_REPLICATE)
            energies[id] = max(0.0, float(np.square(lap).mean()) - view.laid.noise)
    order = sorted(energies, key=lambda id: energies[id], reverse=True)
    clear = len(order) > 1 and energies[order[0]] > AHEAD * energies[order[1]] + 0.2 * view.laid.noise
    return jsonify({"frame": order[0] if clear else None})


from . import findings  # noqa: E402  (its routes belong to this blueprint)
