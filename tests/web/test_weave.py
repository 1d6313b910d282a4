"""Weave on the page: the way is chosen there, shown before all is woven, and told."""

from __future__ import annotations

import json

import cv2
import numpy as np
import pytest
from pydantic import ValidationError

from eaveplane.core.weave.laid import WAYS
from eaveplane.core.weave.places import Places
from eaveplane.imaging.colour import FloatArray
from eaveplane.pipeline import scene
from eaveplane.pipeline.steps import open_weave
from eaveplane.pipeline.steps import places as locating
from eaveplane.pipeline.steps.source import Source
from eaveplane.pipeline.ticket import Ticket
from eaveplane.recipe import Recipe
from eaveplane.store import jobs
from tests.conftest import done
from tests.web.conftest import Page


def _do(page: Page, what: str) -> None:
    page.post(page.at(f"/{what}/go"))
    assert done(page.library, jobs.latest(page.library.db, page.scene)["id"])["state"] == "done"  # type: ignore[index]


def test_the_way_is_chosen_with_a_line_of_what_it_does(page: Page) -> None:
    html = page.get(page.at("/weave")).text
    assert all(label in html for label, _ in WAYS.values())
    assert WAYS["joint-light"][1] in html and page.recipe().weaving.way == "joint-light"
    answer = page.post(page.at("/weave/way"), {"value": "gentle"}).text
    assert page.recipe().weaving.way == "gentle" and WAYS["gentle"][1] in answer and "Woven by gentle" in answer
    assert page.post(page.at("/weave/way"), {"value": "by magic"}).status_code == 400
    page.post(page.at("/undo/weave"))
    assert page.recipe().weaving.way == "joint-light"


def test_what_is_shown_before_all_is_woven_is_what_will_be_woven(page: Page) -> None:
    """Blocks woven for the eye and the step's result are the same pixels."""
    from eaveplane.web.scene.opened import opened

    page.post(page.at("/weave/veil"), {"value": "leave"})
    _do(page, "weave")
    # labels are there, a weave of this detail is not
    page.post(page.at("/weave/set"), {"name": "detail", "value": "3"})
    with page.client.application.test_request_context():
        view = opened(page.scene).view
        assert view is not None and view.woven is None and view.laid is not None and view.laid.places is not None
        box = (100, 60, min(620, view.size[0] - 100), min(300, view.size[1] - 60))
        before = view.weave(0, box)
        small = view.weave(1, (0, 0, *view.size_at(1)))
    _do(page, "weave")
    with page.client.application.test_request_context():
        view = opened(page.scene).view
        assert view is not None and view.woven is not None
        np.testing.assert_allclose(view.weave(0, box), before, atol=1e-6)
        # at half the size it is woven by the same way of half as wide discs: much like the halved weave
        assert np.abs(view.weave(1, (0, 0, *view.size_at(1))) - small).mean() < 0.01


def test_veils_are_lifted_or_left_and_shown_where(page: Page, monkeypatch: pytest.MonkeyPatch) -> None:
    from eaveplane.web.scene.opened import opened

    page.post(page.at("/weave/veil"), {"value": "leave"})
    _do(page, "weave")
    page.post(page.at("/weave/veil"), {"value": "lift"})
    assert page.recipe().veil == "lift" and page.post(page.at("/weave/veil"), {"value": "tear"}).status_code == 400
    before = page.get(page.at("/weave")).text
    assert "Ground behind near things is computed" in before and "Lifted in" not in before
    with monkeypatch.context() as few:
        count = len(page.recipe().found())
        few.setattr(scene, "MOST_LIFTED", count - 1)
        assert f"Veils are lifted of {count - 1} frames at most; these are {count}." in page.get(page.at("/weave")).text
        assert "veils left" in page.get("/outing/1/contact.html").text
    assert "veils lifted" in page.get("/outing/1/contact.html").text
    with page.client.application.test_request_context():
        # what was woven without is shown until veils are lifted
        view = opened(page.scene).view
        assert view is not None and view.woven is not None and view.veils is None
        first = view.weave(0, (0, 0, *view.size))
    _do(page, "weave")
    with page.client.application.test_request_context():
        view = opened(page.scene).view
        assert view is not None and view.woven is not None and view.veils is not None
        told = view.veils.whole(0)
        changed = np.abs(view.weave(0, (0, 0, *view.size)) - first).max(axis=2) > 1e-6
        assert told.shape == (*first.shape[:2], 2) and not changed[told[..., 0] == 0].any()
        assert not ((told[..., 0] > 0) & (told[..., 1] > 0)).any()
    html = page.get(page.at("/weave")).text
    assert "Lifted in" in html or "no veil to lift" in html
    shown = page.get(page.at("/viewport/veils.jpg?x=0&y=0&w=720&h=480&wide=540"))
    assert shown.status_code == 200 and shown.mimetype == "image/jpeg"
    page.post(page.at("/weave/veil"), {"value": "leave"})
    assert "stays as joint light leaves it" in page.get(page.at("/weave")).text


