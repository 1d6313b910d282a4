"""Flaws on Mend's page: told, led to, mended by a remedy, accepted; what is asked wrongly is refused."""

from __future__ import annotations

import io
import json
import re

import numpy as np
import pytest
from PIL import Image

from eaveplane.core.mend.flaws import judged
from eaveplane.core.mend.moment import Moment
from eaveplane.pipeline.cache import Cache
from eaveplane.store import jobs, scenes
from eaveplane.web.mend import findings
from eaveplane.web.scene.opened import ScenePage
from tests.conftest import done
from tests.web.conftest import Page

# findings are put in the place of those that were made
pytestmark = [pytest.mark.slow, pytest.mark.anew]


def planted(page: Page, flaws: list[dict[str, object]]) -> str:
    """Put findings in the place of those of the scene's weave; the key they lie under."""
    with page.client.application.app_context():
        desk = page.client.application.extensions["eaveplane"]
        scene = ScenePage(page.scene, desk)
        assert scene.plan is not None
        key, cache = scene.plan.flaws.key, desk.library.cache
    cache.drop(key)
    cache.make(key, lambda folder: (folder / "flaws.json").write_text(json.dumps(flaws)) and None)
    desk.kept.clear()
    return str(key)


def flaw(kind: str, x: int, y: int, frames: tuple[int, ...], said: str, side: int = 40, **more: object) -> dict[str, object]:
    outline = [[x, y], [x + side, y], [x + side, y + side], [x, y + side]]
    return {"kind": kind, "box": [x, y, side, side], "outline": outline, "severity": 0.6, "frames": frames, "said": said, "stops": 0.0, **more}


FOUND = [
    flaw("soft", 200, 300, (0, 1), "Frame {0} is sharper here."),
    flaw("speck", 420, 60, (2,), "A spot that frame {0} alone shows.", side=10),
    flaw("seam", 300, 200, (1, 2), "Tone steps by 4 % between frames {0} and {1}.", stops=0.06),
]


@pytest.fixture(scope="module")
def woven(page: Page) -> Page:
    """The scene woven, with what was found in it."""
    answer = page.post(page.at("/weave/go"))
    assert answer.status_code == 200
    job = jobs.latest(page.library.db, page.scene)
    assert job is not None and done(page.library, job["id"])["state"] == "done"
    return page


def test_flaws_are_looked_for_after_weaving(woven: Page) -> None:
    told = woven.get(woven.at("/mend/findings.json")).json
    assert isinstance(told, list) and all(f["state"] == "open" for f in told)
    html = woven.get(woven.at("/mend")).text
    assert "No flaw was found" in html if not told else "data-flaw=" in html
    # results of an earlier version know of none: they can be looked for without weaving anew
    cache: Cache = woven.library.cache
    key = planted(woven, [])
    cache.drop(key)
    assert "Look for flaws" in woven.get(woven.at("/mend")).text and woven.get(woven.at("/mend/findings.json")).json == []
    assert woven.post(woven.at("/mend/look"), {}).status_code == 200
    job = jobs.latest(woven.library.db, woven.scene)
    assert job is not None and done(woven.library, job["id"])["state"] == "done" and cache.has(key)


def test_flaws_are_told_on_route_bench_and_notebook(woven: Page) -> None:
    planted(woven, FOUND)
    html = woven.get(woven.at("/mend")).text
    assert "3 flaws open" in woven.get("/").text
    assert "Mend (3)" in html and "3 flaws open" in html and "Frame 1 is sharper here. In Mend, T leads there." in html
    told = woven.get(woven.at("/mend/findings.json")).json
    assert [(f["number"], f["kind"], f["said"], f["state"]) for f in told] == [
        (1, "Soft", "Frame 1 is sharper here.", "open"),
        (2, "Speck", "A spot that frame 3 alone shows.", "open"),
        (3, "Seam step", "Tone steps by 4 % between frames 2 and 3.", "open"),
    ]


def picture(page: Page, address: str) -> np.ndarray:
    answer = page.get(page.at(address))
    assert answer.status_code == 200 and answer.mimetype == "image/jpeg"
    return np.asarray(Image.open(io.BytesIO(answer.data)), dtype=float)


