"""Sets of outputs, saved under a name; the last one used is offered again."""

from __future__ import annotations

from ..core.deliver.delivery import START, OutputSet
from .database import Database

LAST = "As last time"


def save_set(db: Database, name: str, outputs: OutputSet) -> None:
    """Keep a set; one of the same name is replaced."""
    with db.write() as connection:
        connection.execute(
            """INSERT INTO output_set (name, outputs, used) VALUES (?, ?, (SELECT coalesce(max(used), 0) + 1 FROM output_set))
               ON CONFLICT (name) DO UPDATE SET outputs = excluded.outputs, used = excluded.used""",
            (name, outputs.model_dump_json()),
        )


def saved_sets(db: Database) -> list[str]:
    """Names of sets: the last one used, those saved, those to begin with."""
    saved = [row["name"] for row in db.rows("SELECT name FROM output_set ORDER BY name = ? DESC, name COLLATE NOCASE", LAST)]
    return [*saved, *(name for name in START if name not in saved)]


def saved_set(db: Database, name: str) -> OutputSet | None:
    row = db.row("SELECT outputs FROM output_set WHERE name = ?", name)
    return OutputSet.model_validate_json(row["outputs"]) if row else START.get(name)


def forget_set(db: Database, name: str) -> None:
    with db.write() as connection:
        connection.execute("DELETE FROM output_set WHERE name = ?", (name,))