def test_a_veil_is_lifted_by_as_much_as_is_asked_for_and_nothing_is_woven_for_it(page: Page) -> None:
    """On the page and in the file: a share of what lifting changed; at 0 % what joint light wove, at 100 % all of it."""
    from eaveplane.web.scene.opened import opened

    def seen() -> tuple[FloatArray, bytes]:
        found = opened(page.scene)
        assert found.view is not None and found.plan is not None and found.woven
        whole, half = ((level, (0, 0, *found.view.size_at(level))) for level in (0, 1))
        np.testing.assert_array_equal(Source(cache, found.plan.woven, found.plan.result.key, {}, found.recipe).picture(Ticket("")), found.view.weave(*whole))
        tried = page.get(page.at("/weave/tried.jpg?name=veil_strength&value=0&x=300&y=250"))
        return np.concatenate([found.view.weave(*level).ravel() for level in (whole, half)]), tried.data

    # a weave that nothing else has looked at
    page.post(page.at("/weave/set"), {"name": "detail", "value": "2.7"})
    _do(page, "weave")
    cache = page.library.cache
    with page.client.application.test_request_context():
        key = opened(page.scene).plan.result.key  # type: ignore[union-attr]
        try:
            # as if much had been lifted
            levels = open_weave(cache, key)
            levels.write(0, 200, 150, levels.read(0, (200, 150, 200, 200)) + np.float32(0.2))
            levels.halve_into_levels()
            full, tried = seen()
            shown = cv2.imdecode(np.frombuffer(tried, np.uint8), cv2.IMREAD_COLOR).astype(float)
            assert (shown[20:130, 20:180] - shown[20:130, 222:382]).mean() > 10, "right as it would be"
            answer = page.post(page.at("/weave/strength"), {"name": "veil_strength", "value": "0"}).text
            assert "Veils lifted by 0 %" in answer and page.recipe().veil_strength == 0 and page.state(answer)["woven"]
            none, _ = seen()
            page.post(page.at("/weave/veil"), {"value": "leave"})
            np.testing.assert_array_equal(seen()[0], none)
            page.post(page.at("/weave/veil"), {"value": "lift"})
            page.post(page.at("/weave/strength"), {"name": "veil_strength", "value": "35"})
            part, _ = seen()
            np.testing.assert_allclose(part, none + 0.35 * (full - none), atol=1e-6)
            assert np.abs(full - none).max() > 0.15
            html = page.get(page.at("/weave")).text
            assert "Joint light, veils lifted by 35 %" in html, "under the name by which it would be kept"
            page.post(page.at("/weave/variants/keep"), {"name": ""})
            page.post(page.at("/weave/strength"), {"name": "veil_strength", "value": "100"})
            page.post(page.at("/weave/variants/take"), {"variant": "0"})
            assert page.recipe().veil_strength == 35
            # the weave beneath may have been given up when the disk ran short: it is made again before anything is shown of it
            cache.drop(opened(page.scene).plan.woven.key)  # type: ignore[union-attr]
            assert not opened(page.scene).woven and page.get(page.at("/weave/tried.jpg?name=veil_strength&value=0&x=300&y=250")).status_code == 404
        finally:
            cache.drop(key)
    for name, value in (("veil_strength", "101"), ("quiet", "1")):
        assert page.post(page.at("/weave/strength"), {"name": name, "value": value}).status_code == 400


def test_frames_that_do_not_tell_their_focus_are_woven_by_seams_and_that_is_said(page: Page, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(locating, "locate", lambda read, count, size, detail, guess: Places(tuple(range(count)), 0.97, 1e-6, 1e-6, (1.0,) * count))
    monkeypatch.setattr(locating.Locate, "version", 999)
    page.post(page.at("/weave/set"), {"name": "detail", "value": "4"})
    _do(page, "weave")
    assert "woven by crisp seams" in page.get(page.at("/weave")).text


def test_a_region_is_woven_by_another_way_with_the_brush(page: Page) -> None:
    start = len(page.recipe().strokes)
    line = {"action": "way", "way": "gentle", "width": 120, "softness": 0.3, "opacity": 1, "points": [[300, 300], [420, 320]]}
    answer = page.post(page.at("/weave/stroke"), {"stroke": json.dumps(line)})
    assert answer.status_code == 200 and "Undo: A region woven by gentle" in answer.text and 'id="region-way"' in answer.text
    back = page.post(page.at("/weave/stroke"), {"stroke": json.dumps({**line, "way": ""})})
    assert "Undo: A region as it was woven" in back.text
    for bad in ({**line, "way": "sideways"}, {**line, "points": []}):
        assert page.post(page.at("/weave/stroke"), {"stroke": json.dumps(bad)}).status_code == 400
    assert page.post(page.at("/mend/stroke"), {"stroke": json.dumps(line)}).status_code == 400
    assert [s.way for s in page.recipe().strokes[start:]] == ["gentle", ""]
    with pytest.raises(ValidationError, match="no way to weave called sideways"):
        Recipe.model_validate_json(page.recipe().to_json().replace('"way": "gentle"', '"way": "sideways"'))
    for _ in range(2):
        page.post(page.at("/undo/weave"))
    assert len(page.recipe().strokes) == start
