"""The contact sheet: one page that holds all its pictures, of a scene or of an outing, to be printed or kept."""

from __future__ import annotations

import base64
import json
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from flask import Response, abort, render_template
from markupsafe import Markup
from numpy.typing import NDArray

from ...pipeline.view import ViewOptions, viewport
from ...store import scenes
from ..desk import desk
from ..scene.opened import ScenePage, opened
from . import AT, _row, blueprint

SMALL, LARGE = 300, 1100
"""Pixels across of frames and of results."""


def _inside(picture: NDArray[np.uint8], quality: int = 82) -> str:
    """A picture as it stands in the page itself."""
    _, data = cv2.imencode(".jpg", np.ascontiguousarray(picture[..., ::-1]), [cv2.IMWRITE_JPEG_QUALITY, quality])
    return "data:image/jpeg;base64," + base64.b64encode(data.tobytes()).decode()


def _seen(scene: ScenePage, what: str, wide: int, finished: bool = False) -> str:
    """A frame or the weave as it is looked at; empty where it cannot be shown."""
    if scene.view is None:
        return ""
    look = ViewOptions(scene.recipe.look, finish=scene.recipe.finish, canvas=scene.canvas, size=scene.canvas[2:]) if finished else ViewOptions(scene.recipe.look)
    box = scene.canvas if finished else (0, 0, *scene.view.size)
    try:
        return _inside(viewport(scene.view, what, box, wide, look)[0])
    except (KeyError, ValueError, IndexError):
        return ""


def told(scene: ScenePage) -> dict[str, Any]:
    """What the sheet shows of a scene."""
    recipe, kept = scene.recipe, scene.recipe.kept()
    frames = []
    for k, frame in enumerate(kept, 1):
        about = scene.view.frames.get(frame.id) if scene.view else None
        verdict = scene.inspected.get(frame.id)
        seen = {"metres": about.meta.focus_m if about else None, "picture": _seen(scene, f"frame:{frame.id}", SMALL)}
        frames.append({"number": k, "file": frame.file, "name": frame.name, **seen, "zone": verdict.sharp_rows if verdict else None, "share": verdict.share if verdict else None})
    delivered = next(iter(scene.results), None)
    origin = (json.loads(delivered["told"]).get("provenance") or {}).get("told", "") if delivered is not None else ""
    meta = scene.view.frames[scene.view.middle].meta if scene.view else None
    return {
        "name": scene.row["name"],
        "frames": frames,
        "left_out": [(f.file, f.reason or "by hand") for f in recipe.frames if f.state != "keep"],
        "result": _seen(scene, "weave", LARGE, finished=True),
        "shares": _seen(scene, "share", SMALL * 2) if scene.plan and scene.registered else "",
        "meta": meta,
        "weaving": recipe.weaving,
        "lifts": scene.plan is not None and scene.plan.result is not scene.plan.woven,
        "finish": recipe.finish.in_use(),
        "flaws": [(f.found.told([f"frame {k}" for k in range(1, len(kept) + 1)]), f.state) for f in (scene.flaws or [])[:8]],
        "files": [row["path"] for row in scene.results],
        "origin": origin,
    }


def _sheet(title: str, number: int, found: list[ScenePage]) -> Response:
    style = Markup("<style>\n") + Markup((Path(__file__).parent / "static" / "contact.css").read_text()) + Markup("</style>")
    text = render_template("many/contact.html", title=title, style=style, outing=_row(number)["name"], sheets=[told(scene) for scene in found])
    response = Response(text, mimetype="text/html")
    # the page is kept as a file: it carries its own style, and nothing else may run in it
    response.headers["Content-Security-Policy"] = "default-src 'none'; img-src data:; style-src 'unsafe-inline'"
    return response


@blueprint.get(AT + "/contact.html")
def of_outing(number: int) -> Response:
    found = [opened(row["id"]) for row in scenes.scenes_of(desk().db, number)]
    return _sheet(_row(number)["name"], number, [scene for scene in found if scene.recipe.kept()])


@blueprint.get(AT + "/contact/<int:scene>.html")
def of_scene(number: int, scene: int) -> Response:
    found = opened(scene)
    if found.row["outing_id"] != number:
        abort(404)
    return _sheet(found.row["name"], number, [found])
