"""A scene done whole as a part of a run over many: inspected, woven, looked over for flaws, delivered."""

from __future__ import annotations

import sqlite3
from typing import Any

from ..core.gather.inspect import Inspection
from ..pipeline import findings, scene
from ..pipeline.decisions import decide
from ..pipeline.runner import Runner
from ..pipeline.steps import open_flaws, open_inspection, open_registration
from ..pipeline.taking import taking
from ..pipeline.ticket import Cancelled
from ..recipe import Recipe
from ..store import jobs, runs, scenes
from .deliver import write_outputs
from .inspect import inspect
from .kind import kind
from .prepare import counted, prepare
from .queue import JobQueue


@kind("whole")
def whole(queue: JobQueue, row: sqlite3.Row, runner: Runner) -> str:
    asked, number = jobs.arguments_of(queue.db, row["id"]), row["scene_id"]
    looking, preparing, weaving, writing = runner.parts(3, 2, 4, 2)
    inspect(queue, row, looking)
    about = scenes.scene(queue.db, number)
    if about is None:
        raise Cancelled
    _carry_over(queue, about, asked)
    if asked["leave_out"]:
        _leave_out(queue, about)
    recipe = scenes.recipe_of(queue.db, number)
    planned = prepare(queue, number, recipe, preparing)
    scene.weave(queue.library.cache, planned, weaving)
    scenes.note_made(queue.db, number, woven=planned.result.key)
    files = write_outputs(queue, row, planned, recipe, writing)
    told = {"files": [str(file) for file in files], "left_out": _left_out(queue, number, recipe), **_to_look_at(queue, number, planned, recipe)}
    runs.note_told(queue.db, asked["run"], number, told)
    doubts = len(told["look_at"])
    return f"{counted(planned.ids)} woven, {counted(files).replace('frame', 'file')} delivered" + (f"; {doubts} thing{'s' if doubts != 1 else ''} to look at." if doubts else ".")


def _carry_over(queue: JobQueue, about: sqlite3.Row, asked: dict[str, Any]) -> None:
    """What is carried from another recipe, once: a job that was killed finds it decided."""
    if not asked["parts"]:
        return
    other = Recipe.model_validate_json(asked["recipe"])
    metas = queue.library.metadata(about["outing_id"])

    def change(recipe: Recipe) -> Recipe:
        sizes = [metas[i][1] for f in recipe.kept() for i in f.sources() if i in metas]
        size = next((s for s in sizes if s), (1, 1))
        return taking(recipe, other, asked["parts"], size)

    decide(queue.library, about["id"], f"Carried over: {', '.join(asked['parts'])}", change)


def _inspected(queue: JobQueue, number: int) -> tuple[Inspection, list[str]] | None:
    """The newest inspection of a scene and the frames it is of; None where there is none."""
    inspected = scenes.inspected_of(queue.db, number)
    if inspected is None or not queue.library.cache.has(inspected[0]):
        return None
    return open_inspection(queue.library.cache, inspected[0]), inspected[1]


def _left_out(queue: JobQueue, number: int, recipe: Recipe) -> list[dict[str, str]]:
    """All frames that are left out, each with its reason and what bears it out."""
    seen = _inspected(queue, number)
    evidence = {id: verdict.evidence for id, verdict in zip(seen[1], seen[0].verdicts, strict=True)} if seen else {}
    return [{"file": f.file, "reason": f.reason or "by hand", "evidence": evidence.get(f.id, "")} for f in recipe.in_depth() if f.state != "keep"]


def _leave_out(queue: JobQueue, about: sqlite3.Row) -> None:
    """Leave out what the inspection proposes and without which nothing is lost."""
    seen = _inspected(queue, about["id"])
    if seen is None:
        return
    found, ids = seen
    reasons = scene.proposed(found, ids)
    recipe = scenes.recipe_of(queue.db, about["id"])
    there = {f.id for f in recipe.kept()} - {recipe.reference}
    reasons = {id: reason for id, reason in reasons.items() if id in there}
    if reasons:
        decide(queue.library, about["id"], f"{counted(reasons)} left out as proposed", lambda r: scene.settled(scene.leave_out(r, reasons), found, ids))


def _to_look_at(queue: JobQueue, number: int, planned: scene.Plan, recipe: Recipe) -> dict[str, Any]:
    """What should be looked at, each with the stage where it is seen."""
    cache = queue.library.cache
    names = [next(f.file for f in recipe.kept() if f.id == id) for id in planned.ids]
    registered = open_registration(cache, planned.registered.key)
    told = [{"stage": "register", "said": f"{names[k]}: {fit.said}"} for k, fit in enumerate(registered.trusted) if fit.said]
    seen = _inspected(queue, number)
    if seen is not None:
        found, ids = seen
        told += [{"stage": "gather", "said": band.told()} for band in found.bands[:3]]
        needed = [id for id, verdict in zip(ids, found.verdicts, strict=True) if verdict.flaw and verdict.needed and id in planned.ids]
        told += [{"stage": "gather", "said": f"{names[planned.ids.index(id)]} is doubtful, and needed."} for id in needed]
    flaws = findings.standing(open_flaws(cache, planned.flaws.key), recipe)
    open_ones = sum(flaw.state == "open" for flaw in flaws)
    if open_ones:
        told.append({"stage": "mend", "said": f"{open_ones} flaw{'s' if open_ones != 1 else ''} open, the worst of severity {max(f.found.severity for f in flaws if f.state == 'open'):.2f}."})
    return {"look_at": told, "flaws": findings.reported(flaws, names)}
