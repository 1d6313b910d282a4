"""Small sets from the field camera, with their truth, shot once for all tests."""

from __future__ import annotations

import fcntl
import math
import os
import pickle
import shutil
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
import pytest
from hypothesis import settings
from xdist.scheduler import LoadFileScheduling

from eaveplane.fieldcam.camera import Camera, Shot, Stage, Truth, shoot, truth_of
from eaveplane.fieldcam.landscapes import LANDSCAPES
from eaveplane.fieldcam.lens import Lens
from eaveplane.jobs import worker as working
from eaveplane.jobs.worker import Worker
from eaveplane.optics.thinlens import even_focus_steps
from eaveplane.pipeline.cache import WHOLE, Cache
from eaveplane.pipeline.library import Library
from eaveplane.recipe import Recipe
from eaveplane.store import jobs, outings

# a busy machine, or kernels that are compiled anew, must not fail a test of what is computed
# the same draws in every run: a rule that one draw in a thousand breaks is found by a search (`--hypothesis-profile search`), not by whoever comes next
settings.register_profile("search", deadline=None, max_examples=1000)
settings.register_profile("any machine", deadline=None, max_examples=60, derandomize=True)
settings.load_profile("any machine")
Made = TypeVar("Made")
FRAMES = 4
# blur in pixels as in a six-megapixel frame at f/5.6
CAMERA = Camera(900, 600, Lens(f_number=2.0, breathing=0.02))
SMALL = Camera(720, 480, Lens(f_number=2.0, breathing=0.02))
"""For tests of what is done with frames rather than of how well: most of them."""
TINY = Camera(480, 320, Lens(f_number=2.0, breathing=0.02))
"""For tests that do it many times over: whole scenes, killed, carried elsewhere, run again."""


@dataclass(frozen=True)
class Set:
    """Frames on a card, near to far, and what they were made from."""

    paths: list[Path]
    shots: list[Shot]
    truth: Truth

    @property
    def size(self) -> tuple[int, int]:
        """Width and height of its frames."""
        return self.truth.distance.shape[1], self.truth.distance.shape[0]


