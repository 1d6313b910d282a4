"""Looks saved under a name."""

from __future__ import annotations

from ..core.develop.look import Look
from .database import Database


def save_look(db: Database, name: str, look: Look) -> None:
    """Keep a look; one of the same name is replaced."""
    with db.write() as connection:
        connection.execute("INSERT INTO look (name, look) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET look = excluded.look", (name, look.model_dump_json()))


def saved_looks(db: Database) -> list[str]:
    return [row["name"] for row in db.rows("SELECT name FROM look ORDER BY name COLLATE NOCASE")]


def saved_look(db: Database, name: str) -> Look | None:
    row = db.row("SELECT look FROM look WHERE name = ?", name)
    return Look.model_validate_json(row["look"]) if row else None


def forget_look(db: Database, name: str) -> None:
    with db.write() as connection:
        connection.execute("DELETE FROM look WHERE name = ?", (name,))
