"""Reading and inspecting a scene's frames."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence

from ..imaging.errors import PictureError
from ..pipeline import scene
from ..pipeline.decisions import decide
from ..pipeline.frames import gather, in_order
from ..pipeline.runner import Runner
from ..pipeline.steps import Decode
from ..pipeline.ticket import Cancelled
from ..recipe import FrameChoice
from ..store import outings, scenes
from .kind import kind
from .prepare import counted
from .queue import JobQueue
from .sort import named


@kind("inspect", background=True)
def inspect(queue: JobQueue, row: sqlite3.Row, runner: Runner) -> str:
    scene_id, cache, library = row["scene_id"], queue.library.cache, queue.library
    about = scenes.scene(queue.db, scene_id)
    if about is None:
        raise Cancelled
    recipe = scenes.recipe_of(queue.db, scene_id)
    files = library.files_in(about["outing_id"], recipe)
    wanted = [files[i] for f in recipe.frames if f.reason != "unreadable" for i in f.all_files() if i in files]

    def those_that_can_be_read(decoded: dict[str, Decode], problems: dict[str, PictureError]) -> Sequence[FrameChoice]:
        there = [f for f in recipe.frames if f.reason not in ("marker", "unreadable") and all(i in files for i in f.all_files())]
        unusable = {f.id for f in recipe.frames if any(i in problems for i in f.all_files())}
        for id, problem in problems.items():
            outings.note_problem(queue.db, about["outing_id"], files[id].path, f"{files[id].name}: {problem.problem} {problem.remedy}")
        if unusable:
            decide(library, scene_id, "Frames that cannot be read set aside", lambda recipe: scene.leave_out(recipe, dict.fromkeys(unusable, "unreadable")))
        return [f for f in there if f.id not in unusable]

    reading, looking = runner.parts(7, 3)
    frames = gather(cache, wanted, those_that_can_be_read, reading, False, recipe.capture).frames
    ids = list(frames)
    if len(ids) < 2:
        return f"{counted(ids)} read."
    arranged = [ids[i] for i in in_order(cache, list(frames.values()))]
    if arranged != ids and about["current"] == 0:
        place = {id: k for k, id in enumerate(arranged)}
        decide(library, scene_id, "Ordered near to far", lambda recipe: recipe.model_copy(update={"frames": named(sorted(recipe.frames, key=lambda f: place.get(f.id, len(place))))}))
    in_line = [frames[i] for i in arranged]
    found = scene.inspect(cache, in_line, looking)
    scenes.note_inspected(queue.db, scene_id, scene.inspection_of(in_line).key, arranged)
    decide(library, scene_id, "Reference: the soundest frame near the middle", lambda recipe: scene.settled(recipe, found, arranged))
    flaws = sum(v.flaw is not None for v in found.verdicts)
    return f"{counted(ids)} looked at: " + (f"{flaws} better left out" if flaws else "all are good") + (f", {len(found.bands)} soft." if found.bands else ".")