def _shoot(stage: Stage, shots: list[Shot], card: Path) -> Set:
    return Set(shoot(stage, shots, card), shots, truth_of(stage, shots, len(shots) // 2))


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--made", type=Path, help="folder that runs after each other share: what one has made the next takes")


def in_the_browser(nodeid: str) -> bool:
    return nodeid.startswith("tests/browser/")


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What takes long begins first, so that at the end no worker waits for another's."""
    long = {item.path for item in items if item.get_closest_marker("slow")}
    items.sort(key=lambda item: (not in_the_browser(item.nodeid), item.path not in long))


class _ByFile(LoadFileScheduling):
    """A file's tests run in one worker, and so do all that drive the browser: one at a time, while the others compute."""

    def _split_scope(self, nodeid: str) -> str:
        return "tests/browser" if in_the_browser(nodeid) else super()._split_scope(nodeid)


def pytest_xdist_make_scheduler(config: pytest.Config, log: Any) -> _ByFile:
    return _ByFile(config, log)


class Once:
    """What all workers of a run have in common, in a folder: made by whichever asks first, while the others wait for it and take the same."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)

    def get(self, name: str, make: Callable[[Path], Made]) -> Made:
        """What `make` makes in a folder of that name."""
        with (self.folder / f"{name}.lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            kept = self.folder / f"{name}.pickle"
            if not kept.exists():
                shutil.rmtree(self.folder / name, ignore_errors=True)
                kept.write_bytes(pickle.dumps(make(self.folder / name)))
            made: Made = pickle.loads(kept.read_bytes())
        return made


@pytest.fixture(scope="session")
def once(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Once:
    base = tmp_path_factory.getbasetemp()
    folder: Path | None = request.config.getoption("--made")
    return Once((folder or (base.parent if "PYTEST_XDIST_WORKER" in os.environ else base) / "once").resolve())


def _stage(camera: Camera) -> Stage:
    return Stage(LANDSCAPES["saltpan"], camera, [Shot(math.inf, (x, y), r) for x in (-32, 32) for y in (-32, 32) for r in (-0.8, 0.8)])


def delivering(recipe: Recipe, **change: Any) -> Recipe:
    """A recipe with its first output changed."""
    return recipe.model_copy(update={"outputs": [recipe.outputs[0].model_copy(update=change), *recipe.outputs[1:]]})


@pytest.fixture(scope="session", autouse=True)
def made_once(once: Once) -> Iterator[Callable[[bool], None]]:
    """Results of steps are made once for all tests, under their keys, as they are made once for all of a library's scenes: else the same few
    frames would be decoded and registered a hundred times. Called with False it is given up for a while."""
    store = Cache(once.folder / "steps")
    make = Cache.make

    def copied(folder: Path) -> Callable[[Path], None]:
        return lambda to: shutil.copytree(folder, to, dirs_exist_ok=True, ignore=shutil.ignore_patterns(WHOLE)) and None

    def from_store(cache: Cache, key: str, build: Callable[[Path], None]) -> str:
        if cache.has(key):
            return make(cache, key, build)
        if not store.has(key):
            make(cache, key, build)
            return make(store, key, copied(cache.path(key)))
        return make(cache, key, copied(store.path(key)))

    def use(it: bool) -> None:
        Cache.make = from_store if it else make  # type: ignore[method-assign]

    use(True)
    yield use
    use(False)


@pytest.fixture(autouse=True)
def _anew(request: pytest.FixtureRequest, made_once: Callable[[bool], None]) -> Iterator[None]:
    """Tests marked `anew` are about making things, or about making them again: nothing is there for them."""
    made_once(not request.node.get_closest_marker("anew"))
    yield
    made_once(True)


@pytest.fixture(scope="session")
def stage() -> Stage:
    return _stage(CAMERA)


@pytest.fixture(scope="session")
def steps() -> list[float]:
    return even_focus_steps(0.6, math.inf, FRAMES)


def _on_a_tripod(camera: Camera, gives: float, steps: list[float]) -> Callable[[Path], Set]:
    """Frames from a tripod that gives by so many pixels; breathing 2 %."""
    rng = np.random.default_rng(5)
    shots = [Shot(f, tuple(rng.normal(0, gives, 2))) for f in steps]  # type: ignore[arg-type]
    return lambda card: _shoot(_stage(camera), shots, card)


@pytest.fixture(scope="session")
def tripod(steps: list[float], once: Once) -> Set:
    """A tripod that gives by a pixel."""
    return once.get("tripod", _on_a_tripod(CAMERA, 1.0, steps))


@pytest.fixture(scope="session")
def small(steps: list[float], once: Once) -> Set:
    """The same by a small camera."""
    return once.get("small", _on_a_tripod(SMALL, 0.7, steps))


@pytest.fixture(scope="session")
def tiny(steps: list[float], once: Once) -> Set:
    """The same by a smaller one still."""
    return once.get("tiny", _on_a_tripod(TINY, 0.5, steps))


@pytest.fixture(scope="session")
def handheld(steps: list[float], once: Once) -> Set:
    """By hand: up to 30 px and 0.7°, exposure and colour drifting by tenths of an EV."""
    rng = np.random.default_rng(8)
    shots = []
    for focus in steps:
        drift = np.exp(rng.uniform(-0.2, 0.2) + rng.normal(0, 0.02, 3))
        shots.append(Shot(focus, tuple(rng.uniform(-30, 30, 2)), float(rng.uniform(-0.7, 0.7)), drift=tuple(drift)))  # type: ignore[arg-type]
    return once.get("handheld", lambda card: _shoot(_stage(CAMERA), shots, card))


def done(library: Library, job: int, seconds: float = 90) -> dict[str, object]:
    """Wait for a job's end."""
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        row = jobs.job(library.db, job)
        assert row is not None
        if row["state"] not in ("queued", "running"):
            return dict(row)
        time.sleep(0.05)
    raise AssertionError("the job did not end")


def settled(library: Library) -> None:
    """Wait until nothing is to be done any more."""
    while rows := jobs.open_jobs(library.db):
        done(library, rows[0]["id"])


def brought_in(card: Path, home: Path, name: str) -> None:
    """Make a library in a folder, on a card whose scenes have been looked at."""
    with pytest.MonkeyPatch.context() as patch:
        # threads do for tests what processes do in earnest
        patch.setattr(working, "worker_pool", lambda processes, nice: ThreadPoolExecutor(2))
        library = Library(home / "library")
        worker = Worker(library)
        worker.start()
        outing = outings.add_outing(library.db, name, card)
        job = jobs.add_job(library.db, "bring_in", outing_id=outing, folder=str(card))
        worker.wake()
        assert done(library, job)["state"] == "done"
        settled(library)
        worker.stop()


@pytest.fixture(scope="session")
def looked_at(small: Set, once: Once) -> Callable[[Path], Path]:
    """Copies to a folder a card, and beside it a library on it whose one scene has been looked at."""

    def made(home: Path) -> Path:
        folder = home / "card"
        folder.mkdir(parents=True)
        for path in small.paths:
            shutil.copy(path, folder)
        brought_in(folder, home, "Salt pan")
        return home

    def copied(home: Path) -> Path:
        first = once.get("looked at", made)
        shutil.copytree(first, home)
        with Library(home / "library").db.write() as connection:
            connection.execute("UPDATE file SET path = replace(path, ?, ?)", (str(first), str(home)))
            connection.execute("UPDATE outing SET folder = replace(folder, ?, ?)", (str(first), str(home)))
        return home

    return copied
