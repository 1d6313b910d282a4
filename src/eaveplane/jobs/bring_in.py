"""Bringing in a folder: its pictures are looked at and sorted into scenes."""

from __future__ import annotations

import json
import shutil
import sqlite3
from pathlib import Path

from ..imaging.errors import PictureError
from ..pipeline.glance import Glance, glance_at, glance_key
from ..pipeline.pictures import keep_in, list_pictures, stamp_of
from ..pipeline.runner import Runner
from ..pipeline.ticket import Cancelled
from ..store import outings
from .kind import kind
from .queue import JobQueue
from .sort import sort


@kind("bring_in")
def bring_in(queue: JobQueue, row: sqlite3.Row, runner: Runner) -> str:
    outing_id, asked, library = row["outing_id"], json.loads(row["arguments"]), queue.library
    paths, skipped = list_pictures(Path(asked["folder"]))
    unnamed = [p for p in paths if not _can_be_named(p)]
    paths = [p for p in paths if p not in unnamed]
    copying, looking, sorting = runner.parts(1 if asked.get("copy") else 0, 9, 1)
    if asked.get("copy"):
        paths = _copied(queue, outing_id, paths, copying)
    changed = _glance_at_all(queue, outing_id, paths, looking)
    files = library.files(outing_id)
    if not files:
        return "No picture in this folder can be used." if library.outing_problems(outing_id) else "There are no pictures in this folder."
    sorting.tell("Sorting into scenes", 0.2)
    for number in sort(library, outing_id, files):
        queue.inspect(number)
    said = f"{len(files)} frames brought in"
    if changed:
        said += f"; {changed[0]}{f' and {len(changed) - 1} more' if len(changed) > 1 else ''} changed since, and came in as new"
    if unnamed:
        said += f"; {len(unnamed)} whose name is not UTF-8 stay out: rename {'it' if len(unnamed) == 1 else 'them'} first"
    unusable = len(library.outing_problems(outing_id))
    if unusable:
        said += f"; {unusable} cannot be used, as the shelf says"
    if skipped:
        said += f", {len(skipped)} file{'s' if len(skipped) > 1 else ''} left where they are ({skipped[0].name}{' …' if len(skipped) > 1 else ''})"
    return said + "."


def _glance_at_all(queue: JobQueue, outing_id: int, paths: list[Path], runner: Runner) -> list[str]:
    """Look at those files that are new or have changed, and note each, with its problem where it has one; names of those that
    hold another picture than they did."""
    db, cache = queue.db, queue.library.cache
    known = {r["path"]: r for r in outings.files_of(db, outing_id)}

    def seen_before(path: Path) -> bool:
        row = known.get(str(path))
        return row is not None and bool(row["sha256"]) and row["stamp"] in ("", stamp_of(path)) and cache.has(glance_key(row["sha256"]))

    fresh = [p for p in paths if not seen_before(p)]
    changed: list[str] = []

    def landed(k: int, found: Glance) -> None:
        path = fresh[k]
        before = known.get(str(path))
        name = before["name"] if before else path.name
        if before and before["sha256"] and found.sha256 not in (None, before["sha256"]):
            changed.append(name)
        problem = f"{name}: {found.problem.problem} {found.problem.remedy}" if found.problem else None
        try:
            outings.add_file(db, outing_id, path, name, found.sha256, found.facts, problem, stamp=stamp_of(path))
        except (ValueError, OverflowError, sqlite3.DataError) as error:
            outings.add_file(db, outing_id, path, name, None, None, f"{name}: says things about itself that cannot be kept ({error}). Export it again.")

    results = runner.run("Looking at files", [(glance_at, (str(cache.root), str(p))) for p in fresh], landed=landed)
    for k, result in enumerate(results):
        if isinstance(result, BaseException):
            told = f"could not be looked at ({result or type(result).__name__})."
            landed(k, Glance(None, None, PictureError(fresh[k], told, "Bring the folder in again; leave this file out if that does not help.")))
    return changed


def _copied(queue: JobQueue, outing_id: int, paths: list[Path], runner: Runner) -> list[Path]:
    """Copy pictures into the library, under names of our own; what is there already is not copied again."""
    place = queue.library.uploads / str(outing_id)
    there = {r["origin"]: Path(r["path"]) for r in outings.files_of(queue.db, outing_id) if r["origin"]}
    copies = []
    for k, path in enumerate(paths):
        if runner.cancelled():
            raise Cancelled
        runner.tell("Copying files", k / len(paths))
        copy = there.get(str(path))
        if copy is None or not copy.exists():
            copy = keep_in(place, path.suffix.lower(), lambda part, path=path: shutil.copyfile(path, part))  # type: ignore[misc]
            outings.add_file(queue.db, outing_id, copy, path.name, None, None, None, str(path))
        copies.append(copy)
    return copies


def _can_be_named(path: Path) -> bool:
    """Whether a file's name is text, so that it can be kept and shown."""
    try:
        str(path).encode()
    except UnicodeEncodeError:
        return False
    return True
