"""The page as one Flask application, on loopback only."""

from __future__ import annotations

import secrets
from pathlib import Path
from typing import Any

from flask import Blueprint, Flask
from werkzeug.routing import IntegerConverter, Map

from ..jobs.worker import Worker
from ..pipeline.library import Library
from . import camera, deliver, even, finish, gather, many, mend, outing, planner, queue, register, scene, shelf, shell, weave
from .desk import Desk
from .security import protect


class Number(IntegerConverter):
    """Numbers of things in the library: none is larger than its database can hold."""

    def __init__(self, map: Map, *args: Any, **options: Any) -> None:
        super().__init__(map, *args, **({"max": 2**63 - 1} | options))


def create_app(library: Library, worker: Worker) -> Flask:
    """The application on a library; `worker` is told of new jobs and may be stopped independently."""
    app = Flask("eaveplane.web", static_folder=None)
    app.config.update(
        SECRET_KEY=_secret(library.home / "secret"),
        MAX_CONTENT_LENGTH=16 * 2**20,
        MAX_FORM_MEMORY_SIZE=16 * 2**20,
        WTF_CSRF_TIME_LIMIT=None,
        SESSION_COOKIE_NAME="eaveplane",
        SESSION_COOKIE_SAMESITE="Strict",
        SEND_FILE_MAX_AGE_DEFAULT=3600,
    )
    app.url_map.converters["int"] = Number
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    app.extensions["eaveplane"] = Desk(library, worker)
    protect(app)
    for part in (shell, shelf, outing, planner, camera, queue, scene, gather, even, register, weave, mend, finish, deliver, many):
        app.register_blueprint(part.blueprint)
    # a stage's pages lie under a scene's number, its scripts and styles under its name
    for stage in (gather, even, register, weave, mend, finish, deliver):
        name = stage.blueprint.name
        app.register_blueprint(Blueprint(f"{name}-files", stage.__name__, static_folder="static", static_url_path=f"/static/{name}"))
    return app


def _secret(path: Path) -> bytes:
    """The key that signs forms, made once a library and readable by its owner alone."""
    if not path.exists():
        path.touch(mode=0o600)
        path.write_bytes(secrets.token_bytes(32))
    return path.read_bytes()
