"""The outing: all its frames as strips, a strip a scene; scenes are split and joined here, frames moved across."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from flask import Blueprint, Response, abort, redirect, render_template, request, send_file, url_for
from werkzeug.wrappers import Response as AnyResponse

from ...pipeline.decisions import carrying
from ...pipeline.frames import in_order_at_first
from ...pipeline.glance import glance_key
from ...recipe import FrameChoice, Recipe
from ...store import arrangements, jobs, outings, scenes
from ..desk import desk, folder_of
from ..scene.opened import ScenePage, opened
from ..security import refuse

blueprint = Blueprint("outing", __name__, template_folder="templates", static_folder="static", static_url_path="/static/outing")
AT = "/outing/<int:number>"
FOREVER = "private, max-age=31536000, immutable"


@dataclass(frozen=True)
class Strip:
    """A scene with its frames in the order they were taken."""

    scene: ScenePage
    frames: list[FrameChoice]
    begins: tuple[Any, ...]


def _row(number: int) -> Any:
    row = outings.outing(desk().db, number)
    if row is None:
        abort(404)
    return row


def _taken(number: int) -> dict[str, tuple[Any, ...]]:
    """By what frames are put in the order they were taken: time where it is known, then the path."""
    found = {}
    for row in outings.files_of(desk().db, number):
        if row["sha256"]:
            taken = outings.metadata_of(row).taken
            found[row["sha256"][:12]] = (taken is None, taken.timestamp() if taken else 0.0, row["path"])
    return found


def _strips(number: int) -> list[Strip]:
    taken = _taken(number)
    last: tuple[Any, ...] = (True, 0.0, "~")

    def when(frame: FrameChoice) -> tuple[Any, ...]:
        return min(taken.get(i, last) for i in frame.all_files())

    found = []
    for row in scenes.scenes_of(desk().db, number):
        scene = opened(row["id"])
        if scene.recipe.frames:
            frames = sorted(scene.recipe.frames, key=when)
            found.append(Strip(scene, frames, when(frames[0])))
    return sorted(found, key=lambda strip: strip.begins)


def _context(number: int) -> dict[str, Any]:
    db, library = desk().db, desk().library
    strips = _strips(number)
    files = outings.files_of(db, number)
    placed = {i for strip in strips for f in strip.frames for i in f.all_files()}
    back, on = arrangements.steps_left(db, number)
    there = library.files(number)
    return {
        "outing": _row(number),
        "strips": strips,
        "files": files,
        "unsorted": [f for f in files if f["sha256"] and f["sha256"][:12] not in placed],
        "missing": [f for f in files if f["sha256"] and not there[f["sha256"][:12]].path.exists()],
        "problems": library.outing_problems(number),
        "job": jobs.latest_of_outing(db, number),
        "metadata": library.metadata(number),
        "back": back,
        "on": on,
    }


@blueprint.get(AT)
def page(number: int) -> str:
    return render_template("outing/page.html", **_context(number))


@blueprint.get(AT + "/strips")
def strips(number: int) -> str:
    return render_template("outing/strips.html", **_context(number))


@blueprint.get(AT + "/<what>/<id>.jpg")
def picture(number: int, what: str, id: str) -> Response:
    """A frame as the first look kept it: `thumb` or `screen`."""
    file = desk().library.files(number, [id]).get(id)
    path = desk().library.cache.path(glance_key(file.sha256)) / f"{what}.jpg" if file else None
    if what not in ("thumb", "screen") or path is None or not path.exists():
        abort(404)
    response = send_file(path, mimetype="image/jpeg")
    response.headers["Cache-Control"] = FOREVER
    return response


# ---- dealing frames out -------------------------------------------------------------------------------------


def _posted(number: int) -> tuple[Strip, FrameChoice, list[Strip]]:
    """The strip and the frame that a request is about, and all strips."""
    strips = _strips(number)
    id = request.form.get("frame", "")
    for strip in strips:
        for frame in strip.frames:
            if frame.id == id:
                return strip, frame, strips
    abort(404)


def _near_to_far(frames: list[FrameChoice]) -> list[FrameChoice]:
    """Frames in order from near to far, as far as a first look tells; markers last."""
    number = request.view_args["number"] if request.view_args else 0
    library = desk().library
    files, metadata = library.files(number), library.metadata(number)
    there = [f for f in frames if f.reason != "marker" and all(i in files for i in f.all_files())]
    middle = [f.all_files()[len(f.all_files()) // 2] for f in there]
    order = in_order_at_first(library.cache, [files[i] for i in middle], [metadata[i][0] for i in middle]) if len(there) > 1 else list(range(len(there)))
    return [*(there[i] for i in order), *(f for f in frames if f not in there)]


def _arranged(number: int, what: str, after: arrangements.Frames) -> str:
    arrangements.arrange(desk().db, number, what, after, carrying(desk().library, after))
    _look_again(after)
    return strips(number)


def _look_again(changed: arrangements.Frames) -> None:
    for scene, frames in changed.items():
        if frames:
            desk().queue.inspect(scene)


@blueprint.post(AT + "/split")
def split(number: int) -> str:
    """A new scene begins with this frame."""
    strip, frame, _ = _posted(number)
    at = strip.frames.index(frame)
    if at == 0:
        refuse("This frame begins its scene already. Choose a later one.")
    rest = {f.id for f in strip.frames[at:]}
    recipe = strip.scene.recipe
    scene = scenes.add_scene(desk().db, number, scenes.name_of_place(desk().db, number), Recipe(look=recipe.look))
    stay, go = [f for f in recipe.frames if f.id not in rest], [f for f in recipe.frames if f.id in rest]
    return _arranged(number, f"{strip.scene.row['name']} split", {strip.scene.number: stay, scene: go})


@blueprint.post(AT + "/join")
def join(number: int) -> str:
    """The frame's scene joins the one above it."""
    strip, _, all_strips = _posted(number)
    at = all_strips.index(strip)
    if at == 0:
        refuse("There is no scene above this one.")
    above = all_strips[at - 1]
    after = {above.scene.number: _near_to_far([*above.scene.recipe.frames, *strip.scene.recipe.frames]), strip.scene.number: []}
    return _arranged(number, f"{strip.scene.row['name']} joined to {above.scene.row['name']}", after)


