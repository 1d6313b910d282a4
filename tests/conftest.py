"""Small sets from the field camera, with their truth, shot once for all tests."""

from __future__ import annotations

import math
import os
import shutil
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import settings

from eaveplane.fieldcam.camera import Camera, Shot, Stage, Truth, shoot, truth_of
from eaveplane.fieldcam.landscapes import LANDSCAPES
from eaveplane.fieldcam.lens import Lens
from eaveplane.optics.thinlens import even_focus_steps
from eaveplane.pipeline.cache import WHOLE, Cache
from eaveplane.recipe import Recipe

# a busy machine, or kernels that are compiled anew, must not fail a test of what is computed
settings.register_profile("any machine", deadline=None)
settings.load_profile("any machine")
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


def _stage(camera: Camera) -> Stage:
    return Stage(LANDSCAPES["saltpan"], camera, [Shot(math.inf, (x, y), r) for x in (-32, 32) for y in (-32, 32) for r in (-0.8, 0.8)])


def delivering(recipe: Recipe, **change: Any) -> Recipe:
    """A recipe with its first output changed."""
    return recipe.model_copy(update={"outputs": [recipe.outputs[0].model_copy(update=change), *recipe.outputs[1:]]})


@pytest.fixture(scope="session", autouse=True)
def made_once(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Callable[[bool], None]]:
    """Results of steps are made once for all tests, under their keys, as they are made once for all of a library's scenes: else the same few
    frames would be decoded and registered a hundred times. Called with False it is given up for a while."""
    base = tmp_path_factory.getbasetemp()
    store = Cache((base.parent if "PYTEST_XDIST_WORKER" in os.environ else base) / "made")
    make = Cache.make

    def copied(folder: Path) -> Callable[[Path], None]:
        return lambda to: shutil.copytree(folder, to, dirs_exist_ok=True, ignore=shutil.ignore_patterns(WHOLE)) and None

    def once(cache: Cache, key: str, build: Callable[[Path], None]) -> str:
        if cache.has(key):
            return make(cache, key, build)
        if not store.has(key):
            make(cache, key, build)
            return make(store, key, copied(cache.path(key)))
        return make(cache, key, copied(store.path(key)))

    def use(it: bool) -> None:
        Cache.make = once if it else make  # type: ignore[method-assign]

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


@pytest.fixture(scope="session")
def tripod(stage: Stage, steps: list[float], tmp_path_factory: pytest.TempPathFactory) -> Set:
    """A tripod that gives by a pixel; breathing 2 %."""
    rng = np.random.default_rng(5)
    shots = [Shot(f, tuple(rng.normal(0, 1.0, 2))) for f in steps]  # type: ignore[arg-type]
    return _shoot(stage, shots, tmp_path_factory.mktemp("tripod") / "card")


@pytest.fixture(scope="session")
def small(steps: list[float], tmp_path_factory: pytest.TempPathFactory) -> Set:
    """The same by a small camera."""
    rng = np.random.default_rng(5)
    shots = [Shot(f, tuple(rng.normal(0, 0.7, 2))) for f in steps]  # type: ignore[arg-type]
    return _shoot(_stage(SMALL), shots, tmp_path_factory.mktemp("small") / "card")


@pytest.fixture(scope="session")
def tiny(steps: list[float], tmp_path_factory: pytest.TempPathFactory) -> Set:
    """The same by a smaller one still."""
    rng = np.random.default_rng(5)
    shots = [Shot(f, tuple(rng.normal(0, 0.5, 2))) for f in steps]  # type: ignore[arg-type]
    return _shoot(_stage(TINY), shots, tmp_path_factory.mktemp("tiny") / "card")


@pytest.fixture(scope="session")
def handheld(stage: Stage, steps: list[float], tmp_path_factory: pytest.TempPathFactory) -> Set:
    """By hand: up to 30 px and 0.7°, exposure and colour drifting by tenths of an EV."""
    rng = np.random.default_rng(8)
    shots = []
    for focus in steps:
        drift = np.exp(rng.uniform(-0.2, 0.2) + rng.normal(0, 0.02, 3))
        shots.append(Shot(focus, tuple(rng.uniform(-30, 30, 2)), float(rng.uniform(-0.7, 0.7)), drift=tuple(drift)))  # type: ignore[arg-type]
    return _shoot(stage, shots, tmp_path_factory.mktemp("handheld") / "card")