@pytest.fixture
def near_hidden(woven: Page) -> Page:
    """The scene woven without the frame that has the foreground sharp."""
    woven.post(woven.at("/weave/mask"), {"frame": woven.recipe().frames[0].id, "value": "hidden"})
    woven.post(woven.at("/weave/go"))
    job = jobs.latest(woven.library.db, woven.scene)
    assert job is not None and done(woven.library, job["id"])["state"] == "done"
    return woven


def test_a_remedy_is_seen_taken_and_undone(near_hidden: Page) -> None:
    woven = near_hidden
    planted(woven, [flaw("soft", 200, 420, (3, 0), "Frame {0} is sharper here."), *FOUND[1:]])
    name = woven.get(woven.at("/mend/findings.json")).json[0]["name"]
    told = woven.get(woven.at(f"/mend/remedies.json?flaw={name}")).json
    # of two frames the one that shows the foreground is offered, with what it brings
    assert [o["label"] for o in told["remedies"]] == ["Frame 1"] and not told["said"]
    assert int(re.search(r"brings back (\d+) % of what is lost", told["remedies"][0]["gain"])[1]) > 40  # type: ignore[index]
    now, then = (picture(woven, f"/mend/remedy.jpg?flaw={name}&which={which}") for which in ("", "0"))
    assert now.shape == then.shape == (168, 232, 3)
    before = len(woven.recipe().strokes)
    assert woven.post(woven.at("/mend/remedy"), {"flaw": name, "which": "0"}).status_code == 200
    recipe = woven.recipe()
    assert len(recipe.strokes) > before and all(s.action == "draw" and s.fitted for s in recipe.strokes[before:])
    assert woven.get(woven.at("/mend/findings.json")).json[0]["state"] == "mended" and "Mend (2)" in woven.get(woven.at("/mend")).text
    # what was promised is what there is now; without strokes all is as it was
    look = woven.at("/viewport/{}.jpg?x=150&y=330&w=150&h=150&wide=150")
    painted, bare = (np.asarray(Image.open(io.BytesIO(woven.get(look.format(what)).data)), dtype=float) for what in ("weave", "unpainted"))
    assert np.abs(painted - bare).max() > 3
    np.testing.assert_array_equal(picture(woven, f"/mend/remedy.jpg?flaw={name}&which="), then)
    woven.post(woven.at("/undo/mend"), {})
    np.testing.assert_array_equal(np.asarray(Image.open(io.BytesIO(woven.get(look.format("weave")).data)), dtype=float), bare)
    assert len(woven.recipe().strokes) == before and woven.get(woven.at("/mend/findings.json")).json[0]["state"] == "open"


def test_another_way_of_weaving_is_a_remedy_where_it_does_better_and_nothing_is_where_nothing_does(woven: Page, monkeypatch: pytest.MonkeyPatch) -> None:
    planted(woven, FOUND)
    name = woven.get(woven.at("/mend/findings.json")).json[0]["name"]
    # the weave is as good as it gets here
    told = woven.get(woven.at(f"/mend/remedies.json?flaw={name}")).json
    assert told["remedies"] == [] and "makes it better" in told["said"]
    assert woven.post(woven.at("/mend/remedy"), {"flaw": name, "which": "0"}).status_code == 400
    monkeypatch.setattr(judged, "WAY_LEAVES", 1e6)
    monkeypatch.setattr(judged, "LEAST", 0.0)
    woven.client.application.extensions["eaveplane"].kept.clear()
    ways = [o["label"] for o in woven.get(woven.at(f"/mend/remedies.json?flaw={name}")).json["remedies"]]
    assert {"Crisp seams", "Gentle", "Left veiled"} <= set(ways) and "Joint light" not in ways, "joint light wove it, and veils were lifted over it"
    now, then = (picture(woven, f"/mend/remedy.jpg?flaw={name}&which={which}") for which in ("", str(ways.index("Gentle"))))
    assert np.abs(then - now).max() > 3
    answer = woven.post(woven.at("/mend/remedy"), {"flaw": name, "which": str(ways.index("Gentle"))})
    assert answer.status_code == 200 and "Soft woven by gentle" in answer.text
    assert {(s.action, s.way) for s in woven.recipe().strokes} == {("way", "gentle")}
    assert woven.get(woven.at("/mend/findings.json")).json[0]["state"] == "mended"


