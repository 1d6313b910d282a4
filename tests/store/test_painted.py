"""Painted points are stored once, and recipes come back whole."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from eaveplane.core.develop.areas import Area
from eaveplane.core.masks.strokes import Stroke
from eaveplane.recipe import FrameChoice, Recipe
from eaveplane.store import outings, scenes
from eaveplane.store import painted as kept
from eaveplane.store.database import Database
from eaveplane.store.painted import REFERENCE, packed, sweep, unpacked


def painted(count: int, points: int) -> Recipe:
    rng = np.random.default_rng(count)
    strokes = [Stroke(action="in", frame="a", width=40, softness=0.5, opacity=1, points=[(float(x), float(y)) for x, y in rng.integers(0, 3000, (points, 2))]) for _ in range(count)]
    return Recipe(frames=[FrameChoice(id="a", file="a.tif")], strokes=strokes)


@pytest.fixture
def db(tmp_path: Path) -> Database:
    return Database(tmp_path / "library.sqlite")


@given(st.lists(st.lists(st.tuples(st.floats(-1e5, 1e5), st.floats(-1e5, 1e5)), min_size=1, max_size=9), max_size=4))
@settings(max_examples=25)
def test_every_recipe_comes_back_whole(tmp_path_factory: pytest.TempPathFactory, lines: list[list[tuple[float, float]]]) -> None:
    db = Database(tmp_path_factory.mktemp("painted") / "library.sqlite")
    strokes = [Stroke(action="out", frame="a", width=12, softness=0.3, opacity=0.5, points=points) for points in lines]
    look = {"areas": [Area.model_validate({"name": "B", "parts": [{"kind": "brushed", "lines": [{"width": 9, "softness": 0.7, "opacity": 1, "erase": False, "points": p} for p in lines]}]})]}
    recipe = Recipe(frames=[FrameChoice(id="a", file="a.tif")], strokes=strokes)
    recipe = recipe.model_copy(update={"look": recipe.look.model_copy(update=look)})
    with db.write() as connection:
        text = packed(connection, recipe)
        assert unpacked(connection, text) == recipe
    assert all(len(p) < 4 for p in lines) or REFERENCE in text
    # what leaves the program is whole
    assert REFERENCE not in recipe.to_json()


def test_a_slider_beside_many_strokes_stores_no_stroke_again(db: Database, tmp_path: Path) -> None:
    recipe = painted(160, 40)
    number = scenes.add_scene(db, outings.add_outing(db, "O", tmp_path), "S", recipe)
    rows = lambda: db.row("SELECT count(*) AS n, sum(length(points)) AS bytes FROM painted")  # noqa: E731
    before = tuple(rows())
    assert before[0] == 160
    for k in range(30):
        scenes.decide(db, number, "Exposure", lambda r, k=k: r.model_copy(update={"look": r.look.model_copy(update={"exposure": k / 30 + 0.01})}))  # type: ignore[misc]
    assert tuple(rows()) == before
    stored = db.row("SELECT sum(length(recipe)) AS bytes FROM decision")
    assert stored is not None and stored["bytes"] < 31 * 160 * 200 < 31 * len(recipe.to_json()) / 3
    assert scenes.recipe_of(db, number).strokes == recipe.strokes


def test_recipes_of_before_are_read_as_they_are_and_a_lost_stroke_costs_one_decision(db: Database, tmp_path: Path) -> None:
    recipe = painted(1, 9)
    with db.write() as connection:
        assert unpacked(connection, recipe.to_json()) == recipe
    number = scenes.add_scene(db, outings.add_outing(db, "O", tmp_path), "S", Recipe(frames=recipe.frames))
    scenes.decide(db, number, "Painted", lambda r: r.model_copy(update={"strokes": painted(1, 11).strokes}))
    for damage in ("UPDATE painted SET points = x'00ff'", "DELETE FROM painted"):
        kept._points.clear()
        with db.write() as connection:
            connection.execute(damage)
        assert scenes.recipe_of(db, number).strokes == []
    assert "painted:" in json.dumps([r["recipe"] for r in db.rows("SELECT recipe FROM decision")])


def test_what_nothing_refers_to_any_more_is_swept_away_and_nothing_else(db: Database, tmp_path: Path) -> None:
    recipe = painted(3, 9)
    number = scenes.add_scene(db, outings.add_outing(db, "O", tmp_path), "S", Recipe(frames=recipe.frames))
    scenes.decide(db, number, "Painted", lambda r: r.model_copy(update={"strokes": recipe.strokes}))
    scenes.decide(db, number, "Painted more", lambda r: r.model_copy(update={"strokes": [*r.strokes, *painted(5, 12).strokes]}))
    scenes.add_result(db, number, str(tmp_path / "a.tif"), painted(2, 20), {})
    scenes.step_back(db, number)
    with db.write() as connection:
        # what can be done again is still needed
        assert sweep(connection) == 0
    scenes.decide(db, number, "Exposure", lambda r: r.model_copy(update={"look": r.look.model_copy(update={"exposure": 0.5})}))
    with db.write() as connection:
        assert sweep(connection) == 5 and sweep(connection) == 0
    kept._points.clear()
    assert scenes.recipe_of(db, number).strokes == recipe.strokes
    assert scenes.recipe_of_result(db, scenes.results_of(db, number)[0]).strokes == painted(2, 20).strokes
    scenes.remove_scene(db, number)
    with db.write() as connection:
        assert sweep(connection) == 3 + 2
