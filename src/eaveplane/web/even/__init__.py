"""Even out: one look for all frames, what is put right in each, and drift between them taken away."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Any

import numpy as np
from flask import Blueprint, Response, abort, jsonify, request
from pydantic import ValidationError

from ...core.develop.areas import IN_AREA, Area
from ...core.develop.develop import develop, for_screen, tones_of
from ...core.develop.look import GROUPS, NEUTRAL, RAW_LOOK, HuePoint, Light, Look, neutral_light, scene_light, white_balance
from ...core.develop.tone import Tones, encode, through_points, tone_curve
from ...core.even.capture.settings import Capture
from ...core.even.drift import Trim
from ...imaging.colour import LUMA
from ...imaging.light import light_of
from ...imaging.oklab import from_oklab, oklab
from ...parameter import Control, control_at, controls, with_value
from ...recipe import Recipe
from ...store import looks, scenes
from ..desk import desk
from ..scene import checked_control, decided, posted, posted_number, queued, stage_page
from ..scene.opened import ScenePage, opened
from ..scene.stages import stage
from ..security import refuse

blueprint = Blueprint("even", __name__, template_folder="templates", url_prefix="/scene/<int:number>/even")
PICKED = 9
"""Side of the square of pixels whose mean is picked."""
CLIPPED = 0.985
CONTROLS = {c.name: c for c in controls(Look)}
TEMPERATURE, COLDEST = CONTROLS["kelvin"], 1700.0
"""The control for the light, and the least temperature that it names; 0 is as shot."""
KINDS = {"graduated": "Graduated", "elliptical": "Elliptical", "brushed": "Brushed", "tones": "Tone range", "hues": "Hue range", "distance": "Distance"}
DRAWN = {"Hue ring": ("hues",), "Curve": ("curve",)}
"""What a look has beside its numbers, by the heading that resets it."""


@stage("even", "Even out")
def bench(scene: ScenePage) -> dict[str, Any]:
    look = scene.recipe.look
    frames = scene.view.frames if scene.view else {}
    first = next(iter(frames.values()), None)
    return {
        "controls": [replace(c, low=COLDEST) if c.name == "kelvin" else c for c in CONTROLS.values()],
        "as_shot": float(np.clip(TEMPERATURE.step * round((scene.view.shot if scene.view else Light()).kelvin / TEMPERATURE.step), COLDEST, TEMPERATURE.high)),
        "look": look,
        "start": start_of(scene),
        "drift": in_frames.drift_rows(scene),
        "shot": scene.view.shot if scene.view else None,
        "looks": looks.saved_looks(desk().db),
        "groups": list(GROUPS),
        "others": scenes.named_scenes(desk().db, scene.number),
        "hue_controls": controls(HuePoint),
        "area_facts": {"kinds": KINDS, "fields": [c.name for c in controls(Area) if c.group == IN_AREA]},
        "area_controls": [c for c in controls(Area) if c.group == IN_AREA],
        "feather": next(c for c in controls(Area) if c.name == "feather"),
        "shapes": [[controls(type(part)) for part in area.parts] for area in look.areas],
        "capture": scene.recipe.capture,
        "capture_controls": {c.name: c for c in controls(Capture)},
        "trim_controls": controls(Trim),
        "raw": bool(first and first.raw),
        "lens_from": scene.view.lens_known() if scene.view else "",
        "ring": RING,
    }


def start_of(scene: ScenePage) -> Look:
    """The look that frames of this kind start from."""
    return RAW_LOOK if scene.view and next(iter(scene.view.frames.values())).raw else NEUTRAL


def _ring(count: int = 60) -> list[dict[str, Any]]:
    """Pieces of the hue ring: where they lie and what colour they have on screen."""
    hues = np.radians((np.arange(count) + 0.5) * 360 / count)
    light = from_oklab(np.stack([np.full(count, 0.7), 0.115 * np.cos(hues), 0.115 * np.sin(hues)], axis=-1))
    shown = for_screen(develop(np.sqrt(np.maximum(light, 0)).astype(np.float32)[None], Look(compress=100), Light(), "srgb"))[0]
    sectors = []
    for k, colour in enumerate(shown):
        begin, end = (np.radians(v * 360 / count) for v in (k, k + 1.05))
        at = [f"{radius * np.cos(turn):.2f} {-radius * np.sin(turn):.2f}" for radius, turn in ((62, begin), (62, end), (50, end), (50, begin))]
        d = f"M{at[0]}A62 62 0 0 0 {at[1]}L{at[2]}A50 50 0 0 1 {at[3]}Z"
        sectors.append({"d": d, "fill": "#" + "".join(f"{c:02x}" for c in colour)})
    return sectors


RING = _ring()


@blueprint.get("")
def page(number: int) -> str:
    return stage_page(number, "even")


# ---- changing the look ------------------------------------------------------------------------------------------


def _put(look: Look, path: str, value: float) -> tuple[Control, Look]:
    """The control at a path such as `exposure` or `areas.0.parts.1.soft`, and the look with its value. 400 where there is none."""
    control = checked_control(control_at(look, path), value)
    return control, Look.model_validate(with_value(look.model_dump(), path, value))


@blueprint.post("/set")
def set_value(number: int) -> str:
    path = posted("name")
    value = posted_number()
    look = opened(number).recipe.look
    control, _ = _put(look, path, value)
    temperature = control.name == TEMPERATURE.name
    said = f"{control.label} as shot" if temperature and not value else f"{control.label} {value:{'g' if temperature else '+g'}} {control.unit}".strip()
    place = path.split(".")
    if place[0] == "areas":
        said = f"{look.areas[int(place[1])].name}: {said[0].lower()}{said[1:]}"
    return decided(number, "even", said, lambda recipe: recipe.model_copy(update={"look": _put(recipe.look, path, value)[1]}))


@blueprint.post("/change")
def change(number: int) -> str:
    """Parts of the look that are drawn rather than set: curve, hues, areas. `patch` is JSON of those fields, `was` what they
    were before."""
    try:
        said, fields, old = posted("said")[:120], dict(json.loads(posted("patch"))), dict(json.loads(request.form.get("was", "{}")))
        if not set(fields) <= {"curve", "hues", "areas"} or not set(old) <= set(fields):
            raise ValueError
        checked, was = Look.model_validate(fields), Look.model_validate(old)
    except ValidationError as error:
        refuse(f"That cannot be: {error.errors()[0]['msg']}.")
    except (ValueError, TypeError, RecursionError):
        refuse("That is no part of a look.")

    def drawn(recipe: Recipe) -> Recipe:
        new = {name: getattr(checked, name) for name in fields}
        for name in {"hues", "areas"} & set(old):
            new[name] = _together(getattr(was, name), new[name], getattr(recipe.look, name))
        return recipe.model_copy(update={"look": recipe.look.model_copy(update=new)})

    return decided(number, "even", said, drawn, bench=set(fields) != {"curve"})


def _together(was: list[Any], mine: list[Any], now: list[Any]) -> list[Any]:
    """A list as this page changed it, and as another one did since: each entry from whoever changed it. Refuses where one of
    them took entries away or added some."""
    if now == was:
        return mine
    if not len(was) == len(mine) == len(now):
        refuse("This was changed in another tab. Load the page again and repeat what you did.", 409)
    return [m if m != w else n for w, m, n in zip(was, mine, now, strict=True)]


@blueprint.post("/reset")
def reset(number: int) -> str:
    """Back to where frames of this kind start: one column, or everything."""
    group = posted("group")
    start = start_of(opened(number))
    names = [c.name for c in CONTROLS.values() if group in ("all", c.group)] + [n for heading, fields in DRAWN.items() if group in ("all", heading) for n in fields]
    if group == "all":
        names.append("areas")
    return decided(
        number,
        "even",
        "Look reset" if group == "all" else f"{group} reset",
        lambda recipe: recipe.model_copy(update={"look": recipe.look.model_copy(update={n: getattr(start, n) for n in names})}),
        bench=True,
    )


def _place(scene: ScenePage, source: Any) -> tuple[int, int]:
    """The pixel of the reference frame that a request names; 400 for anything else."""
    assert scene.view is not None
    try:
        x, y = (round(float(source[name])) for name in ("x", "y"))
    except (KeyError, ValueError, OverflowError):
        refuse("That is not a place.")
    if not (0 <= x < scene.view.size[0] and 0 <= y < scene.view.size[1]):
        refuse("That is outside of the picture.")
    return x, y


def _picked(number: int, source: Any) -> tuple[ScenePage, np.ndarray]:
    """The mean light (3,) around a place of the picture, linear and as shot."""
    scene = opened(number)
    if scene.view is None:
        abort(404)
    x, y = _place(scene, source)
    light = light_of(scene.view.weave(0, scene.view.box_inside(0, (x - PICKED // 2, y - PICKED // 2, PICKED, PICKED))))
    return scene, light.reshape(-1, 3)


@blueprint.get("/at.json")
def at(number: int) -> Response:
    """What is at a place: brightness as the curve's points see it, and hue in degrees."""
    scene, light = _picked(number, request.args)
    look, view = scene.recipe.look, scene.view
    assert view is not None
    lit = white_balance(look, view.shot) @ light.mean(axis=0) * 2.0**look.exposure
    tones = tones_of(look)
    before = Tones(tones.contrast, tones.highlights, tones.shadows, tones.pivot, tones.white_end, tones.black_end)
    level = float(np.clip(tone_curve(before, encode(np.array([float(max(lit @ LUMA, 0.0))])))[0], 0, 1))
    after = float(np.clip(through_points(tones.curve, np.array([level]))[0], 0, 1))
    lab = oklab(np.maximum(lit, 0))
    return jsonify({"tone": round(level, 4), "curve": round(after, 4), "hue": round(float(np.degrees(np.arctan2(lab[2], lab[1])) % 360), 1)})


