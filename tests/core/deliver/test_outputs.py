"""Sizes, sheets and provenance, against closed forms; recipes of earlier versions, read as this one."""

from __future__ import annotations

import json
import math
from pathlib import Path

import jsonschema
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eaveplane.core.deliver.delivery import START, Delivery, OutputSet
from eaveplane.core.deliver.provenance import DRAWN, HEALED, LIFTED, LIGHT, PAINTED, brought_to, shares_in
from eaveplane.core.deliver.sheet import INCH, mounted, sheet_of, written
from eaveplane.core.finish.settings import Crop, Finish
from eaveplane.recipe import Recipe, read_recipe

SIZES = st.tuples(st.integers(64, 9000), st.integers(64, 9000)).filter(lambda s: max(s) < 20 * min(s))
KEPT = Path(__file__).parents[2] / "recipes"


@given(SIZES, st.floats(10, 200), st.floats(100, 600), st.booleans())
def test_a_print_has_its_size_on_paper_whatever_pixels_there_are(cut: tuple[int, int], long_side: float, density: float, enlarge: bool) -> None:
    sheet = sheet_of(Delivery(size="print", print_long=round(long_side, 1), density=round(density), enlarge=enlarge), cut)
    assert max(sheet.size) / sheet.density * INCH == pytest.approx(round(long_side, 1), abs=1.0 / sheet.density * INCH)
    assert enlarge or (sheet.scale <= 1 and max(sheet.size) <= max(cut))
    assert not enlarge or sheet.density == round(density)
    assert min(sheet.size) / max(sheet.size) == pytest.approx(min(cut) / max(cut), abs=1 / max(sheet.size))


@given(SIZES, st.sampled_from([(29.7, 21.0), (42.0, 29.7), (40.0, 30.0)]), st.floats(0, 5), st.booleans())
def test_a_picture_stands_inside_its_paper(cut: tuple[int, int], paper: tuple[float, float], border: float, enlarge: bool) -> None:
    output = Delivery(size="print", paper_w=paper[0], paper_h=paper[1], border=round(border, 1), enlarge=enlarge)
    sheet = sheet_of(output, cut)
    assert sheet.paper is not None
    # paper lies as the picture does, and white stays on every side
    assert (sheet.paper[0] >= sheet.paper[1]) == (cut[0] >= cut[1])
    for side, length in zip(sheet.size, sheet.paper, strict=True):
        assert (length - side) / 2 / sheet.density * INCH >= round(border, 1) - 1.5 / sheet.density * INCH
    assert max(sheet.paper) / sheet.density * INCH == pytest.approx(paper[0], abs=1 / sheet.density * INCH)


def test_nothing_is_enlarged_unless_asked() -> None:
    for output in (Delivery(size="edge", long_edge=9000), Delivery(size="megapixels", megapixels=100), Delivery(size="full")):
        assert sheet_of(output, (3000, 2000)).size == (3000, 2000)
    assert sheet_of(Delivery(size="edge", long_edge=6000, enlarge=True), (3000, 2000)).size == (6000, 4000)
    w, h = sheet_of(Delivery(size="megapixels", megapixels=1.5), (3000, 2000)).size
    assert w * h == pytest.approx(1.5e6, rel=2e-3)


def test_paper_is_white_around_the_picture() -> None:
    sheet = sheet_of(Delivery(size="print", paper_w=29.7, paper_h=21.0, border=2), (600, 400))
    codes = np.full((400, 600, 3), 1000, np.uint16)
    laid = mounted(codes, sheet)
    assert laid.shape[1::-1] == sheet.paper and (laid == 1000).sum() == codes.size and (laid[0] == 65535).all() and (laid[:, -1] == 65535).all()


