"""Even out on the page: looks saved and carried over, what is drawn and picked, single frames, capture corrections."""

from __future__ import annotations

import io
import json
import re
from typing import Any

import cv2
import numpy as np
import pytest

from eaveplane.core.develop.look import Light, Look, neutral_light, white_balance
from eaveplane.core.even.capture.settings import Capture
from eaveplane.imaging.light import light_of
from eaveplane.recipe import Recipe
from eaveplane.store import scenes
from eaveplane.web.scene.opened import opened
from tests.web.conftest import Page


def undo(page: Page, times: int = 1) -> None:
    for _ in range(times):
        page.post(page.at("/undo/even"))


def test_looks_are_saved_applied_exported_and_imported(page: Page) -> None:
    assert page.post(page.at("/even/looks/save"), {"name": "  "}).status_code == 400
    page.post(page.at("/even/set"), {"name": "exposure", "value": 0.7})
    page.post(page.at("/even/set"), {"name": "boost", "value": 35})
    look = page.recipe().look
    assert "<option>Dawn &lt;3&gt;</option>" in page.post(page.at("/even/looks/save"), {"name": " Dawn <3> "}).text
    undo(page, 2)
    assert page.recipe().look != look
    page.post(page.at("/even/looks/apply"), {"name": "Dawn <3>"})
    assert page.recipe().look == look
    answer = page.get(page.at("/even/look.json"))
    assert "attachment" in answer.headers["Content-Disposition"] and Look(**json.loads(answer.data)) == look
    undo(page)
    sent = {"file": (io.BytesIO(answer.data), "dawn.json")}
    assert page.post(page.at("/even/looks/import"), data=sent, content_type="multipart/form-data").status_code == 200
    assert page.recipe().look == look
    for bad in (b"{}}", b"[1]", b'{"exposure": 99}', b'{"magic": 1}'):
        refused = page.post(page.at("/even/looks/import"), data={"file": (io.BytesIO(bad), "bad.json")}, content_type="multipart/form-data")
        assert refused.status_code == 400 and "bad.json" in refused.text
    assert page.post(page.at("/even/looks/apply"), {"name": "No such look"}).status_code == 400
    undo(page)


def test_what_is_picked_becomes_neutral(page: Page) -> None:
    x, y = 333, 427
    assert page.post(page.at("/even/neutral"), {"x": x, "y": y}).status_code == 200
    look = page.recipe().look
    assert look.kelvin > 0
    with page.client.application.test_request_context():
        view = opened(page.scene).view
        assert view is not None
        light = light_of(view.weave(0, (x - 4, y - 4, 9, 9))).reshape(-1, 3).mean(axis=0)
        before, after = light, white_balance(look, view.shot) @ light
    # kelvin are rounded to fifty, tint to one
    assert np.ptp(after) / after.mean() < 0.03 < np.ptp(before) / before.mean()
    for bad in ({"x": -1, "y": 4}, {"x": "a", "y": 4}, {"x": 1e9, "y": 4}, {"x": "nan", "y": 1}):
        assert page.post(page.at("/even/neutral"), bad).status_code == 400
    undo(page)


def test_the_temperature_as_shot_is_shown_as_what_it_is(page: Page) -> None:
    def ruler(html: str) -> dict[str, str]:
        found = re.search(r'data-name="kelvin" data-start="([\d.]+)" data-came-as="0".*?value="([\d.]+)"', html, re.S)
        assert found
        return {"start": found[1], "value": found[2]}

    html = page.get(page.at("/even")).text
    shot = re.search(r"as shot: (\d+) K", html)
    assert shot and abs(float(ruler(html)["value"]) - int(shot[1])) <= 25 and ruler(html)["value"] == ruler(html)["start"]
    html = page.post(page.at("/even/set"), {"name": "kelvin", "value": 4000}).text
    assert "Undo: Temperature 4000 K" in html
    assert "Undo: Temperature as shot" in page.post(page.at("/even/set"), {"name": "kelvin", "value": 0}).text
    assert page.recipe().look.kelvin == 0
    undo(page, 2)


@pytest.mark.parametrize("kelvin, tint", [(2800.0, 10.0), (5500.0, 0.0), (9000.0, -20.0)])
def test_a_grey_card_tells_its_light(kelvin: float, tint: float) -> None:
    shot = Light(5200, 4)
    grey = np.linalg.solve(white_balance(Look(kelvin=kelvin, tint=shot.tint - tint), shot), np.full(3, 0.2))
    found = neutral_light(grey, shot)
    assert found.kelvin == pytest.approx(kelvin, rel=0.01) and found.tint == pytest.approx(tint, abs=1)
    with pytest.raises(ValueError, match="too dark"):
        neutral_light(np.full(3, 1e-4), shot)
    with pytest.raises(ValueError, match="no light"):
        neutral_light(np.array([0.9, 0.02, 0.02]), shot)


