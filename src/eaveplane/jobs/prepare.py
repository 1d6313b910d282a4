"""What registering, weaving and delivering have in common: everything up to the sharp zones."""

from __future__ import annotations

from collections.abc import Sequence, Sized

from ..imaging.errors import PictureError
from ..pipeline import scene
from ..pipeline.frames import gather, same_size
from ..pipeline.runner import Runner
from ..pipeline.steps import Decode
from ..pipeline.ticket import Cancelled
from ..recipe import FrameChoice, Recipe
from ..store import scenes
from .queue import JobQueue


def prepare(queue: JobQueue, scene_id: int, recipe: Recipe, runner: Runner) -> scene.Plan:
    """Read, register and label the frames that a recipe keeps. Raises Cancelled where the scene is gone, ValueError, PictureError."""
    row = scenes.scene(queue.db, scene_id)
    if row is None:
        raise Cancelled
    files, cache = queue.library.files(row["outing_id"]), queue.library.cache
    kept = recipe.kept()
    if not kept:
        raise ValueError("All frames are left out. Bring some back in Gather.")
    missing = [f.file for f in kept if any(i not in files for i in f.sources())]
    if missing:
        raise ValueError(f"{missing[0]} is not among the files of this outing any more. Leave the frame out or bring the folder in again.")
    wanted = [files[i] for f in kept for i in f.sources()]

    def all_of_them(decoded: dict[str, Decode], problems: dict[str, PictureError]) -> Sequence[FrameChoice]:
        for problem in (problems | same_size(cache, wanted, decoded)).values():
            raise problem
        return kept

    reading, registering, labelling = runner.parts(3, 6, 1)
    planned = scene.plan(recipe, gather(cache, wanted, all_of_them, reading, False, recipe.capture).frames, queue.library.brought_masks())
    assert planned is not None
    scene.register(cache, planned, registering)
    scene.label(cache, planned, labelling)
    scenes.note_made(queue.db, scene_id, registered=(planned.registered.key, planned.ids))
    return planned


def counted(some: Sized) -> str:
    """`1 frame`, `3 frames`."""
    return f"{len(some)} frame{'s' if len(some) != 1 else ''}"
