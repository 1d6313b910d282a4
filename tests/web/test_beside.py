"""What has no part in the weave, frames that are left out and single exposures, registered beside it and drawn from."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile

from eaveplane.store import jobs, scenes
from eaveplane.web.scene.opened import opened
from tests.conftest import Set, brought_in, delivering, done, settled
from tests.test_cli import bracketed, run
from tests.web.conftest import Page, on_a_library
from tests.web.test_weave import _do
from tests.web.test_weave_by_hand import _stroke, _weave


def _registered_beside(page: Page, id: str) -> str:
    page.post(page.at("/mend/beside"), {"frame": id})
    job = jobs.latest(page.library.db, page.scene)
    assert job is not None and job["kind"] == "beside"
    ended = done(page.library, job["id"])
    assert ended["state"] == "done", ended
    return str(ended["message"])


def _frame(page: Page, id: str) -> dict[str, Any]:
    frames = page.state(page.get(page.at("/mend")).text)["frames"]
    return next(f for f in [*frames, *(e for g in frames for e in g["exposures"])] if f["id"] == id)


def _delivered(page: Page, folder: Path) -> tuple[Path, Path]:
    """What the page delivers, and the recipe beside it."""
    scenes.decide(page.library.db, page.scene, "Where it goes", lambda r: delivering(r, format="tiff", folder=str(folder)))
    job = jobs.add_job(page.library.db, "deliver", scene_id=page.scene, recipe=page.recipe().to_json())
    page.client.application.extensions["eaveplane"].worker.wake()
    assert done(page.library, job)["state"] == "done"
    return Path(scenes.results_of(page.library.db, page.scene)[0]["path"]), next(folder.glob("*.json"))


def test_a_frame_that_is_left_out_is_drawn_from_on_the_page_and_from_the_recipe(page: Page, small: Set, tmp_path: Path) -> None:
    far = page.recipe().frames[-1]
    assert _frame(page, far.id)["drawable"]
    refused = page.post(page.at("/mend/beside"), {"frame": far.id})
    assert refused.status_code == 400 and ("Register the frames first" in refused.text or "has its part" in refused.text)
    scenes.decide(page.library.db, page.scene, "Reference", lambda r: r.model_copy(update={"reference": r.frames[1].id}))
    _do(page, "register")
    _, view = _weave(page)
    as_a_part = view.frame(far.id, 0, (0, 0, *view.size))
    scenes.decide(page.library.db, page.scene, "Left out", lambda r: r.model_copy(update={"frames": [f.model_copy(update={"state": "leave_out"}) if f.id == far.id else f for f in r.frames]}))
    page.post(page.at("/weave/way"), {"value": "crisp-seams"})
    _do(page, "weave")
    plain, _ = _weave(page)
    line = {"action": "draw", "frame": far.id, "points": [[300, 60], [420, 60]], "width": 80}
    early = page.post(page.at("/mend/stroke"), {"stroke": json.dumps({**line, "softness": 0.3, "opacity": 1})})
    assert early.status_code == 400 and "has no part in the weave. Register it" in early.text and not _frame(page, far.id)["drawable"]
    assert "can be drawn from" in _registered_beside(page, far.id)
    assert _frame(page, far.id)["drawable"]
    assert _weave(page)[0] == pytest.approx(plain), "nothing is drawn yet"
    _stroke(page, **line)
    picture, view = _weave(page)
    there = np.s_[55:65, 320:400]
    own = view.frame(far.id, 0, (0, 0, *view.size))
    np.testing.assert_allclose(picture[there], own[there], atol=1e-5)
    np.testing.assert_array_equal(picture[200:], plain[200:])
    # it lies where it does as a part of the weave, and is as bright: a pixel aside would be far more
    inside = np.s_[60:-60, 60:-60]
    assert np.abs(own - as_a_part)[inside].mean() < 0.1 * np.abs(np.roll(as_a_part, 1, axis=1) - as_a_part)[inside].mean()
    for id, said in ((page.recipe().frames[0].id, "has its part"), ("nobody", "no such frame")):
        refused = page.post(page.at("/mend/beside"), {"frame": id})
        assert refused.status_code == 400 and said in refused.text
    masked = page.post(page.at("/weave/stroke"), {"stroke": json.dumps({**line, "action": "in", "softness": 0.3, "opacity": 1})})
    assert masked.status_code == 400 and "left out" in masked.text
    assert "Drawn from frame 4" in page.get(page.at("/mend")).text
    written, recipe = _delivered(page, tmp_path)
    result = run("stack", *small.paths, "--out", tmp_path / "again.tif", "--recipe", recipe)
    assert result.exit_code in (0, 4), result.output
    np.testing.assert_array_equal(tifffile.imread(tmp_path / "again.tif"), tifffile.imread(written))
    # a registration that was damaged since is given up, and all is seen again
    with page.client.application.test_request_context():
        step = opened(page.scene).beside[far.id]
    (page.library.cache.path(step.key) / "registration.json").write_text("{}")
    desk = page.client.application.extensions["eaveplane"]
    desk.views.clear()
    desk.kept.clear()
    assert page.get(page.at("/mend")).status_code == 200
    page.get(page.at("/mend"))
    settled(page.library)
    assert page.state(page.get(page.at("/mend")).text)["size"] is not None and not _frame(page, far.id)["drawable"]
    # without that file the stroke cannot be laid down, and that is said
    lacking = run("stack", *small.paths[:-1], "--out", tmp_path / "lacking.tif", "--recipe", recipe)
    assert lacking.exit_code == 4 and "1 stroke of the recipe paints with frames that were not given" in lacking.output


@pytest.fixture
def merged(tmp_path: Path) -> Iterator[Page]:
    """The page of a scene of three merged brackets."""
    bracketed(tmp_path / "card")
    brought_in(tmp_path / "card", tmp_path / "home", "Brackets")
    with on_a_library(tmp_path / "home") as page:
        yield page


def test_a_single_exposure_of_a_merged_frame_is_drawn_from_in_the_tone_of_the_weave(merged: Page) -> None:
    page = merged
    _do(page, "weave")
    frame = next(f for f in page.recipe().kept() if len(f.exposures) == 3)
    dark = frame.exposures[0].id
    told = _frame(page, dark)
    assert not told["drawable"] and told["number"] == f"{page.recipe().frames.index(frame) + 1}.1"
    assert _frame(page, frame.id)["drawable"]
    _registered_beside(page, dark)
    assert _frame(page, dark)["drawable"] and not _frame(page, frame.exposures[1].id)["drawable"]
    _, view = _weave(page)
    box = (0, 0, *view.size)
    own, merge, raw = view.frame(dark, 0, box), view.frame(frame.id, 0, box), view.frames[dark].root(0, box, (1, 1, 1))
    # two stops darker as it came
    assert np.median(raw / np.maximum(merge, 1e-3)) < 0.7
    middle = np.median((own / np.maximum(merge, 1e-3))[merge > 0.1])
    assert middle == pytest.approx(1, abs=0.03)
    width, height = view.size
    _stroke(page, action="draw", frame=dark, points=[[width // 2, height // 2]], width=40, softness=0)
    picture, _ = _weave(page)
    np.testing.assert_allclose(picture[height // 2, width // 2], own[height // 2, width // 2], atol=1e-5)
    assert f"Drawn from exposure {told['number']}" in page.get(page.at("/mend")).text
