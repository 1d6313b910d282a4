"""Runs over many scenes: which job does which scene, and what came of it."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from typing import Any

from .database import Database


def add_run(db: Database, outing_id: int, what: str) -> int:
    """A run over scenes of an outing; its number."""
    with db.write() as connection:
        return int(connection.execute("INSERT INTO run (outing_id, what) VALUES (?, ?)", (outing_id, what)).lastrowid or 0)


def add_scene(db: Database, number: int, scene_id: int, job_id: int) -> None:
    """A scene of a run, done by a job."""
    with db.write() as connection:
        connection.execute("INSERT INTO run_scene (run_id, scene_id, job_id) VALUES (?, ?, ?)", (number, scene_id, job_id))


def note_told(db: Database, number: int, scene_id: int, told: Mapping[str, Any]) -> None:
    """What was done of a scene, and what should be looked at."""
    with db.write() as connection:
        connection.execute("UPDATE run_scene SET told = ? WHERE run_id = ? AND scene_id = ?", (json.dumps(told), number, scene_id))


def run(db: Database, number: int) -> sqlite3.Row | None:
    return db.row("SELECT run.*, outing.name AS outing FROM run JOIN outing ON outing.id = outing_id WHERE run.id = ?", number)


def runs_of(db: Database, outing_id: int) -> list[sqlite3.Row]:
    """Runs of an outing, newest first."""
    return db.rows("SELECT * FROM run WHERE outing_id = ? ORDER BY id DESC", outing_id)


def scenes_of(db: Database, number: int) -> list[sqlite3.Row]:
    """Scenes of a run with their jobs, in the order in which they were asked for."""
    return db.rows(
        """SELECT run_scene.*, scene.name, job.state, job.share, job.what, job.message, job.ended - job.started AS seconds
           FROM run_scene JOIN scene ON scene.id = run_scene.scene_id LEFT JOIN job ON job.id = job_id WHERE run_id = ? ORDER BY job_id""",
        number,
    )