@blueprint.post(AT + "/move")
def move(number: int) -> str:
    """Move a frame to another scene: `to` is the scene's number, or `above` or `below`."""
    strip, frame, all_strips = _posted(number)
    at, to = all_strips.index(strip), request.form.get("to", "")
    beside = {"above": at - 1, "below": at + 1}.get(to, next((i for i, s in enumerate(all_strips) if str(s.scene.number) == to), -1))
    if not 0 <= beside < len(all_strips):
        refuse("There is no scene on that side.")
    target = all_strips[beside]
    if target is strip:
        return strips(number)
    rest = [f for f in strip.scene.recipe.frames if f.id != frame.id]
    after = {strip.scene.number: rest, target.scene.number: _near_to_far([*target.scene.recipe.frames, frame])}
    return _arranged(number, f"{frame.file} moved to {target.scene.row['name']}", after)


@blueprint.post(AT + "/marker")
def marker(number: int) -> str:
    """The frame only marks where a scene begins; or it is a frame after all."""
    strip, frame, _ = _posted(number)
    marks = frame.reason == "marker"
    changed = frame.model_copy(update={"state": "keep", "reason": None} if marks else {"state": "leave_out", "reason": "marker"})
    return _arranged(number, f"{frame.file} is {'a frame' if marks else 'a marker'}", {strip.scene.number: _near_to_far([changed if f.id == frame.id else f for f in strip.scene.recipe.frames])})


@blueprint.post(AT + "/leave-out")
def leave_out(number: int) -> str:
    strip, frame, _ = _posted(number)
    out = frame.state == "keep"
    changed = frame.model_copy(update={"state": "leave_out", "reason": "by hand"} if out else {"state": "keep", "reason": None})
    after = {strip.scene.number: [changed if f.id == frame.id else f for f in strip.scene.recipe.frames]}
    arrangements.arrange(desk().db, number, f"{frame.file} {'left out' if out else 'brought back'}", after, carrying(desk().library, after))
    return strips(number)


@blueprint.post(AT + "/undo")
def undo(number: int) -> str:
    return _step(number, forward=False)


@blueprint.post(AT + "/redo")
def redo(number: int) -> str:
    return _step(number, forward=True)


def _step(number: int, forward: bool) -> str:
    _row(number)
    done = arrangements.step(desk().db, number, forward, carrying(desk().library, [s["id"] for s in scenes.scenes_of(desk().db, number)]))
    for scene in done[1] if done else []:
        if scenes.recipe_of(desk().db, scene).frames:
            desk().queue.inspect(scene)
    return strips(number)


# ---- the outing as a whole ----------------------------------------------------------------------------------


@blueprint.post(AT + "/again")
def again(number: int) -> AnyResponse:
    """Look through the folder once more, or through another one to which files have moved."""
    row = _row(number)
    typed = request.form.get("folder", "").strip()
    folder = folder_of(typed) if typed else Path(row["folder"])
    if folder is None:
        refuse(f"{typed} is not a folder that can be read. Write its whole path.")
    desk().queue.bring_in(number, folder)
    return redirect(url_for("outing.page", number=number))


@blueprint.post(AT + "/rename")
def rename(number: int) -> AnyResponse:
    _row(number)
    outings.rename_outing(desk().db, number, request.form.get("name", ""))
    return redirect(url_for("outing.page", number=number))


@blueprint.post(AT + "/remove")
def remove(number: int) -> AnyResponse:
    """Take an outing off the shelf. Its originals, uploaded ones too, and its results stay where they are."""
    _row(number)
    outings.remove_outing(desk().db, number)
    return redirect(url_for("shelf.page"))
