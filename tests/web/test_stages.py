"""Every stage's decisions, posted as the page posts them."""

from __future__ import annotations

import io
import json
import re
import shutil
from pathlib import Path

import cv2
import numpy as np
import pytest

from eaveplane.core.develop.look import RAW_LOOK, Look
from eaveplane.core.finish.settings import Finish
from eaveplane.core.weave.weave import Weaving
from eaveplane.store import jobs, outings
from tests.conftest import done
from tests.web.conftest import Page

STAGES = ["gather", "even", "register", "weave", "mend", "finish", "deliver"]


def picture(page: Page, url: str, look: Look | None = None) -> np.ndarray:
    answer = page.get(page.at(url)) if look is None else page.post(page.at(url), data=look.model_dump_json())
    assert answer.status_code == 200, answer.text
    return np.asarray(cv2.imdecode(np.frombuffer(answer.data, np.uint8), cv2.IMREAD_COLOR))


def undo(page: Page) -> None:
    assert page.post(page.at("/undo/gather")).status_code == 200


@pytest.mark.parametrize("slug", STAGES)
def test_every_stage_is_a_page_and_a_piece(page: Page, slug: str) -> None:
    whole = page.get(page.at(f"/{slug}"))
    assert whole.status_code == 200 and "<!doctype html>" in whole.text and 'aria-current="step"' in whole.text
    piece = page.get(page.at(f"/{slug}"), headers={"HX-Request": "true"})
    assert "<!doctype" not in piece.text and piece.text.count("hx-swap-oob") >= 5
    assert page.state(whole.text)["size"] == [720, 480]


def test_frames_are_named_moved_left_out_and_brought_back(page: Page) -> None:
    ids = [f.id for f in page.recipe().frames]
    page.post(page.at("/gather/name"), {"frame": ids[1], "name": "  Crack <b> "})
    assert page.recipe().frames[1].name == "Crack <b>" and "Crack &lt;b&gt;" in page.get(page.at("/gather")).text
    page.post(page.at("/gather/move"), {"frame": ids[0], "to": 2})
    assert [f.id for f in page.recipe().frames] == [ids[1], ids[2], ids[0], ids[3]]
    page.post(page.at("/gather/order"))
    assert [f.id for f in page.recipe().frames] == ids
    page.post(page.at("/gather/leave-out"), {"frame": ids[3]})
    assert [f.id for f in page.recipe().kept()] == ids[:3]
    assert "left out: by hand" in page.get(page.at("/gather")).text
    page.post(page.at("/gather/leave-out"), {"frame": ids[3]})
    assert [f.id for f in page.recipe().kept()] == ids
    assert page.post(page.at("/gather/leave-out"), {"frame": "nobody"}).status_code == 404
    for id in ids[1:]:
        page.post(page.at("/gather/leave-out"), {"frame": id})
    last = page.post(page.at("/gather/leave-out"), {"frame": ids[0]})
    assert last.status_code == 400 and "last frame" in last.text
    for _ in range(8):
        undo(page)
    assert [f.id for f in page.recipe().kept()] == ids and page.recipe().frames[1].name == ""


def test_a_slider_is_seen_before_and_after_it_is_posted(page: Page) -> None:
    view = "/viewport/weave.jpg?x=0&y=0&w=720&h=480&wide=540"
    plain, tried = picture(page, view), picture(page, view, RAW_LOOK.model_copy(update={"exposure": 1.5}))
    assert tried.mean() > plain.mean() + 20
    answer = page.post(page.at("/even/set"), {"name": "exposure", "value": 1.5})
    assert answer.status_code == 200 and page.recipe().look.exposure == 1.5
    assert np.abs(picture(page, view).astype(int) - tried).mean() < 7
    assert "Undo: Exposure +1.5 EV" in answer.text
    before = picture(page, view + "&before=1")
    undo(page)
    assert page.recipe().look == RAW_LOOK and np.abs(before.astype(int) - picture(page, view)).mean() < 12
    for bad in ({"name": "exposure", "value": 9}, {"name": "exposure", "value": "much"}, {"name": "magic", "value": 1}, {"value": 1}):
        assert page.post(page.at("/even/set"), bad).status_code == 400
    page.post(page.at("/even/set"), {"name": "tint", "value": 12})
    page.post(page.at("/even/reset"), {"group": "White balance"})
    assert page.recipe().look.tint == 0
    page.post(page.at("/even/drift"), {"on": 0})
    assert not page.recipe().even_out
    for _ in range(3):
        undo(page)


