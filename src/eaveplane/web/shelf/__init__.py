"""The shelf: outings and their scenes, and how new ones come in."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

from flask import Blueprint, Response, abort, jsonify, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from ...imaging.formats.registry import PICTURE_SUFFIXES
from ...pipeline.pictures import keep_in
from ...store import jobs, outings, scenes
from ..deliver.recipes import LARGEST, keep, offered
from ..desk import desk, folder_of
from ..scene.opened import opened
from ..security import refuse

blueprint = Blueprint("shelf", __name__, template_folder="templates", static_folder="static", static_url_path="/static/shelf")
CHUNK = 1 << 20
LARGEST_UPLOAD = 4 << 30
MOST_SHOWN = 8
"""Delivered files of an outing that the shelf shows; a scene lists all of its own."""


@blueprint.get("/")
def page() -> str:
    return render_template("shelf/page.html", outings=_outings())


@blueprint.get("/shelf/outings")
def listing() -> str:
    """The outings of the shelf."""
    return render_template("shelf/outings.html", outings=_outings())


def _outings() -> list[dict[str, Any]]:
    db, library = desk().db, desk().library
    found = []
    for row in outings.outings(db):
        there = [scene for s in scenes.scenes_of(db, row["id"]) if (scene := opened(s["id"])).recipe.frames]
        files = outings.files_of(db, row["id"])
        job = jobs.latest_of_outing(db, row["id"])
        delivered = sorted((file for scene in there for file in scene.results), key=lambda file: -file["id"])[:MOST_SHOWN]
        shown = [{"scene": file["scene_id"], "number": file["id"], "path": Path(file["path"]), "thumbnail": (library.thumbnails / f"{file['id']}.jpg").exists()} for file in delivered]
        found.append({"row": row, "delivered": shown, "scenes": there, "files": len(files), "problems": library.outing_problems(row["id"]), "job": job})
    return found


@blueprint.post("/shelf/recipe")
def recipe() -> Response:
    """A recipe, or a picture that was delivered with its recipe inside: where it can be carried to scenes."""
    request.max_content_length = LARGEST
    file = request.files.get("file")
    if file is None:
        refuse("No file came along. Choose one.")
    assert file is not None
    found, name = offered(file)
    newest = next(iter(outings.outings(desk().db)), None)
    if newest is None:
        refuse(f"{name} is a recipe. Bring in frames first, then drop it on their scene.")
    assert newest is not None
    return jsonify({"page": url_for("many.page", number=newest["id"], offered=keep(found))})


@blueprint.get("/shelf/folders")
def folders() -> str:
    """Folders that go on from what has been typed."""
    typed = request.args.get("folder", "").strip()
    try:
        base = Path(typed).expanduser() if typed else Path.home()
        base.is_dir()
    except (OSError, RuntimeError, ValueError):
        return render_template("shelf/folders.html", folders=[])
    found = []
    parent = base if base.is_dir() and (typed.endswith("/") or not typed) else base.parent
    begin = "" if parent == base else base.name.lower()
    try:
        for path in sorted(parent.iterdir()) if parent.is_absolute() else []:
            if path.name.lower().startswith(begin) and not path.name.startswith(".") and path.is_dir():
                found.append(str(path))
            if len(found) == 40:
                break
    except OSError:
        pass
    return render_template("shelf/folders.html", folders=found)


@blueprint.post("/shelf/folder")
def folder() -> AnyResponse:
    """Bring in a folder by path; its files stay where they are, or are copied."""
    typed = request.form.get("folder", "").strip()
    path = folder_of(typed)
    if path is None:
        refuse(f"{typed or 'Nothing'} is not a folder that can be read. Write its whole path.")
    if path.resolve().is_relative_to(desk().library.home.resolve()):
        refuse("That folder is the program's own. Choose the one with your pictures.")
    path = path.resolve()
    same = next((o for o in outings.outings(desk().db) if Path(o["folder"]) == path), None)
    number = same["id"] if same else outings.add_outing(desk().db, path.name or str(path), path)
    desk().queue.bring_in(number, path, copy=request.form.get("copy") == "1")
    return redirect(url_for("outing.page", number=number))


@blueprint.post("/shelf/upload")
def new_upload() -> Response:
    """An outing for files that will be sent one by one."""
    name = (request.form.get("name") or "Upload").strip()
    number = outings.add_outing(desk().db, name, desk().library.uploads)
    place = desk().library.uploads / str(number)
    place.mkdir(parents=True, exist_ok=True)
    outings.move_outing(desk().db, number, place)
    return jsonify({"outing": number})


def _upload_place(number: int) -> Path:
    row = outings.outing(desk().db, number)
    if row is None or Path(row["folder"]) != desk().library.uploads / str(number):
        abort(404)
    return Path(row["folder"])


@blueprint.post("/shelf/upload/<int:number>/file")
def upload(number: int) -> Response:
    """One file as the request's body, written as it comes. Its name is kept as a name and never used as a path."""
    request.max_content_length = LARGEST_UPLOAD
    place = _upload_place(number)
    name = request.args.get("name", "").replace("\\", "/").rsplit("/", 1)[-1].strip()[:200]
    suffix = Path(name).suffix.lower()
    if suffix not in PICTURE_SUFFIXES:
        refuse(f"{name or 'This file'} is not a picture that can be read. Bring in raw, TIFF, PNG or JPEG files.", 415)
    length = request.content_length or 0
    if shutil.disk_usage(place).free < length + (1 << 28):
        refuse(f"There is no room for {name} on the disk. Make room and send it again.", 507)

    def fill(part: Path) -> None:
        written = 0
        with part.open("wb") as file:
            while chunk := request.stream.read(CHUNK):
                file.write(chunk)
                written += len(chunk)
        if written != length:
            refuse(f"{name} did not arrive whole. Send it again.")

    outings.add_file(desk().db, number, keep_in(place, suffix, fill), name, None, None, None)
    return jsonify({"file": name, "bytes": length})


@blueprint.post("/shelf/upload/<int:number>/done")
def uploaded(number: int) -> Response:
    place = _upload_place(number)
    desk().queue.bring_in(number, place)
    return jsonify({"page": url_for("outing.page", number=number)})
