"""Writing the registered frames of a scene as files of a folder."""

from __future__ import annotations

import sqlite3
from pathlib import Path

from ..pipeline import scene
from ..pipeline.runner import Runner
from ..recipe import Recipe
from .kind import kind
from .masks import into_folder
from .queue import JobQueue


@kind("frames")
def frames(queue: JobQueue, row: sqlite3.Row, runner: Runner) -> str:
    def write(planned: scene.Plan, recipe: Recipe, folder: Path, part: Runner) -> list[str]:
        weaving, writing = part.parts(1, 1)
        scene.weave(queue.library.cache, planned, weaving)
        return scene.write_frames(queue.library.cache, planned, recipe, folder, False, writing)

    return into_folder(queue, row, runner, "registered frame", write)
