"""Finish on its page: maps painted, bound, switched and undone; air, glow and rim seen; level; the proof; what is asked wrongly is refused."""

from __future__ import annotations

import json
import re
from pathlib import Path

import cv2
import numpy as np
import pytest

from eaveplane.core.finish.settings import Finish
from eaveplane.store import jobs
from tests.conftest import done
from tests.web.conftest import Page
from tests.web.test_stages import undo

pytestmark = pytest.mark.slow
VIEW = "/viewport/{}.jpg?x=0&y=0&w=720&h=480&wide=720&finished=1"


@pytest.fixture(scope="module")
def woven(page: Page) -> Page:
    page.post(page.at("/weave/go"))
    job = jobs.latest(page.library.db, page.scene)
    assert job is not None and done(page.library, job["id"])["state"] == "done"
    return page


@pytest.fixture(autouse=True)
def as_it_was(woven: Page) -> None:
    woven.post(woven.at("/finish/reset"), {"group": "all"})


def decoded(answer: object) -> np.ndarray:
    return np.asarray(cv2.imdecode(np.frombuffer(answer.data, np.uint8), cv2.IMREAD_COLOR)).astype(int)  # type: ignore[attr-defined]


def seen(page: Page, what: str = "weave", more: str = "", finish: dict[str, object] | None = None) -> np.ndarray:
    url = page.at(VIEW.format(what) + more)
    answer = page.get(url) if finish is None else page.post(url, data=json.dumps(finish))
    assert answer.status_code == 200, answer.text
    return decoded(answer)


def put(page: Page, name: str, value: float) -> None:
    answer = page.post(page.at("/finish/set"), {"name": name, "value": value})
    assert answer.status_code == 200, answer.text


def stroke(**more: object) -> str:
    return json.dumps({"width": 120, "softness": 0.4, "opacity": 1, "points": [[200, 300], [400, 320]], **more})


def test_a_map_is_painted_bound_switched_and_taken_back(woven: Page) -> None:
    before = seen(woven)
    html = woven.post(woven.at("/finish/map/add"), {"kind": "lighter"}).text
    assert "Undo: Map: lighter" in html and 'data-map="0"' in html
    put(woven, "light.0.strength", 100)
    answer = woven.post(woven.at("/finish/stroke"), {"map": 0, "stroke": stroke()})
    assert answer.status_code == 200 and "Undo: Lighter painted" in answer.text and woven.recipe().by_hand()
    lit = seen(woven)
    assert (lit - before)[300:320, 220:380].mean() > 15 and np.abs(lit - before)[:150].max() <= 3
    # half as strong afterwards, only in lights, rubbed out, switched off: each is seen
    put(woven, "light.0.strength", 40)
    assert 3 < (seen(woven) - before)[300:320, 220:380].mean() < (lit - before)[300:320, 220:380].mean()
    put(woven, "light.0.low", 0.95)
    assert (seen(woven) - before)[300:320, 220:380].mean() < 2
    put(woven, "light.0.low", 0)
    woven.post(woven.at("/finish/stroke"), {"map": 0, "stroke": stroke(erase=True, width=200, points=[[300, 310]])})
    assert np.abs(seen(woven) - before)[305:315, 295:305].mean() < 1.5
    lines = woven.get(woven.at("/finish/lines.json?map=0")).json
    assert [line["erase"] for line in lines] == [False, True] and woven.get(woven.at("/finish/lines.json?map=4")).status_code == 404
    woven.post(woven.at("/finish/stroke/erase"), {"map": 0, "line": 1})
    assert len(woven.recipe().finish.light[0].lines) == 1
    hatched = seen(woven, "light:0")
    assert np.ptp(hatched, axis=2)[300:320, 220:380].mean() > 5 > np.ptp(hatched, axis=2)[:100].max()
    for does, told in (("on", "switched"), ("copy", "duplicated"), ("clear", "cleared"), ("remove", "removed")):
        assert f"Undo: Lighter {told}" in woven.post(woven.at("/finish/map/change"), {"map": 0, "does": does}).text
    assert len(woven.recipe().finish.light) == 1 and woven.recipe().finish.light[0].lines
    undo(woven)
    assert len(woven.recipe().finish.light) == 2
    woven.post(woven.at("/finish/map/change"), {"map": 1, "does": "name", "value": " Moss <b> "})
    assert woven.recipe().finish.light[1].name == "Moss <b>" and "Moss &lt;b&gt;" in woven.get(woven.at("/finish")).text


