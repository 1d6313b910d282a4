"""Even out on the page: looks saved, applied, exported and imported; a neutral picked on the picture; drift told."""

from __future__ import annotations

import io
import json
import re

import numpy as np
import pytest

from eaveplane.core.even.look import Light, Look, neutral_light, white_balance
from eaveplane.imaging.light import light_of
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
    x, y = 500, 640
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


def test_drift_is_told_frame_by_frame(page: Page) -> None:
    text = page.get(page.at("/even")).text
    rows = re.findall(r"<tr data-frame.*?</tr>", text, re.S)
    assert len(rows) == 4 and sum("reference" in row for row in rows) == 1
    left = [float(value) for value in re.findall(r"<b>([\d.]+)</b></td>", text)]
    assert len(left) == 3 and max(left) < 0.6
