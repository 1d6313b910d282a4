"""A recipe or a delivered picture dropped on a scene: what can be taken from it, part by part."""

from __future__ import annotations

import hashlib
import tempfile
from pathlib import Path

from flask import Response, jsonify, request
from werkzeug.datastructures import FileStorage

from ...imaging.write import put_in_place, writes
from ...pipeline.taking import LABELS, PARTS, recipe_from, taking
from ...recipe import Recipe, read_recipe
from ..desk import desk
from ..scene import decided, posted
from ..scene.opened import opened
from ..security import refuse
from . import blueprint

LARGEST = 1 << 30


def offered(file: FileStorage) -> tuple[Recipe, str]:
    """The recipe in a file that was sent, and the file's name. Raises PictureError."""
    name = Path(file.filename or "The file").name
    with tempfile.NamedTemporaryFile(suffix=Path(name).suffix) as part:
        file.save(part.name)
        return recipe_from(Path(part.name), name), name


def keep(recipe: Recipe) -> str:
    """Keep a recipe that was offered until something is taken from it; the token under which it is found."""
    text = recipe.to_json()
    token = hashlib.sha256(text.encode()).hexdigest()[:16]
    folder = desk().library.home / "offered"
    folder.mkdir(exist_ok=True)
    put_in_place(folder / f"{token}.json", writes(text), replace=True)
    return token


def kept(token: str) -> Recipe:
    """A recipe that was offered; 404 where it is gone."""
    file = desk().library.home / "offered" / f"{token}.json"
    if not token.isalnum() or not file.is_file():
        refuse("That recipe is not there any more. Choose its file again.", 404)
    return read_recipe(file)


@blueprint.post("/offer")
def offer(number: int) -> Response:
    """What a file's recipe has to offer; it is kept until something is taken."""
    request.max_content_length = LARGEST
    opened(number)
    file = request.files.get("file")
    if file is None:
        refuse("No file came along. Choose one.")
    assert file is not None
    found, name = offered(file)
    return jsonify({"token": keep(found), "name": name, "frames": len(found.kept()), "parts": [{"part": part, "label": LABELS[part]} for part in PARTS]})


@blueprint.post("/take")
def take(number: int) -> str:
    """Take parts of a recipe that was offered."""
    token, parts = posted("token"), [part for part in posted("parts").split(",") if part]
    if not parts or any(part not in PARTS for part in parts):
        refuse("Tick what is to be taken.")
    other, view = kept(token), opened(number).view
    if view is None:
        refuse("The frames have not been read yet. Try again in a moment.")
    assert view is not None
    size = view.size
    return decided(number, "deliver", f"Taken over: {', '.join(parts)}", lambda recipe: taking(recipe, other, parts, size), bench=True)