def test_what_is_tried_is_shown_before_it_is_decided(woven: Page) -> None:
    before, state = seen(woven), woven.state(woven.get(woven.at("/finish")).text)
    tried = {**state["finishValues"], "vignette": {"strength": -100, "middle": 0, "roundness": 0, "feather": 100, "keep": 0}}
    dark = seen(woven, finish=tried)
    assert (before - dark)[:20, :20].mean() > 40 and np.abs(before - dark)[235:245, 355:365].mean() <= 9
    assert woven.recipe().finish == Finish()
    # maps are told without their strokes and keep them
    woven.post(woven.at("/finish/map/add"), {"kind": "darker"})
    woven.post(woven.at("/finish/stroke"), {"map": 0, "stroke": stroke()})
    values = woven.state(woven.get(woven.at("/finish")).text)["finishValues"]
    assert "lines" not in values["light"][0]
    values["light"][0]["strength"] = 100
    assert (before - seen(woven, finish=values))[300:320, 220:380].mean() > 15
    assert woven.post(woven.at(VIEW.format("weave")), data='{"glow": {"strength": 900}}').status_code == 400


def test_every_part_is_seen_switched_off_and_compared(woven: Page) -> None:
    before = seen(woven)
    for name, value in (("air.far.haze", 80), ("air.far.saturation", -50), ("glow.strength", 60), ("detail.strength", 90), ("vignette.strength", -60), ("noise.strength", 80), ("grain.strength", 100)):
        put(woven, name, value)
    full = seen(woven)
    html = woven.get(woven.at("/finish")).text
    assert woven.state(html)["finishParts"] == ["noise", "air", "glow", "detail", "vignette", "grain"]
    for part in ("air", "glow", "vignette"):
        assert np.abs(full - seen(woven, more=f"&before=1&part={part}")).mean() > 1
    np.testing.assert_array_equal(seen(woven, more="&before=1"), before)
    # haze is where it is far
    assert np.abs(full - seen(woven, more="&before=1&part=air"))[:120].mean() > 2 * np.abs(full - seen(woven, more="&before=1&part=air"))[-60:].mean()
    for part in ("noise", "air", "glow", "detail", "vignette", "grain"):
        woven.post(woven.at("/finish/part"), {"name": part})
    np.testing.assert_array_equal(seen(woven), before)
    assert woven.recipe().finish.glow.strength == 60
    woven.post(woven.at("/finish/part"), {"name": "glow"})
    assert woven.recipe().finish.off == ["noise", "air", "detail", "vignette", "grain"]
    order = seen(woven, "order")
    assert np.abs(order[:60].mean(axis=(0, 1)) - order[-60:].mean(axis=(0, 1))).max() > 25
    for group in ("Glow", "Near", "Far", "Middle", "Noise", "Grain", "Sharpening"):
        assert woven.post(woven.at("/finish/reset"), {"group": group}).status_code == 200
    assert woven.recipe().finish.glow.strength == 0 and woven.recipe().finish.air.far.haze == 0
    assert woven.post(woven.at("/finish/reset"), {"group": "Nothing"}).status_code == 400


def test_a_line_or_the_horizon_levels_the_picture(woven: Page) -> None:
    answer = woven.post(woven.at("/finish/level"), {"x0": 100, "y0": 200, "x1": 600, "y1": 217.46})
    assert answer.status_code == 200 and woven.recipe().finish.straighten == pytest.approx(-2, abs=0.01)
    woven.post(woven.at("/finish/level"), {"x0": 300, "y0": 400, "x1": 310, "y1": 100})
    assert woven.recipe().finish.straighten == pytest.approx(-1.91, abs=0.01) or woven.recipe().finish.straighten == pytest.approx(1.91, abs=0.01)
    for bad in ({"x0": 1, "y0": 1, "x1": 2, "y1": 2}, {"x0": 0, "y0": 0, "x1": 300, "y1": 250}, {"x0": "a", "y0": 0, "x1": 9, "y1": 9}, {"x0": 0, "y0": 0, "x1": "nan", "y1": 2}):
        assert woven.post(woven.at("/finish/level"), bad).status_code == 400
    found = woven.get(woven.at("/finish/level.json")).json
    answer = woven.post(woven.at("/finish/level"))
    if found:
        assert abs(woven.recipe().finish.straighten) < 0.5 and "found by the horizon" in answer.text
    else:
        assert answer.status_code == 400 and "Draw a line" in answer.text


