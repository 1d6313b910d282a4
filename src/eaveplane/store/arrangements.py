"""How frames were dealt out to the scenes of an outing by hand, with undo."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable

from pydantic import TypeAdapter

from ..recipe import FrameChoice, Recipe
from .database import Database
from .scenes import decide_within, recipe_of

Frames = dict[int, list[FrameChoice]]
"""The frames of scenes by the scene's number."""
_FRAMES: TypeAdapter[Frames] = TypeAdapter(Frames)


Carry = Callable[[int, Recipe, Recipe], Recipe]
"""Makes of a scene's number, its recipe before and after what is to be stored."""


def arrange(db: Database, outing_id: int, what: str, after: Frames, carry: Carry) -> None:
    """Give scenes other frames, all at once; what was undone before is given up."""
    before = {number: recipe_of(db, number).frames for number in after}
    with db.write() as connection:
        _apply(connection, what, after, carry)
        connection.execute("DELETE FROM arrangement WHERE outing_id = ? AND undone = 1", (outing_id,))
        values = (outing_id, what[:200], _FRAMES.dump_json(before).decode(), _FRAMES.dump_json(after).decode())
        connection.execute("INSERT INTO arrangement (outing_id, what, before, after) VALUES (?, ?, ?, ?)", values)


def _apply(connection: sqlite3.Connection, what: str, frames: Frames, carry: Carry) -> None:
    for number, wanted in frames.items():

        def change(recipe: Recipe, wanted: list[FrameChoice] = wanted, number: int = number) -> Recipe:
            ids = {f.id for f in wanted}
            strokes = [s for s in recipe.strokes if s.frame in ids]
            reference = recipe.reference if recipe.reference in ids else ""
            return carry(number, recipe, recipe.model_copy(update={"frames": wanted, "strokes": strokes, "reference": reference}))

        decide_within(connection, number, what, change)


def step(db: Database, outing_id: int, forward: bool, carry: Carry) -> tuple[str, list[int]] | None:
    """Undo the last arrangement or make it again: what it was and the scenes it changed; None where there is none."""
    row = _next(db, outing_id, forward)
    if row is None:
        return None
    frames = _FRAMES.validate_json(row["after" if forward else "before"])
    with db.write() as connection:
        _apply(connection, row["what"] if forward else f"Undone: {row['what']}", frames, carry)
        connection.execute("UPDATE arrangement SET undone = ? WHERE id = ?", (not forward, row["id"]))
    return str(row["what"]), list(frames)


def steps_left(db: Database, outing_id: int) -> tuple[str | None, str | None]:
    """What undo would undo and what redo would do again."""
    back, on = _next(db, outing_id, False), _next(db, outing_id, True)
    return (back["what"] if back else None), (on["what"] if on else None)


def _next(db: Database, outing_id: int, forward: bool) -> sqlite3.Row | None:
    order = "ASC" if forward else "DESC"
    return db.row(f"SELECT * FROM arrangement WHERE outing_id = ? AND undone = ? ORDER BY id {order} LIMIT 1", outing_id, forward)
