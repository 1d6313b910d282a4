"""Flaws that the program found: led from one to the next, remedies beside each other, accepted or taken up again."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from flask import Response, abort, jsonify, request

from ...core.develop.develop import for_screen
from ...core.even.drift import Trim
from ...core.masks.strokes import Stroke
from ...core.mend.flaws.finding import KINDS, Finding
from ...core.mend.flaws.judged import offered
from ...core.mend.flaws.remedies import OTHER_WAYS, Remedy, remedies, strokes_over
from ...core.mend.moment import Moment, moments_at
from ...core.weave.laid import REGIONS
from ...core.weave.weave import woven_by
from ...imaging.pyramid import Box
from ...parameter import controls
from ...pipeline.findings import Flaw
from ...pipeline.view import View
from ...recipe import FrameChoice, Recipe
from ..desk import desk
from ..scene import decided, jpeg, posted, queued
from ..scene.opened import ScenePage, opened
from ..security import refuse
from ..weave import healed, with_source
from . import blueprint

PIECE = (232, 168)
"""Size of a piece that shows a remedy, at 1:1."""
TRIMS = next((c.low, c.high) for c in controls(Trim) if c.name == "exposure")
POINTED = 6
"""Pixels around a place at which somebody points."""
VEILED = "Left veiled"
"""What the weave's own way, without veils lifted, is called as a remedy."""


def _flaw(scene: ScenePage, name: str) -> Flaw:
    """A flaw by its name, or what moved `at` a place of the picture, as if it had been found there."""
    if place := re.fullmatch(r"at-(\d{1,5})-(\d{1,5})", name):
        x, y = int(place[1]), int(place[2])
        box = (max(0, x - POINTED), max(0, y - POINTED), 2 * POINTED, 2 * POINTED)
        return Flaw(Finding("ghost", box, (), 0.0, (), "Other moments of what moved here."), name, "open")
    found = next((flaw for flaw in scene.flaws or [] if flaw.name == name), None)
    if found is None:
        refuse("That flaw is not there any more: the weave has changed. Load the page again.")
    assert found is not None
    return found


def _pointed_at(flaw: Flaw) -> bool:
    """Whether it is a place that somebody asked about, rather than a flaw that was found."""
    return not flaw.found.outline


def told(scene: ScenePage) -> list[dict[str, Any]]:
    """Flaws as the page shows them, worst first; frames by their numbers on the rail."""
    if scene.plan is None:
        return []
    numbers = {f.id: k for k, f in enumerate(scene.recipe.frames, 1)}
    names = [str(numbers[id]) for id in scene.plan.ids]
    return [
        {
            "name": flaw.name,
            "number": place,
            "kind": KINDS[flaw.found.kind],
            "said": flaw.found.told(names),
            "box": list(flaw.found.box),
            "outline": [list(point) for point in flaw.found.outline],
            "severity": flaw.found.severity,
            "state": flaw.state,
        }
        for place, flaw in enumerate(scene.flaws or [], 1)
    ]


@blueprint.get("/findings.json")
def findings(number: int) -> Response:
    return jsonify(told(opened(number)))


@blueprint.post("/look")
def look(number: int) -> Response:
    """Look for flaws; a weave that is there is not made anew for it."""
    return queued(number, "mend", "weave")


def _remedies(scene: ScenePage, name: str) -> tuple[View, Flaw, list[tuple[Remedy, str]]]:
    """The remedies for a flaw that make the place better, the best first, each with what it improves in words."""
    flaw, view = _flaw(scene, name), scene.view
    if view is None or view.laid is None or scene.plan is None or not scene.woven:
        refuse("Weave the frames first: remedies, and what moved, are looked for in the weave.")
    assert view is not None and view.laid is not None and scene.plan is not None
    ids, found = scene.plan.ids, flaw.found
    if found.kind == "ghost" and (moments := _moments(view, found.box)):
        told = [(Remedy(m.frame, tuple(strokes_over(m.outline, ids[m.frame]))), f"{m.fine:.1f} × as sharp" if abs(m.fine - 1) > 0.05 else "as sharp as now") for m in moments]
        if _pointed_at(flaw):
            return view, flaw, told
        better = [remedy for remedy, _ in _judged(scene, view, flaw.name, found, [remedy for remedy, _ in told])]
        return view, flaw, [(remedy, gain) for remedy, gain in told if remedy in better]
    if _pointed_at(flaw):
        return view, flaw, []
    tried = remedies(found, ids, scene.plan.reference, _ways(view))
    if found.kind == "seam":
        return view, flaw, [(remedy, "spreads the step" if remedy.way else "then weave anew") for remedy in tried]
    # where nobody knows what moved, frames are offered as for any other place
    judged = _judged(scene, view, flaw.name, replace(found, kind="soft") if found.kind == "ghost" else found, tried)
    return view, flaw, [(remedy, "" if found.kind == "speck" else f"brings back {100 * (1 - left):.0f} % of what is lost") for remedy, left in judged]


