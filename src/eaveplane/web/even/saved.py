"""Looks saved under a name, carried from scene to scene, exported and imported."""

from __future__ import annotations

from flask import Response, request
from pydantic import ValidationError

from ...core.develop.look import GROUPS, Look, with_groups
from ...store import looks, scenes
from ..desk import desk, download
from ..scene import decided, pieces, posted
from ..scene.opened import ScenePage, opened
from ..security import refuse
from . import blueprint

MOST_BYTES = 4_000_000


def _carried(number: int, other: Look, said: str) -> str:
    """Take the groups that were ticked from another look."""
    groups = request.form.getlist("groups") or list(GROUPS)
    if not set(groups) <= set(GROUPS):
        refuse("There is no such part of a look.")
    scene = opened(number)
    look = other.onto(scene.view.size) if scene.view else other
    told = said if len(groups) == len(GROUPS) else f"{said}: {', '.join(g.lower() for g in groups)}"
    return decided(number, "even", told[:200], lambda recipe: recipe.model_copy(update={"look": with_groups(recipe.look, look, groups)}), bench=True)


def _standing_alone(scene: ScenePage) -> Look:
    """The look of a scene as it can be carried to others."""
    return scene.recipe.look.told_in(scene.view.size) if scene.view else scene.recipe.look


@blueprint.post("/looks/save")
def save(number: int) -> str:
    """Keep the look of this scene under a name."""
    name = posted("name").strip()[:80]
    if not name:
        refuse("A look needs a name.")
    looks.save_look(desk().db, name, _standing_alone(opened(number)))
    return pieces(opened(number), "even", bench=True)


@blueprint.post("/looks/forget")
def forget(number: int) -> str:
    looks.forget_look(desk().db, posted("name"))
    return pieces(opened(number), "even", bench=True)


@blueprint.post("/looks/apply")
def apply(number: int) -> str:
    name = posted("name")
    look = looks.saved_look(desk().db, name)
    if look is None:
        refuse("There is no such look any more.")
    assert look is not None
    return _carried(number, look, f"Look {name}")


@blueprint.post("/looks/copy")
def copy(number: int) -> str:
    """The look of another scene, or parts of it."""
    other = posted("scene")
    row = scenes.scene(desk().db, int(other)) if other.isascii() and other.isdecimal() and len(other) < 16 else None
    if row is None:
        refuse("There is no such scene any more.")
    assert row is not None
    return _carried(number, _standing_alone(opened(row["id"])), f"Look of {row['name']}")


@blueprint.get("/look.json")
def exported(number: int) -> Response:
    """The look as a file of its own."""
    scene = opened(number)
    return download(_standing_alone(scene).model_dump_json(indent=1), f"{scene.row['name']} look.json")


@blueprint.post("/looks/import")
def imported(number: int) -> str:
    """A look from a file: it is applied, and can be saved under a name."""
    file = request.files.get("file")
    try:
        look = Look.model_validate_json(file.read(MOST_BYTES) if file else b"")
    except ValidationError as error:
        first = error.errors()[0]
        refuse(f"{file.filename if file else 'This'} is not a look: {'.'.join(str(p) for p in first['loc']) or 'it'} {first['msg'].lower()}. Choose a file that was exported here.")
    return _carried(number, look, f"Look from {file.filename if file else 'a file'}"[:120])