def test_two_uprights_are_made_parallel_and_maps_stay_on_their_things(woven: Page) -> None:
    before = seen(woven)
    woven.post(woven.at("/finish/map/add"), {"kind": "darker"})
    put(woven, "light.0.strength", 100)
    one, two = {"x0": 150, "y0": 60, "x1": 165, "y1": 420}, {"x0": 560, "y0": 60, "x1": 545, "y1": 420}
    assert "draw another one" in woven.post(woven.at("/finish/upright"), one).text
    np.testing.assert_array_equal(seen(woven), before)
    html = woven.post(woven.at("/finish/upright"), two).text
    assert "Two uprights made parallel" in html and len(woven.recipe().finish.uprights) == 2 and woven.recipe().by_hand()
    state = woven.state(html)
    matrix = np.array(state["keystone"])
    (u0, v0, w0), (u1, v1, w1) = (matrix @ [x, y, 1] for x, y in ((150, 60), (165, 420)))
    assert abs(u0 / w0 - u1 / w1) < 1e-6 and abs(v1 / w1 - v0 / w0) > 100
    bent = seen(woven)
    assert np.abs(bent - before).mean() > 3 and np.abs(bent - before)[235:245, 355:365].mean() < np.abs(bent - before).mean()
    # what is painted where it is seen lies on the thing that is seen there
    woven.post(woven.at("/finish/stroke"), {"map": 0, "stroke": stroke(width=60, points=[[120, 400]])})
    assert (bent - seen(woven))[395:405, 115:125].mean() > 15
    (x, y), *_ = woven.recipe().finish.light[0].lines[0].points
    assert np.hypot(x - 120, y - 400) > 5 and woven.get(woven.at("/finish/lines.json?map=0")).json[0]["points"][0] == pytest.approx([120, 400], abs=0.01)
    for bad in ({"x0": 0, "y0": 100, "x1": 300, "y1": 110}, {"x0": 5, "y0": 5, "x1": 5, "y1": 9}, {"x0": "a", "y0": 5, "x1": 5, "y1": 9}, {"x0": 0, "y0": 0, "x1": 0, "y1": "inf"}):
        assert woven.post(woven.at("/finish/upright"), bad).status_code == 400
    assert len(woven.recipe().finish.uprights) == 2
    woven.post(woven.at("/finish/upright"), {"clear": 1})
    assert woven.recipe().finish.uprights == []
    woven.post(woven.at("/finish/upright"), one)
    assert "Draw another one" in woven.post(woven.at("/finish/upright"), {"x0": 700, "y0": 60, "x1": 450, "y1": 420}).text
    assert len(woven.recipe().finish.uprights) == 1


