"""Weaving a scene."""

from __future__ import annotations

import sqlite3

from ..pipeline import scene
from ..pipeline.runner import Runner
from ..store import scenes
from .kind import kind
from .prepare import counted, prepare
from .queue import JobQueue


@kind("weave")
def weave(queue: JobQueue, row: sqlite3.Row, runner: Runner) -> str:
    preparing, weaving = runner.parts(4, 6)
    planned = prepare(queue, row["scene_id"], scenes.recipe_of(queue.db, row["scene_id"]), preparing)
    scene.weave(queue.library.cache, planned, weaving)
    scenes.note_made(queue.db, row["scene_id"], woven=planned.result.key)
    return f"{counted(planned.ids)} woven."
