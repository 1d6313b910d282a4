"""Scenes and what was decided about them, decision by decision."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Mapping
from typing import Any

from ..recipe import Recipe
from .database import Database
from .painted import packed, unpacked

MOST_DECISIONS = 10_000


def add_scene(db: Database, outing_id: int, name: str, recipe: Recipe, doubtful: bool = False) -> int:
    """A new scene with its first recipe; its number. `doubtful`: where it begins is uncertain."""
    with db.write() as connection:
        number = int(connection.execute("INSERT INTO scene (outing_id, name, doubtful) VALUES (?, ?, ?)", (outing_id, name[:120], doubtful)).lastrowid or 0)
        connection.execute("INSERT INTO decision (scene_id, number, what, recipe) VALUES (?, 0, 'Brought in', ?)", (number, packed(connection, recipe)))
    return number


def scene(db: Database, number: int) -> sqlite3.Row | None:
    """A scene with its outing's name."""
    return db.row("SELECT scene.*, outing.name AS outing, outing.folder FROM scene JOIN outing ON outing.id = outing_id WHERE scene.id = ?", number)


def scenes_of(db: Database, outing_id: int) -> list[sqlite3.Row]:
    return db.rows("SELECT * FROM scene WHERE outing_id = ? ORDER BY id", outing_id)


def named_scenes(db: Database, but: int) -> list[sqlite3.Row]:
    """Numbers and names of all scenes but one, with their outings', the newest first."""
    return db.rows("SELECT scene.id, scene.name, outing.name AS outing FROM scene JOIN outing ON outing.id = outing_id WHERE scene.id != ? ORDER BY scene.id DESC LIMIT 200", but)


def name_of_place(db: Database, outing_id: int) -> str:
    """A name for the next scene of an outing: the outing and the place in it."""
    row = db.row("SELECT outing.name AS outing, (SELECT count(*) FROM scene WHERE outing_id = outing.id) AS there FROM outing WHERE id = ?", outing_id)
    return f"{row['outing'][:60]} {row['there'] + 1}" if row else "Scene"


def rename_scene(db: Database, number: int, name: str) -> None:
    with db.write() as connection:
        connection.execute("UPDATE scene SET name = ? WHERE id = ?", (name.strip()[:120] or "Scene", number))


def recipe_of(db: Database, number: int) -> Recipe:
    """The recipe in force; where that cannot be read, the newest before it that can. Raises LookupError."""
    connection = db.connection()
    for row in connection.execute("SELECT recipe FROM decision JOIN scene ON scene.id = scene_id AND number <= current WHERE scene_id = ? ORDER BY number DESC", (number,)):
        try:
            return unpacked(connection, row["recipe"])
        except ValueError:
            continue
    raise LookupError(number)


What = str | Callable[[Recipe, Recipe], str]
"""What a decision was, or a function of the recipe before and after it that tells."""


def decide(db: Database, number: int, what: What, change: Callable[[Recipe], Recipe]) -> Recipe:
    """Change the recipe in force; what was undone before is given up.

    Reading, changing, validating and writing are one transaction, so two tabs never lose each other's decisions and nothing is
    stored that cannot be read again. Raises pydantic's ValidationError.
    """
    with db.write() as connection:
        return decide_within(connection, number, what, change)


def decide_within(connection: sqlite3.Connection, number: int, what: What, change: Callable[[Recipe], Recipe]) -> Recipe:
    """`decide` as a part of a larger transaction."""
    row = connection.execute("SELECT current, recipe FROM decision JOIN scene ON scene.id = scene_id AND number = current WHERE scene_id = ?", (number,)).fetchone()
    if row is None:
        raise LookupError(number)
    before = unpacked(connection, row["recipe"])
    after = change(before)
    if after == before:
        return before
    # what was put together without checks is checked as a whole
    after = Recipe.model_validate_json(after.to_json())
    said = what if isinstance(what, str) else what(before, after)
    current = row["current"] + 1
    connection.execute("DELETE FROM decision WHERE scene_id = ? AND number >= ?", (number, current))
    connection.execute("DELETE FROM decision WHERE scene_id = ? AND number < ? AND number > 0", (number, current - MOST_DECISIONS))
    connection.execute("INSERT INTO decision (scene_id, number, what, recipe) VALUES (?, ?, ?, ?)", (number, current, said[:200], packed(connection, after)))
    connection.execute("UPDATE scene SET current = ? WHERE id = ?", (current, number))
    return after


