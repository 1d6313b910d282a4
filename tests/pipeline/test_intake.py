"""Files on their way in and out: every one is accounted for, none takes another's place."""

from __future__ import annotations

import json
import shutil
import sqlite3
import time
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile

from eaveplane.imaging.errors import PictureError
from eaveplane.imaging.formats.registry import read_picture
from eaveplane.jobs import bring_in as bringing
from eaveplane.jobs.worker import Worker
from eaveplane.pipeline import glance, steps
from eaveplane.pipeline.cache import Cache, hash_file
from eaveplane.pipeline.frames import File
from eaveplane.pipeline.library import Library
from eaveplane.pipeline.pictures import keep_in, recipe_beside
from eaveplane.pipeline.runner import Runner
from eaveplane.recipe import Recipe
from eaveplane.store import jobs, outings, scenes
from eaveplane.store.database import Database
from tests.conftest import Set, delivering, done, settled
from tests.pipeline.test_work import brought_in, card, library, worker

pytestmark = pytest.mark.slow

__all__ = ["library", "worker"]


def small(path: Path, value: int = 900) -> Path:
    path.parent.mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng(value)
    tifffile.imwrite(path, rng.integers(0, 60000, (80, 120, 3)).astype(np.uint16), photometric="rgb")
    return path


def came_in(library: Library, worker: Worker, outing: int, folder: Path, **asked: Any) -> str:
    job = jobs.add_job(library.db, "bring_in", outing_id=outing, folder=str(folder), **asked)
    worker.wake()
    ended = done(library, job)
    assert ended["state"] == "done", ended
    settled(library)
    return str(ended["message"])


def test_many_at_once_get_names_of_their_own(tmp_path: Path) -> None:
    with ThreadPoolExecutor(13) as pool:
        made = list(pool.map(lambda k: keep_in(tmp_path, ".tif" if k % 2 else ".dng", lambda part: part.write_text(str(k))), range(40)))
    assert len({p.stem for p in made}) == 40 == len(list(tmp_path.iterdir())) and sorted(p.read_text() for p in made) == sorted(str(k) for k in range(40))


def test_copies_take_every_number_once_and_lose_no_file(library: Library, worker: Worker, tmp_path: Path) -> None:
    source = tmp_path / "source"
    for k in range(4):
        small(source / f"{k}.tif", k)
    outing = outings.add_outing(library.db, "Copied", source)
    came_in(library, worker, outing, source, copy=True)
    # a file that is there already, and one that is new between them
    small(source / "1b.tif", 77)
    came_in(library, worker, outing, source, copy=True)
    copies = sorted((library.uploads / str(outing)).iterdir())
    assert [p.name for p in copies] == [f"{k:05d}.tif" for k in range(1, 6)]
    assert {hash_file(p) for p in copies} == {hash_file(p) for p in source.iterdir()}
    assert {r["sha256"] for r in outings.files_of(library.db, outing)} == {hash_file(p) for p in source.iterdir()}


