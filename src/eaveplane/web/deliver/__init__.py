"""Deliver: the finished picture written beside the originals or where it is wanted."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import Any, get_args

from flask import Blueprint, Response, abort, send_file
from pydantic import ValidationError

from ...core.deliver.delivery import SUFFIX, WORDS, Delivery, Format, Profile, file_name, unknown_words
from ...jobs.deliver import name_facts
from ...store import scenes
from ..desk import desk, download, folder_of
from ..scene import decided, posted, queued, stage_page
from ..scene.opened import ScenePage, opened
from ..scene.stages import stage
from ..security import refuse

blueprint = Blueprint("deliver", __name__, template_folder="templates", url_prefix="/scene/<int:number>/deliver")
FIELDS = {"format": get_args(Format), "profile": get_args(Profile)}


@stage("deliver", "Deliver")
def bench(scene: ScenePage) -> dict[str, Any]:
    delivery = scene.recipe.delivery
    facts = name_facts(desk().library, scene.row, scene.recipe, datetime.now().strftime("%Y-%m-%d"))
    first = next((scene.files[i] for f in scene.recipe.kept() for i in f.sources() if i in scene.files), None)
    beside = first.path.parent if first else None
    listed = [{"number": row["id"], "path": Path(row["path"]), "there": Path(row["path"]).exists()} for row in scene.results]
    return {"delivery": delivery, "will_be": file_name(delivery.name, facts) + SUFFIX[delivery.format], "beside": beside, "delivered": listed, "facts": facts}


@blueprint.get("")
def page(number: int) -> str:
    return stage_page(number, "deliver")


@blueprint.post("/set")
def set_value(number: int) -> str:
    name, value = posted("name"), posted("value").strip()
    if name not in Delivery.model_fields:
        refuse("There is no such setting.")
    if name == "folder" and value and folder_of(value) is None:
        refuse(f"{value} is not a folder. Write its whole path, or nothing to deliver beside the originals.")
    if name == "name" and (unknown := unknown_words(value)):
        refuse(f"{{{unknown[0]}}} stands for nothing. Words are {', '.join(f'{{{w}}}' for w in WORDS)}.")
    try:
        changed: Any = int(value or 0) if name == "long_edge" else float(value) if name == "quality" else value
        Delivery(**{**Delivery().model_dump(), name: changed})
    except (ValueError, ValidationError):
        refuse(f"{value or 'Nothing'} cannot be used here.")
    return decided(number, "deliver", f"Delivery: {name.replace('_', ' ')}", lambda r: r.model_copy(update={"delivery": Delivery(**{**r.delivery.model_dump(), name: changed})}), bench=True)


@blueprint.post("/go")
def go(number: int) -> Response:
    return queued(number, "deliver", "deliver", recipe=opened(number).recipe.to_json())


def _result(number: int, result: int) -> Path:
    for row in scenes.results_of(desk().db, number):
        if row["id"] == result:
            path = Path(row["path"])
            if not path.is_file():
                refuse(f"{path.name} is not there any more. Deliver it again.", 404)
            return path
    abort(404)


@blueprint.get("/result/<int:result>")
def result(number: int, result: int) -> Response:
    return send_file(_result(number, result).resolve(), as_attachment=True)


@blueprint.get("/recipe.json")
def recipe(number: int) -> Response:
    """The recipe in force, as the command line takes it."""
    scene = opened(number)
    written = scene.recipe.standing_alone(scene.view.size) if scene.view else scene.recipe
    return download(written.to_json(), f"{scene.row['name']}.recipe.json")
