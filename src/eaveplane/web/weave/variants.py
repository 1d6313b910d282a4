"""Weaves kept under a name: one is chosen, any two are compared."""

from __future__ import annotations

from typing import Any

from flask import Response, abort, jsonify, request

from ...core.weave.apart import most_apart
from ...core.weave.laid import WAYS, Weaving
from ...pipeline.view import View
from ...recipe import Recipe, Variant
from ..scene import decided, posted, queued, view_of
from ..scene.opened import ScenePage, opened
from ..security import refuse
from . import blueprint

WIDE = 1600
"""Pixels across at which two weaves are compared."""


def name_for(recipe: Recipe) -> str:
    """A name for the weave as it is set: its way, and what departs from the start."""
    weaving, start = recipe.weaving, Weaving(way=recipe.weaving.way)
    told = [f"{field.title.lower()} {getattr(weaving, name):g}" for name, field in Weaving.model_fields.items() if name != "way" and field.title and getattr(weaving, name) != getattr(start, name)]
    strength = f"veils lifted by {recipe.veil_strength:g} %" if recipe.veil_strength < 100 else ""
    veil = [of for of in ("veils left" if recipe.veil == "leave" else strength,) if of and weaving.way == "joint-light"]
    return ", ".join([WAYS[weaving.way][0], *veil, *told])[:60]


def listed(scene: ScenePage) -> list[dict[str, Any]]:
    """The variants for the bench: name, whether it is the one chosen, whether it has been woven whole."""
    recipe, told = scene.recipe, []
    for variant in recipe.variants:
        with_it = recipe.choosing(variant)
        told.append({"name": variant.name, "line": name_for(with_it), "chosen": variant.as_in(recipe), "woven": scene.woven_whole(with_it)})
    return told


def variant_of(recipe: Recipe, place: str) -> Variant:
    """A variant by its place; 404-like words where there is none."""
    if not place.isascii() or not place.isdecimal() or len(place) > 3 or int(place) >= len(recipe.variants):
        refuse("There is no such variant any more. It may have been taken away in another tab.")
    return recipe.variants[int(place)]


@blueprint.post("/variants/keep")
def keep(number: int) -> str:
    """Keep the weave as it is set under a name."""
    recipe = opened(number).recipe
    name = posted("name").strip()[:60] or name_for(recipe)
    if any(variant.as_in(recipe) for variant in recipe.variants):
        refuse("This weave is kept already. Change the way or a ruler first.")
    taken = {v.name for v in recipe.variants}
    free = name if name not in taken else next(f"{name[:55]} {k}" for k in range(2, 99) if f"{name[:55]} {k}" not in taken)
    kept = Variant(name=free, weaving=recipe.weaving, veil=recipe.veil, veil_strength=recipe.veil_strength)
    return decided(number, "weave", f"{free} kept", lambda recipe: Recipe.model_validate({**recipe.model_dump(by_alias=True), "variants": [*recipe.variants, kept]}), bench=True)


@blueprint.post("/variants/take")
def take(number: int) -> str:
    """Choose a variant."""
    variant = variant_of(opened(number).recipe, posted("variant"))
    return decided(number, "weave", f"{variant.name} chosen", lambda recipe: recipe.choosing(variant), bench=True)


@blueprint.post("/variants/forget")
def forget(number: int) -> str:
    variant = variant_of(opened(number).recipe, posted("variant"))
    return decided(number, "weave", f"{variant.name} taken away", lambda recipe: recipe.model_copy(update={"variants": [v for v in recipe.variants if v != variant]}), bench=True)


@blueprint.post("/variants/weave")
def weave_it(number: int) -> Response:
    """Weave a variant whole, without choosing it."""
    recipe = opened(number).recipe
    return queued(number, "weave", "weave", recipe=recipe.choosing(variant_of(recipe, posted("variant"))).to_json())


@blueprint.get("/apart.json")
def apart(number: int) -> Response:
    """Where the weave and another picture, a variant or a frame, differ most: a line, and the place."""
    scene, other, what = view_of(number, request.args.get("other", ""))
    one = scene.view
    if one is None or one.gates is None:
        return jsonify({"said": "Told once sharp zones have been found.", "x": None, "y": None})
    level, box = _level(one)
    try:
        found = most_apart(*(view.developed(shown, level, box, scene.recipe.look) for view, shown in ((one, "weave"), (other, what))))
    except (KeyError, ValueError):
        abort(404)
    scale = 2**level
    x, y = (found.x + 0.5) * scale, (found.y + 0.5) * scale
    if found.part == 0:
        return jsonify({"said": "They do not differ visibly.", "x": None, "y": None})
    where = f"{_third(x / one.size[0], 'left', 'right')}, {_third(y / one.size[1], 'above', 'below')}".replace("in the middle, in the middle", "in the middle")
    said = f"They differ in {100 * found.part:.1f} % of the picture, most {where}: by {100 * found.by:.0f} % of the scale."
    return jsonify({"said": said, "x": x, "y": y})


def _level(view: View) -> tuple[int, Any]:
    level = 0
    while level < view.levels - 1 and view.size[0] >> level > WIDE:
        level += 1
    return level, (0, 0, *view.size_at(level))


def _third(part: float, low: str, high: str) -> str:
    return low if part < 1 / 3 else high if part > 2 / 3 else "in the middle"
