"""Putting jobs into the queue."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from ..pipeline.library import Library
from ..store import jobs, outings, scenes
from ..store.database import Database
from .kind import KINDS


class JobQueue:
    """The queue of a library; `awake` is called when there is something new to do."""

    def __init__(self, library: Library, awake: Callable[[], None] = lambda: None) -> None:
        self.library, self._awake = library, awake

    @property
    def db(self) -> Database:
        return self.library.db

    def add(self, kind: str, outing_id: int | None = None, scene_id: int | None = None, megapixels: float = 0.0, **arguments: Any) -> int:
        """Queue a job of a registered kind, that goes through so many millions of pixels; its number."""
        about = KINDS[kind]
        number = jobs.add_job(self.db, kind, outing_id, scene_id, about.lane, about.background, **arguments)
        jobs.note_size(self.db, number, megapixels)
        self._awake()
        return number

    def bring_in(self, outing_id: int, folder: Path, copy: bool = False) -> int:
        """Queue the looking through of a folder for an outing."""
        return self.add("bring_in", outing_id, megapixels=float(len(outings.files_of(self.db, outing_id))), folder=str(folder), **({"copy": True} if copy else {}))

    def inspect(self, scene_id: int) -> int:
        """Queue the reading and inspecting of a scene's frames."""
        frames = scenes.recipe_of(self.db, scene_id).frames
        return self.add("inspect", scene_id=scene_id, megapixels=sum(self.library.megapixels(f.all_files()) for f in frames))
