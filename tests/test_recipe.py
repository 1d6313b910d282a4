"""Recipes: data that survives being written, refuses what it does not know, and names the first fault."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from eaveplane.core.develop.look import Look
from eaveplane.core.finish.settings import Crop, Finish
from eaveplane.core.masks.strokes import Stroke
from eaveplane.core.weave.weave import Weaving
from eaveplane.parameter import controls
from eaveplane.recipe import FrameChoice, Recipe, read_recipe

NUMBERS = {model: {c.name: st.floats(c.low, c.high) for c in controls(model)} for model in (Look, Weaving)}
POINTS = st.lists(st.tuples(st.floats(-1e5, 1e5), st.floats(-1e5, 1e5)), min_size=1, max_size=6)
IDS = st.text("0123456789abcdef", min_size=12, max_size=12)
ACTIONS = st.sampled_from(["in", "out", "draw"])
STROKES = st.builds(Stroke, action=ACTIONS, frame=IDS, width=st.floats(1, 2000), softness=st.floats(0, 1), opacity=st.floats(0.01, 1), points=POINTS)
RECIPES = st.builds(
    Recipe,
    frames=st.lists(st.builds(FrameChoice, id=IDS, name=st.text(max_size=20)), max_size=5),
    look=st.builds(Look, **NUMBERS[Look]),
    weaving=st.builds(Weaving, **NUMBERS[Weaving]),
    strokes=st.lists(STROKES, max_size=3),
    finish=st.builds(Finish, crop=st.builds(Crop, w=st.floats(0.01, 1))),
    even_out=st.booleans(),
    canvas=st.sampled_from(["common", "reference"]),
)


@given(RECIPES)
@settings(max_examples=60)
def test_written_and_read_it_is_the_same(recipe: Recipe) -> None:
    text = recipe.to_json()
    assert Recipe.model_validate_json(text) == recipe
    assert json.loads(text)["schema"] == 2


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ('{"schema": 3}', "schema"),
        ('{"schema": 1, "looks": {}}', "looks"),
        ('{"look": {"contrast": 400}}', "look.contrast"),
        ('{"strokes": [{"action": "erase", "frame": "a", "width": 1, "softness": 0, "opacity": 1, "points": [[0, 0]]}]}', "strokes.0.action"),
        ('{"finish": {"crop": {"w": 0}}}', "finish.crop.w"),
        ("[]", "not a recipe"),
    ],
)
def test_the_first_fault_is_named(tmp_path: Path, text: str, said: str) -> None:
    (tmp_path / "r.json").write_text(text)
    with pytest.raises(ValueError, match=r"r\.json") as told:
        read_recipe(tmp_path / "r.json")
    assert said in str(told.value)


def test_a_recipe_that_is_not_there(tmp_path: Path) -> None:
    with pytest.raises(ValueError, match="no such recipe"):
        read_recipe(tmp_path / "gone.json")


def test_one_definition_makes_control_check_and_schema() -> None:
    for model in (Look, Weaving, Finish):
        properties = model.model_json_schema()["properties"]
        for control in controls(model):
            assert control.low <= control.default <= control.high and control.help.endswith(".") and control.label
            schema = properties[control.name]
            assert (schema["minimum"], schema["maximum"], schema["default"], schema["title"]) == (control.low, control.high, control.default, control.label)
            with pytest.raises(ValueError, match=control.name):
                model(**{control.name: control.high + 1})
