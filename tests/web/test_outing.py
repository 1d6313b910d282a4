"""The outing's routes: dealing frames out, refusals, pictures of a first look; Gather's proposals and zones."""

from __future__ import annotations

import shutil
from pathlib import Path

import cv2
import numpy as np
import pytest

from eaveplane.core.gather.verdicts import Verdict
from eaveplane.recipe import FrameChoice
from eaveplane.store import arrangements, jobs, outings, scenes
from eaveplane.web.gather import outline
from eaveplane.web.scene.opened import ScenePage
from tests.conftest import Set, done, settled
from tests.web.conftest import Page


def frames(page: Page, scene: int) -> list[str]:
    return [f.id for f in scenes.recipe_of(page.library.db, scene).frames]


def test_strips_are_split_joined_moved_and_undone(page: Page) -> None:
    ids = frames(page, page.scene)
    assert page.get("/outing/1").text.count("data-frame=") == 4
    assert page.post("/outing/1/split", {"frame": ids[0]}).status_code == 400
    assert page.post("/outing/1/join", {"frame": ids[0]}).status_code == 400
    assert page.post("/outing/1/move", {"frame": ids[0], "to": "above"}).status_code == 400
    assert page.post("/outing/1/split", {"frame": "nobody"}).status_code == 404
    assert page.post("/outing/9/split", {"frame": ids[0]}).status_code == 404
    page.post("/outing/1/split", {"frame": ids[2]})
    settled(page.library)
    rows = scenes.scenes_of(page.library.db, 1)
    second = rows[-1]["id"]
    assert frames(page, page.scene) == ids[:2] and frames(page, second) == ids[2:]
    page.post("/outing/1/move", {"frame": ids[1], "to": str(second)})
    assert frames(page, page.scene) == ids[:1] and frames(page, second) == ids[1:]
    page.post("/outing/1/join", {"frame": ids[2]})
    assert frames(page, page.scene) == ids and frames(page, second) == []
    assert page.get("/outing/1").text.count('class="scene-strip"') == 1 and page.get("/").text.count('class="scene-card"') == 1
    for _ in range(3):
        page.post("/outing/1/undo")
    assert frames(page, page.scene) == ids and "disabled" in page.post("/outing/1/undo").text
    page.post("/outing/1/redo")
    assert frames(page, page.scene) == ids[:2] and frames(page, second) == ids[2:]
    page.post("/outing/1/undo")
    settled(page.library)


def test_a_marker_is_declared_and_taken_back(page: Page) -> None:
    id = frames(page, page.scene)[1]
    page.post("/outing/1/marker", {"frame": id})
    marked = scenes.recipe_of(page.library.db, page.scene).frames
    # a marker has no place from near to far
    assert marked[-1].id == id and marked[-1].reason == "marker"
    page.post("/outing/1/marker", {"frame": id})
    back = scenes.recipe_of(page.library.db, page.scene).frames
    assert [f.state for f in back] == ["keep"] * 4 and [f.id for f in back].index(id) == 1
    page.post("/outing/1/leave-out", {"frame": id})
    assert scenes.recipe_of(page.library.db, page.scene).frames[1].reason == "by hand"
    for _ in range(3):
        page.post("/outing/1/undo")
    settled(page.library)


def test_pictures_of_a_first_look_are_served_by_what_they_show(page: Page) -> None:
    id = frames(page, page.scene)[0]
    sizes = {}
    for what in ("thumb", "screen"):
        answer = page.get(f"/outing/1/{what}/{id}.jpg")
        assert answer.status_code == 200 and "immutable" in answer.headers["Cache-Control"]
        sizes[what] = cv2.imdecode(np.frombuffer(answer.data, np.uint8), cv2.IMREAD_COLOR).shape
    assert sizes["thumb"][1] == 320 and sizes["screen"][1] >= 360
    for bad in ("/outing/1/thumb/nobody.jpg", f"/outing/1/codes/{id}.jpg", "/outing/1/thumb/..%2f..%2fx.jpg"):
        assert page.get(bad).status_code == 404


