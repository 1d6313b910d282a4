"""Writing the masks of a scene as files of a folder."""

from __future__ import annotations

import json
import shutil
import sqlite3
from collections.abc import Callable
from pathlib import Path

from ..imaging.errors import PictureError
from ..imaging.write import free_name
from ..pipeline import scene
from ..pipeline.runner import Runner
from ..recipe import Recipe
from .deliver import NO_SIZE, results_folder
from .kind import kind
from .prepare import counted, prepare
from .queue import JobQueue

Write = Callable[[scene.Plan, Recipe, Path, Runner], list[str]]


@kind("masks")
def masks(queue: JobQueue, row: sqlite3.Row, runner: Runner) -> str:
    return into_folder(queue, row, runner, "mask", lambda planned, recipe, folder, part: scene.write_masks(queue.library.cache, planned, recipe, folder, part))


def into_folder(queue: JobQueue, row: sqlite3.Row, runner: Runner, what: str, write: Write) -> str:
    """Write files of a kind into a folder beside what is delivered."""
    # the recipe of the moment in which they were asked for
    recipe = Recipe.model_validate_json(json.loads(row["arguments"])["recipe"])
    preparing, writing = runner.parts(3, 7)
    planned = prepare(queue, row["scene_id"], recipe, preparing)
    made = queue.library.home / "delivering" / f"{row['id']} {what}s"
    shutil.rmtree(made, ignore_errors=True)
    made.mkdir(parents=True)
    names = write(planned, recipe, made, writing)
    folder, name = results_folder(queue.library, row, recipe, NO_SIZE)
    out = free_name(folder / f"{name} {what}s")
    try:
        shutil.move(made, out)
    except OSError as error:
        raise PictureError(out, f"cannot be written ({error.strerror or error}).", "Choose another folder or make room.") from error
    return f"{counted(names).replace('frame', what)} written to {out}."