def test_the_histogram_tells_what_is_lost(page: Page) -> None:
    calm = page.get(page.at("/tones.json")).json
    loud = page.post(page.at("/tones.json"), data=Look(exposure=4, white_end=100).model_dump_json()).json
    assert calm["white"] < 1 < 20 < loud["white"] and sorted(calm["lines"]) == ["blue", "green", "luma", "red"]
    assert loud["whitePixels"] == pytest.approx(loud["white"] / 100 * 720 * 480, rel=0.01) and calm["curve"].startswith("0.0,100.0")


def test_tiles_make_up_the_picture(page: Page) -> None:
    state = page.state(page.get(page.at("/gather")).text)
    frame = state["frames"][0]
    tiles = [[picture(page, f"/tile/frame:{frame['id']}/{frame['version']}/0/{x}/{y}.jpg") for x in range(2)] for y in range(1)]
    whole = np.concatenate([np.concatenate(row, axis=1) for row in tiles])
    assert whole.shape == (480, 720, 3)
    small = picture(page, f"/thumb/frame:{frame['id']}/{frame['version']}.jpg")
    assert np.abs(cv2.resize(whole, small.shape[1::-1], interpolation=cv2.INTER_AREA).astype(int) - small).mean() < 6


def test_register_weave_paint_mend_finish_deliver(page: Page, tmp_path: Path) -> None:
    db = page.library.db
    recipe = page.recipe()
    ids = [f.id for f in recipe.frames]
    assert page.post(page.at("/even/go")).status_code == 200
    assert done(page.library, jobs.latest(db, page.scene)["id"])["state"] == "done"  # type: ignore[index]
    table = page.get(page.at("/register")).text
    assert table.count("data-nudge=&#34;{") + table.count("data-nudge=\"{") == 4 and "Weave 4 frames" in table and re.search(r"[+-]\d\.\d\d %", table)
    page.post(page.at("/register/reference"), {"frame": ids[1]})
    stale = page.get(page.at("/register")).text
    assert "Register, out of date" in stale and "Register 4 frames" in stale
    undo(page)
    page.post(page.at("/register/canvas"), {"canvas": "reference"})
    assert page.recipe().canvas == "reference"
    undo(page)

    assert page.post(page.at("/register/go")).status_code == 200
    assert done(page.library, jobs.latest(db, page.scene)["id"])["message"] == "4 frames woven."  # type: ignore[index]
    woven = page.get(page.at("/weave")).text
    assert "On to Mend" in woven and "Weave, done" in woven
    share = picture(page, "/viewport/share.jpg?x=0&y=0&w=720&h=480&wide=540")
    assert cv2.cvtColor(share, cv2.COLOR_BGR2HSV)[..., 1].mean() > 40

    spot = f"/tile/weave/{{}}/0/0/0.jpg?s={page.state(woven)['version']}"
    plain = picture(page, spot.format("a"))
    stroke = {"action": "in", "frame": ids[3], "width": 107, "softness": 0.4, "opacity": 1, "points": [[467, 413], [507, 427]]}
    answer = page.post(page.at("/weave/stroke"), {"stroke": json.dumps(stroke)})
    assert answer.status_code == 200 and "Undo: Frame 4 painted in" in answer.text
    painted = picture(page, spot.format("b"))
    changed = np.abs(painted.astype(int) - plain).max(axis=2)
    assert changed[408:428, 468:500].mean() > 3 and changed[:20, :100].max() == 0
    undo(page)
    np.testing.assert_array_equal(picture(page, spot.format("c")), plain)
    drawn = {**stroke, "action": "draw"}
    assert page.post(page.at("/weave/stroke"), {"stroke": json.dumps(drawn)}).status_code == 400
    assert page.post(page.at("/mend/stroke"), {"stroke": json.dumps(drawn)}).status_code == 200
    frame = picture(page, f"/tile/frame:{ids[3]}/x/0/0/0.jpg")
    assert np.abs(picture(page, spot.format("d"))[418:424, 478:494].astype(int) - frame[418:424, 478:494]).max() <= 8
    for bad in ("{}", "[", json.dumps({**drawn, "width": -3}), json.dumps({**drawn, "points": []}), json.dumps({**drawn, "points": [[1e9, 0]]})):
        assert page.post(page.at("/mend/stroke"), {"stroke": bad}).status_code == 400
    page.post(page.at("/mend/clear"))
    assert page.recipe().strokes == []
    undo(page)

    page.post(page.at("/finish/set"), {"name": "straighten", "value": 1.5})
    page.post(page.at("/finish/crop"), {"x": 0.1, "y": 0.2, "w": 0.8, "h": 0.6, "ratio": "2:1"})
    for bad in ({"x": 2, "y": 0, "w": 1, "h": 1, "ratio": "free"}, {"x": 0, "y": 0, "w": 0, "h": 1, "ratio": "free"}, {"x": 0, "y": 0, "w": 1, "h": 1, "ratio": "7:0"}, {"ratio": "free"}):
        assert page.post(page.at("/finish/crop"), bad).status_code == 400
    page.post(page.at("/finish/set"), {"name": "sharpen", "value": 80})
    assert page.recipe().finish.crop.w == pytest.approx(0.8)

    for name, value in (("format", "jpeg"), ("profile", "rec2020"), ("size", "edge"), ("long_edge", 400), ("name", "{scene}/../{frames}f"), ("folder", str(tmp_path))):
        assert page.post(page.at("/deliver/set/0"), {"name": name, "value": value}).status_code == 200
    for name, value in (("format", "gif"), ("long_edge", "wide"), ("folder", "relative/path"), ("folder", "/not/there"), ("anything", "1")):
        assert page.post(page.at("/deliver/set/0"), {"name": name, "value": value}).status_code == 400
    page.post(page.at("/deliver/go"))
    ended = done(page.library, jobs.latest(db, page.scene)["id"])  # type: ignore[index]
    assert ended["state"] == "done"
    (out,) = tmp_path.glob("*.jpg")
    assert out.name == "Salt pan 1-..-4f.jpg" and cv2.imread(str(out)).shape[1] == 400
    shelf = page.get(page.at("/deliver")).text
    number = re.search(r"/deliver/result/(\d+)", shelf)[1]  # type: ignore[index]
    assert page.get(page.at(f"/deliver/result/{number}")).data == out.read_bytes() and "Deliver, done" in shelf
    assert json.loads(page.get(page.at("/deliver/recipe.json")).text)["finish"]["sharpen"] == 80
    out.unlink()
    assert "not there any more" in page.get(page.at(f"/deliver/result/{number}"), headers={"X-Plain": "1"}).text


