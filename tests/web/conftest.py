"""An application on a library with one scene, without a running worker."""

from __future__ import annotations

import json
import re
import shutil
from concurrent.futures import ThreadPoolExecutor
from html import unescape
from pathlib import Path
from typing import Any

import pytest
from flask.testing import FlaskClient

from eaveplane.jobs import worker as working
from eaveplane.jobs.worker import Worker
from eaveplane.pipeline.library import Library
from eaveplane.store import jobs, outings, scenes
from eaveplane.web.app import create_app
from tests.conftest import Set
from tests.pipeline.test_work import done, settled


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


@pytest.fixture(scope="session")
def looked_at(small: Set, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with a card and a library on it whose one scene has been looked at; to be copied."""
    home = tmp_path_factory.mktemp("web")
    folder = home / "card"
    folder.mkdir()
    for path in small.paths:
        shutil.copy(path, folder)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(working, "worker_pool", lambda processes, nice: ThreadPoolExecutor(2))
        library = Library(home / "library")
        worker = Worker(library)
        worker.start()
        outing = outings.add_outing(library.db, "Salt pan", folder)
        job = jobs.add_job(library.db, "bring_in", outing_id=outing, folder=str(folder))
        worker.wake()
        assert done(library, job)["state"] == "done"
        settled(library)
        worker.stop()
    return home


@pytest.fixture(scope="module")
def page(looked_at: Path, tmp_path_factory: pytest.TempPathFactory):  # type: ignore[no-untyped-def]
    home = tmp_path_factory.mktemp("web") / "own"
    shutil.copytree(looked_at, home)
    patch = pytest.MonkeyPatch()
    patch.setattr(working, "worker_pool", lambda processes, nice: ThreadPoolExecutor(2))
    library = Library(home / "library")
    with library.db.write() as connection:
        connection.execute("UPDATE file SET path = replace(path, ?, ?)", (str(looked_at), str(home)))
        connection.execute("UPDATE outing SET folder = replace(folder, ?, ?)", (str(looked_at), str(home)))
    worker = Worker(library)
    worker.start()
    app = create_app(library, worker)
    app.testing = True
    yield Page(app.test_client(), library, scenes.scenes_of(library.db, outings.outings(library.db)[0]["id"])[0]["id"])
    worker.stop()
    patch.undo()
