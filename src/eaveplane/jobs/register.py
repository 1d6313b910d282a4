"""Registering a scene's frames."""

from __future__ import annotations

import sqlite3

from ..pipeline.runner import Runner
from ..store import scenes
from .kind import kind
from .prepare import counted, prepare
from .queue import JobQueue


@kind("register")
def register(queue: JobQueue, row: sqlite3.Row, runner: Runner) -> str:
    planned = prepare(queue, row["scene_id"], scenes.recipe_of(queue.db, row["scene_id"]), runner)
    return f"{counted(planned.ids)} registered."
