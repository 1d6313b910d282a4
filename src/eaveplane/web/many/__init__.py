"""Many scenes: chosen, done one after the other with what is carried from one of them, and told of at the end."""

from __future__ import annotations

import json
from typing import Any

from flask import Blueprint, Response, abort, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from ...pipeline.taking import LABELS, PARTS
from ...recipe import Recipe
from ...store import outings, outputs, runs, scenes
from ..deliver import with_set
from ..deliver.recipes import kept, offered
from ..desk import desk, download
from ..scene.opened import opened
from ..security import refuse

blueprint = Blueprint("many", __name__, template_folder="templates", static_folder="static", static_url_path="/static/many")
AT = "/outing/<int:number>"
NOT_CARRIED = ("delivery",)


def _row(number: int) -> Any:
    row = outings.outing(desk().db, number)
    if row is None:
        abort(404)
    return row


@blueprint.get(AT + "/many")
def page(number: int) -> str:
    """Which scenes, and what is carried over to them."""
    found = [opened(row["id"]) for row in scenes.scenes_of(desk().db, number)]
    found = [scene for scene in found if scene.recipe.kept()]
    labels = {part: LABELS[part] for part in PARTS if part not in NOT_CARRIED}
    dropped = request.args.get("offered", "")
    around = {"outing": _row(number), "sets": outputs.saved_sets(desk().db), "runs": runs.runs_of(desk().db, number)}
    return render_template("many/page.html", found=found, parts=labels, dropped=dropped if dropped.isalnum() else "", **around)


@blueprint.post(AT + "/many/go")
def go(number: int) -> AnyResponse:
    _row(number)
    there = {row["id"] for row in scenes.scenes_of(desk().db, number)}
    chosen = [int(v) for v in request.form.getlist("scene") if v.isdecimal() and int(v) in there]
    if not chosen:
        refuse("Tick the scenes that are to be done.")
    parts = [part for part in request.form.getlist("part") if part in LABELS and part not in NOT_CARRIED]
    other = _source(there) if parts else None
    named = outputs.saved_set(desk().db, request.form.get("set", ""))
    run = runs.add_run(desk().db, number, f"{len(chosen)} scene{'s' if len(chosen) != 1 else ''}")
    for scene in chosen:
        carried, taken = Recipe(), list(parts)
        if other is not None:
            carried = other
        if named is not None:
            carried, taken = with_set(carried, named), [*taken, "delivery"]
        recipe = scenes.recipe_of(desk().db, scene)
        megapixels = desk().library.megapixels([i for f in recipe.kept() for i in f.sources()])
        job = desk().queue.add("whole", scene_id=scene, megapixels=megapixels, run=run, recipe=carried.to_json(), parts=taken, leave_out=request.form.get("leave_out") == "1")
        runs.add_scene(desk().db, run, scene, job)
    return redirect(url_for("many.report", number=number, run=run))


def _source(there: set[int]) -> Recipe:
    """The recipe from which something is carried: of a scene, or of a file; 400 where there is none."""
    told = request.form.get("from", "")
    file = request.files.get("file")
    if told.startswith("offered:"):
        return kept(told.removeprefix("offered:"))
    if told == "file" and file is not None and file.filename:
        return offered(file)[0]
    if not told.isdecimal() or int(told) not in there:
        refuse("Choose the scene or the file from which it is carried, or untick all that is carried.")
    scene = opened(int(told))
    return scene.recipe.standing_alone(scene.view.size) if scene.view else scene.recipe


def _told(number: int, run: int) -> dict[str, Any]:
    """A run as its page and its JSON tell it; 404 where there is none."""
    row = runs.run(desk().db, run)
    if row is None or row["outing_id"] != number:
        abort(404)
    listed = []
    for scene in runs.scenes_of(desk().db, run):
        told = json.loads(scene["told"])
        about = {name: scene[name] or "" for name in ("name", "what", "message")}
        listed.append({"scene": scene["scene_id"], **about, "state": scene["state"] or "gone", "share": scene["share"] or 0, "seconds": scene["seconds"], **told})
    states = [scene["state"] for scene in listed]
    return {"schema": 1, "outing": row["outing"], "begun": row["created"], **{state: states.count(state) for state in ("queued", "running", "done", "failed", "cancelled")}, "scenes": listed}


@blueprint.get(AT + "/run/<int:run>")
def report(number: int, run: int) -> str:
    """What was done, what was left out, what should be looked at."""
    return render_template("many/run.html", outing=_row(number), run=run, told=_told(number, run))


@blueprint.get(AT + "/run/<int:run>/list")
def listing(number: int, run: int) -> str:
    return render_template("many/list.html", outing=_row(number), run=run, told=_told(number, run))


@blueprint.get(AT + "/run/<int:run>.json")
def report_json(number: int, run: int) -> Response:
    return download(json.dumps(_told(number, run), indent=1), f"{_row(number)['name']} run {run}.json")

from . import contact  # noqa: E402, F401  its addresses belong to this blueprint