def step_back(db: Database, number: int, forward: bool = False) -> str | None:
    """Undo the last decision or do it again; what it was, None where there is none."""
    with db.write() as connection:
        row = connection.execute("SELECT current FROM scene WHERE id = ?", (number,)).fetchone()
        target = row["current"] + (1 if forward else -1)
        there = connection.execute("SELECT what FROM decision WHERE scene_id = ? AND number = ?", (number, target)).fetchone()
        if there is None:
            return None
        undone = there if forward else connection.execute("SELECT what FROM decision WHERE scene_id = ? AND number = ?", (number, row["current"])).fetchone()
        connection.execute("UPDATE scene SET current = ? WHERE id = ?", (target, number))
        return str(undone["what"])


def steps_left(db: Database, number: int) -> tuple[str | None, str | None]:
    """What undo would undo and what redo would do again."""
    back = db.row("SELECT what FROM decision JOIN scene ON scene.id = scene_id AND number = current WHERE scene_id = ? AND current > 0", number)
    on = db.row("SELECT what FROM decision JOIN scene ON scene.id = scene_id AND number = current + 1 WHERE scene_id = ?", number)
    return (back["what"] if back else None), (on["what"] if on else None)


def note_made(db: Database, number: int, registered: tuple[str, list[str]] | None = None, woven: str | None = None) -> None:
    """Remember the newest registration (and the frames, by id, it is of) and weave, so that a changed recipe can be told to be
    ahead of them."""
    with db.write() as connection:
        connection.execute("UPDATE scene SET registered = coalesce(?, registered), woven = coalesce(?, woven) WHERE id = ?", (json.dumps(registered) if registered else None, woven, number))


def note_inspected(db: Database, number: int, key: str, ids: list[str]) -> None:
    """Remember the newest inspection and which frames, near to far, it is of."""
    with db.write() as connection:
        connection.execute("UPDATE scene SET inspected = ? WHERE id = ?", (json.dumps([key, ids]), number))


def inspected_of(db: Database, number: int) -> tuple[str, list[str]] | None:
    """The key of the newest inspection and the frames, near to far, that it is of; None where there is none."""
    row = db.row("SELECT inspected FROM scene WHERE id = ?", number)
    try:
        key, ids = json.loads(row["inspected"]) if row and row["inspected"] else ("", [])
    except ValueError:
        return None
    return (key, ids) if key else None


def add_result(db: Database, number: int, path: str, recipe: Recipe, told: Mapping[str, Any]) -> int:
    """A delivered file, the recipe it was made with, what is told of it; its number."""
    with db.write() as connection:
        made = connection.execute("INSERT INTO result (scene_id, path, recipe, told) VALUES (?, ?, ?, ?)", (number, path, packed(connection, recipe), json.dumps(told)))
        return int(made.lastrowid or 0)


def recipe_of_result(db: Database, row: sqlite3.Row) -> Recipe:
    """The recipe of a delivered file. Raises ValueError where it cannot be read."""
    return unpacked(db.connection(), row["recipe"])


def results_of(db: Database, number: int) -> list[sqlite3.Row]:
    """Delivered files, newest first."""
    return db.rows("SELECT * FROM result WHERE scene_id = ? ORDER BY id DESC", number)


def remove_scene(db: Database, number: int) -> None:
    """Forget a scene. Its originals and its delivered files stay."""
    with db.write() as connection:
        connection.execute("DELETE FROM scene WHERE id = ?", (number,))
