"""What was delivered: fetched, looked at beside another, delivered again."""

from __future__ import annotations

import json
import sqlite3
from pathlib import Path
from typing import Any

import numpy as np
from flask import Response, abort, render_template, request, send_file

from ...core.develop.develop import for_screen
from ...imaging.colour import SRGB_FROM_WORK
from ...imaging.errors import PictureError
from ...imaging.formats.registry import read_picture
from ...imaging.light import root_into, to_root
from ...store import scenes
from ..desk import desk
from ..scene import jpeg, posted, queued
from ..scene.opened import opened
from ..security import refuse
from . import FORMATS, blueprint

PIECE = 1400
"""Pixels of a result that are shown at once, at 1:1."""


def row_of(number: int, result: int) -> sqlite3.Row:
    """A delivered file; 404 where there is none."""
    found = next((row for row in scenes.results_of(desk().db, number) if row["id"] == result), None)
    if found is None:
        abort(404)
    return found


def path_of(number: int, result: int) -> Path:
    path = Path(row_of(number, result)["path"])
    if not path.is_file():
        refuse(f"{path.name} is not there any more. Deliver it again.", 404)
    return path


def listed(number: int) -> list[dict[str, Any]]:
    """Delivered files as they are shown, newest first."""
    found = []
    for row in scenes.results_of(desk().db, number):
        path, told = Path(row["path"]), json.loads(row["told"])
        recipe = scenes.recipe_of_result(desk().db, row)
        output, weaving = recipe.delivery, recipe.weaving
        settings = [FORMATS[output.format], f"{len(recipe.kept())} frames", weaving.way.replace("-", " "), f"detail {weaving.detail:g} px", f"seam {weaving.seam:g} oct."]
        if told.get("size"):
            settings.insert(1, f"{told['size'][0]} × {told['size'][1]} px")
        if told.get("enlarged"):
            settings.append("enlarged")
        found.append(
            {
                "number": row["id"],
                "title": output.title,
                "path": path,
                "there": path.exists(),
                "made": row["made"][:16].replace("T", " "),
                "settings": ", ".join(settings),
                "provenance": (told.get("provenance") or {}).get("told", ""),
                "thumbnail": (desk().library.thumbnails / f"{row['id']}.jpg").exists(),
                "pixels": path.suffix.lower() != ".ora",
            }
        )
    return found


@blueprint.get("/results")
def results(number: int) -> str:
    """All files of a scene, with what they were made by."""
    return render_template("deliver/results.html", scene=opened(number), results=listed(number))


@blueprint.get("/result/<int:result>")
def result(number: int, result: int) -> Response:
    return send_file(path_of(number, result).resolve(), as_attachment=True)


@blueprint.get("/result/<int:result>/thumbnail.jpg")
def thumbnail(number: int, result: int) -> Response:
    row_of(number, result)
    file = desk().library.thumbnails / f"{result}.jpg"
    if not file.exists():
        abort(404)
    return send_file(file.resolve(), mimetype="image/jpeg")


@blueprint.post("/result/<int:result>/again")
def again(number: int, result: int) -> Response:
    """Deliver a file again, by the recipe it was made with."""
    return queued(number, "deliver", "deliver", recipe=scenes.recipe_of_result(desk().db, row_of(number, result)).to_json())


@blueprint.get("/compare/<int:first>/<int:second>")
def compare(number: int, first: int, second: int) -> str:
    """Two delivered files at 1:1, in step."""
    both = [r for n in (first, second) for r in listed(number) if r["number"] == n and r["there"] and r["pixels"]]
    if len(both) < 2:
        refuse("Both files have to be there, and to be pictures of one layer, to be compared.", 404)
    sizes = [_codes(path_of(number, r["number"])).shape[1::-1] for r in both]
    return render_template("deliver/compare.html", scene=opened(number), both=both, sizes=sizes)


def _codes(path: Path) -> np.ndarray:
    """The pixels of a delivered file as they are seen (h, w, 3); kept while they are looked at."""

    def made() -> np.ndarray:
        try:
            picture = read_picture(path)
        except PictureError as error:
            refuse(str(error), 404)
        return for_screen(root_into(to_root(picture.codes, picture.encoding), SRGB_FROM_WORK))

    found: np.ndarray = desk().guides.get(("result", str(path), path.stat().st_mtime_ns), made)
    return found


@blueprint.get("/result/<int:result>/piece.jpg")
def piece(number: int, result: int) -> Response:
    """A piece of a delivered file at 1:1 around a place told in parts of its sides."""
    codes = _codes(path_of(number, result))
    try:
        right, down = (min(max(float(request.args[k]), 0.0), 1.0) for k in ("x", "y"))
        w, h = (min(max(int(request.args[k]), 16), PIECE) for k in ("w", "h"))
    except (KeyError, ValueError):
        abort(400)
    if not np.isfinite([right, down]).all():
        abort(400)
    height, width = codes.shape[:2]
    x, y = (int(min(max(at * length - side / 2, 0), max(0, length - side))) for at, length, side in ((right, width, w), (down, height, h)))
    return jpeg(codes[y : y + h, x : x + w], 95)


@blueprint.post("/result/<int:result>/forget")
def forget(number: int, result: int) -> str:
    """Take a file off the list; the file stays."""
    row_of(number, result)
    posted("sure")
    with desk().db.write() as connection:
        connection.execute("DELETE FROM result WHERE id = ?", (result,))
    return results(number)
