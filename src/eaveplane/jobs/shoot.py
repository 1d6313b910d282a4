"""Letting the field camera carry out an order."""

from __future__ import annotations

import json
import sqlite3

from ..pipeline import shooting
from ..pipeline.runner import Runner
from .kind import kind
from .queue import JobQueue


@kind("shoot", lane="camera")
def shoot(queue: JobQueue, row: sqlite3.Row, runner: Runner) -> str:
    """Shoot; where an outing is named, bring the card in again after it."""
    asked, card = json.loads(row["arguments"]), queue.library.card
    count = runner.one(f"Field camera: {asked['folder']}", shooting.shoot, asked["order"], str(card / asked["folder"]), asked["first"], asked["start"])
    if row["outing_id"]:
        queue.bring_in(row["outing_id"], card)
    return f"{count} frames landed in {asked['folder']}."
