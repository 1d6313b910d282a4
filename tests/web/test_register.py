"""Register on the page: whether the camera moved is measured, said, and shown."""

from __future__ import annotations

import json
import re

import cv2
import numpy as np
import pytest

from eaveplane.core.register import moved, trust
from eaveplane.core.register.nudge import Nudge
from eaveplane.imaging.placement import Shift
from eaveplane.pipeline.scene import Plan
from eaveplane.store import jobs
from eaveplane.web.register import shifted_grid
from eaveplane.web.scene.opened import opened
from tests.conftest import done
from tests.web.conftest import Page


def _plan(page: Page) -> Plan:
    """The steps of the scene as it is decided."""
    with page.client.application.test_request_context():
        plan = opened(page.scene).plan
    assert plan is not None
    return plan


def _registered(page: Page) -> str:
    page.post(page.at("/register/go"))
    assert done(page.library, jobs.latest(page.library.db, page.scene)["id"])["state"] == "done"  # type: ignore[index]
    return str(page.get(page.at("/register")).text)


def test_a_camera_that_stood_shows_no_shift_and_one_said_to_have_moved_does(page: Page, monkeypatch: pytest.MonkeyPatch) -> None:
    assert page.get(page.at("/register/shifts.json")).json == {}
    table = _registered(page)
    assert "measured: stood" in table and "Near things" not in table and 'id="shifts"' not in table
    assert page.post(page.at("/register/camera"), {"camera": "yes"}).status_code == 200
    assert page.recipe().camera_moved == "yes"
    assert "No frame lies better for a step" in _registered(page)
    # a tripod's frames: here a step is looked for and taken, however little they tell of one
    monkeypatch.setattr(moved, "LEAST_STEP", 0.0)
    monkeypatch.setattr(moved, "LITTLE", -1.0)
    page.post(page.at("/register/reference"), {"frame": page.recipe().kept()[0].id})
    table = _registered(page)
    assert "Near things" in table and 'id="shifts"' in table and "No frame lies better" not in table
    grids = page.get(page.at("/register/shifts.json")).json
    kept = [f.id for f in page.recipe().kept()]
    assert grids and set(grids) < set(kept) and all(g["path"].startswith("M") for g in grids.values())
    assert page.post(page.at("/register/camera"), {"camera": "sideways"}).status_code == 400
    assert page.recipe().camera_moved == "yes"
    page.post(page.at("/register/reference"), {"frame": ""})


def test_a_frame_that_is_noisier_is_told(page: Page) -> None:
    # places that no page has shown yet
    page.post(page.at("/register/reference"), {"frame": page.recipe().kept()[-1].id})
    page.post(page.at("/register/go"))
    assert done(page.library, jobs.latest(page.library.db, page.scene)["id"])["state"] == "done"  # type: ignore[index]
    located = _plan(page).labelled.located
    assert located is not None
    file = located.folder(page.library.cache) / "places.json"
    told = json.loads(file.read_text())
    assert told["noisier"] == [1.0] * len(located.found)
    file.write_text(json.dumps({**told, "noisier": [1.0, 9.0, *told["noisier"][2:]]}))
    shown = page.get(page.at("/register")).text
    assert "Frame 2 is noisier" in shown and "It has 3.0 times the noise of the others" in shown and "Frame 1 is noisier" not in shown
    page.post(page.at("/register/reference"), {"frame": ""})


def _seen(page: Page, what: str) -> np.ndarray:
    answer = page.get(page.at(f"/viewport/{what}.jpg?x=0&y=0&w=720&h=480&wide=720"))
    assert answer.status_code == 200, answer.text
    return np.asarray(cv2.imdecode(np.frombuffer(answer.data, np.uint8), cv2.IMREAD_GRAYSCALE), float)