def test_parameters_go_back_and_strokes_need_a_frame_that_is_kept(page: Page) -> None:
    for url, name, value in (("/weave/set", "detail", 3), ("/weave/set", "seam", 4), ("/finish/set", "sharpen", 70), ("/finish/set", "straighten", -2)):
        assert page.post(page.at(url), {"name": name, "value": value}).status_code == 200
    page.post(page.at("/finish/crop"), {"x": 0.1, "y": 0.1, "w": 0.5, "h": 0.5, "ratio": "1:1"})
    changed = page.recipe()
    assert changed.weaving.detail == 3 and changed.finish.straighten == -2 and changed.finish.ratio == "1:1"
    for bad in ({"name": "detail", "value": 999}, {"name": "detail", "value": "wide"}, {"name": "none", "value": 1}):
        answer = page.post(page.at("/weave/set"), bad)
        assert answer.status_code == 400 and "Traceback" not in answer.text
    page.post(page.at("/finish/reset"), {"group": "Crop"})
    assert page.recipe().finish.ratio == Finish().ratio and page.recipe().finish.crop == Finish().crop and page.recipe().finish.sharpen == 70
    page.post(page.at("/finish/reset"), {"group": "all"})
    page.post(page.at("/weave/reset"), {"group": "all"})
    assert page.recipe().finish == Finish() and page.recipe().weaving == Weaving()

    frame = page.recipe().frames[2]
    stroke = {"action": "out", "frame": frame.id, "width": 90, "softness": 0.5, "opacity": 1, "points": [[300, 300], [360, 310]]}
    page.post(page.at("/gather/leave-out"), {"frame": frame.id})
    answer = page.post(page.at("/weave/stroke"), {"stroke": json.dumps(stroke)})
    assert answer.status_code == 400 and "This frame is left out. Bring it back before you paint with it." in answer.text
    undo(page)
    answer = page.post(page.at("/weave/stroke"), {"stroke": json.dumps(stroke)})
    assert answer.status_code == 200 and "Frame 3 painted out" in answer.text
    assert page.post(page.at("/weave/stroke"), {"stroke": json.dumps({**stroke, "frame": "f" * 12})}).status_code in (400, 404)
    # the masks' own strokes go, drawn ones stay
    page.post(page.at("/mend/stroke"), {"stroke": json.dumps({**stroke, "action": "draw"})})
    page.post(page.at("/weave/clear"))
    assert {s.action for s in page.recipe().strokes} == {"draw"}
    page.post(page.at("/mend/clear"))
    assert page.recipe().strokes == []


