"""What registering, weaving and delivering have in common: everything up to the sharp zones."""

from __future__ import annotations

from collections.abc import Sequence, Sized

from ..imaging.errors import PictureError
from ..pipeline import scene
from ..pipeline.frames import gather, same_size
from ..pipeline.library import Library
from ..pipeline.runner import Runner
from ..pipeline.steps import Decode, FrameStep
from ..pipeline.ticket import Cancelled
from ..recipe import FrameChoice, Recipe
from ..store import scenes
from .queue import JobQueue


def prepare(queue: JobQueue, scene_id: int, recipe: Recipe, runner: Runner) -> scene.Plan:
    """Read, register and label the frames that a recipe keeps. Raises Cancelled where the scene is gone, ValueError, PictureError."""
    row = scenes.scene(queue.db, scene_id)
    if row is None:
        raise Cancelled
    cache, kept = queue.library.cache, recipe.kept()
    if not kept:
        raise ValueError("All frames are left out. Bring some back in Gather.")
    reading, registering, labelling = runner.parts(3, 6, 1)
    frames = read(queue.library, row["outing_id"], [*kept, *recipe.drawn_beside()], recipe, reading)
    planned = scene.plan(recipe, frames, queue.library.brought_masks())
    assert planned is not None
    scene.register(cache, planned, registering)
    scene.label(cache, planned, labelling)
    scenes.note_made(queue.db, scene_id, registered=(planned.registered.key, planned.ids))
    return planned


def read(library: Library, outing: int, wanted: Sequence[FrameChoice], recipe: Recipe, runner: Runner) -> dict[str, FrameStep]:
    """Read frames of a recipe, of one size, merged and corrected; by id. Raises ValueError for one whose file is gone and PictureError for one that cannot be used."""
    files = library.files_in(outing, recipe)
    missing = [f.file for f in wanted if any(i not in files for i in f.sources())]
    if missing:
        raise ValueError(f"{missing[0]} is not among the files of this outing any more. Leave the frame out or bring the folder in again.")
    # an exposure may be asked for beside the frame that is merged of it
    those = list({i: files[i] for f in wanted for i in f.sources()}.values())

    def all_of_them(decoded: dict[str, Decode], problems: dict[str, PictureError]) -> Sequence[FrameChoice]:
        for problem in (problems | same_size(library.cache, those, decoded)).values():
            raise problem
        return wanted

    return gather(library.cache, those, all_of_them, runner, False, recipe.capture).frames


def counted(some: Sized) -> str:
    """`1 frame`, `3 frames`."""
    return f"{len(some)} frame{'s' if len(some) != 1 else ''}"
