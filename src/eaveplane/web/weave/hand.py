"""Masks by hand: how a frame's mask begins, files in and out, strokes picked and erased, seams while a ruler is moved, the sharp span."""

from __future__ import annotations

import hashlib
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from flask import Response, abort, jsonify, request

from ...core.develop.develop import for_screen
from ...core.masks.strokes import Stroke
from ...imaging.grey import keep_grey, read_grey
from ...pipeline.steps import digest_of
from ...pipeline.view import make_ready, seams_tried
from ...recipe import FrameChoice, Recipe
from ..desk import desk
from ..scene import decided, jpeg, posted, queued, span_in, view_of
from ..scene.opened import opened
from ..security import refuse
from . import CONTROLS, VEIL, blueprint, painter

STARTS = {"found": "found", "hidden": "hidden", "whole": "whole"}
"""What a frame's mask may begin as, in words; one from a file is brought in."""
MOST_BYTES = 1 << 30
FEW_POINTS = 200
"""Points of a stroke that the page draws."""


@blueprint.post("/mask")
def mask(number: int) -> str:
    """How the mask of a frame, or of all, begins."""
    value, id = posted("value"), request.form.get("frame") or posted("name")
    if value not in STARTS:
        refuse("A mask begins as found, hidden or whole. Choose one of these.")
    scene = opened(number)
    chosen = {f.id for f in scene.recipe.kept()} if id == "all" else {scene.choice(id).id}
    place = "All masks" if id == "all" else f"Mask of frame {scene.recipe.frames.index(scene.choice(id)) + 1}"
    return decided(number, "weave", f"{place} {STARTS[value]}", lambda recipe: _started(recipe, chosen, {"mask": value, "mask_file": ""}), bench=True)


def _started(recipe: Recipe, ids: set[str], update: dict[str, str]) -> Recipe:
    frames = [FrameChoice(**{**f.model_dump(), **update}) if f.id in ids else f for f in recipe.frames]
    return recipe.model_copy(update={"frames": frames})


@blueprint.post("/mask/file")
def mask_file(number: int) -> str:
    """A mask from a file, for a frame."""
    request.max_content_length = MOST_BYTES
    scene, file = opened(number), request.files.get("file")
    frame = scene.choice(posted("frame"))
    if scene.view is None or not scene.registered:
        refuse("Register the frames first: a mask has the size of the reference frame.")
    assert scene.view is not None
    if file is None:
        refuse("No file came along. Choose one.")
    assert file is not None
    with tempfile.NamedTemporaryFile(suffix=".tif") as part:
        file.save(part.name)
        codes = read_grey(Path(part.name), scene.view.size, file.filename or "The mask")
    digest = digest_of(codes)
    keep_grey(desk().library.masks / f"{digest}.tif", codes)
    number_of = scene.recipe.frames.index(frame) + 1
    return decided(number, "weave", f"Mask of frame {number_of} from {file.filename}"[:120], lambda recipe: _started(recipe, {frame.id}, {"mask": "given", "mask_file": digest}), bench=True)


@blueprint.post("/masks/write")
def write(number: int) -> Response:
    """All masks as files, beside what is delivered."""
    return queued(number, "weave", "masks", recipe=opened(number).recipe.to_json())


# ---- strokes ----------------------------------------------------------------------------------------------


def name_of(stroke: Stroke) -> str:
    """By what a stroke is known to the page, whatever came before it."""
    return hashlib.sha256(stroke.model_dump_json().encode()).hexdigest()[:16]