def test_a_frame_is_nudged_pinned_and_laid_back(page: Page) -> None:
    page.post(page.at("/register/camera"), {"camera": "no"})
    assert "measured" in _registered(page)
    recipe = page.recipe()
    id, reference = recipe.kept()[0].id, recipe.kept()[2].id
    before, nudge = _seen(page, f"frame:{id}"), {"frame": id, "x": 6, "y": -4, "scale": 0, "turn": 0}
    answer = page.post(page.at("/register/nudge"), nudge)
    assert answer.status_code == 200 and "Undo: Frame 1 nudged" in answer.text and "by hand" in answer.text
    # at once, without a job, and by exactly as much
    assert jobs.latest(page.library.db, page.scene)["state"] == "done" and page.state(answer.text)["registered"]  # type: ignore[index]
    after = _seen(page, f"frame:{id}")
    assert np.abs(after[40:400, 40:600] - before[44:404, 34:594]).mean() < 2 < np.abs(after - before)[40:400, 40:600].mean()
    # pins: what is shown 6 px too far right and 4 too high belongs back
    there = np.array([[100, 100], [500, 120], [300, 400], [120, 380]], float)
    pairs = np.stack([there, there + np.array([-6, 4])], axis=1).tolist()
    assert page.post(page.at("/register/pins"), {"frame": id, "pairs": json.dumps(pairs)}).status_code == 200
    assert max(abs(v) for v in page.recipe().kept()[0].nudge.model_dump().values()) < 1e-6
    page.post(page.at("/register/nudge"), {"frame": id, "x": 0, "y": 0, "scale": 0, "turn": 0})
    np.testing.assert_array_equal(_seen(page, f"frame:{id}"), before)
    for bad in ({"x": "a"}, {"x": 1e9}, {"turn": "nan"}, {"frame": reference}):
        assert page.post(page.at("/register/nudge"), nudge | bad).status_code == 400
    assert page.post(page.at("/register/nudge"), nudge | {"frame": "nobody"}).status_code == 404
    for pairs in ("", "[]", "[[1,2]]", json.dumps([[[0, 0], [0, 0]]] * 2), json.dumps([[[0, 0], [9e9, 0]]] * 3), '[[["a","b"],["c","d"]]]'):  # type: ignore[assignment]
        assert page.post(page.at("/register/pins"), {"frame": id, "pairs": pairs}).status_code == 400
    assert page.recipe().kept()[0].nudge == Nudge()


def test_a_frame_that_costs_much_is_named_and_can_be_kept_with_what_it_has(registered: Page) -> None:
    page = registered
    id, size = page.recipe().kept()[3].id, lambda text: page.state(text)["canvas"][2]
    whole = size(page.get(page.at("/register")).text)
    dear = page.post(page.at("/register/nudge"), {"frame": id, "x": 60, "y": 0, "scale": 0, "turn": 0}).text
    assert size(dear) < whole - 40 and re.search(r"Frame 4 alone costs 1\d % of the picture", dear)
    free = page.post(page.at("/register/canvas"), {"canvas": "free"}).text
    w, h = page.state(free)["canvas"][2:]
    assert h > 470 and w <= 660 and page.recipe().canvas == "free"
    kept = page.post(page.at("/register/counts"), {"frame": id, "counts": "0"}).text
    assert size(kept) > whole - 12 and "kept with what it has" in kept and "Frame 4 alone" not in kept
    assert page.post(page.at("/register/canvas"), {"canvas": "square"}).status_code == 400
    for _ in range(3):
        page.post(page.at("/undo/register"))
    assert page.recipe().canvas == "common" and size(page.get(page.at("/register")).text) == whole


@pytest.mark.anew
def test_a_damaged_registration_is_made_again_under_a_nudge(registered: Page) -> None:
    page = registered
    id, cache = page.recipe().kept()[0].id, page.library.cache
    plan = _plan(page)
    told = cache.path(plan.registered.key) / "registration.json"
    told.write_text("{}".ljust(told.stat().st_size))
    answer = page.post(page.at("/register/nudge"), {"frame": id, "x": 1.5, "y": 0, "scale": 0, "turn": 0})
    assert answer.status_code == 200 and not page.state(answer.text)["registered"]
    assert "by hand" in _registered(page)
    page.post(page.at("/undo/register"))
    assert page.state(page.get(page.at("/register")).text)["registered"]


