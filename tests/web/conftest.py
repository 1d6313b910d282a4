"""An application on a library with one scene, without a running worker."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from html import unescape
from pathlib import Path
from typing import Any

import pytest
from flask.testing import FlaskClient

from eaveplane.jobs import worker as working
from eaveplane.jobs.worker import Worker
from eaveplane.pipeline.library import Library
from eaveplane.store import outings, scenes
from eaveplane.web.app import create_app


class Page:
    """A client that carries the token as the page's scripts do."""

    def __init__(self, client: FlaskClient, library: Library, scene: int) -> None:
        self.client, self.library, self.scene = client, library, scene
        self.token = re.search(r'name="csrf" content="([^"]+)"', client.get("/").text)[1]  # type: ignore[index]

    def get(self, url: str, **options: Any) -> Any:
        return self.client.get(url, **options)

    def post(self, url: str, values: dict[str, Any] | None = None, **options: Any) -> Any:
        headers = {"X-CSRFToken": self.token, "HX-Request": "true", **options.pop("headers", {})}
        return self.client.post(url, headers=headers, **({"data": values or {}} | options))

    def at(self, rest: str) -> str:
        return f"/scene/{self.scene}{rest}"

    def recipe(self) -> Any:
        return scenes.recipe_of(self.library.db, self.scene)

    def state(self, html: str) -> dict[str, Any]:
        found: dict[str, Any] = json.loads(unescape(re.search(r'data-state="([^"]*)"', html)[1]))  # type: ignore[index]
        return found


@pytest.fixture(scope="module")
def page(looked_at: Callable[[Path], Path], tmp_path_factory: pytest.TempPathFactory):  # type: ignore[no-untyped-def]
    home = looked_at(tmp_path_factory.mktemp("web") / "own")
    patch = pytest.MonkeyPatch()
    patch.setattr(working, "worker_pool", lambda processes, nice: ThreadPoolExecutor(2))
    library = Library(home / "library")
    worker = Worker(library)
    worker.start()
    app = create_app(library, worker)
    app.testing = True
    yield Page(app.test_client(), library, scenes.scenes_of(library.db, outings.outings(library.db)[0]["id"])[0]["id"])
    worker.stop()
    patch.undo()
