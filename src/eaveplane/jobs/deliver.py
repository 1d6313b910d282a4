"""Delivering a scene: the weave, finished, written as each ticked output asks for, with its recipe beside it."""

from __future__ import annotations

import filecmp
import glob
import json
import shutil
import sqlite3
from dataclasses import asdict
from pathlib import Path
from typing import Any

from ..core.deliver.delivery import SUFFIX, OutputSet
from ..core.deliver.names import beside, file_name, of_frames
from ..imaging.write import free_name, put_in_place, writes
from ..pipeline import scene
from ..pipeline.library import Library
from ..pipeline.naming import recipe_facts
from ..pipeline.pictures import recipe_beside
from ..pipeline.runner import Runner
from ..pipeline.steps import LEGEND, ORIGINS, Written, open_registration
from ..recipe import Recipe
from ..store import jobs, outputs, scenes
from .kind import kind
from .prepare import prepare
from .queue import JobQueue

NO_SIZE: dict[str, Any] = {"size": (0, 0), "density": 1.0}
"""What is told of a file that is not there yet."""


@kind("deliver")
def deliver(queue: JobQueue, row: sqlite3.Row, runner: Runner) -> str:
    # the recipe of the moment in which delivery was asked for
    recipe = Recipe.model_validate_json(json.loads(row["arguments"])["recipe"])
    preparing, weaving, writing = runner.parts(3, 4, 3)
    for output in recipe.ticked():
        # a folder that is not there is told before anything is computed
        results_folder(queue.library, row, recipe.writing(output), NO_SIZE)
    planned = prepare(queue, row["scene_id"], recipe, preparing)
    scene.weave(queue.library.cache, planned, weaving)
    scenes.note_made(queue.db, row["scene_id"], woven=planned.result.key)
    files = write_outputs(queue, row, planned, recipe, writing)
    return f"Delivered {', '.join(file.name for file in files)}."


def write_outputs(queue: JobQueue, row: sqlite3.Row, planned: scene.Plan, recipe: Recipe, runner: Runner) -> list[Path]:
    """Write what the ticked outputs ask for, once it is woven; a job that was killed finds what it had written. Raises ValueError and PictureError."""
    wanted = recipe.ticked()
    if not wanted:
        raise ValueError("No output is ticked. Tick one in Deliver.")
    size = open_registration(queue.library.cache, planned.registered.key).size
    files = []
    for k, (output, part) in enumerate(zip(wanted, runner.parts(*[1.0] * len(wanted)), strict=True)):
        files.append(_write(queue, row, planned, recipe.writing(output).standing_alone(size), k, part))
    outputs.save_set(queue.db, outputs.LAST, OutputSet(outputs=recipe.outputs, author=recipe.about.author, rights=recipe.about.rights))
    return files


def _write(queue: JobQueue, row: sqlite3.Row, planned: scene.Plan, recipe: Recipe, number: int, runner: Runner) -> Path:
    """Write one output; one that the job had written before it was killed is found."""
    library, output, placed = queue.library, recipe.delivery, jobs.arguments_of(queue.db, row["id"])
    if str(number) in placed.get("done", []) and Path(placed["outs"][str(number)]).exists():
        return Path(placed["outs"][str(number)])
    # made in the library first: whatever stands at the name in the end can be told from it
    made = library.home / "delivering" / f"{row['id']}.{number}{SUFFIX[output.format]}"
    made.parent.mkdir(exist_ok=True)
    facts, thumbnail = made.with_suffix(".json"), made.with_suffix(".thumbnail.jpg")
    if not facts.exists():
        made.unlink(missing_ok=True)
        done: Written = scene.write(library.cache, planned, recipe, made, True, library.brought_profiles(), runner, thumbnail)
        put_in_place(facts, writes(json.dumps(told_of(done))), replace=True)
    told = json.loads(facts.read_text())
    out = Path(placed["outs"][str(number)]) if str(number) in placed.get("outs", {}) else _place(library, row, recipe, told)
    for left in out.parent.glob(f".{glob.escape(out.name)}.*.part"):
        left.unlink(missing_ok=True)
    if out.exists() and made.exists() and not filecmp.cmp(made, out, shallow=False):
        # somebody else took the name meanwhile
        out = free_name(out)
    placed["outs"] = {**placed.get("outs", {}), str(number): str(out)}
    jobs.set_arguments(queue.db, row["id"], placed)
    if not out.exists():
        put_in_place(out, lambda part: _copied_file(made, part))
    put_in_place(recipe_beside(out), writes(recipe.to_json()), replace=True)
    for ending in (ORIGINS, LEGEND):
        beside_it = made.with_name(made.stem + ending)
        if beside_it.exists():
            put_in_place(out.with_name(out.stem + ending), lambda part, file=beside_it: _copied_file(file, part), replace=True)  # type: ignore[misc]
    result = scenes.add_result(queue.db, row["scene_id"], str(out), recipe, told)
    if thumbnail.exists():
        library.thumbnails.mkdir(exist_ok=True)
        shutil.move(thumbnail, library.thumbnails / f"{result}.jpg")
    jobs.set_arguments(queue.db, row["id"], {**placed, "done": [*placed.get("done", []), str(number)]})
    for left in (*made.parent.glob(f"{row['id']}.{number}.*"), *made.parent.glob(f"{row['id']}.{number} *")):
        left.unlink(missing_ok=True)
    return out


def told_of(done: Written) -> dict[str, Any]:
    """What is kept of a written file."""
    return {**asdict(done), "provenance": {**done.provenance._asdict(), "told": done.provenance.told()} if done.provenance else None}


def _place(library: Library, row: sqlite3.Row, recipe: Recipe, told: dict[str, Any]) -> Path:
    """A free name in the folder that the output chooses. Raises ValueError where the folder cannot be used."""
    folder, name = results_folder(library, row, recipe, told)
    return free_name(folder / (name + SUFFIX[recipe.delivery.format]))


def results_folder(library: Library, row: sqlite3.Row, recipe: Recipe, told: dict[str, Any]) -> tuple[Path, str]:
    """The folder that the output chooses, and the name without a suffix. Raises ValueError where the folder cannot be used."""
    about = scenes.scene(library.db, row["scene_id"])
    assert about is not None
    files = library.files(about["outing_id"])
    originals = [files[i].path for f in recipe.kept() for i in f.sources() if i in files]
    folder = beside(originals, recipe.delivery.folder)
    if not folder.is_absolute() or not folder.is_dir():
        raise ValueError(f"{folder} is not a folder. Choose another one, or none to write beside the originals.")
    return folder, file_name(recipe.delivery.name, name_facts(library, about, recipe, told))


def name_facts(library: Library, about: sqlite3.Row, recipe: Recipe, told: dict[str, Any]) -> dict[str, str]:
    """What the name of an output of a scene (its row, with the outing's name) can tell; `told` is of the file, its size and density."""
    counter = len(scenes.results_of(library.db, about["id"])) + 1
    return {**scene_facts(library, about, recipe), **recipe_facts(recipe, recipe.delivery, told["size"], told["density"], counter)}


def scene_facts(library: Library, about: sqlite3.Row, recipe: Recipe) -> dict[str, str]:
    """What all names of a scene's outputs can tell alike."""
    metas = library.metadata(about["outing_id"])
    kept = recipe.kept()
    frames = of_frames([f.file for f in kept], [metas[i][0] for f in kept for i in f.sources() if i in metas])
    return {"outing": about["outing"], "scene": about["name"], **frames}


def _copied_file(source: Path, part: Path) -> None:
    shutil.copyfile(source, part)