def test_the_shelf_shows_and_brings_in(page: Page, tmp_path: Path) -> None:
    shelf = page.get("/").text
    assert "Salt pan 1" in shelf and page.get("/outing/1").status_code == 200
    for bad in ("", "relative", str(tmp_path / "none"), str(page.library.home)):
        assert page.post("/shelf/folder", {"folder": bad}).status_code == 400
    assert page.post("/shelf/folder", {"folder": str(tmp_path)}).status_code == 302
    row = next(r for r in outings.outings(page.library.db) if r["folder"] == str(tmp_path))
    job = jobs.latest_of_outing(page.library.db, row["id"])
    assert job is not None and done(page.library, job["id"])["message"] == "There are no pictures in this folder."
    (tmp_path / "below").mkdir()
    assert str(tmp_path / "below") in page.get("/shelf/folders", query_string={"folder": f"{tmp_path}/be"}).text
    page.post("/scene/1/rename", {"name": "Dawn", "stage": "gather"})
    page.post("/outing/1/rename", {"name": "Pan"})
    assert "Dawn" in page.get("/").text and "Pan" in page.get("/queue/").text
    page.post("/scene/1/rename", {"name": "Salt pan 1", "stage": "gather"})


def test_an_upload_becomes_a_scene(page: Page, small) -> None:  # type: ignore[no-untyped-def]
    number = page.post("/shelf/upload", {"name": "From a card"}).json["outing"]
    for path in small.paths[:2]:
        data = path.read_bytes()
        sent = page.post(f"/shelf/upload/{number}/file", query_string={"name": "same name.dng"}, input_stream=io.BytesIO(data), content_length=len(data), content_type="application/octet-stream")
        assert sent.json == {"file": "same name.dng", "bytes": len(data)}
    page.post(f"/shelf/upload/{number}/done")
    row = jobs.latest_of_outing(page.library.db, number)
    assert row is not None and done(page.library, row["id"])["message"] == "2 frames brought in."
    listed = page.get(f"/outing/{number}").text
    assert listed.count("same name.dng") == 2 and "From a card 1" in listed
    assert "Salt pan" not in listed and "From a card" in page.get("/shelf/outings").text
    page.post(f"/outing/{number}/remove")
    assert page.get(f"/outing/{number}").status_code == 404
    assert len(list((page.library.uploads / str(number)).iterdir())) == 2


def test_the_queue_tells_and_cancels(idle: Page) -> None:
    job = jobs.add_job(idle.library.db, "weave", scene_id=idle.scene)
    assert "Waits" in idle.get("/queue/head").text and "waits" in idle.get("/queue/list").text
    assert "Nothing is being computed" in idle.post(f"/queue/{job}/cancel").text
    assert idle.post("/queue/9999/cancel").status_code == 404


def test_a_cleared_cache_is_filled_again(idle: Page) -> None:
    for entry in idle.library.cache.root.glob("decode-*"):
        shutil.rmtree(entry)
    idle.client.application.extensions["eaveplane"].kept.clear()
    told = idle.state(idle.get(idle.at("/gather")).text)
    assert told["busy"] and told["size"] is None
    # nothing has a size, and what is decided meanwhile is taken all the same
    assert idle.post(idle.at("/finish/set"), {"name": "straighten", "value": -2}).status_code == 200
    assert idle.get(idle.at("/finish")).status_code == idle.get(idle.at("/deliver")).status_code == 200
    assert [j["kind"] for j in jobs.open_jobs(idle.library.db) if j["scene_id"] == idle.scene].count("inspect") == 1
    idle.get(idle.at("/even"))
    waiting = [j for j in jobs.open_jobs(idle.library.db) if j["scene_id"] == idle.scene and j["kind"] == "inspect"]
    assert len(waiting) == 1
    # what was called off stays so, whoever looks at the scene
    idle.post(f"/queue/{waiting[0]['id']}/cancel")
    idle.get(idle.at("/gather"))
    assert not [j for j in jobs.open_jobs(idle.library.db) if j["scene_id"] == idle.scene]
