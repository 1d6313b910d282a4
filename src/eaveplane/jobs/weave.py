"""Weaving a scene."""

from __future__ import annotations

import json
import sqlite3

from ..pipeline import scene
from ..pipeline.runner import Runner
from ..recipe import Recipe
from ..store import scenes
from .kind import kind
from .prepare import counted, prepare
from .queue import JobQueue


@kind("weave")
def weave(queue: JobQueue, row: sqlite3.Row, runner: Runner) -> str:
    preparing, weaving = runner.parts(4, 6)
    asked = json.loads(row["arguments"] or "{}")
    # a variant is woven as it was when it was asked for, beside the one that is chosen
    beside = "recipe" in asked
    recipe = Recipe.model_validate_json(asked["recipe"]) if beside else scenes.recipe_of(queue.db, row["scene_id"])
    planned = prepare(queue, row["scene_id"], recipe, preparing)
    scene.weave(queue.library.cache, planned, weaving)
    if not beside:
        scenes.note_made(queue.db, row["scene_id"], woven=planned.result.key)
    return f"{counted(planned.ids)} woven."
