"""Writing the masks of a scene as files."""

from __future__ import annotations

import json
import shutil
import sqlite3

from ..imaging.errors import PictureError
from ..imaging.write import free_name
from ..pipeline import scene
from ..pipeline.runner import Runner
from ..recipe import Recipe
from .deliver import results_folder
from .kind import kind
from .prepare import counted, prepare
from .queue import JobQueue


@kind("masks")
def masks(queue: JobQueue, row: sqlite3.Row, runner: Runner) -> str:
    # the recipe of the moment in which they were asked for
    recipe = Recipe.model_validate_json(json.loads(row["arguments"])["recipe"])
    preparing, writing = runner.parts(3, 7)
    planned = prepare(queue, row["scene_id"], recipe, preparing)
    made = queue.library.home / "delivering" / f"{row['id']} masks"
    shutil.rmtree(made, ignore_errors=True)
    made.mkdir(parents=True)
    names = scene.write_masks(queue.library.cache, planned, recipe, made, writing)
    folder, name = results_folder(queue.library, row, recipe)
    out = free_name(folder / f"{name} masks")
    try:
        shutil.move(made, out)
    except OSError as error:
        raise PictureError(out, f"cannot be written ({error.strerror or error}).", "Choose another folder or make room.") from error
    return f"{counted(names).replace('frame', 'mask')} written to {out}."
