"""Results of steps on disk, under keys made of what they are results of."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import time
import uuid
from collections.abc import Callable
from pathlib import Path
from typing import Any


def key_of(step: str, version: int, *inputs: Any) -> str:
    """A key for a step's result: its name, its version and everything that goes into it (JSON-serialisable)."""
    text = json.dumps([step, version, *inputs], sort_keys=True, separators=(",", ":"))
    return f"{step}-{hashlib.sha256(text.encode()).hexdigest()[:32]}"


LEAST_ROOM = 4 << 30
WHOLE = "whole.json"
"""Sizes of a result's files as they were made."""
MAY_BE_EMPTY = ("profile.icc",)
IN_HAND = 900
"""Seconds for which a result that was asked for is not given up."""


class Cache:
    """A folder of results, each a folder that is either whole or not there."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self._sound: set[str] = set()

    def path(self, key: str) -> Path:
        """Where the result of a key is or will be."""
        return self.root / key

    def has(self, key: str) -> bool:
        """Whether a result is there, as long as it was when it was made; one that was damaged since is removed, to be made again."""
        if not self.path(key).is_dir():
            self._sound.discard(key)
            return False
        if key not in self._sound:
            if not self._as_made(key):
                self.drop(key)
                return False
            self._sound.add(key)
        return True

    def _as_made(self, key: str) -> bool:
        folder = self.path(key)
        try:
            sizes = json.loads((folder / WHOLE).read_text())
            return all((folder / name).stat().st_size == size for name, size in sizes.items())
        except FileNotFoundError:
            # made before sizes were noted, or a file is gone
            return not (folder / WHOLE).exists() and all(p.stat().st_size for p in folder.rglob("*") if p.is_file() and p.name not in MAY_BE_EMPTY)
        except (OSError, ValueError, AttributeError):
            return False

    def drop(self, key: str) -> None:
        """Give a result up; it can be made again."""
        self._sound.discard(key)
        gone = self.root / f".{key}.{uuid.uuid4().hex[:8]}.gone"
        try:
            self.path(key).rename(gone)
        except OSError:
            return
        shutil.rmtree(gone, ignore_errors=True)

    def forming(self, key: str) -> Path | None:
        """The folder in which a result is being made just now, if it is."""
        making = [folder for folder in self.root.glob(f".{key}.*") if folder.suffix != ".gone"]
        return max(making, key=lambda folder: folder.stat().st_mtime, default=None)

    def make(self, key: str, build: Callable[[Path], None]) -> str:
        """Make a result unless it is there: `build` fills a folder beside its place, which is then moved there."""
        if self.has(key):
            os.utime(self.path(key))
            return key
        self.root.mkdir(parents=True, exist_ok=True)
        work = self.root / f".{key}.{uuid.uuid4().hex[:8]}"
        work.mkdir()
        try:
            build(work)
            (work / WHOLE).write_text(json.dumps({str(p.relative_to(work)): p.stat().st_size for p in work.rglob("*") if p.is_file()}))
            try:
                os.rename(work, self.path(key))
            except OSError:
                if not self.has(key):
                    raise
        finally:
            shutil.rmtree(work, ignore_errors=True)
        return key

    def trim(self, most_bytes: int) -> int:
        """Remove the results that were not asked for longest until the rest fits; how many. All can be made again."""
        sizes = [(entry.stat().st_mtime, sum(f.stat().st_blocks * 512 for f in entry.rglob("*") if f.is_file()), entry) for entry in self.root.glob("*-*")]
        total, removed = sum(size for _, size, _ in sizes), 0
        for asked_at, size, entry in sorted(sizes):
            # what was asked for just now may be in somebody's hands
            if total <= most_bytes or asked_at > time.time() - IN_HAND:
                break
            # out of sight first, so that nobody finds half of it
            self.drop(entry.name)
            total, removed = total - size, removed + 1
        return removed

    def room(self) -> int:
        """Bytes that results may take: half of what the disk has left for them, and never less than is needed to work."""
        self.root.mkdir(parents=True, exist_ok=True)
        used = sum(f.stat().st_blocks * 512 for f in self.root.rglob("*") if f.is_file())
        return max(LEAST_ROOM, (shutil.disk_usage(self.root).free + used) // 2)

    def sweep(self) -> None:
        """Remove what a killed process left half made."""
        for left in self.root.glob(".*-*.*"):
            shutil.rmtree(left, ignore_errors=True)


def hash_file(path: Path) -> str:
    """SHA-256 of a file's content, hexadecimal."""
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