def _ways(view: View) -> list[str]:
    """Other ways of weaving than that of the weave; its own, too, where veils are lifted over it."""
    assert view.laid is not None
    own = woven_by(view.laid, view.recipe.weaving)
    return [way for way in OTHER_WAYS if way != own or view.veils is not None]


def _judged(scene: ScenePage, view: View, name: str, found: Finding, tried: list[Remedy]) -> list[tuple[Remedy, float]]:
    """Those of the remedies that make the place of a flaw better; kept while they are looked at."""
    assert view.laid is not None
    laid = view.laid
    kept: list[tuple[Remedy, float]] = desk().kept.get(
        ("remedies", view.weave_version(), name),
        lambda: offered(found, tried, laid, view.weave, lambda remedy: _under(scene, view, list(remedy.strokes), remedy).weave),
    )
    return kept


def _moments(view: View, place: Box) -> list[Moment]:
    """Whole moments of what moved at a place; kept while the remedies for it are looked at."""
    assert view.laid is not None
    laid, inside = view.laid, view.box_inside(0, place)
    made: list[Moment] = desk().kept.get(("moments", view.weave_version(), inside), lambda: moments_at(laid, view.weave, inside))
    return made


def _box(view: View, found: Box) -> Box:
    """What is shown of a flaw: as much as goes into a piece, around its middle."""
    (w, h), (x, y) = PIECE, (found[0] + found[2] // 2, found[1] + found[3] // 2)
    w, h = min(w, view.size[0]), min(h, view.size[1])
    return min(max(0, x - w // 2), view.size[0] - w), min(max(0, y - h // 2), view.size[1] - h), w, h


@blueprint.get("/remedies.json")
def offers(number: int) -> Response:
    """The remedies for a flaw, each with what it improves."""
    scene = opened(number)
    _, flaw, found = _remedies(scene, request.args.get("flaw", ""))
    out = [{"label": _called(scene, remedy), "gain": gain} for remedy, gain in found]
    none = "No frame that is sharp here shows it otherwise than the weave does." if _pointed_at(flaw) else "No frame and no other way of weaving makes it better: leave it, or paint."
    said = "" if found else none
    return jsonify({"name": flaw.name, "remedies": out, "said": said})


def _called(scene: ScenePage, remedy: Remedy) -> str:
    if remedy.way:
        view = scene.view
        own = view is not None and view.laid is not None and remedy.way == woven_by(view.laid, view.recipe.weaving)
        return VEILED if own else REGIONS[remedy.way]
    if remedy.frame is None or scene.plan is None:
        return "Heal"
    frame = f"Frame {1 + [f.id for f in scene.recipe.frames].index(scene.plan.ids[remedy.frame])}"
    return frame if remedy.strokes else f"{frame} trimmed by {remedy.stops:+.2f} EV"


@blueprint.get("/remedy.jpg")
def remedy(number: int) -> Response:
    """A flaw at 1:1 under a remedy, or as it is where none is named."""
    scene = opened(number)
    view, flaw, found = _remedies(scene, request.args.get("flaw", ""))
    which = request.args.get("which", "")
    if which:
        chosen = _one_of(found, which)
        view = _under(scene, view, _strokes(number, chosen), chosen)
    return jpeg(for_screen(view.developed("weave", 0, _box(view, flaw.found.box), scene.recipe.look)), 92)


def _one_of(found: list[tuple[Remedy, str]], which: str) -> Remedy:
    if not which.isdecimal() or int(which) >= len(found):
        refuse("There is no such remedy. Load the page again.")
    return found[int(which)][0]


def _strokes(number: int, remedy: Remedy) -> list[Stroke]:
    return [healed(number, stroke) if stroke.action == "heal" else stroke for stroke in remedy.strokes]


def _under(scene: ScenePage, view: View, strokes: list[Stroke], remedy: Remedy) -> View:
    """What is to be seen under a remedy and its strokes. These lie over the weave that is there; under another tone the place is woven anew."""
    recipe = _with(scene, strokes, remedy)(scene.recipe)
    if remedy.strokes:
        return replace(view, recipe=recipe)
    return scene.trying(recipe) or view


def _with(scene: ScenePage, strokes: list[Stroke], remedy: Remedy) -> Callable[[Recipe], Recipe]:
    """A remedy as a change of the recipe."""
    if strokes or remedy.frame is None or scene.plan is None:
        return lambda recipe: recipe.model_copy(update={"strokes": [*recipe.strokes, *strokes]})
    id = scene.plan.ids[remedy.frame]

    def trimmed(frame: FrameChoice) -> FrameChoice:
        if frame.id != id:
            return frame
        exposure = float(np.clip(frame.trim.exposure + remedy.stops, *TRIMS))
        return frame.model_copy(update={"trim": frame.trim.model_copy(update={"exposure": round(exposure, 2)})})

    return lambda recipe: recipe.model_copy(update={"frames": [trimmed(frame) for frame in recipe.frames]})


@blueprint.post("/remedy")
def take(number: int) -> str:
    """Carry a remedy out."""
    scene = opened(number)
    _, flaw, found = _remedies(scene, posted("flaw"))
    chosen = _one_of(found, posted("which"))
    strokes = _strokes(number, chosen)
    called = _called(scene, chosen).lower()
    how = "healed" if chosen.heals else called if called == VEILED.lower() else f"woven by {called}" if chosen.way else f"mended from {called}"
    how = f"{KINDS[flaw.found.kind]} {how}" if strokes else called.capitalize()
    how = f"Moment of {called}" if _pointed_at(flaw) else how
    return decided(number, "mend", how, _with(scene, strokes, chosen), bench=True)


def open_specks(scene: ScenePage) -> list[Flaw]:
    """Specks that nobody has mended or spared."""
    return [flaw for flaw in scene.flaws or [] if flaw.found.kind == "speck" and flaw.state == "open"]


@blueprint.post("/specks")
def specks(number: int) -> str:
    """Heal all specks that are open, as one decision."""
    scene = opened(number)
    if scene.plan is None or scene.view is None:
        abort(404)
    strokes, left = [], 0
    for flaw in open_specks(scene):
        heal = remedies(flaw.found, scene.plan.ids, scene.plan.reference)[0]
        try:
            strokes += [with_source(scene.view, stroke) for stroke in heal.strokes]
        except ValueError:
            # nothing lies around it that could stand there
            left += 1
    if not strokes:
        refuse("No speck is open that could be healed." if not left else "Nothing lies around these specks that could stand there. Draw over them from another frame.")
    many = f"{len(strokes)} specks" if len(strokes) > 1 else "Speck"
    return decided(number, "mend", f"{many} healed" + (f", {left} left" if left else ""), lambda recipe: recipe.model_copy(update={"strokes": [*recipe.strokes, *strokes]}), bench=True)


@blueprint.post("/accept")
def accept(number: int) -> str:
    """Accept a flaw as it is, or take it up again."""
    flaw = _flaw(opened(number), posted("flaw"))
    if _pointed_at(flaw):
        refuse("Nothing was found here that could be accepted.")
    back = flaw.state == "accepted"

    def changed(recipe: Recipe) -> Recipe:
        others = [name for name in recipe.accepted if name != flaw.name]
        return recipe.model_copy(update={"accepted": others if back else [*others, flaw.name]})

    return decided(number, "mend", f"{KINDS[flaw.found.kind]} {'taken up again' if back else 'accepted'}", changed, bench=True)
