"""Finish: painted light, air, glow, fine detail, noise, vignette, crop and level, sharpening and grain for the output."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, get_args

import numpy as np
from flask import Blueprint, Response, abort, jsonify, request
from pydantic import ValidationError

from ...core.deliver.sheet import written
from ...core.finish.geometry import keystone, runs_together
from ...core.finish.level import level_of_line, upright
from ...core.finish.output import grain_width, sharpening_for
from ...core.finish.settings import PARTS, Air, AirAt, Crop, FineDetail, Finish, Glow, Grain, Guides, NoiseLeft, PaintedMap, Vignette
from ...core.masks.parts import BrushedLine
from ...imaging.placement import through
from ...parameter import Control, Parameters, control_at, controls, with_value
from ...pipeline.view import found_level, proof
from ...recipe import Recipe
from ..scene import asked, checked_control, decided, jpeg, posted, posted_number, stage_page, view_of
from ..scene.opened import ScenePage, opened
from ..scene.stages import stage
from ..security import refuse

blueprint = Blueprint("finish", __name__, template_folder="templates", url_prefix="/scene/<int:number>/finish")
RATIOS = ("frame", "free", "1:1", "5:4", "4:3", "3:2", "16:9", "2:1", "3:1")
PRINTS = ((20, 30), (30, 40), (40, 50), (40, 60), (50, 70), (60, 90))
"""Sizes of prints that are offered, in cm."""
KINDS = {"lighter": "Lighter", "darker": "Darker", "richer": "Richer", "warmer": "Warmer", "glow": "Glow"}
WORDS = {"noise": "Noise", "air": "Air", "light": "Painted light", "glow": "Glow", "detail": "Fine detail", "vignette": "Vignette", "sharpen": "Sharpening", "grain": "Grain"}
PLACES = (("near", "Near"), ("middle", "Middle"), ("far", "Far"))
MODELS: dict[str, type[Parameters]] = {"noise": NoiseLeft, "glow": Glow, "detail": FineDetail, "vignette": Vignette, "grain": Grain}
FOR = {"hand": "by hand", "screen": "a screen", "paper": "paper"}
GONE = "That map is not there any more. It may have been taken away in another tab."
FEW_POINTS = 200
"""Points of a stroke that the page draws."""
PROOF = (240, 150)
"""Pixels of the output in a proof."""


@stage("finish", "Finish")
def bench(scene: ScenePage) -> dict[str, Any]:
    finish = scene.recipe.finish
    output, sheet = written(finish, scene.recipe.delivery, scene.canvas)
    longest = max(sheet.size)
    return {
        "finish": finish,
        "start": Finish(),
        "own": {c.name: c for c in controls(Finish)},
        "parts": {name: controls(model) for name, model in MODELS.items()},
        "words": WORDS,
        "kinds": KINDS,
        "places": PLACES,
        "air_controls": controls(AirAt),
        "map_controls": controls(PaintedMap),
        "changed": {part: part in finish.in_use() for part in PARTS},
        "in_use": finish.in_use(),
        "ratios": RATIOS,
        "prints": PRINTS,
        "guides": get_args(Guides),
        "sharpen_for": FOR,
        "longest": longest,
        "sharpening": sharpening_for(output, longest),
        "grain_px": grain_width(output.grain, output.paper, longest),
    }


@blueprint.get("")
def page(number: int) -> str:
    return stage_page(number, "finish")


def _changed(number: int, what: str, changes: dict[str, Any], bench: bool = False) -> str:
    return decided(number, "finish", what, lambda recipe: recipe.model_copy(update={"finish": Finish.model_validate({**recipe.finish.model_dump(), **changes})}), bench)


def _said(path: str, control: Control, finish: Finish) -> str:
    """Which of several controls of a name was moved."""
    way = path.split(".")
    if way[0] == "light":
        return f"{finish.light[int(way[1])].name}: {control.label.lower()}"
    return f"Air, {way[1]}: {control.label.lower()}" if way[0] == "air" and len(way) > 2 else control.label


@blueprint.post("/set")
def set_value(number: int) -> str:
    path, value, finish = posted("name"), posted_number(), opened(number).recipe.finish
    control = checked_control(control_at(finish, path), value)

    def put(recipe: Recipe) -> Recipe:
        if control_at(recipe.finish, path) is None:
            refuse(GONE)
        return recipe.model_copy(update={"finish": Finish.model_validate(with_value(recipe.finish.model_dump(), path, value))})

    return decided(number, "finish", f"{_said(path, control, finish)} {value:g} {control.unit}".strip(), put)


@blueprint.post("/crop")
def crop(number: int) -> str:
    """The crop box as fractions of the straightened canvas, the ratio it was drawn at, and the print it is meant for."""
    ratio = posted("ratio")
    try:
        x, y, w, h = (float(posted(k)) for k in "xywh")
        box = Crop(x=x, y=y, w=min(w, 1 - x), h=min(h, 1 - y))
        changes: dict[str, Any] = {"crop": box.model_dump(), "ratio": ratio}
        if request.form.get("paper"):
            changes["paper"] = float(posted("paper"))
        Finish.model_validate(changes)
    except ValidationError:
        refuse("That box does not lie in the picture, or there is no such ratio.")
    except ValueError:
        refuse("That box does not lie in the picture.")
    return _changed(number, "Cropped" if ratio in ("free", "frame") else f"Cropped at {ratio}", changes, bench="paper" in changes)


@blueprint.post("/choose")
def choose(number: int) -> str:
    """What the picture is sharpened for, or which guides are drawn."""
    name, value = posted("name"), posted("value")
    if name == "sharpen_for" and value in FOR:
        finish = opened(number).recipe.finish
        # what is computed for an output is meant to be seen
        strength = {"sharpen": 100.0} if value != "hand" and not finish.sharpen else {}
        return _changed(number, f"Sharpened for {FOR[value]}" if value != "hand" else "Sharpened by hand", {name: value, **strength}, bench=True)
    if name == "guides" and value in get_args(Guides):
        return _changed(number, f"Guides: {value}", {name: value})
    refuse("There is no such choice.")


@blueprint.post("/reset")
def reset(number: int) -> str:
    group, start = posted("group"), Finish().model_dump()
    parts = {word: part for part, word in WORDS.items()}
    places = {word: name for name, word in PLACES}
    finish = opened(number).recipe.finish
    if group == "all":
        changes = start
    elif group in places:
        air = finish.air.model_copy(update={places[group]: AirAt()})
        changes = {"air": (air.model_copy(update={"at": Air().at}) if group == "Middle" else air).model_dump()}
    elif group == "Crop":
        changes = {name: start[name] for name in ("straighten", "crop", "ratio", "uprights")}
    elif group == WORDS["sharpen"]:
        changes = {name: start[name] for name in ("sharpen", "radius", "spare", "sharpen_for", "paper", "seen_from")}
    elif group in parts:
        changes = {parts[group]: start[parts[group]]}
    else:
        refuse("There is no such part.")
    return _changed(number, f"{group} reset", changes, bench=True)


@blueprint.post("/part")
def part(number: int) -> str:
    """Switch a part off for the moment, or on again."""
    name = posted("name")
    if name not in PARTS:
        refuse("There is no such part.")
    off = set(opened(number).recipe.finish.off) ^ {name}
    return _changed(number, f"{WORDS[name]} {'off' if name in off else 'on'}", {"off": [p for p in PARTS if p in off]}, bench=True)


# ---- level --------------------------------------------------------------------------------------------------


@blueprint.post("/level")
def level(number: int) -> str:
    """Straighten by a line along the horizon or an upright, from (x0, y0) to (x1, y1) in pixels of the picture; without one, by what is found."""
    scene = opened(number)
    if "x0" in request.form:
        x0, y0, x1, y1 = (posted_number(k) for k in ("x0", "y0", "x1", "y1"))
        if not np.isfinite([x0, y0, x1, y1]).all() or np.hypot(x1 - x0, y1 - y0) < 4:
            refuse("Draw a longer line along the horizon or along something upright.")
        degrees = level_of_line(x0, y0, x1, y1)
        said = f"Levelled by {'an upright' if upright(x0, y0, x1, y1) else 'a line'}"
    else:
        if scene.view is None:
            refuse("The frames are still being read. Try again in a moment.")
        found = found_level(scene.view)
        if found is None:
            refuse("Neither a horizon nor uprights can be made out. Draw a line along what should be level or upright.")
        degrees, said = -found.tilt, f"Level found by {found.by}"
    if abs(degrees) > 15:
        refuse("That would turn the picture by more than 15°. Draw the line along what should be level or upright.")
    return _changed(number, f"{said}: {round(degrees, 2):g}°", {"straighten": round(degrees, 2)}, bench=True)


@blueprint.post("/upright")
def upright_line(number: int) -> str:
    """A line along something upright; a second one makes both parallel, a third begins anew. `clear` takes them away."""
    if "clear" in request.form:
        return _changed(number, "Uprights as they came", {"uprights": []}, bench=True)
    scene = opened(number)
    lines, seen = scene.recipe.finish.uprights, [posted_number(k) for k in ("x0", "y0", "x1", "y1")]
    if not np.isfinite(seen).all() or max(abs(v) for v in seen) > 1e6 or not upright(*seen) or abs(seen[3] - seen[1]) < 16:
        refuse("Draw a longer line along something upright.")
    line = _in_picture(scene, np.reshape(seen, (2, 2))).ravel().tolist()
    both = [*lines, line] if len(lines) == 1 else [line]
    if len(both) == 2 and not runs_together([(a, b, c, d) for a, b, c, d in both], scene.canvas):
        refuse("These lines lean too far, or run together too fast, to be made upright. Draw another one.")
    return _changed(number, "Two uprights made parallel" if len(both) == 2 else "First upright; draw another one", {"uprights": both}, bench=True)


def _in_picture(scene: ScenePage, points: Any) -> np.ndarray:
    """Places (n, 2) of the picture, as the page shows it upright, in pixels of the reference frame."""
    return through(points, np.asarray(np.linalg.inv(keystone(scene.recipe.finish.uprights, scene.canvas)), np.float64))


@blueprint.get("/level.json")
def level_seen(number: int) -> Response:
    """What tells the level: its lines, each from point to point in pixels of the picture."""
    scene = opened(number)
    found = found_level(scene.view) if scene.view else None
    if found is None:
        return jsonify({})
    lines = through(np.reshape(found.lines, (-1, 2)), keystone(scene.recipe.finish.uprights, scene.canvas)).reshape(-1, 4)
    return jsonify({"tilt": round(found.tilt, 2), "by": found.by, "lines": lines.tolist()})


# ---- painted light --------------------------------------------------------------------------------------------


@blueprint.post("/map/add")
def add_map(number: int) -> str:
    kind = posted("kind")
    if kind not in KINDS:
        refuse("There is no such kind of map.")

    def added(maps: list[PaintedMap]) -> list[PaintedMap]:
        count = sum(m.kind == kind for m in maps)
        return [*maps, PaintedMap.model_validate({"kind": kind, "name": f"{KINDS[kind]} {count + 1}" if count else KINDS[kind]})]

    return _with_maps(number, f"Map: {KINDS[kind].lower()}", added)


def _with_maps(number: int, said: str, change: Callable[[list[PaintedMap]], list[PaintedMap]]) -> str:
    def put(recipe: Recipe) -> Recipe:
        maps = [m.model_dump() for m in change(recipe.finish.light)]
        return recipe.model_copy(update={"finish": Finish.model_validate({**recipe.finish.model_dump(), "light": maps})})

    return decided(number, "finish", said, put, bench=True)


def _on_map(number: int, said: str, does: Callable[[PaintedMap], list[PaintedMap]]) -> str:
    """Let something take the place of the map that is meant; 400 where it is not there."""
    place, name = posted("map"), _name(number)

    def change(maps: list[PaintedMap]) -> list[PaintedMap]:
        k = int(place)
        if k >= len(maps) or maps[k].name != name:
            refuse(GONE)
        return [*maps[:k], *does(maps[k]), *maps[k + 1 :]]

    return _with_maps(number, f"{name} {said}", change)


def _name(number: int) -> str:
    maps, place = opened(number).recipe.finish.light, posted("map")
    if not (place.isascii() and place.isdecimal() and len(place) < 4 and int(place) < len(maps)):
        refuse(GONE)
    return maps[int(place)].name


@blueprint.post("/map/change")
def change_map(number: int) -> str:
    """Name, switch, duplicate, clear or remove a map."""
    does = posted("does")
    if does not in CHANGES:
        refuse("That cannot be done with a map.")
    said, change = CHANGES[does]
    value = request.form.get("value", "").strip()[:60]
    return _on_map(number, said, lambda map_: change(map_, value))


CHANGES: dict[str, tuple[str, Callable[[PaintedMap, str], list[PaintedMap]]]] = {
    "name": ("named", lambda m, value: [m.model_copy(update={"name": value or KINDS[m.kind]})]),
    "on": ("switched", lambda m, _: [m.model_copy(update={"on": not m.on})]),
    "copy": ("duplicated", lambda m, _: [m, m.model_copy(update={"name": f"{m.name} again"[:60]})]),
    "clear": ("cleared", lambda m, _: [m.model_copy(update={"lines": []})]),
    "remove": ("removed", lambda m, _: []),
}
"""What may be done with a map: in words, and what it becomes."""


@blueprint.post("/stroke")
def stroke(number: int) -> str:
    """A movement of the brush on a map, as JSON."""
    try:
        line = BrushedLine.model_validate_json(posted("stroke"))
    except (ValidationError, RecursionError):
        refuse("That stroke cannot be used. Load the page again.")
    scene = opened(number)
    if len(scene.recipe.finish.uprights) > 1:
        line = line.moved(lambda points: _in_picture(scene, points))
    return _on_map(number, "rubbed out" if line.erase else "painted", lambda m: [m.model_copy(update={"lines": [*m.lines, line]})])


@blueprint.get("/lines.json")
def lines(number: int) -> Response:
    """The strokes of a map as they were painted; of long ones some of their points."""
    scene, place = opened(number), request.args.get("map", "")
    maps, seen = scene.recipe.finish.light, keystone(scene.recipe.finish.uprights, scene.canvas)
    if not (place.isascii() and place.isdecimal() and len(place) < 4 and int(place) < len(maps)):
        abort(404)
    told = []
    for line in maps[int(place)].lines:
        step = -(-len(line.points) // FEW_POINTS)
        told.append({"width": line.width, "erase": line.erase, "points": through(np.array([*line.points[::step], line.points[-1]]), seen).tolist()})
    return jsonify(told)


@blueprint.post("/stroke/erase")
def erase(number: int) -> str:
    """Take a stroke of a map away, by its place in it."""
    place = posted("line")
    if not (place.isascii() and place.isdecimal() and len(place) < 4):
        refuse("That stroke is not there any more. It may have been erased in another tab.")
    k = int(place)

    def without(map_: PaintedMap) -> list[PaintedMap]:
        if k >= len(map_.lines):
            refuse("That stroke is not there any more. It may have been erased in another tab.")
        return [map_.model_copy(update={"lines": [*map_.lines[:k], *map_.lines[k + 1 :]]})]

    return _on_map(number, "one stroke less", without)


# ---- the output -----------------------------------------------------------------------------------------------


@blueprint.get("/proof.jpg")
def proof_at(number: int) -> Response:
    """The very pixels of the output around a place of the picture."""
    scene, view, what = view_of(number)
    try:
        x, y = (float(request.args[k]) for k in "xy")
    except (KeyError, ValueError):
        abort(400)
    if not (abs(x) < 1e6 and abs(y) < 1e6) or request.args.get("finished") != "1":
        abort(400)
    (x, y), *_ = _in_picture(scene, np.array([[x, y]])).tolist()
    return jpeg(proof(view, what, (x, y), PROOF, asked(scene)), 95)


