"""The library's database: one SQLite file, plain SQL, a connection a thread."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from importlib.resources import files
from pathlib import Path


class Database:
    """Opens the file, brings its schema up to date, hands out connections."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._local = threading.local()
        path.parent.mkdir(parents=True, exist_ok=True)
        self._migrate()

    def connection(self) -> sqlite3.Connection:
        """This thread's connection, in autocommit, rows by name."""
        held = getattr(self._local, "connection", None)
        if held is None:
            held = sqlite3.connect(self.path, timeout=20, isolation_level=None)
            held.row_factory = sqlite3.Row
            held.execute("PRAGMA journal_mode = WAL")
            held.execute("PRAGMA synchronous = FULL")
            held.execute("PRAGMA foreign_keys = ON")
            self._local.connection = held
        return held

    @contextmanager
    def write(self) -> Iterator[sqlite3.Connection]:
        """A transaction that holds the write lock from its start, and is rolled back if anything is raised."""
        connection = self.connection()
        connection.execute("BEGIN IMMEDIATE")
        try:
            yield connection
        except BaseException:
            connection.execute("ROLLBACK")
            raise
        connection.execute("COMMIT")

    def rows(self, sql: str, *values: object) -> list[sqlite3.Row]:
        return self.connection().execute(sql, values).fetchall()

    def row(self, sql: str, *values: object) -> sqlite3.Row | None:
        found: sqlite3.Row | None = self.connection().execute(sql, values).fetchone()
        return found

    def _migrate(self) -> None:
        connection = self.connection()
        scripts = sorted((s for s in files("eaveplane.store").joinpath("schema").iterdir() if s.name.endswith(".sql")), key=lambda s: s.name)
        done = connection.execute("PRAGMA user_version").fetchone()[0]
        if done > len(scripts):
            raise RuntimeError(f"{self.path} was made by a newer version of Eaveplane. Update the program.")
        for number, script in enumerate(scripts, 1):
            if number > done:
                connection.executescript(f"BEGIN;\n{script.read_text()}\nPRAGMA user_version = {number};\nCOMMIT;")
