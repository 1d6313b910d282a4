"""Mend: pixels of a chosen frame drawn over the weave."""

from __future__ import annotations

from typing import Any

from flask import Blueprint

from ..scene import stage_page
from ..scene.opened import ScenePage
from ..scene.stages import stage
from ..weave import cleared, stroked

blueprint = Blueprint("mend", __name__, template_folder="templates", url_prefix="/scene/<int:number>/mend")


@stage("mend", "Mend")
def bench(scene: ScenePage) -> dict[str, Any]:
    return {"drawn_strokes": sum(s.mends for s in scene.recipe.strokes)}


@blueprint.get("")
def page(number: int) -> str:
    return stage_page(number, "mend")


@blueprint.post("/stroke")
def stroke(number: int) -> str:
    return stroked(number, "mend")


@blueprint.post("/clear")
def clear(number: int) -> str:
    return cleared(number, "mend", "All that was drawn taken away")
