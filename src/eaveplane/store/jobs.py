"""The table of work: what waits, what runs, how far it is."""

from __future__ import annotations

import json
import sqlite3
import time
from typing import Any

from .database import Database

FIRST_GUESS = 0.5
"""Seconds a megapixel."""


def add_job(db: Database, kind: str, outing_id: int | None = None, scene_id: int | None = None, lane: str = "work", background: bool = False, **arguments: Any) -> int:
    """Queue a job; one that waits for the same thing already is not queued twice. `lane` is what carries it out; what is in the
    `background` makes way for what somebody asked for."""
    text = json.dumps(arguments, sort_keys=True)
    with db.write() as connection:
        same = connection.execute(
            "SELECT id FROM job WHERE state = 'queued' AND kind = ? AND outing_id IS ? AND scene_id IS ? AND arguments = ?", (kind, outing_id, scene_id, text)
        ).fetchone()
        if same:
            return int(same["id"])
        sql = "INSERT INTO job (kind, lane, background, outing_id, scene_id, arguments) VALUES (?, ?, ?, ?, ?, ?)"
        return int(connection.execute(sql, (kind, lane, background, outing_id, scene_id, text)).lastrowid or 0)


def take(db: Database, lane: str = "work", scene_id: int = 0) -> sqlite3.Row | None:
    """The next job of a lane, now running; None where nothing waits.

    What somebody asked for goes before looking in the background, and of either what belongs to `scene_id`, the scene that
    is looked at.
    """
    with db.write() as connection:
        sql = "SELECT * FROM job WHERE state = 'queued' AND lane = ? ORDER BY background, scene_id IS NOT ?, id LIMIT 1"
        row: sqlite3.Row | None = connection.execute(sql, (lane, scene_id)).fetchone()
        if row is not None:
            connection.execute("UPDATE job SET state = 'running', started = ?, share = 0 WHERE id = ?", (time.time(), row["id"]))
        return row


def asked_for(db: Database) -> bool:
    """Whether something waits that somebody asked for."""
    return db.row("SELECT 1 FROM job WHERE state = 'queued' AND lane = 'work' AND NOT background") is not None


def put_back(db: Database, number: int) -> None:
    """A running job waits again."""
    with db.write() as connection:
        connection.execute("UPDATE job SET state = 'queued', share = 0 WHERE id = ? AND state = 'running'", (number,))


def requeue_unfinished(db: Database) -> int:
    """After a server was killed: what it left running waits again. How many."""
    with db.write() as connection:
        connection.execute("UPDATE job SET state = 'cancelled' WHERE state = 'running' AND cancel = 1")
        return connection.execute("UPDATE job SET state = 'queued', share = 0 WHERE state = 'running'").rowcount


def progress(db: Database, number: int, what: str, share: float) -> None:
    with db.write() as connection:
        connection.execute("UPDATE job SET what = ?, share = ? WHERE id = ?", (what, share, number))


def end(db: Database, number: int, state: str, message: str = "") -> None:
    with db.write() as connection:
        connection.execute("UPDATE job SET state = ?, message = ?, ended = ?, share = CASE WHEN ? = 'done' THEN 1 ELSE share END WHERE id = ?", (state, message[:1000], time.time(), state, number))


def ask_to_cancel(db: Database, number: int) -> None:
    """A waiting job is called off at once, a running one as soon as it looks."""
    with db.write() as connection:
        connection.execute("UPDATE job SET cancel = 1, state = CASE state WHEN 'queued' THEN 'cancelled' ELSE state END WHERE id = ? AND state IN ('queued', 'running')", (number,))


def is_cancelled(db: Database, number: int) -> bool:
    row = db.row("SELECT cancel FROM job WHERE id = ?", number)
    return row is None or bool(row["cancel"])


def job(db: Database, number: int) -> sqlite3.Row | None:
    return db.row("SELECT * FROM job WHERE id = ?", number)


def open_jobs(db: Database) -> list[sqlite3.Row]:
    """What runs and what waits, in order, with the names of what it is for; what the field camera does comes after what is done with frames."""
    return db.rows(
        """SELECT job.*, coalesce(scene.name, outing.name, '') AS title FROM job
           LEFT JOIN scene ON scene.id = scene_id LEFT JOIN outing ON outing.id = job.outing_id
           WHERE state IN ('running', 'queued') ORDER BY state = 'queued', lane = 'camera', background, job.id"""
    )


def latest(db: Database, scene_id: int) -> sqlite3.Row | None:
    """The newest job of a scene."""
    return db.row("SELECT * FROM job WHERE scene_id = ? ORDER BY id DESC LIMIT 1", scene_id)


def latest_of_outing(db: Database, outing_id: int) -> sqlite3.Row | None:
    """The newest job that brings in files of an outing."""
    return db.row("SELECT * FROM job WHERE outing_id = ? ORDER BY id DESC LIMIT 1", outing_id)


def shootings(db: Database) -> list[sqlite3.Row]:
    """What the field camera does and is to do, in order; then what it did last."""
    return db.rows("SELECT * FROM job WHERE lane = 'camera' ORDER BY state = 'running' DESC, state = 'queued' DESC, id DESC LIMIT 8")


def recent(db: Database) -> list[sqlite3.Row]:
    """The last jobs that ended, newest first."""
    return db.rows(
        """SELECT job.*, coalesce(scene.name, outing.name, '') AS title FROM job
           LEFT JOIN scene ON scene.id = scene_id LEFT JOIN outing ON outing.id = job.outing_id
           WHERE state IN ('done', 'failed', 'cancelled') ORDER BY ended DESC LIMIT 30"""
    )


def note_size(db: Database, number: int, megapixels: float) -> None:
    """How many millions of pixels a job goes through."""
    with db.write() as connection:
        connection.execute("UPDATE job SET megapixels = ? WHERE id = ?", (megapixels, number))


def expected_seconds(db: Database, kind: str, megapixels: float) -> float:
    """How long a job of this kind will take, from the last ones on this machine; a cautious guess for the first."""
    last = db.rows(
        """SELECT (ended - started) / megapixels AS pace FROM job
           WHERE kind = ? AND state = 'done' AND megapixels > 0 AND ended - started > 1 ORDER BY id DESC LIMIT 5""",
        kind,
    )
    paces = sorted(float(row["pace"]) for row in last)
    return (paces[len(paces) // 2] if paces else FIRST_GUESS) * megapixels


def seconds_left(row: sqlite3.Row) -> float | None:
    """How long a running job will still take, from how long it took so far."""
    if row["state"] != "running" or not row["started"] or row["share"] < 0.03:
        return None
    spent = time.time() - row["started"]
    return float(spent * (1 - row["share"]) / row["share"])


def arguments_of(db: Database, number: int) -> dict[str, Any]:
    """What a job was asked with, and what it has noted since."""
    row = db.row("SELECT arguments FROM job WHERE id = ?", number)
    return dict(json.loads(row["arguments"])) if row else {}


def set_arguments(db: Database, number: int, arguments: dict[str, Any]) -> None:
    with db.write() as connection:
        connection.execute("UPDATE job SET arguments = ? WHERE id = ?", (json.dumps(arguments), number))