def test_where_nobody_knows_what_moved_frames_are_judged_as_anywhere(near_hidden: Page, monkeypatch: pytest.MonkeyPatch) -> None:
    planted(near_hidden, [flaw("ghost", 200, 420, (3, 0), "Something moved between frames and is not as any of them shows it; frame {0} is nearest.")])
    monkeypatch.setattr(findings, "moments_at", lambda laid, weave, place: [])
    name = near_hidden.get(near_hidden.at("/mend/findings.json")).json[0]["name"]
    (only,) = near_hidden.get(near_hidden.at(f"/mend/remedies.json?flaw={name}")).json["remedies"]
    assert only["label"] == "Frame 1" and only["gain"].startswith("brings back")


def test_a_speck_is_healed_and_a_step_of_tone_trimmed(woven: Page) -> None:
    planted(woven, FOUND)
    _, speck, seam = (f["name"] for f in woven.get(woven.at("/mend/findings.json")).json)
    assert woven.get(woven.at(f"/mend/remedies.json?flaw={speck}")).json["remedies"][0]["label"] == "Heal"
    assert woven.post(woven.at("/mend/remedy"), {"flaw": speck, "which": "0"}).status_code == 200
    healed = woven.recipe().strokes[-1]
    assert healed.action == "heal" and healed.source != (0, 0)
    woven.post(woven.at("/undo/mend"), {})
    (trim, *_) = woven.get(woven.at(f"/mend/remedies.json?flaw={seam}")).json["remedies"]
    assert "trimmed by" in trim["label"] and trim["gain"] == "then weave anew"
    assert picture(woven, f"/mend/remedy.jpg?flaw={seam}&which=0").shape == (168, 232, 3)
    assert woven.post(woven.at("/mend/remedy"), {"flaw": seam, "which": "0"}).status_code == 200
    assert sorted({f.trim.exposure for f in woven.recipe().frames}) in ([-0.06, 0.0], [0.0, 0.06])
    woven.post(woven.at("/undo/mend"), {})


def test_all_specks_but_those_spared_are_healed_at_once(woven: Page) -> None:
    places = [(420, 60), (100, 100), (560, 330), (300, 420)]
    planted(woven, [*(flaw("speck", x, y, (1,), "A spot that frame {0} alone shows.", side=10) for x, y in places), FOUND[0]])
    assert "Heal 4 specks" in woven.get(woven.at("/mend")).text
    told = woven.get(woven.at("/mend/findings.json")).json
    spared = next(f["name"] for f in told if f["box"][:2] == [560, 330])
    woven.post(woven.at("/mend/accept"), {"flaw": spared})
    before = len(woven.recipe().strokes)
    answer = woven.post(woven.at("/mend/specks"))
    assert answer.status_code == 200 and "3 specks healed" in answer.text and "Heal 3" not in answer.text
    strokes = woven.recipe().strokes[before:]
    assert len(strokes) == 3 and all(s.action == "heal" and s.source != (0, 0) for s in strokes)
    assert {(s.points[0][0] - 5, s.points[0][1] - 5) for s in strokes} == {(420, 60), (100, 100), (300, 420)}
    states = {tuple(f["box"][:2]): f["state"] for f in woven.get(woven.at("/mend/findings.json")).json}
    assert states == {(420, 60): "mended", (100, 100): "mended", (560, 330): "accepted", (300, 420): "mended", (200, 300): "open"}
    assert woven.post(woven.at("/mend/specks")).status_code == 400
    woven.post(woven.at("/undo/mend"), {})
    assert len(woven.recipe().strokes) == before
    woven.post(woven.at("/mend/accept"), {"flaw": spared})


def test_a_flaw_is_accepted_and_taken_up_again(woven: Page) -> None:
    planted(woven, FOUND)
    name = woven.get(woven.at("/mend/findings.json")).json[0]["name"]
    woven.post(woven.at("/mend/accept"), {"flaw": name})
    assert woven.recipe().accepted == [name] and woven.get(woven.at("/mend/findings.json")).json[0]["state"] == "accepted"
    woven.post(woven.at("/mend/accept"), {"flaw": name})
    assert woven.recipe().accepted == [] and woven.get(woven.at("/mend/findings.json")).json[0]["state"] == "open"