@blueprint.get("/strokes.json")
def strokes(number: int) -> Response:
    """Strokes as they were painted, with a name for each; of long ones some of their points."""
    told: list[dict[str, Any]] = []
    for stroke in opened(number).recipe.strokes:
        step = -(-len(stroke.points) // FEW_POINTS)
        told.append({"name": name_of(stroke), **stroke.model_dump(), "points": [*stroke.points[::step], stroke.points[-1]]})
    return jsonify(told)


def _with_stroke(recipe: Recipe, name: str, instead: Stroke | None) -> Recipe:
    """The recipe with one stroke exchanged or taken away."""
    places = [k for k, stroke in enumerate(recipe.strokes) if name_of(stroke) == name]
    if not places:
        refuse("That stroke is not there any more. It may have been erased in another tab.")
    k = places[-1]
    return recipe.model_copy(update={"strokes": [*recipe.strokes[:k], *([instead] if instead else []), *recipe.strokes[k + 1 :]]})


@blueprint.post("/stroke/erase")
def erase(number: int) -> str:
    name = posted("name")
    return decided(number, _stage(), "A stroke erased", lambda recipe: _with_stroke(recipe, name, None), bench=True)


@blueprint.post("/stroke/change")
def change(number: int) -> str:
    """A stroke for another frame, or healed from another place."""
    name, scene = posted("name"), opened(number)
    found = next((s for s in scene.recipe.strokes if name_of(s) == name), None)
    if found is None:
        refuse("That stroke is not there any more. It may have been erased in another tab.")
    assert found is not None
    if "right" in request.form:
        return _from_elsewhere(number, name, found)
    if found.action == "way":
        refuse("That stroke asks for a way to weave; it has no frame.")
    if found.action == "heal":
        refuse("A healed spot is taken from the picture itself. Drag its source, or draw from a frame there.")
    given = found.model_copy(update={"frame": posted("frame")})
    called = painter(scene, given)
    return decided(number, _stage(), f"A stroke given to {called[0].lower()}{called[1:]}", lambda recipe: _with_stroke(recipe, name, given), bench=True)


def _from_elsewhere(number: int, name: str, found: Stroke) -> str:
    try:
        right, down = (float(posted(k)) for k in ("right", "down"))
        moved = Stroke.model_validate({**found.model_dump(), "source": (right, down)})
    except ValueError:
        refuse("That place cannot be used. Load the page again.")
    if found.action != "heal" or moved.source == (0, 0):
        refuse("Only a healed spot has a source, and not in the spot itself.")
    return decided(number, "mend", "A spot healed from elsewhere", lambda recipe: _with_stroke(recipe, name, moved), bench=True)


def _stage() -> str:
    return "mend" if request.form.get("stage") == "mend" else "weave"


# ---- seams and veils, while a ruler is moved ------------------------------------------------------------------------

TRIED = (200, 150)
"""Size of a piece that is tried."""


@blueprint.get("/tried.jpg")
def tried(number: int) -> Response:
    """A piece of the picture at 1:1 around a place: left as the seams or the veil are set, right as they would be."""
    scene, view, _ = view_of(number)
    control = {**CONTROLS, **VEIL}.get(request.args.get("name", ""))
    try:
        x, y, value = (float(request.args[k]) for k in ("x", "y", "value"))
    except (KeyError, ValueError):
        refuse("A place and a number are needed.")
    if control is None or not control.low <= value <= control.high or not (abs(x) < 1e6 and abs(y) < 1e6):
        refuse("There is no such control, or it does not go so far.")
    assert control is not None
    w, h = (min(side, whole) for side, whole in zip(TRIED, view.size, strict=True))
    box = view.box_inside(0, (min(max(0, int(x) - w // 2), view.size[0] - w), min(max(0, int(y) - h // 2), view.size[1] - h), w, h))
    now = scene.recipe.weaving
    if control.name in VEIL:
        other = scene.trying(scene.recipe.model_copy(update={control.name: value})) if scene.woven else None
        if other is None:
            abort(404)
        pieces = [for_screen(lifted.developed("weave", 0, box, scene.recipe.look)) for lifted in (view, other)]
    else:
        try:
            pieces = [seams_tried(view, weaving, box, scene.recipe.look) for weaving in (now, now.model_copy(update={control.name: value}))]
        except ValueError:
            abort(404)
    return jpeg(np.concatenate([pieces[0], np.full((h, 2, 3), 255, np.uint8), pieces[1]], axis=1), 90)


@blueprint.get("/ready")
def ready(number: int) -> Response:
    """Have at hand what a piece is tried with, before anybody moves a ruler."""
    make_ready(view_of(number)[1])
    return Response(status=204)


# ---- the sharp span ---------------------------------------------------------------------------------------


@blueprint.post("/span")
def span(number: int) -> str:
    wanted = span_in(f"{posted('near')},{posted('far')}")
    scene = opened(number)
    last = max(1, len(scene.recipe.in_depth()) - 1)
    said = "Sharp from the nearest to the farthest" if wanted.whole else f"Sharp from frame {1 + last * wanted.near:.1f} to {1 + last * wanted.far:.1f}"
    return decided(number, "weave", said, lambda recipe: recipe.model_copy(update={"span": wanted}), bench=True)