def test_drift_is_told_frame_by_frame(registered: Page) -> None:
    page = registered
    text = page.get(page.at("/even")).text
    rows = re.findall(r"<tr data-frame.*?</tr>", text, re.S)
    assert len(rows) == 4 and sum("reference" in row for row in rows) == 1
    left = [float(value) for value in re.findall(r"<b>([\d.]+)</b></td>", text)]
    assert len(left) == 3 and max(left) < 0.6


# ---- what is drawn: curve, ring, areas ------------------------------------------------------------------------------

VIEW = "/viewport/{}.jpg?x=0&y=0&w=720&h=480&wide=540"


def seen(page: Page, what: str = "weave", look: Look | None = None) -> np.ndarray:
    answer = page.get(page.at(VIEW.format(what))) if look is None else page.post(page.at(VIEW.format(what)), data=look.model_dump_json())
    assert answer.status_code == 200, answer.text
    return np.asarray(cv2.imdecode(np.frombuffer(answer.data, np.uint8), cv2.IMREAD_COLOR), float)


def change(page: Page, **fields: object) -> Any:
    return page.post(page.at("/even/change"), {"said": "Changed", "patch": json.dumps(fields)})


def test_what_is_drawn_is_tried_decided_and_undone(page: Page) -> None:
    plain, start = seen(page), page.recipe().look
    area = {"name": "Sky", "parts": [{"kind": "graduated", "x0": 333, "y0": 133, "x1": 333, "y1": 280}], "exposure": -2}
    fields = {"curve": [[0, 0], [0.5, 0.6], [1, 1]], "hues": [{"hue": 40, "strength": 60}], "areas": [area]}
    tried = seen(page, look=Look(**{**start.model_dump(), **fields}))
    assert change(page, **fields).status_code == 200
    # what is tried comes in a passing quality
    assert np.abs(seen(page) - tried).mean() < 7
    # darker above the lines, lighter through the curve below them
    assert tried[:80].mean() < plain[:80].mean() - 25 and tried[300:].mean() > plain[300:].mean() + 5
    text = page.get(page.at("/even")).text
    assert 'value="Sky"' in text and 'data-name="areas.0.exposure"' in text and 'data-name="hues.0.shift"' in text
    page.post(page.at("/even/set"), {"name": "areas.0.exposure", "value": 0.5})
    page.post(page.at("/even/set"), {"name": "hues.0.lightness", "value": 20})
    look = page.recipe().look
    assert look.areas[0].exposure == 0.5 and look.hues[0].lightness == 20 and look.curve == [(0, 0), (0.5, 0.6), (1, 1)]
    page.post(page.at("/even/reset"), {"group": "Curve"})
    assert page.recipe().look.curve == [] and page.recipe().look.areas
    undo(page, 4)
    assert page.recipe().look == start
    np.testing.assert_array_equal(seen(page), plain)


def test_what_cannot_be_drawn_is_refused_in_words(page: Page) -> None:
    start = page.recipe().look
    for fields in ({"curve": [[0.5, 0.5]]}, {"areas": [{"parts": [{"kind": "square"}]}]}, {"hues": [{"hue": 500}]}, {"exposure": 2}, {"areas": 4}):
        assert change(page, **fields).status_code == 400
    assert page.post(page.at("/even/change"), {"said": "x", "patch": "{"}).status_code == 400
    for path in ("areas.0.exposure", "hues.x.shift", "areas.-1.exposure", "curve.0", "areas", "__class__.x", "exposure.real"):
        assert page.post(page.at("/even/set"), {"name": path, "value": 1}).status_code == 400
    assert page.recipe().look == start


def test_a_place_tells_its_tone_and_hue(page: Page) -> None:
    told = page.get(page.at("/even/at.json?x=333&y=427")).json
    assert 0 < told["tone"] < 1 and told["curve"] == pytest.approx(told["tone"], abs=1e-3) and 0 <= told["hue"] < 360
    change(page, curve=[[0, 0], [told["tone"], 0.9], [1, 1]])
    assert page.get(page.at("/even/at.json?x=333&y=427")).json["curve"] == pytest.approx(0.9, abs=2e-3)
    undo(page)
    assert page.get(page.at("/even/at.json?x=-4&y=1")).status_code == 400 and page.get(page.at("/even/at.json?x=4")).status_code == 400


def test_the_light_of_the_scene_is_measured(page: Page) -> None:
    assert page.post(page.at("/even/measure")).status_code == 200
    assert 2000 < page.recipe().look.kelvin < 15000
    undo(page)


