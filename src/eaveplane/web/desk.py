"""What all pages work with: the library, the worker, and what was looked at last."""

from __future__ import annotations

import io
from dataclasses import dataclass, field
from pathlib import Path

from flask import Response, current_app, send_file

from ..jobs.queue import JobQueue
from ..jobs.worker import Worker
from ..pipeline.library import Library
from ..pipeline.view import Memory
from ..store.database import Database


@dataclass
class Desk:
    """`views` keeps opened views by scene and state, `kept` their frames and gates, `pictures` boxes of light, `guides` of
    whole pictures; each within so many bytes."""

    library: Library
    worker: Worker
    views: Memory = field(default_factory=lambda: Memory(256 << 20))
    kept: Memory = field(default_factory=lambda: Memory(512 << 20))
    pictures: Memory = field(default_factory=lambda: Memory(768 << 20))
    guides: Memory = field(default_factory=lambda: Memory(256 << 20))

    @property
    def queue(self) -> JobQueue:
        """Where jobs are put."""
        return self.worker.queue

    @property
    def db(self) -> Database:
        return self.library.db


def download(text: str, name: str) -> Response:
    """JSON to be kept as a file, under a name in any script."""
    plain = "".join(c if c.isprintable() and c not in '/\\:*?"<>|' else "-" for c in name)
    return send_file(io.BytesIO(text.encode()), mimetype="application/json", as_attachment=True, download_name=plain)


def folder_of(typed: str) -> Path | None:
    """The folder that was typed, whole and there, or None."""
    try:
        path = Path(typed).expanduser()
        return path if typed and path.is_absolute() and path.is_dir() else None
    except (OSError, RuntimeError, ValueError):
        return None


def desk() -> Desk:
    """The desk of the application that answers this request."""
    found: Desk = current_app.extensions["eaveplane"]
    return found
