"""A full shelf costs a scene nothing, and an outing no more than its scenes."""

from __future__ import annotations

import cProfile
import pstats
from pathlib import Path

import pytest
from flask.testing import FlaskClient

from bench.pages import full
from eaveplane.jobs.worker import Worker
from eaveplane.web.app import create_app


def steps(client: FlaskClient, url: str) -> int:
    """How many functions a page calls, once it has been shown: what its time is made of, and the same on any machine."""
    assert client.get(url).status_code == 200
    profile = cProfile.Profile()
    profile.runcall(client.get, url)
    return int(pstats.Stats(profile).total_calls)  # type: ignore[attr-defined]


@pytest.fixture
def shelves(tmp_path: Path) -> dict[int, FlaskClient]:
    made = {}
    for count in (5, 40):
        (tmp_path / str(count)).mkdir()
        library = full(tmp_path / str(count), count)
        made[count] = create_app(library, Worker(library)).test_client()
    return made


def test_pages_do_not_grow_faster_than_what_they_show(shelves: dict[int, FlaskClient]) -> None:
    for url in ("/scene/3/gather", "/scene/3/weave", "/scene/3/deliver", "/queue/"):
        assert steps(shelves[40], url) < 1.5 * steps(shelves[5], url) + 2000, url
    for url in ("/", "/outing/1"):
        assert steps(shelves[40], url) < 8.5 * steps(shelves[5], url), url
