"""Finish: straighten, crop, sharpen for the output."""

from __future__ import annotations

from typing import Any, get_args

from flask import Blueprint

from ...core.finish.finish import Crop, Finish, Ratio
from ...parameter import controls
from ..scene import decided, posted, posted_control, stage_page
from ..scene.opened import ScenePage
from ..scene.stages import stage
from ..security import refuse

blueprint = Blueprint("finish", __name__, template_folder="templates", url_prefix="/scene/<int:number>/finish")
CONTROLS = {c.name: c for c in controls(Finish)}
RATIOS = get_args(Ratio)


@stage("finish", "Finish")
def bench(scene: ScenePage) -> dict[str, Any]:
    return {"controls": list(CONTROLS.values()), "values": scene.recipe.finish, "start": Finish(), "ratios": RATIOS}


@blueprint.get("")
def page(number: int) -> str:
    return stage_page(number, "finish")


def _changed(number: int, what: str, changes: dict[str, Any], bench: bool = False) -> str:
    return decided(number, "finish", what, lambda recipe: recipe.model_copy(update={"finish": Finish(**{**recipe.finish.model_dump(), **changes})}), bench)


@blueprint.post("/set")
def set_value(number: int) -> str:
    control, value = posted_control(CONTROLS)
    return _changed(number, f"{control.label} {value:g} {control.unit}".strip(), {control.name: value})


@blueprint.post("/crop")
def crop(number: int) -> str:
    """The crop box as fractions of the straightened canvas, and the ratio it was drawn at."""
    ratio = posted("ratio")
    if ratio not in RATIOS:
        refuse("There is no such ratio.")
    try:
        x, y, w, h = (float(posted(k)) for k in "xywh")
        box = Crop(x=x, y=y, w=min(w, 1 - x), h=min(h, 1 - y))
    except ValueError:
        refuse("That box does not lie in the picture.")
    return _changed(number, "Cropped" if ratio in ("free", "frame") else f"Cropped at {ratio}", {"crop": box.model_dump(), "ratio": ratio})


@blueprint.post("/reset")
def reset(number: int) -> str:
    group, start = posted("group"), Finish().model_dump()
    names = [c.name for c in CONTROLS.values() if group in ("all", c.group)]
    changes: dict[str, Any] = {n: start[n] for n in names}
    if group in ("all", "Crop"):
        changes |= {"crop": start["crop"], "ratio": start["ratio"]}
    return _changed(number, f"{group} reset", changes, bench=True)
