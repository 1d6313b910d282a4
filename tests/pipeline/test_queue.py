"""Who goes first, who makes way, and how soon a call to stop is heard."""

from __future__ import annotations

import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from eaveplane.jobs.kind import KINDS, Kind
from eaveplane.jobs.queue import JobQueue
from eaveplane.jobs.worker import Worker
from eaveplane.pipeline.library import Library
from eaveplane.pipeline.runner import PATIENCE, Runner
from eaveplane.pipeline.ticket import Cancelled
from eaveplane.pipeline.view.memory import Memory, size_of
from eaveplane.recipe import Recipe
from eaveplane.store import jobs, outings, scenes
from tests.conftest import done
from tests.pipeline.test_work import library, worker

__all__ = ["library", "worker"]


def scene_of(library: Library) -> int:
    return scenes.add_scene(library.db, outings.add_outing(library.db, "O", Path("/")), "S", Recipe())


def test_what_is_asked_for_goes_before_looking_and_the_open_scene_before_others(library: Library) -> None:
    here, there = scene_of(library), scene_of(library)
    for scene, kind in ((there, "inspect"), (here, "inspect"), (there, "weave"), (here, "weave")):
        JobQueue(library).add(kind, scene_id=scene)
    order = []
    while (row := jobs.take(library.db, scene_id=here)) is not None:
        order.append((row["scene_id"], row["kind"]))
    assert order == [(here, "weave"), (there, "weave"), (here, "inspect"), (there, "inspect")]


def test_looking_makes_way_and_goes_on_after_it(library: Library, worker: Worker, monkeypatch: pytest.MonkeyPatch) -> None:
    scene, began, ended = scene_of(library), threading.Event(), []

    def looks(queue, row, runner):  # type: ignore[no-untyped-def]
        began.set()
        while not ended:
            runner.run("Looking", [(lambda ticket: time.sleep(0.02), ())])
        return "looked"

    monkeypatch.setitem(KINDS, "inspect", Kind("inspect", "work", True, looks))
    monkeypatch.setitem(KINDS, "weave", Kind("weave", "work", False, lambda queue, row, runner: ended.append("woven") or "woven"))  # type: ignore[func-returns-value]
    first = worker.queue.add("inspect", scene_id=scene)
    assert began.wait(20)
    second = worker.queue.add("weave", scene_id=scene)
    assert done(library, second)["message"] == "woven" and done(library, first)["message"] == "looked"


def test_a_call_to_stop_is_heard_within_a_second_in_the_middle_of_a_step(tmp_path: Path) -> None:
    wanted, over = threading.Event(), threading.Event()

    def deaf(ticket: str) -> None:
        """A library call that looks at no ticket."""
        wanted.set()
        over.wait(30)

    with ThreadPoolExecutor(1) as pool:
        runner = Runner(pool, tmp_path, lambda what, share: None, cancelled=wanted.is_set)
        begin = time.monotonic()
        with pytest.raises(Cancelled):
            runner.run("Reading", [(deaf, ()), (deaf, ())])
        assert time.monotonic() - begin < PATIENCE + 1.0
        # the step's ticket stays as long as it may still look at it
        assert list(tmp_path.glob("*.cancel"))
        over.set()
    assert not list(tmp_path.glob("*"))


@given(st.lists(st.integers(1, 400), min_size=1, max_size=30))
@settings(max_examples=30)
def test_what_is_kept_fits_into_the_bytes_there_are(sizes: list[int]) -> None:
    kept = Memory(1 << 20)
    for k, rows in enumerate(sizes):
        made = kept.get(k, lambda rows=rows: np.zeros((rows, 1000), np.float32))  # type: ignore[misc]
        assert made.shape == (rows, 1000)
        assert kept._items.currsize <= 1 << 20
    again: list[int] = []
    kept.get(len(sizes) - 1, lambda: again.append(1) or np.zeros(1))
    assert bool(again) == (sizes[-1] * 4000 + 128 > 1 << 20)


def test_sizes_are_those_of_the_arrays() -> None:
    assert size_of(np.zeros(1000)) == 8128 and size_of([np.zeros(1000), 3]) > 8128 and size_of({"a": np.zeros(1000)}) > 8128
    assert size_of("text") == size_of(None) == 4096