def test_parts_of_a_look_are_carried_from_scene_to_scene(page: Page) -> None:
    other = scenes.add_scene(page.library.db, 1, "Other", Recipe(look=Look(exposure=1.5, saturation=40, fine=30)))
    start = page.recipe().look
    assert "Other</option>" in page.get(page.at("/even")).text
    assert page.post(page.at("/even/looks/copy"), data={"scene": other, "groups": ["Tone", "Relief and haze"]}).status_code == 200
    look = page.recipe().look
    assert look.exposure == 1.5 and look.fine == 30 and look.saturation == start.saturation
    undo(page)
    assert page.post(page.at("/even/looks/copy"), data={"scene": other, "groups": ["Magic"]}).status_code == 400
    assert page.post(page.at("/even/looks/copy"), data={"scene": "nobody"}).status_code == 400
    page.post(page.at("/even/looks/save"), {"name": "To forget"})
    assert "To forget" not in page.post(page.at("/even/looks/forget"), {"name": "To forget"}).text
    assert page.recipe().look == start


# ---- single frames and what is put right in each -------------------------------------------------------------------


def test_a_trim_is_seen_marked_and_taken_away(page: Page) -> None:
    frame = page.recipe().frames[0].id
    plain = seen(page, f"frame:{frame}")
    answer = page.post(page.at("/even/trim"), {"frame": frame, "name": "exposure", "value": 0.5})
    assert answer.text.count("trim +0.50 EV") == 1 and answer.text.count('class="trimmed">+0.50 EV') == 1
    assert seen(page, f"frame:{frame}").mean() > plain.mean() + 10
    # the weave, which it is a part of, is out of date
    assert page.state(page.get(page.at("/even")).text)["woven"] is False
    for bad in ({"name": "exposure", "value": 9}, {"name": "magic", "value": 0}, {"name": "exposure", "value": "x"}):
        assert page.post(page.at("/even/trim"), {"frame": frame, **bad}).status_code == 400
    assert "trimmed" not in page.post(page.at("/even/trim"), {"frame": frame, "reset": 1}).text
    undo(page, 2)
    np.testing.assert_array_equal(seen(page, f"frame:{frame}"), plain)


def test_what_is_left_between_frames_is_a_picture(registered: Page) -> None:
    page = registered
    frame = page.recipe().frames[0].id
    calm = seen(page, f"drift:{frame}")
    page.post(page.at("/even/trim"), {"frame": frame, "name": "warmth", "value": 0.5})
    loud = seen(page, f"drift:{frame}")
    undo(page)
    # grey where frames agree, rust where they do not
    assert np.abs(calm[..., 2] - calm[..., 0]).mean() < 12 and (loud[..., 2] - loud[..., 0]).mean() > 40


def test_an_area_is_shown_hatched(page: Page) -> None:
    change(page, areas=[{"parts": [{"kind": "elliptical", "x": 360, "y": 240, "rx": 133, "ry": 100, "soft": 0}]}])
    shown, plain = seen(page, "area:0"), seen(page)
    undo(page)
    off = np.abs(shown - plain).mean(axis=2)
    assert off[170:190, 250:290].mean() > 8 and off[:40, :60].mean() < 1
    assert page.get(page.at(VIEW.format("area:7"))).status_code == 404 and page.get(page.at(VIEW.format("area:x"))).status_code == 404


def test_corrections_are_seen_at_once_and_against_their_absence(registered: Page) -> None:
    page = registered
    frame = page.recipe().frames[1].id
    before = page.state(page.get(page.at("/even")).text)
    assert before["registered"]
    for name, value in (("noise", 80), ("vignetting", "hand"), ("falloff", 1.5)):
        assert page.post(page.at("/even/capture"), {"name": name, "value": value}).status_code == 200
    close = "/viewport/{}.jpg?x=0&y=0&w=270&h=200&wide=270"

    def at(what: str) -> np.ndarray:
        return np.asarray(cv2.imdecode(np.frombuffer(page.get(page.at(close.format(what))).data, np.uint8), cv2.IMREAD_COLOR), float)

    whole = at(f"capture:all:{frame}")
    rough, dark = at(f"capture:noise:{frame}"), at(f"capture:vignetting:{frame}")
    assert np.abs(np.diff(whole[:48], axis=1)).mean() < 0.9 * np.abs(np.diff(rough[:48], axis=1)).mean()
    assert dark[:60, :60].mean() < whole[:60, :60].mean() - 15
    mask = at(f"edges:{frame}")
    assert np.ptp(mask, axis=2).max() < 40 and mask.max() > 200
    assert page.get(page.at(close.format(f"capture:magic:{frame}"))).status_code == 404
    # frames are another's now: what was registered has to be registered anew
    state = page.state(page.get(page.at("/even")).text)
    assert not state["registered"] and state["size"] and state["weave"] != before["weave"]
    for bad in ({"name": "noise", "value": 300}, {"name": "fringes", "value": "maybe"}, {"name": "magic", "value": 1}):
        assert page.post(page.at("/even/capture"), bad).status_code == 400
    page.post(page.at("/even/capture/reset"))
    assert page.recipe().capture == Capture()
    undo(page, 4)
    assert page.state(page.get(page.at("/even")).text)["registered"]