def test_whatever_one_file_does_to_its_reader_is_that_files_problem(library: Library, worker: Worker, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    folder = tmp_path / "card"
    good, bad, odd = small(folder / "a.tif", 1), small(folder / "b.tif", 2), small(folder / "c.tif", 3)
    real = glance.facts

    def facts(path: Path) -> Any:
        if path == bad:
            raise TypeError("width is text")
        found = real(path)
        return found if path != odd else type(found)(2**70, found.height, found.kind, found.meta)

    monkeypatch.setattr(glance, "facts", facts)
    outing = outings.add_outing(library.db, "O", folder)
    said = came_in(library, worker, outing, folder)
    problems = dict(library.outing_problems(outing))
    assert set(problems) == {"b.tif", "c.tif"} and "cannot be understood" in problems["b.tif"] and "2 cannot be used" in said
    assert [f.name for f in library.files(outing).values()] == [good.name]


def test_a_name_that_is_no_text_stays_out_and_is_told(library: Library, worker: Worker, tmp_path: Path) -> None:
    folder = tmp_path / "card"
    small(folder / "a.tif")
    try:
        shutil.copy(folder / "a.tif", str(folder).encode() + b"/caf\xe9.tif")
    except OSError:
        pytest.skip("this disk takes no such names")
    outing = outings.add_outing(library.db, "O", folder)
    assert "not UTF-8" in came_in(library, worker, outing, folder) and len(library.files(outing)) == 1


@pytest.mark.anew
def test_a_picture_that_was_replaced_is_not_woven_under_the_old_name(library: Library, worker: Worker, tiny: Set, handheld: Set, tmp_path: Path) -> None:
    folder = card(tmp_path / "card", tiny)
    outing = brought_in(library, worker, folder)
    path = folder / tiny.paths[1].name
    old = hash_file(path)
    shutil.copy(tiny.paths[2], path)
    with pytest.raises(PictureError, match="its content has changed"):
        steps.make(str(tmp_path / "other"), File(path, old, path.name).decode(False, Recipe().capture), str(tmp_path / "ticket"))
    # brought in again it is looked at again
    shutil.copy(handheld.paths[1], path)
    assert f"{path.name} changed since" in came_in(library, worker, outing, folder)
    assert {r["sha256"] for r in outings.files_of(library.db, outing) if r["path"] == str(path)} == {hash_file(path)} != {old}


class Breaking(Executor):
    """A pool whose worker dies with the first step it is given."""

    def submit(self, fn: Any, /, *args: Any, **kwargs: Any) -> Future[Any]:
        raise BrokenProcessPool("a child process terminated abruptly")


def test_steps_that_a_broken_pool_lost_are_done_on_a_new_one(tmp_path: Path) -> None:
    landed: list[tuple[int, int]] = []
    with ThreadPoolExecutor(2) as sound:
        runner = Runner(Breaking(), tmp_path / "tickets", lambda what, share: None, renewed=lambda: sound)
        assert runner.run("Doubling", [(lambda n, ticket: 2 * n, (k,)) for k in range(5)], landed=lambda k, result: landed.append((k, result))) == [0, 2, 4, 6, 8]
    assert sorted(landed) == [(k, 2 * k) for k in range(5)]
    again = Runner(Breaking(), tmp_path / "tickets", lambda what, share: None, renewed=Breaking)
    assert all(isinstance(r, BrokenProcessPool) for r in again.run("Doubling", [(lambda n, ticket: n, (1,))]))


def test_files_whose_reader_dies_each_time_are_accounted_for(library: Library, worker: Worker, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    folder = tmp_path / "card"
    for k in range(3):
        small(folder / f"{k}.tif", k)

    def dies(root: str, path: str, ticket: str) -> Any:
        if path.endswith("1.tif"):
            raise BrokenProcessPool("a child process terminated abruptly")
        return glance.glance_at(root, path, ticket)

    monkeypatch.setattr(bringing, "glance_at", dies)
    outing = outings.add_outing(library.db, "O", folder)
    came_in(library, worker, outing, folder)
    assert [name for name, _ in library.outing_problems(outing)] == ["1.tif"] and len(library.files(outing)) == 2


def test_the_thread_that_does_all_jobs_outlives_a_full_disk(library: Library, worker: Worker, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    full = {"times": 3}
    real = jobs.end

    def end(db: Database, number: int, state: str, message: str = "") -> None:
        if full["times"]:
            full["times"] -= 1
            raise sqlite3.OperationalError("database or disk is full")
        real(db, number, state, message)

    monkeypatch.setattr(jobs, "end", end)
    monkeypatch.setattr(worker._stopping, "wait", lambda seconds: time.sleep(0.01))
    small(tmp_path / "card" / "a.tif")
    outing = outings.add_outing(library.db, "O", tmp_path / "card")
    job = jobs.add_job(library.db, "bring_in", outing_id=outing, folder=str(tmp_path / "card"))
    worker.wake()
    ended = done(library, job)
    assert ended["state"] == "failed" and "Make room on the disk" in str(ended["message"])
    came_in(library, worker, outing, tmp_path / "card")


def test_a_cache_that_cannot_be_trimmed_spoils_no_job(library: Library, worker: Worker, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def fails(most: int) -> int:
        raise OSError("gone")

    monkeypatch.setattr(library.cache, "trim", fails)
    small(tmp_path / "card" / "a.tif")
    came_in(library, worker, outings.add_outing(library.db, "O", tmp_path / "card"), tmp_path / "card")


def test_what_was_asked_for_just_now_is_not_given_up(tmp_path: Path) -> None:
    cache = Cache(tmp_path)
    cache.make("step-1", lambda folder: (folder / "x").write_bytes(b"x" * 9000) and None)
    assert cache.trim(0) == 0 and cache.has("step-1")


def test_only_the_server_that_has_the_library_brings_it_up_to_date(tmp_path: Path) -> None:
    first = Library(tmp_path)
    first.claim()
    with pytest.raises(RuntimeError, match="Another Eaveplane server"):
        Library(tmp_path).claim()
    assert not (tmp_path / "library.sqlite").exists()
    assert first.db.row("SELECT count(*) AS n FROM scene")["n"] == 0  # type: ignore[index]


def test_every_delivered_file_has_the_recipe_that_makes_it(library: Library, worker: Worker, tiny: Set, tmp_path: Path) -> None:
    folder = card(tmp_path / "card", tiny)
    outing = brought_in(library, worker, folder)
    (row,) = scenes.scenes_of(library.db, outing)
    recipe = scenes.recipe_of(library.db, row["id"])
    recipes = [delivering(recipe, format=f, name="same", size="edge", long_edge=edge) for f, edge in (("tiff", 0), ("jpeg", 300), ("png", 200))]
    for wanted in recipes:
        job = jobs.add_job(library.db, "deliver", scene_id=row["id"], recipe=wanted.to_json())
        worker.wake()
        assert done(library, job)["state"] == "done"
    for suffix, wanted in zip((".tif", ".jpg", ".png"), recipes, strict=True):
        assert Recipe.model_validate_json(recipe_beside(folder / f"same{suffix}").read_text()) == wanted.standing_alone(tiny.size)
    # delivered again after it was thrown away: the old recipe does not stay beside the new picture
    (folder / "same.png").unlink()
    other = delivering(recipes[2], long_edge=150)
    job = jobs.add_job(library.db, "deliver", scene_id=row["id"], recipe=other.to_json())
    worker.wake()
    assert done(library, job)["state"] == "done"
    assert Recipe.model_validate_json(recipe_beside(folder / "same.png").read_text()) == other.standing_alone(tiny.size) and max(read_picture(folder / "same.png").codes.shape) == 150
    assert not list(folder.glob(".*.part"))


def test_a_name_that_another_program_took_meanwhile_is_not_recorded_as_ours(library: Library, worker: Worker, tiny: Set, tmp_path: Path) -> None:
    folder = card(tmp_path / "card", tiny)
    outing = brought_in(library, worker, folder)
    (row,) = scenes.scenes_of(library.db, outing)
    recipe = scenes.recipe_of(library.db, row["id"])
    taken = folder / "taken.tif"
    taken.write_text("another program's")
    job = jobs.add_job(library.db, "deliver", scene_id=row["id"], recipe=recipe.to_json(), outs={"0": str(taken)})
    worker.wake()
    assert done(library, job)["state"] == "done"
    (result,) = scenes.results_of(library.db, row["id"])
    assert Path(result["path"]).name == "taken 2.tif" and taken.read_text() == "another program's"
    assert json.loads(jobs.job(library.db, job)["arguments"])["outs"]["0"] == result["path"]  # type: ignore[index]
