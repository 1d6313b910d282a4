"""What is set for the library as a whole."""

from __future__ import annotations

from .database import Database

CLUSTER = "cluster"
"""Address of the scheduler of a Dask cluster that does the work; empty for this machine."""


def setting(db: Database, name: str) -> str:
    """What is set under a name; empty where nothing is."""
    row = db.row("SELECT value FROM setting WHERE name = ?", name)
    return str(row["value"]) if row else ""


def set_to(db: Database, name: str, value: str) -> None:
    with db.write() as connection:
        connection.execute("INSERT INTO setting (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value", (name, value))
