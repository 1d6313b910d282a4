"""Which files of a folder are frames."""

from __future__ import annotations

import os
import uuid
from collections.abc import Callable
from pathlib import Path

from ..imaging.formats.registry import PICTURE_SUFFIXES, RAW_SUFFIXES
from .steps import FRAME_SUFFIX, MASK_SUFFIX, ORIGINS

MOST_FILES = 5000


def keep_in(folder: Path, suffix: str, fill: Callable[[Path], None]) -> Path:
    """A new file of ours in a folder, under the next number: `fill` writes it beside its place, and it takes the first name that nobody
    has, however many are kept at once."""
    folder.mkdir(parents=True, exist_ok=True)
    part = folder / f".{uuid.uuid4().hex}.part"
    try:
        fill(part)
        taken = [int(p.stem) for p in folder.iterdir() if p.stem.isdecimal() and p.stem.isascii()]
        number = max(taken, default=0) + 1
        while True:
            # a raw file and a picture of one number would pass for one shot
            claim = folder / f".{number:05d}"
            try:
                claim.touch(exist_ok=False)
            except FileExistsError:
                number += 1
                continue
            try:
                if not any(folder.glob(f"{number:05d}.*")):
                    place = folder / f"{number:05d}{suffix}"
                    os.replace(part, place)
                    return place
            finally:
                claim.unlink()
            number += 1
    finally:
        part.unlink(missing_ok=True)


OURS = (MASK_SUFFIX, FRAME_SUFFIX, ORIGINS)
"""How names of pictures end that are written beside results, and are no frames."""


def recipe_beside(picture: Path) -> Path:
    """Where the recipe of a delivered picture lies: each file has its own."""
    return picture.with_name(f"{picture.name}.recipe.json")


def list_pictures(folder: Path) -> tuple[list[Path], list[Path]]:
    """Files in a folder and below it that are named like pictures, in order, and those left alone: no
    pictures, our own results, and pictures that a camera wrote beside its raw files."""
    if not folder.is_dir():
        raise ValueError(f"{folder} is not a folder that can be read.")
    found, skipped = [], []
    for path in sorted(folder.rglob("*")):
        if not path.is_file() or any(part.startswith(".") for part in path.relative_to(folder).parts):
            continue
        suffix = path.suffix.lower()
        if suffix not in PICTURE_SUFFIXES or path.name.endswith(OURS) or recipe_beside(path).exists() or path.with_suffix(".recipe.json").exists():
            skipped += [path] if not path.name.endswith(".recipe.json") else []
            continue
        found.append(path)
        if len(found) > MOST_FILES:
            raise ValueError(f"{folder} holds more than {MOST_FILES} pictures. Bring in its subfolders one by one.")
    raws = {path.with_suffix("") for path in found if path.suffix.lower() in RAW_SUFFIXES}
    beside = [path for path in found if path.suffix.lower() not in RAW_SUFFIXES and path.with_suffix("") in raws]
    return [path for path in found if path not in beside], [*skipped, *beside]


def stamp_of(path: Path) -> str:
    """What changes when a file's content does, without reading it: size and time of change; empty where there is no file."""
    try:
        about = path.stat()
    except OSError:
        return ""
    return f"{about.st_size}-{about.st_mtime_ns}"
