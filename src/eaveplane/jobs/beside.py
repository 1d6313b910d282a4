"""Laying what has no part in the weave on its reference, so that it can be drawn from."""

from __future__ import annotations

import json
import sqlite3

from ..pipeline import scene
from ..pipeline.runner import Runner
from ..pipeline.steps import make, open_registration
from ..pipeline.ticket import Cancelled
from ..store import scenes
from .kind import kind
from .prepare import read
from .queue import JobQueue


@kind("beside")
def beside(queue: JobQueue, row: sqlite3.Row, runner: Runner) -> str:
    about, cache = scenes.scene(queue.db, row["scene_id"]), queue.library.cache
    if about is None:
        raise Cancelled
    recipe = scenes.recipe_of(queue.db, row["scene_id"])
    asked = json.loads(row["arguments"])["frame"]
    wanted, kept = [f for f in recipe.beside() if f.id == asked], recipe.kept()
    if not wanted or not kept:
        # brought back meanwhile, or there is nothing that it could be laid on
        raise Cancelled
    reading, registering = runner.parts(2, 1)
    # all that are kept: of two alone nobody could say which has the wrong size
    frames = read(queue.library, about["outing_id"], [*kept, *wanted], recipe, reading)
    step = scene.beside(recipe, frames, wanted)[asked]
    registering.one("Registering", make, str(cache.root), step)
    said = open_registration(cache, step.key).trusted[1].said
    return f"{wanted[0].file} can be drawn from." + (f" Look at it before: {said}" if said else "")