def test_what_is_not_there_is_refused_in_words(woven: Page) -> None:
    planted(woven, FOUND)
    name = woven.get(woven.at("/mend/findings.json")).json[0]["name"]
    for answer in (woven.post(woven.at("/mend/accept"), {"flaw": "soft-9-9"}), woven.get(woven.at("/mend/remedies.json?flaw=")), woven.get(woven.at("/mend/remedy.jpg?flaw=../x&which=0"))):
        assert answer.status_code == 400 and "not there any more" in answer.text
    for which in ("9", "-1", "x"):
        assert woven.post(woven.at("/mend/remedy"), {"flaw": name, "which": which}).status_code == 400
    assert woven.post(woven.at("/mend/remedy"), {"which": "0"}).status_code == 400


def test_what_moved_at_a_place_is_shown_at_other_moments_and_taken_whole(woven: Page, monkeypatch: pytest.MonkeyPatch) -> None:
    planted(woven, [])
    # frames of a place that stood still agree, whatever is asked
    still = woven.get(woven.at("/mend/remedies.json?flaw=at-300-240")).json
    assert still["remedies"] == [] and "No frame that is sharp here" in still["said"]
    assert picture(woven, "/mend/remedy.jpg?flaw=at-300-240&which=").shape == (168, 232, 3)
    outline = ((280.0, 220.0), (330.0, 220.0), (330.0, 260.0), (280.0, 260.0))
    asked = []
    monkeypatch.setattr(findings, "moments_at", lambda laid, weave, place: asked.append(place) or [Moment(2, outline, 1.4), Moment(0, outline, 0.7)])
    woven.client.application.extensions["eaveplane"].kept.clear()
    offered = woven.get(woven.at("/mend/remedies.json?flaw=at-301-241")).json
    assert [(r["label"], r["gain"]) for r in offered["remedies"]] == [("Frame 3", "1.4 × as sharp"), ("Frame 1", "0.7 × as sharp")] and not offered["said"]
    now, then = (picture(woven, f"/mend/remedy.jpg?flaw=at-301-241&which={which}") for which in ("", "0"))
    before = len(woven.recipe().strokes)
    answer = woven.post(woven.at("/mend/remedy"), {"flaw": "at-301-241", "which": "0"})
    assert answer.status_code == 200 and "Moment of frame 3" in answer.text
    strokes = woven.recipe().strokes[before:]
    assert strokes and all(s.action == "draw" and s.fitted and s.frame == woven.recipe().frames[2].id for s in strokes)
    assert np.abs(then - now).max() > 3 and len(asked) == 1, "the pictures of one place are asked for once"
    woven.post(woven.at("/undo/mend"), {})
    assert len(woven.recipe().strokes) == before
    for name in ("at-300", "at-300-240-1", "at--3-4", "at-999999-1"):
        assert woven.get(woven.at(f"/mend/remedies.json?flaw={name}")).status_code == 400
    assert woven.get(woven.at("/mend/remedies.json?flaw=at-99999-99999")).status_code == 200
    assert woven.post(woven.at("/mend/accept"), {"flaw": "at-300-240"}).status_code == 400
    # a weave that is out of date tells nothing of what moved
    scenes.decide(woven.library.db, woven.scene, "Decision", lambda recipe: recipe.model_copy(update={"weaving": recipe.weaving.model_copy(update={"decision": 5.0})}))
    stale = woven.get(woven.at("/mend/remedies.json?flaw=at-300-240"))
    assert stale.status_code == 400 and "Weave the frames first" in stale.text
    woven.post(woven.at("/undo/mend"), {})
    assert woven.get(woven.at("/mend/remedies.json?flaw=at-300-240")).status_code == 200


def test_damaged_findings_are_looked_for_again(woven: Page) -> None:
    key = planted(woven, FOUND)
    (woven.library.cache.path(key) / "flaws.json").write_text('[{"kind": "soft"')
    woven.client.application.extensions["eaveplane"].kept.clear()
    assert woven.get(woven.at("/mend")).status_code == 200 and "Look for flaws" in woven.get(woven.at("/mend")).text