@pytest.mark.anew
def test_light_that_passed_is_told_and_stays_evened_out_where_a_frame_is_nudged(registered: Page) -> None:
    page = registered
    id, cache = page.recipe().kept()[0].id, page.library.cache
    plan = _plan(page)
    k = plan.ids.index(id)
    folder = cache.path(plan.registered.key)
    told = json.loads((folder / "registration.json").read_text())
    told["passing"][k] = 0.4
    (folder / "registration.json").write_text(json.dumps(told))
    np.save(folder / f"light{k}.npy", np.full((20, 30, 3), 1.5, np.float32))
    assert page.post(page.at("/register/nudge"), {"frame": id, "x": 2.5, "y": 0, "scale": 0, "turn": 0}).status_code == 200
    _registered(page)
    row = re.search(rf'<tr data-frame="{id}".*?</tr>', page.get(page.at("/even")).text, re.S)
    assert row and "<td>0.6 EV</td>" in row[0] and "<b>0.4</b>" in row[0]
    page.post(page.at("/undo/register"))
    # what was made up goes, with the rest
    cache.drop(plan.registered.key)
    assert _registered(page)


@pytest.mark.anew
def test_a_registration_that_was_damaged_meanwhile_is_made_again_by_the_work_that_needs_it(registered: Page) -> None:
    page = registered
    plan = _plan(page)
    told = page.library.cache.path(plan.registered.key) / "registration.json"
    told.write_text("{}".ljust(told.stat().st_size))
    assert _registered(page)


@pytest.mark.anew
def test_a_doubtful_fit_is_said_in_plain_words_and_other_references_are_proposed(page: Page, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(trust, "MOST_ERROR", 0.001)
    page.post(page.at("/register/reference"), {"frame": page.recipe().kept()[1].id})
    plan = _plan(page)
    # another test may have had it registered so
    page.library.cache.drop(plan.registered.key)
    text = _registered(page)
    assert text.count('<td class="verdict">look at it</td>') == 3 and "look at its fit" in text and "Something moved, or it lies wrong" in text
    assert re.search(r"A fit is doubtful: try frame \d or \d\.", text)
    page.library.cache.drop(plan.registered.key)
    page.post(page.at("/undo/register"))


def test_frames_are_looked_at_on_each_other(registered: Page) -> None:
    page = registered
    near, reference = (page.recipe().kept()[k].id for k in (0, 2))
    plain, matched = (np.abs(_seen(page, f"{what}:{near}:{reference}:8") - 128)[20:-20, 20:-20].mean() for what in ("difference", "matched"))
    assert matched < 0.7 * plain
    edges = cv2.imdecode(np.frombuffer(page.get(page.at(f"/viewport/outlines:{near}:{reference}.jpg?x=0&y=0&w=720&h=480&wide=720")).data, np.uint8), cv2.IMREAD_COLOR)
    assert (edges.min(axis=2) > 220).mean() > 0.002 and (np.ptp(edges.astype(int), axis=2) > 100).mean() > 0.005
    for bad in ("difference:{}:{}", "difference:{}:{}:5", "matched:{}:nobody:4", "outlines:{}"):
        assert page.get(page.at(f"/viewport/{bad.format(near, reference)}.jpg?x=0&y=0&w=720&h=480&wide=720")).status_code == 404
    sheet = page.get(page.at("/register/loupes.json")).json
    x, y, w, h = page.state(page.get(page.at("/register")).text)["canvas"]
    names = [place["name"] for place in sheet["places"]]
    assert {"upper left", "lower right", "middle", "nearest", "farthest"} <= set(names) and sheet["frames"] == [f.id for f in page.recipe().kept()]
    wide, high = sheet["side"]
    assert all(x <= p["x"] - wide / 2 and p["x"] + wide / 2 <= x + w and y <= p["y"] - high / 2 and p["y"] + high / 2 <= y + h for p in sheet["places"])
    far, close = (next(p["y"] for p in sheet["places"] if p["name"] == name) for name in ("farthest", "nearest"))
    assert far < close


def test_the_grid_is_shifted_so_far_that_it_is_seen() -> None:
    still = shifted_grid(Shift(np.zeros(3), np.ones((4, 6), np.float32), (600, 400)))
    beside = shifted_grid(Shift(np.array([2.0, 0, 0]), np.ones((4, 6), np.float32), (600, 400)))
    assert beside["times"] == 10 and still["times"] == 50
    (x0, y0), (x1, y1) = ([float(v) for v in re.match(r"M([\d.]+) ([\d.]+)", g["path"]).groups()] for g in (still, beside))  # type: ignore[union-attr]
    assert (x1 - x0, y1 - y0) == (20, 0)
