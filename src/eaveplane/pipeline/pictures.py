"""Which files of a folder are frames."""

from __future__ import annotations

from pathlib import Path

from ..imaging.read import PICTURE_SUFFIXES, RAW_SUFFIXES

MOST_FILES = 5000


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
        if suffix not in PICTURE_SUFFIXES or path.with_suffix(".recipe.json").exists():
            skipped += [path] if not path.name.endswith(".recipe.json") else []
            continue
        found.append(path)
        if len(found) > MOST_FILES:
            raise ValueError(f"{folder} holds more than {MOST_FILES} pictures. Bring in its subfolders one by one.")
    raws = {path.with_suffix("") for path in found if path.suffix.lower() in RAW_SUFFIXES}
    beside = [path for path in found if path.suffix.lower() not in RAW_SUFFIXES and path.with_suffix("") in raws]
    return [path for path in found if path not in beside], [*skipped, *beside]
