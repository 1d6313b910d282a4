"""Delivering a scene: the weave, finished, written with its recipe beside it."""

from __future__ import annotations

import filecmp
import glob
import json
import shutil
import sqlite3
from datetime import datetime
from pathlib import Path

from ..core.deliver.delivery import SUFFIX, beside, facts_of, file_name
from ..imaging.write import free_name, put_in_place, writes
from ..pipeline import scene
from ..pipeline.library import Library
from ..pipeline.pictures import recipe_beside
from ..pipeline.runner import Runner
from ..pipeline.steps import open_registration
from ..recipe import Recipe
from ..store import scenes
from .kind import kind
from .prepare import prepare
from .queue import JobQueue


@kind("deliver")
def deliver(queue: JobQueue, row: sqlite3.Row, runner: Runner) -> str:
    arguments, library = json.loads(row["arguments"]), queue.library
    # the recipe of the moment in which delivery was asked for
    recipe = Recipe.model_validate_json(arguments["recipe"])
    preparing, weaving, writing = runner.parts(3, 4, 3)
    planned = prepare(queue, row["scene_id"], recipe, preparing)
    scene.weave(library.cache, planned, weaving)
    scenes.note_made(queue.db, row["scene_id"], woven=planned.result.key)
    # made in the library first: whatever stands at the name in the end can be told from it
    made = library.home / "delivering" / f"{row['id']}{SUFFIX[recipe.delivery.format]}"
    made.parent.mkdir(exist_ok=True)
    if not made.exists():
        scene.write(library.cache, planned, recipe, made, False, writing)
    out = Path(arguments["out"]) if "out" in arguments else _place(library, row, recipe)
    for left in out.parent.glob(f".{glob.escape(out.name)}.*.part"):
        left.unlink(missing_ok=True)
    if out.exists() and not filecmp.cmp(made, out, shallow=False):
        # somebody else took the name meanwhile
        out = free_name(out)
    with queue.db.write() as connection:
        connection.execute("UPDATE job SET arguments = ? WHERE id = ?", (json.dumps({**arguments, "out": str(out)}), row["id"]))
    if not out.exists():
        put_in_place(out, lambda part: _copied_file(made, part))
    size = open_registration(library.cache, planned.registered.key).size
    put_in_place(recipe_beside(out), writes(recipe.standing_alone(size).to_json()), replace=True)
    made.unlink(missing_ok=True)
    scenes.add_result(queue.db, row["scene_id"], str(out), recipe)
    return f"Delivered {out.name}."


def _place(library: Library, row: sqlite3.Row, recipe: Recipe) -> Path:
    """A free name in the folder that the recipe chooses. Raises ValueError where the folder cannot be used."""
    folder, name = results_folder(library, row, recipe)
    return free_name(folder / (name + SUFFIX[recipe.delivery.format]))


def results_folder(library: Library, row: sqlite3.Row, recipe: Recipe) -> tuple[Path, str]:
    """The folder that the recipe chooses, and the name without a suffix. Raises ValueError where the folder cannot be used."""
    about = scenes.scene(library.db, row["scene_id"])
    assert about is not None
    files = library.files(about["outing_id"])
    originals = [files[i].path for f in recipe.kept() for i in f.sources()]
    folder = beside(originals, recipe.delivery.folder)
    if not folder.is_absolute() or not folder.is_dir():
        raise ValueError(f"{folder} is not a folder. Choose another one, or none to write beside the originals.")
    told = name_facts(library, about, recipe, datetime.now().strftime("%Y-%m-%d"))
    return folder, file_name(recipe.delivery.name, told)


def name_facts(library: Library, about: sqlite3.Row, recipe: Recipe, date: str) -> dict[str, str]:
    """What the name of a delivery of a scene (its row, with the outing's name) can tell."""
    metas = library.metadata(about["outing_id"])
    kept = recipe.kept()
    return facts_of(about["outing"], about["name"], [f.file for f in kept], [metas[i][0] for f in kept for i in f.sources() if i in metas], date, recipe.weaving.detail, recipe.finish.sharpen)


def _copied_file(source: Path, part: Path) -> None:
    shutil.copyfile(source, part)
