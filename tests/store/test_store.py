"""Decisions are never lost, undo is an earlier recipe, jobs come back after a crash."""

from __future__ import annotations

import sqlite3
import threading
from pathlib import Path

import pytest

from eaveplane.recipe import FrameChoice, Recipe
from eaveplane.store import jobs, outings, scenes
from eaveplane.store.database import Database


@pytest.fixture
def db(tmp_path: Path) -> Database:
    return Database(tmp_path / "library.sqlite")


@pytest.fixture
def number(db: Database, tmp_path: Path) -> int:
    outing = outings.add_outing(db, "Pan", tmp_path)
    return scenes.add_scene(db, outing, "Scene 1", Recipe(frames=[FrameChoice(id="a"), FrameChoice(id="b")]))


def _exposed(value: float) -> object:
    return lambda recipe: recipe.model_copy(update={"look": recipe.look.model_copy(update={"exposure": value})})


def test_undo_is_an_earlier_recipe_and_redo_a_later_one(db: Database, number: int) -> None:
    for value in (0.5, 1.0, 1.5):
        scenes.decide(db, number, f"Exposure {value}", _exposed(value))  # type: ignore[arg-type]
    assert scenes.steps_left(db, number) == ("Exposure 1.5", None)
    assert scenes.step_back(db, number) == "Exposure 1.5" and scenes.recipe_of(db, number).look.exposure == 1.0
    assert scenes.step_back(db, number) == "Exposure 1.0"
    assert scenes.step_back(db, number, forward=True) == "Exposure 1.0" and scenes.recipe_of(db, number).look.exposure == 1.0
    scenes.decide(db, number, "Exposure 3", _exposed(3.0))  # type: ignore[arg-type]
    assert scenes.step_back(db, number, forward=True) is None
    for _ in range(5):
        scenes.step_back(db, number)
    assert scenes.recipe_of(db, number).look.exposure == 0 and scenes.steps_left(db, number) == (None, "Exposure 0.5")


def test_a_decision_that_changes_nothing_is_none(db: Database, number: int) -> None:
    scenes.decide(db, number, "Nothing", lambda recipe: recipe)
    assert scenes.steps_left(db, number) == (None, None)


def test_two_tabs_at_once_lose_nothing(db: Database, number: int) -> None:
    def tab(name: str) -> None:
        for i in range(20):
            scenes.decide(db, number, name, lambda r, i=i: r.model_copy(update={"frames": [*r.frames, FrameChoice(id=f"{name}{i}")]}))

    tabs = [threading.Thread(target=tab, args=(name,)) for name in "xyz"]
    for t in tabs:
        t.start()
    for t in tabs:
        t.join()
    assert len(scenes.recipe_of(db, number).frames) == 2 + 60


def test_a_change_that_fails_leaves_everything_as_it_was(db: Database, number: int) -> None:
    with pytest.raises(ZeroDivisionError):
        scenes.decide(db, number, "Breaks", lambda recipe: 1 / 0)  # type: ignore[arg-type,return-value]
    assert scenes.recipe_of(db, number) == Recipe(frames=[FrameChoice(id="a"), FrameChoice(id="b")])
    with pytest.raises(LookupError):
        scenes.decide(db, 99, "No such scene", lambda recipe: recipe)


def test_long_histories_keep_their_beginning(db: Database, number: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(scenes, "MOST_DECISIONS", 5)
    for i in range(20):
        scenes.decide(db, number, f"E{i}", _exposed(i / 10))  # type: ignore[arg-type]
    kept = [r["number"] for r in db.rows("SELECT number FROM decision WHERE scene_id = ? ORDER BY number", number)]
    assert kept[0] == 0 and len(kept) <= 7 and scenes.recipe_of(db, number).look.exposure == pytest.approx(1.9)


def test_jobs_wait_run_end_and_come_back(db: Database, number: int) -> None:
    shooting = jobs.add_job(db, "shoot", lane="camera")
    assert jobs.take(db, "camera") is not None
    first = jobs.add_job(db, "weave", scene_id=number)
    assert jobs.add_job(db, "weave", scene_id=number) == first
    second = jobs.add_job(db, "deliver", scene_id=number, recipe="x")
    row = jobs.take(db)
    assert row is not None and row["id"] == first
    jobs.progress(db, first, "Weaving", 0.5)
    # what the field camera does is told after what is done with frames, though it began before
    assert [(j["id"], j["what"]) for j in jobs.open_jobs(db)] == [(first, "Weaving"), (shooting, ""), (second, "")]
    jobs.end(db, shooting, "done")
    running = jobs.job(db, first)
    assert running is not None and jobs.seconds_left(running) is not None
    assert jobs.requeue_unfinished(db) == 1
    again = jobs.take(db)
    assert again is not None and again["id"] == first
    jobs.ask_to_cancel(db, first)
    jobs.ask_to_cancel(db, second)
    assert jobs.is_cancelled(db, first) and jobs.job(db, second)["state"] == "cancelled"  # type: ignore[index]
    jobs.end(db, first, "cancelled")
    assert jobs.take(db) is None and len(jobs.recent(db)) >= 1


def test_what_a_job_will_take_is_learnt(db: Database, number: int) -> None:
    assert jobs.expected_seconds(db, "weave", 100) == pytest.approx(100 * jobs.FIRST_GUESS)
    job = jobs.add_job(db, "weave", scene_id=number)
    jobs.note_size(db, job, 10)
    jobs.take(db)
    jobs.end(db, job, "done")
    with db.write() as connection:
        connection.execute("UPDATE job SET started = 100, ended = 120")
    assert jobs.expected_seconds(db, "weave", 50) == pytest.approx(100)


def test_a_library_of_a_newer_program_is_refused(tmp_path: Path) -> None:
    Database(tmp_path / "l.sqlite")
    with sqlite3.connect(tmp_path / "l.sqlite") as connection:
        connection.execute("PRAGMA user_version = 900")
    with pytest.raises(RuntimeError, match="newer version"):
        Database(tmp_path / "l.sqlite")


def test_removing_an_outing_forgets_its_scenes(db: Database, number: int) -> None:
    outings.remove_outing(db, 1)
    assert scenes.scene(db, number) is None and db.rows("SELECT * FROM decision") == []
