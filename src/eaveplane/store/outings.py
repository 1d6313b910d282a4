"""Outings and their files."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Collection
from datetime import datetime
from pathlib import Path

from ..imaging.exif import Metadata
from ..imaging.formats.registry import Facts
from .database import Database


def add_outing(db: Database, name: str, folder: Path) -> int:
    """A new outing; its number."""
    with db.write() as connection:
        return int(connection.execute("INSERT INTO outing (name, folder) VALUES (?, ?)", (name[:120] or "Outing", str(folder))).lastrowid or 0)


def outings(db: Database) -> list[sqlite3.Row]:
    """All outings, newest first."""
    return db.rows("SELECT * FROM outing ORDER BY id DESC")


def outing(db: Database, number: int) -> sqlite3.Row | None:
    return db.row("SELECT * FROM outing WHERE id = ?", number)


def add_file(db: Database, outing_id: int, path: Path, name: str, sha256: str | None, facts: Facts | None, problem: str | None, origin: str = "", stamp: str = "") -> None:
    """Note a file, or what is wrong with it; noting it again replaces what was noted but its name and its origin, the
    path it was copied from. `stamp` tells its content apart from a later one without reading it."""
    meta = {}
    if facts:
        meta = {k: v.isoformat() if k == "taken" and v else v for k, v in facts.meta.__dict__.items()}
        if meta["focus_m"] == float("inf"):
            meta["focus_m"] = "inf"
    with db.write() as connection:
        connection.execute(
            """INSERT INTO file (outing_id, path, name, sha256, width, height, kind, meta, problem, origin, stamp) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
               ON CONFLICT (outing_id, path) DO UPDATE SET sha256 = excluded.sha256, width = excluded.width,
               height = excluded.height, kind = excluded.kind, meta = excluded.meta, problem = excluded.problem, stamp = excluded.stamp""",
            (outing_id, str(path), name[:200], sha256, facts.width if facts else None, facts.height if facts else None, facts.kind if facts else None, json.dumps(meta), problem, origin, stamp),
        )


def metadata_of(row: sqlite3.Row) -> Metadata:
    """What a file said about its taking; nothing, where that cannot be read."""
    try:
        stored = json.loads(row["meta"])
        if stored.get("taken"):
            stored["taken"] = datetime.fromisoformat(stored["taken"])
        if stored.get("focus_m") == "inf":
            stored["focus_m"] = float("inf")
        if stored.get("position"):
            stored["position"] = tuple(stored["position"])
        return Metadata(**stored)
    except (ValueError, TypeError, AttributeError):
        return Metadata()


def files_of(db: Database, outing_id: int, ids: Collection[str] | None = None) -> list[sqlite3.Row]:
    """The files of an outing by path, all or those whose content's hash begins like one of `ids`."""
    if ids is not None:
        found: list[sqlite3.Row] = []
        # so many values does one statement take
        for first in range(0, len(ids), 500):
            some = list(ids)[first : first + 500]
            found += db.rows(f"SELECT * FROM file WHERE outing_id = ? AND substr(sha256, 1, 12) IN ({','.join('?' * len(some))})", outing_id, *some)
        return sorted(found, key=lambda row: str(row["path"]))
    return db.rows("SELECT * FROM file WHERE outing_id = ? ORDER BY path", outing_id)


def note_problem(db: Database, outing_id: int, path: Path, problem: str) -> None:
    """What was found wrong with a file later."""
    with db.write() as connection:
        connection.execute("UPDATE file SET problem = ? WHERE outing_id = ? AND path = ?", (problem, outing_id, str(path)))


def rename_outing(db: Database, number: int, name: str) -> None:
    with db.write() as connection:
        connection.execute("UPDATE outing SET name = ? WHERE id = ?", (name.strip()[:120] or "Outing", number))


def move_outing(db: Database, number: int, folder: Path) -> None:
    """Where its files lie now."""
    with db.write() as connection:
        connection.execute("UPDATE outing SET folder = ? WHERE id = ?", (str(folder), number))


def remove_outing(db: Database, number: int) -> None:
    """Forget an outing with its scenes. Its originals and delivered files stay."""
    with db.write() as connection:
        connection.execute("DELETE FROM outing WHERE id = ?", (number,))