@blueprint.post("/neutral")
def neutral(number: int) -> str:
    """What is at a place of the picture, in pixels of the reference frame, is to be neutral."""
    scene, light = _picked(number, request.form)
    if light.max() > CLIPPED:
        refuse("That is clipped, its colour is lost. Pick something less bright.")
    return _lit(scene, lambda: neutral_light(light.mean(axis=0).astype(np.float64), scene.view.shot), "Neutral picked")  # type: ignore[union-attr]


@blueprint.post("/measure")
def measure(number: int) -> str:
    """The light of the scene, measured."""
    scene = opened(number)
    if scene.view is None:
        abort(404)
    view = scene.view
    return _lit(scene, lambda: scene_light(light_of(view.whole("weave", 700)), view.shot), "Light measured")


def _lit(scene: ScenePage, find: Any, said: str) -> str:
    """Take a light that `find` finds for the look."""
    try:
        found = find()
    except ValueError as error:
        refuse(str(error))
    assert scene.view is not None
    kelvin, tint = float(np.clip(round(found.kelvin / 50) * 50, COLDEST, TEMPERATURE.high)), float(np.clip(round(scene.view.shot.tint - found.tint), -100, 100))
    told = f"{said}: {kelvin:g} K, tint {tint:+g}"
    return decided(scene.number, "even", told, lambda recipe: recipe.model_copy(update={"look": recipe.look.model_copy(update={"kelvin": kelvin, "tint": tint})}), bench=True)


@blueprint.post("/go")
def go(number: int) -> Response:
    """On to Register, which starts."""
    return queued(number, "register", "register")


from . import in_frames, saved  # noqa: E402, F401  (their routes belong to this blueprint)