def test_an_output_is_sharpened_for_what_it_is_meant_for() -> None:
    canvas = (0, 0, 6000, 4000)
    for sharpen, set_to, wanted in (("none", 80, ("hand", 0)), ("screen", 0, ("screen", 100)), ("paper", 60, ("paper", 60)), ("finish", 30, ("hand", 30))):
        made, _ = written(Finish(sharpen=set_to), Delivery(sharpen=sharpen), canvas)  # type: ignore[arg-type]
        assert (made.sharpen_for, made.sharpen) == wanted
    made, sheet = written(Finish(crop=Crop(w=0.5)), Delivery(size="print", print_long=40, sharpen="paper"), canvas)
    assert made.paper == 40 and sheet.size == (3000, 4000) and sheet.density == pytest.approx(4000 / 40 * INCH)


@given(st.lists(st.integers(0, 0x3FFF), min_size=1, max_size=200))
def test_shares_add_up_to_a_whole(codes: list[int]) -> None:
    found = shares_in(np.array([codes], np.uint16))
    assert math.fsum([*found.frames.values(), found.lifted, found.painted, found.drawn, found.healed]) == pytest.approx(1, abs=1e-12)
    assert 0 <= found.light <= 1 and "%" in found.told()


def test_what_was_done_last_is_what_a_pixel_counts_as() -> None:
    codes = np.array([[1, 2 | LIFTED, 2 | LIFTED | PAINTED, 1 | PAINTED | DRAWN, 3 | DRAWN | HEALED, 1 | LIGHT, 1, 2, 2, 2]], np.uint16)
    found = shares_in(codes)
    assert found.frames == pytest.approx({1: 0.3, 2: 0.3}) and (found.lifted, found.painted, found.drawn, found.healed, found.light) == pytest.approx((0.1,) * 5)


def test_origins_lie_where_the_pixels_do() -> None:
    codes = np.zeros((80, 120), np.uint16)
    codes[20:60, 30:90] = 7
    cropped = brought_to(codes, Finish(crop=Crop(x=0.25, y=0.25, w=0.5, h=0.5)), (0, 0, 120, 80), (60, 40))
    assert cropped.shape == (40, 60) and (cropped == 7).all()
    # codes are never mixed, however the picture is turned
    turned = brought_to(codes, Finish(straighten=7), (0, 0, 120, 80), (300, 200))
    assert set(np.unique(turned)) == {0, 7}


# ---- recipes ----------------------------------------------------------------------------------------------------


def test_recipes_of_the_first_version_are_read_as_they_were_meant() -> None:
    kept = sorted(KEPT.glob("1-*.json"))
    assert len(kept) >= 3
    for path in kept:
        old, new = json.loads(path.read_text()), read_recipe(path)
        assert old["schema"] == 1 and json.loads(new.to_json())["schema"] == 2
        was, (output,) = old.get("delivery", {}), new.outputs
        assert (output.format, output.profile, output.quality, output.name) == tuple(was.get(k, getattr(Delivery(), k)) for k in ("format", "profile", "quality", "name"))
        edge = was.get("long_edge", 0)
        assert sheet_of(output, (6000, 4000)).size == ((edge, round(edge * 2 / 3)) if edge else (6000, 4000))
        # and what it says of everything else is untouched
        told = json.loads(new.to_json())
        for name in ("look", "weaving", "finish", "strokes", "frames"):
            for key in old.get(name, {}) if isinstance(old.get(name), dict) else ():
                assert told[name][key] == pytest.approx(old[name][key]) if isinstance(old[name][key], float) else True
        assert Recipe.model_validate_json(new.to_json()) == new


def test_the_schema_takes_recipes_and_refuses_others() -> None:
    schema = Recipe.model_json_schema(by_alias=True)
    jsonschema.Draft202012Validator.check_schema(schema)
    validator = jsonschema.Draft202012Validator(schema)
    for recipe in (Recipe(), *(Recipe(outputs=chosen.outputs) for chosen in START.values())):
        validator.validate(json.loads(recipe.to_json()))
    for bad in ({"schema": 1}, {"schema": 2, "look": {"exposure": 99}}, {"schema": 2, "outputs": []}, {"nonsense": 1}):
        assert list(validator.iter_errors(bad))


def test_sets_to_begin_with_are_whole() -> None:
    for name, chosen in START.items():
        assert OutputSet.model_validate_json(chosen.model_dump_json()) == chosen and name