def test_the_proof_has_the_pixels_of_the_file(woven: Page, tmp_path: Path) -> None:
    for line in ({"x0": 150, "y0": 60, "x1": 158, "y1": 420}, {"x0": 560, "y0": 60, "x1": 552, "y1": 420}):
        woven.post(woven.at("/finish/upright"), line)
    for name, value in (("straighten", 1.2), ("vignette.strength", -40), ("detail.strength", 50), ("grain.strength", 80), ("air.far.haze", 30), ("glow.strength", 30)):
        put(woven, name, value)
    woven.post(woven.at("/finish/crop"), {"x": 0.1, "y": 0.1, "w": 0.8, "h": 0.8, "ratio": "3:2", "paper": 30})
    html = woven.post(woven.at("/finish/choose"), {"name": "sharpen_for", "value": "paper"}).text
    assert woven.recipe().finish.sharpen == 100 and woven.recipe().finish.paper == 30 and "Comes to 120 %" in html
    woven.post(woven.at("/finish/map/add"), {"kind": "warmer"})
    woven.post(woven.at("/finish/stroke"), {"map": 0, "stroke": stroke()})
    for name, value in (("format", "png"), ("size", "edge"), ("long_edge", 500), ("folder", str(tmp_path)), ("profile", "srgb")):
        woven.post(woven.at("/deliver/set/0"), {"name": name, "value": value})
    woven.post(woven.at("/deliver/go"))
    job = jobs.latest(woven.library.db, woven.scene)
    assert job is not None and done(woven.library, job["id"])["state"] == "done"
    (out,) = tmp_path.glob("*.png")
    file = cv2.imread(str(out)).astype(int)
    proof = decoded(woven.get(woven.at("/finish/proof.jpg?finished=1&x=360&y=240")))
    assert proof.shape == (150, 240, 3) and file.shape[1] == 500
    # the proof is a JPEG: where it lies in the file is where it is most alike
    match = cv2.matchTemplate(file.astype(np.float32), proof.astype(np.float32), cv2.TM_SQDIFF)
    _, _, (x, y), _ = cv2.minMaxLoc(match)
    assert np.abs(file[y : y + 150, x : x + 240] - proof).mean() < 3
    assert abs(x + 120 - file.shape[1] / 2) < 60 and abs(y + 75 - file.shape[0] / 2) < 60
    recipe = json.loads(woven.get(woven.at("/deliver/recipe.json")).text)
    assert recipe["finish"]["light"][0]["lines"] and Finish.model_validate(recipe["finish"]) == woven.recipe().finish


def test_what_is_asked_wrongly_is_refused(woven: Page) -> None:
    woven.post(woven.at("/finish/map/add"), {"kind": "glow"})
    was = woven.recipe().finish
    bad = [
        ("/finish/set", {"name": "air.far.none", "value": 1}), ("/finish/set", {"name": "light.7.strength", "value": 1}), ("/finish/set", {"name": "light.0.lines", "value": 1}),
        ("/finish/set", {"name": "glow.strength", "value": 1000}), ("/finish/set", {"name": "glow.strength", "value": "much"}), ("/finish/set", {"name": "__class__.x", "value": 1}),
        ("/finish/set", {"name": "light.-1.strength", "value": 1}), ("/finish/map/add", {"kind": "bluer"}), ("/finish/map/change", {"map": 3, "does": "on"}),
        ("/finish/map/change", {"map": 0, "does": "explode"}), ("/finish/map/change", {"map": "x", "does": "on"}), ("/finish/stroke", {"map": 0, "stroke": "{}"}),
        ("/finish/stroke", {"map": 0, "stroke": "[" * 9000}), ("/finish/stroke", {"map": 9, "stroke": stroke()}), ("/finish/stroke", {"map": 0, "stroke": stroke(width=-1)}),
        ("/finish/stroke/erase", {"map": 0, "line": 5}), ("/finish/stroke/erase", {"map": 0, "line": "nan"}),
        ("/finish/stroke/erase", {"map": 0, "line": -1}), ("/finish/part", {"name": "everything"}), ("/finish/choose", {"name": "guides", "value": "spiral"}),
        ("/finish/choose", {"name": "off", "value": "glow"}), ("/finish/crop", {"x": 0, "y": 0, "w": 1, "h": 1, "ratio": "free", "paper": 9000}),
    ]  # fmt: skip
    for url, values in bad:
        answer = woven.post(woven.at(url), values)
        assert answer.status_code == 400 and "Traceback" not in answer.text and re.search(r"[a-z]", answer.text), url
    for url in ("/finish/proof.jpg?x=1&y=1", "/finish/proof.jpg?finished=1&x=a&y=1", "/finish/proof.jpg?finished=1&x=1e9&y=1"):
        assert woven.get(woven.at(url)).status_code == 400
    for what in ("light:9", "light:x", "light:-1"):
        assert woven.get(woven.at(VIEW.format(what))).status_code == 404
    assert woven.recipe().finish == was
