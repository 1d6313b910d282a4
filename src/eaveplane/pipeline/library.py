"""A library: the folder in which outings, decisions and results of steps are kept."""

from __future__ import annotations

import fcntl
import os
from collections.abc import Collection
from functools import cached_property
from pathlib import Path
from typing import IO

from ..core.even.capture.settings import Capture
from ..imaging.exif import Metadata
from ..recipe import Recipe
from ..store.database import Database
from ..store.outings import files_of, metadata_of
from .cache import Cache
from .frames import File, held_alike
from .steps import Decode


def default_home() -> Path:
    """Where the library lies unless told otherwise: EAVEPLANE_HOME, else the user's data folder."""
    if "EAVEPLANE_HOME" in os.environ:
        return Path(os.environ["EAVEPLANE_HOME"])
    return Path(os.environ.get("XDG_DATA_HOME", "~/.local/share")).expanduser() / "eaveplane"


class LibraryInUse(RuntimeError):
    """Another server works on this library."""


class Library:
    """Database, cache and uploads under one folder."""

    def __init__(self, home: Path) -> None:
        self.home = home
        home.mkdir(parents=True, exist_ok=True)
        self.cache = Cache(home / "cache")
        self.uploads = home / "uploads"
        self.tickets = home / "tickets"
        self.card = home / "card"
        self.masks = home / "masks"
        self.profiles = home / "profiles"
        self.thumbnails = home / "thumbnails"
        self._lock: IO[str] | None = None

    @cached_property
    def db(self) -> Database:
        """Opened, and brought up to date, when it is first asked for: after `claim`, where a server claims."""
        return Database(self.home / "library.sqlite")

    def claim(self) -> None:
        """Keep other servers away from this library while this process lives. Raises LibraryInUse."""
        self._lock = (self.home / "server.lock").open("w")
        try:
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            raise LibraryInUse(f"Another Eaveplane server works on {self.home}. Use that one, or choose another folder with --home.") from None

    def files(self, outing_id: int, ids: Collection[str] | None = None) -> dict[str, File]:
        """The usable originals of an outing by frame id, all or those asked for; a picture that is there twice counts once."""
        found: dict[str, File] = {}
        for row in files_of(self.db, outing_id, ids):
            if row["sha256"]:
                size = (row["width"], row["height"]) if row["width"] else None
                file = File(Path(row["path"]), row["sha256"], row["name"], size, metadata_of(row).orientation)
                if file.id not in found or not found[file.id].path.exists():
                    found[file.id] = file
        return found

    def files_in(self, outing_id: int, recipe: Recipe) -> dict[str, File]:
        """The usable originals of a scene by frame id, all held the same way up."""
        found = self.files(outing_id, {i for f in recipe.frames for i in f.all_files()})
        return dict(zip(found, held_alike(list(found.values())), strict=True))

    def metadata(self, outing_id: int) -> dict[str, tuple[Metadata, tuple[int, int] | None]]:
        """What the originals of an outing say, with their size, by frame id."""
        return {row["sha256"][:12]: (metadata_of(row), (row["width"], row["height"]) if row["width"] else None) for row in files_of(self.db, outing_id) if row["sha256"]}

    def brought_masks(self) -> dict[str, Path]:
        """Files of masks that were brought in, by digest."""
        return {file.stem: file for file in self.masks.glob("*.tif")} if self.masks.is_dir() else {}

    def brought_profiles(self) -> dict[str, Path]:
        """Files of colour profiles that were brought in, by digest."""
        return {file.stem: file for file in self.profiles.glob("*.icc")} if self.profiles.is_dir() else {}

    def megapixels(self, ids: list[str]) -> float:
        """Millions of pixels in files by id."""
        marks = ",".join("?" * len(ids))
        row = self.db.row(f"SELECT sum(pixels) AS total FROM (SELECT max(width * height) AS pixels FROM file WHERE substr(sha256, 1, 12) IN ({marks}) GROUP BY sha256)", *ids)
        return float((row["total"] if row else 0) or 0) / 1e6

    def decoded(self, files: dict[str, File], capture: Capture) -> dict[str, Decode]:
        """Those files, by frame id, that have been read, as `capture` asks, and measured."""
        steps = {id: file.decode(False, capture) for id, file in files.items()}
        return {id: step for id, step in steps.items() if step.is_usable(self.cache)}

    def outing_problems(self, outing_id: int) -> list[tuple[str, str]]:
        """(file name, what is wrong, with the name) for the files that cannot be used."""
        return [(row["name"], row["problem"]) for row in files_of(self.db, outing_id) if row["problem"]]
