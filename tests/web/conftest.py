"""An application on a library with one scene, without a running worker."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
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
from tests.conftest import done


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


@contextmanager
def on_a_library(home: Path, computes: bool = True) -> Iterator[Page]:
    """The application on a library with one scene that has been looked at; without a worker nothing that is queued is done."""
    library = Library(home / "library")
    worker = Worker(library)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(working, "worker_pool", lambda processes, nice: ThreadPoolExecutor(2))
        if computes:
            worker.start()
        app = create_app(library, worker)
        app.testing = True
        yield Page(app.test_client(), library, scenes.scenes_of(library.db, outings.outings(library.db)[0]["id"])[0]["id"])
        if computes:
            worker.stop()


@pytest.fixture(scope="module")
def page(looked_at: Callable[[Path], Path], tmp_path_factory: pytest.TempPathFactory) -> Iterator[Page]:
    with on_a_library(looked_at(tmp_path_factory.mktemp("web") / "own")) as page:
        yield page


@pytest.fixture(autouse=True)
def as_it_was(request: pytest.FixtureRequest) -> Iterator[None]:
    """A test leaves the scene that it shares with others as it was decided before."""
    page = request.getfixturevalue("page") if "page" in request.fixturenames else None
    before = page.recipe() if page else None
    yield
    if page and before and page.recipe() != before:
        scenes.decide(page.library.db, page.scene, "As it was", lambda recipe: before)


@pytest.fixture
def registered(page: Page) -> Page:
    """The page of a scene whose frames are registered."""
    if not page.state(page.get(page.at("/register")).text)["registered"]:
        page.post(page.at("/register/go"))
        job = jobs.latest(page.library.db, page.scene)
        assert job is not None and done(page.library, job["id"])["state"] == "done"
    return page


@pytest.fixture
def idle(looked_at: Callable[[Path], Path], tmp_path: Path) -> Iterator[Page]:
    """A page and a library of its own, on which nothing is computed."""
    with on_a_library(looked_at(tmp_path / "own"), computes=False) as page:
        yield page