def test_proposals_are_left_out_with_their_reasons(page: Page, monkeypatch: pytest.MonkeyPatch) -> None:
    ids = frames(page, page.scene)
    verdicts = dict.fromkeys(ids, Verdict()) | {ids[1]: Verdict("shaken", "It shook."), ids[3]: Verdict("shaken", "It moved; but without it some places would be soft.", needed=True)}
    monkeypatch.setattr(ScenePage, "inspected", verdicts)
    text = page.get(page.at("/gather")).text
    assert "2 frames</b>" in text and "It shook." in text and "some places would be soft" in text and text.count("shaken?") == 2 and "shaken but needed" in text
    page.post(page.at("/gather/proposals"))
    assert [(f.state, f.reason) for f in page.recipe().frames] == [("keep", None), ("leave_out", "shaken"), ("keep", None), ("keep", None)]
    page.post(page.at("/gather/bring-back"))
    assert [f.state for f in page.recipe().frames] == ["keep"] * 4
    monkeypatch.setattr(ScenePage, "inspected", dict.fromkeys(ids, Verdict("shaken", "It shook.")))
    assert page.post(page.at("/gather/proposals")).status_code == 400
    for _ in range(2):
        page.post(page.at("/undo/gather"))


def test_zones_are_outlines_in_pixels_of_the_picture(page: Page) -> None:
    answer = page.get(page.at("/gather/zones.json")).json
    assert set(answer["zones"]) == set(frames(page, page.scene)) and answer["bands"] == [] == answer["boxes"]
    assert all(path.startswith("M") for path in answer["zones"].values())
    zone = np.zeros((40, 60), bool)
    zone[10:20, 30:50] = True
    numbers = np.array([[float(v) for v in point.strip("MZ").split()] for point in outline(zone, 16).replace("Z", "").split("L")])
    assert np.abs(numbers.min(axis=0) - [480, 160]).max() < 16 and np.abs(numbers.max(axis=0) - [800, 320]).max() < 16
    assert outline(np.zeros((40, 60), bool), 16) == ""


def test_frames_stay_registered_for_the_eye_when_one_is_left_out(page: Page) -> None:
    before = {f["id"]: f["version"] for f in page.state(page.get(page.at("/gather")).text)["frames"]}
    ids = frames(page, page.scene)
    page.post(page.at("/gather/leave-out"), {"frame": ids[3]})
    after = {f["id"]: f["version"] for f in page.state(page.get(page.at("/gather")).text)["frames"]}
    # shown as the inspection laid them, which is what was shown before: nothing jumps, nothing is loaded anew
    assert after == before
    page.post(page.at("/undo/gather"))


def test_an_exposure_is_chosen_for_one_frame_or_all(page: Page) -> None:
    first = page.recipe().frames[0]
    page_frames = page.recipe().frames
    bracket = FrameChoice(id="b" * 12, file="b", exposures=[{"id": f.id, "file": f.file} for f in page_frames[:2]])  # type: ignore[list-item]
    arrangements.arrange(page.library.db, 1, "made a bracket", {page.scene: [bracket, *page_frames[2:]]}, lambda number, before, after: after)
    assert "merged" not in page.recipe().frames[0].use and page.recipe().frames[0].sources() == [f.id for f in page_frames[:2]]
    assert page.post(page.at("/gather/exposure"), {"frame": bracket.id, "use": first.id, "all": 1}).status_code == 200
    assert page.recipe().frames[0].sources() == [first.id]
    settled(page.library)
    assert set(page.state(page.get(page.at("/gather")).text)["frames"][0]["version"])
    assert page.post(page.at("/gather/exposure"), {"frame": bracket.id, "use": "nobody"}).status_code == 400
    page.post(page.at("/gather/exposure"), {"frame": bracket.id, "use": ""})
    assert page.recipe().frames[0].use == ""
    settled(page.library)
    text = page.get(page.at("/gather")).text
    assert "2 exp. merged" in text
    page.post("/outing/1/undo")
    settled(page.library)
    assert frames(page, page.scene) == [f.id for f in page_frames]


def test_a_card_is_copied_where_that_is_asked_for(page: Page, small: Set, tmp_path: Path) -> None:
    card = tmp_path / "stick"
    card.mkdir()
    for path in small.paths[:2]:
        shutil.copy(path, card)
    cv2.imwrite(str(card / f"{small.paths[0].stem}.jpg"), np.zeros((80, 120, 3), np.uint8))
    answer = page.post("/shelf/folder", {"folder": str(card), "copy": "1"})
    number = int(answer.headers["Location"].rsplit("/", 1)[-1])
    row = jobs.latest_of_outing(page.library.db, number)
    assert row is not None
    # what the camera wrote beside its raw file is not a frame of its own
    assert "FIELD0001.jpg" in str(done(page.library, row["id"])["message"])
    settled(page.library)
    shutil.rmtree(card)
    files = outings.files_of(page.library.db, number)
    assert [f["name"] for f in files] == [p.name for p in small.paths[:2]] and all(Path(f["path"]).is_relative_to(page.library.uploads) and Path(f["path"]).exists() for f in files)
    assert "are not where they were" not in page.get(f"/outing/{number}").text
    page.post(f"/outing/{number}/remove")
