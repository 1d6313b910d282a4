"""Masks, strokes, the sharp span and variants on the page; the same from a recipe without it."""

from __future__ import annotations

import io
import json
import re
from dataclasses import replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest
import tifffile

from eaveplane.pipeline.steps import Forming, make, open_forming
from eaveplane.pipeline.ticket import Ticket
from eaveplane.pipeline.view import Memory
from eaveplane.store import jobs, scenes
from tests.conftest import Set, delivering, done
from tests.test_cli import run
from tests.web.conftest import Page
from tests.web.test_weave import _do


@pytest.fixture
def woven(page: Page) -> Page:
    """The scene woven by crisp seams, with nothing by hand."""
    page.post(page.at("/weave/way"), {"value": "crisp-seams"})
    page.post(page.at("/weave/mask"), {"frame": "all", "value": "found"})
    page.post(page.at("/weave/span"), {"near": "0", "far": "1"})
    page.post(page.at("/weave/clear"))
    page.post(page.at("/mend/clear"))
    _do(page, "weave")
    return page


def _weave(page: Page) -> Any:
    from eaveplane.web.scene.opened import opened

    with page.client.application.test_request_context():
        view = opened(page.scene).view
        assert view is not None
        return view.weave(0, (0, 0, *view.size)), view


def _stroke(page: Page, **of: object) -> None:
    line = {"action": "in", "width": 120, "softness": 0.3, "opacity": 1, "points": [[300, 250], [420, 260]], **of}
    assert page.post(page.at("/weave/stroke" if line["action"] != "draw" else "/mend/stroke"), {"stroke": json.dumps(line)}).status_code == 200


@pytest.mark.anew
def test_all_masks_by_hand_on_the_page_and_from_the_recipe_are_the_same_pixels(woven: Page, small: Set, tmp_path: Path) -> None:
    page = woven
    near, *_, far = page.recipe().frames
    answer = page.post(page.at("/weave/mask"), {"frame": "all", "value": "hidden"}).text
    assert "All masks hidden" in answer and "mask hidden" in answer
    assert {f.mask for f in page.recipe().kept()} == {"hidden"}
    page.post(page.at("/weave/mask"), {"frame": page.recipe().frames[2].id, "value": "whole"})
    _stroke(page, frame=near.id, points=[[200, 420], [520, 430]], width=160)
    _stroke(page, frame=far.id, points=[[360, 60]], width=260, softness=0.8)
    _stroke(page, frame=far.id, action="out", points=[[360, 60]], width=60)
    _stroke(page, frame=near.id, points=[[600, 300]], width=200, edges=True)
    _do(page, "weave")
    picture, view = _weave(page)
    middle = view.frame(page.recipe().frames[2].id, 0, (0, 0, *view.size))
    np.testing.assert_allclose(picture[200:205, 20:60], middle[200:205, 20:60], atol=1e-5)
    np.testing.assert_allclose(picture[425:430, 300:310], view.frame(near.id, 0, (300, 425, 10, 5)), atol=0.01)
    scenes.decide(page.library.db, page.scene, "Where it goes", lambda r: delivering(r, format="tiff", folder=str(tmp_path)))
    job = jobs.add_job(page.library.db, "deliver", scene_id=page.scene, recipe=page.recipe().to_json())
    page.client.application.extensions["eaveplane"].worker.wake()
    assert done(page.library, job)["state"] == "done"
    written = Path(scenes.results_of(page.library.db, page.scene)[0]["path"])
    recipe = next(tmp_path.glob("*.json"))
    result = run("stack", *small.paths, "--out", tmp_path / "again.tif", "--recipe", recipe)
    assert result.exit_code in (0, 4), result.output
    np.testing.assert_array_equal(tifffile.imread(tmp_path / "again.tif"), tifffile.imread(written))


def test_hiding_a_frame_registers_nothing_anew(woven: Page) -> None:
    from eaveplane.web.scene.opened import opened

    page = woven
    with page.client.application.test_request_context():
        before = {step.name: step.key for step in opened(page.scene).plan.steps()}  # type: ignore[union-attr]
    page.post(page.at("/weave/mask"), {"frame": page.recipe().frames[0].id, "value": "hidden"})
    with page.client.application.test_request_context():
        scene = opened(page.scene)
        after = {step.name: step.key for step in scene.plan.steps()}  # type: ignore[union-attr]
        assert {name for name in after if after[name] != before[name]} == {"places", "label", "weave"} and scene.registered
    # a stroke or a mask that hides nothing from the others asks for nothing
    page.post(page.at("/undo/weave"))
    _stroke(page, frame=page.recipe().frames[0].id)
    with page.client.application.test_request_context():
        assert opened(page.scene).woven


def test_masks_go_out_and_come_in_again_without_a_code_changed(woven: Page, tmp_path: Path) -> None:
    page = woven
    scenes.decide(page.library.db, page.scene, "Where it goes", lambda r: delivering(r, folder=str(tmp_path)))
    _stroke(page, frame=page.recipe().frames[0].id)
    sent = []
    for turn in range(2):
        page.post(page.at("/weave/masks/write"))
        told = done(page.library, jobs.latest(page.library.db, page.scene)["id"])  # type: ignore[index]
        assert told["state"] == "done" and "4 masks written" in str(told["message"])
        folder = Path(str(told["message"]).split("written to ")[1].rstrip("."))
        sent.append({file.name: tifffile.imread(file) for file in sorted(folder.glob("*.mask.tif"))})
        if turn:
            break
        assert sum(m.astype(int) for m in sent[0].values()).min() == sum(m.astype(int) for m in sent[0].values()).max() == 65535
        for frame in page.recipe().kept():
            file = folder / f"{Path(frame.file).stem}.mask.tif"
            answer = page.post(page.at("/weave/mask/file"), {"frame": frame.id, "file": (io.BytesIO(file.read_bytes()), file.name)})
            assert answer.status_code == 200 and "from a file" in answer.text
        page.post(page.at("/weave/clear"))
        picture, _ = _weave(page)
    assert sent[0].keys() == sent[1].keys() and len(sent[0]) == 4
    for name, codes in sent[0].items():
        np.testing.assert_array_equal(codes, sent[1][name])
    assert np.isfinite(picture).all()


def _tiff(codes: np.ndarray) -> io.BytesIO:
    out = io.BytesIO()
    tifffile.imwrite(out, codes, photometric="rgb" if codes.ndim == 3 else "minisblack")
    out.seek(0)
    return out


@pytest.mark.parametrize(
    ("codes", "said"),
    [
        (np.zeros((480, 700), np.uint16), "is 700 × 480 px"),
        (np.zeros((480, 720, 3), np.uint16), "no grey picture of 16 bits"),
        (np.zeros((480, 720), np.uint8), "no grey picture of 16 bits"),
        (None, "cannot be read as a TIFF"),
    ],
)
def test_another_picture_is_no_mask_and_that_is_said(woven: Page, codes: np.ndarray | None, said: str) -> None:
    page = woven
    before, frame = page.recipe(), page.recipe().frames[0].id
    answer = page.post(page.at("/weave/mask/file"), {"frame": frame, "file": (_tiff(codes) if codes is not None else io.BytesIO(b"no picture"), "mine.tif")})
    assert answer.status_code == 409 and answer.text.startswith("mine.tif") and said in answer.text and "720 × 480" in answer.text
    assert page.recipe() == before


def test_strokes_are_told_erased_and_given_to_another_frame(woven: Page) -> None:
    page = woven
    near, other = page.recipe().frames[:2]
    for x in (100, 300, 500):
        _stroke(page, frame=near.id, points=[[x + k * 0.5, 200] for k in range(900)])
    told = page.get(page.at("/weave/strokes.json")).json
    assert len(told) == 3 and all(len(s["points"]) <= 202 and s["points"][-1] == [s["points"][0][0] + 449.5, 200] for s in told)
    assert len({s["name"] for s in told}) == 3
    page.post(page.at("/weave/stroke/change"), {"name": told[1]["name"], "frame": other.id, "stage": "weave"})
    assert [s.frame for s in page.recipe().strokes] == [near.id, other.id, near.id]
    assert page.post(page.at("/weave/stroke/erase"), {"name": told[0]["name"], "stage": "weave"}).status_code == 200
    assert [s.points[0][0] for s in page.recipe().strokes] == [300, 500]
    gone = page.post(page.at("/weave/stroke/erase"), {"name": told[0]["name"], "stage": "weave"})
    assert gone.status_code == 400 and "not there any more" in gone.text
    page.post(page.at("/undo/weave"))
    assert len(page.recipe().strokes) == 3


def test_the_span_is_seen_while_it_is_set_and_decided(woven: Page) -> None:
    page = woven
    plain, view = _weave(page)
    inner, ids = np.s_[24:-24, 24:-24], [f.id for f in page.recipe().kept()]
    farthest = view.shares(0, (0, 0, *view.size))[ids[3]][inner] > 0.99
    ask = "/viewport/weave.jpg?x=0&y=0&w=720&h=480&wide=720"
    first = page.get(page.at(ask)).data
    tried = page.get(page.at(ask + "&span=0,0.4"))
    assert tried.status_code == 200 and tried.data != first and page.get(page.at(ask)).data == first
    assert page.get(page.at(ask + "&span=0.6,0.4")).status_code == 400 and page.get(page.at(ask + "&span=x")).status_code == 400
    answer = page.post(page.at("/weave/span"), {"near": "0", "far": "0.4"}).text
    assert "Sharp from frame 1.0 to 2.2" in answer and page.recipe().span.far == 0.4
    limited, view = _weave(page)
    masks = view.shares(0, (0, 0, *view.size))
    assert farthest.mean() > 0.05 and masks[ids[3]][inner][farthest].mean() < 0.01 and masks[ids[1]][inner][farthest].mean() > 0.98
    # nearer than the span ends nothing changes
    away = masks[ids[0]] > 0.999
    assert away.mean() > 0.03
    np.testing.assert_array_equal(limited[away], plain[away])
    bad = page.post(page.at("/weave/span"), {"near": "0.5", "far": "0.5"})
    assert bad.status_code == 400 and "Move its ends apart" in bad.text


def test_variants_are_kept_chosen_woven_and_compared(woven: Page) -> None:
    page = woven
    answer = page.post(page.at("/weave/variants/keep"), {"name": ""}).text
    assert "Crisp seams" in answer and [v.name for v in page.recipe().variants] == ["Crisp seams"]
    assert page.post(page.at("/weave/variants/keep"), {"name": "again"}).status_code == 400
    page.post(page.at("/weave/way"), {"value": "gentle"})
    page.post(page.at("/weave/set"), {"name": "detail", "value": "5"})
    page.post(page.at("/weave/variants/keep"), {"name": "Crisp seams"})
    assert [v.name for v in page.recipe().variants] == ["Crisp seams", "Crisp seams 2"]
    first, second = (page.get(page.at(f"/viewport/variant:{k}.jpg?x=100&y=100&w=300&h=200&wide=300")) for k in (0, 1))
    assert first.status_code == second.status_code == 200 and first.data != second.data
    assert second.data == page.get(page.at("/viewport/weave.jpg?x=100&y=100&w=300&h=200&wide=300")).data
    assert page.get(page.at("/tile/variant:7/x/0/0/0.jpg")).status_code == 404
    told = page.get(page.at("/weave/apart.json?other=variant:0")).json
    assert told["said"].startswith("They differ in") and 0 <= told["x"] < 720
    assert page.get(page.at("/weave/apart.json?other=variant:1")).json["said"] == "They do not differ visibly."
    page.post(page.at("/weave/variants/weave"), {"variant": "1"})
    assert done(page.library, jobs.latest(page.library.db, page.scene)["id"])["state"] == "done"  # type: ignore[index]
    page.post(page.at("/weave/variants/take"), {"variant": "0"})
    assert page.recipe().weaving.way == "crisp-seams" and page.recipe().weaving.detail == 2
    html = page.get(page.at("/weave")).text
    assert html.count('aria-label="Choose ') == 1 and "Weave Crisp seams" not in html
    for place in ("1", "0"):
        page.post(page.at("/weave/variants/forget"), {"variant": place})
    assert page.recipe().variants == [] and page.post(page.at("/weave/variants/take"), {"variant": "0"}).status_code == 400


def test_where_two_differ_most_is_where_something_else_was_laid(woven: Page) -> None:
    page = woven
    reference = page.recipe().kept()[len(page.recipe().kept()) // 2].id
    page.post(page.at("/weave/mask"), {"frame": "all", "value": "hidden"})
    _do(page, "weave")
    assert page.get(page.at(f"/weave/apart.json?other=frame:{reference}")).json["said"] == "They do not differ visibly."
    _stroke(page, action="draw", frame=page.recipe().frames[0].id, points=[[520, 400]], width=60, softness=0)
    told = page.get(page.at(f"/weave/apart.json?other=frame:{reference}")).json
    assert abs(told["x"] - 520) < 32 and abs(told["y"] - 400) < 32 and "right, below" in told["said"]
    for other in ("", "frame:nobody", "moon", "variant:9"):
        assert 400 <= page.get(page.at(f"/weave/apart.json?other={other}")).status_code < 500
    page.post(page.at("/mend/clear"))


@pytest.mark.anew
def test_the_picture_forms_from_near_to_far_over_the_reference_frame(woven: Page, tmp_path: Path) -> None:
    from eaveplane.web.scene.opened import opened

    page, seen = woven, []
    on_the_way: list[Forming] = []
    page.post(page.at("/weave/veil"), {"value": "leave"})
    page.post(page.at("/weave/way"), {"value": "joint-light"})
    page.post(page.at("/weave/set"), {"name": "detail", "value": "2.7"})
    with page.client.application.test_request_context():
        scene = opened(page.scene)
        view, step, cache = scene.view, scene.plan.woven, scene.desk.library.cache  # type: ignore[union-attr]
        assert view is not None and view.plan is not None
        whole = (0, 0, *view.size)

        class Looking(Ticket):
            def tell(self, share: float) -> None:
                forming = open_forming(cache, step.key)
                on_the_way.extend([forming] if forming else [])
                for count in range(1, len(forming.boxes) + 1 if forming and not seen else 0):
                    so_far = replace(forming, boxes=forming.boxes[:count])
                    seen.append((so_far.boxes, replace(view, forming=so_far, woven=None, pictures=Memory(1 << 28)).weave(0, whole)))

        if not step.labelled.located.is_there(cache):  # type: ignore[union-attr]
            make(str(cache.root), step.labelled.located, str(tmp_path / "ticket"))  # type: ignore[arg-type]
        cache.make(step.key, lambda folder: step.build(cache, folder, Looking(str(tmp_path / "ticket"))))
        assert open_forming(cache, step.key) is None
        made = opened(page.scene).view
        assert made is not None and made.woven is not None
        done, reference = made.weave(0, whole), view.frame(view.middle, 0, whole)
    assert seen
    for boxes, picture in seen:
        there = np.zeros(picture.shape[:2], bool)
        for x, y, w, h in boxes:
            there[y : y + h, x : x + w] = True
        np.testing.assert_array_equal(picture[there], done[there])
        np.testing.assert_array_equal(picture[~there], reference[~there])
    # a picture that was asked for while it formed may come when that is over: done or called off, it is not there any more
    late = replace(view, forming=on_the_way[-1], woven=None, pictures=Memory(1 << 28))
    np.testing.assert_array_equal(late.weave(0, whole), reference)
    page.post(page.at("/weave/way"), {"value": "crisp-seams"})


def test_what_a_piece_is_tried_with_is_there_before_a_ruler_moves(woven: Page, monkeypatch: pytest.MonkeyPatch) -> None:
    from eaveplane.pipeline.view import trial

    page = woven
    ready = re.search(r'data-ready="([^"]+)"', page.get(page.at("/weave")).text)
    assert ready

    def gathered(*_: object) -> None:
        raise AssertionError("gathered now")

    page.client.application.extensions["eaveplane"].pictures.clear()
    with monkeypatch.context() as many:
        # of many frames nothing is gathered before it is asked for
        many.setattr(trial, "FEW_PIXELS", 1000)
        many.setattr(trial, "evidence", gathered)
        assert page.get(ready[1]).status_code == 204
    assert page.get(ready[1]).status_code == 204
    monkeypatch.setattr(trial, "evidence", gathered)
    assert page.get(page.at("/weave/tried.jpg?name=quiet&value=3&x=360&y=300")).status_code == 200


def test_a_ruler_of_the_seams_is_seen_at_one_to_one_before_it_is_let_go(woven: Page) -> None:
    from eaveplane.pipeline.view import seams_tried
    from eaveplane.web.scene.opened import opened

    page = woven

    def asked(**of: object) -> Any:
        return page.get(page.at("/weave/tried.jpg?" + "&".join(f"{k}={v}" for k, v in of.items())))

    shown = cv2.imdecode(np.frombuffer(asked(name="decision", value=0.5, x=360, y=300).data, np.uint8), cv2.IMREAD_COLOR).astype(float)
    assert shown.shape == (150, 402, 3) and np.abs(shown[:, :200] - shown[:, 202:]).mean() > 2
    for bad in ({"name": "nothing", "value": 2, "x": 1, "y": 1}, {"name": "detail", "value": 99, "x": 1, "y": 1}, {"name": "detail", "value": 2, "x": "a", "y": 1}):
        assert asked(**bad).status_code == 400
    with page.client.application.test_request_context():
        view = opened(page.scene).view
        assert view is not None
        box, weaving = (260, 225, 200, 150), page.recipe().weaving.model_copy(update={"quiet": 3.0})
        tried = seams_tried(view, weaving, box, page.recipe().look).astype(float)
        before = seams_tried(view, page.recipe().weaving, box, page.recipe().look).astype(float)
    page.post(page.at("/weave/set"), {"name": "quiet", "value": "3"})
    _do(page, "weave")
    with page.client.application.test_request_context():
        view = opened(page.scene).view
        assert view is not None
        made = seams_tried(view, page.recipe().weaving, box, page.recipe().look).astype(float)
    # sharp zones found from around the piece are nearly those found from all of the picture
    assert np.abs(tried - made).mean() < 0.3 * np.abs(before - made).mean() + 0.05
    page.post(page.at("/weave/reset"), {"group": "Seams"})


def test_a_stroke_laid_over_what_was_there_is_as_if_all_were_laid_at_once(woven: Page) -> None:
    from eaveplane.web.scene.opened import opened

    page = woven
    near, *_, far = page.recipe().frames
    _weave(page)
    for k, frame in enumerate((near, far, near)):
        _stroke(page, frame=frame.id, points=[[200 + 90 * k, 200 + 40 * k]], width=150)
        picture, view = _weave(page)
        kept = view._before_the_last(0, (0, 0, *view.size))
        assert kept is not None
        afresh = replace(view, pictures=Memory(1 << 28)).weave(0, (0, 0, *view.size))
        np.testing.assert_allclose(picture, afresh, atol=2e-3)
        assert np.abs(picture - kept).max() > 0.02
    with page.client.application.test_request_context():
        assert opened(page.scene).view.weave_version() != view.weave_version(2)  # type: ignore[union-attr]


def test_a_spot_is_healed_from_where_its_surroundings_go_on(woven: Page) -> None:
    page = woven
    plain, _ = _weave(page)
    spot = {"action": "heal", "width": 40, "softness": 0.3, "opacity": 1, "points": [[300, 400]]}
    answer = page.post(page.at("/mend/stroke"), {"stroke": json.dumps(spot)})
    assert answer.status_code == 200 and "A spot healed" in answer.text
    (stroke,) = page.recipe().strokes
    assert stroke.source != (0, 0) and np.hypot(*stroke.source) > 30
    healed, _ = _weave(page)
    changed = np.abs(healed - plain).max(axis=2) > 1e-5
    assert changed[400, 300] and not changed[:360].any() and not changed[:, :260].any()
    name = page.get(page.at("/weave/strokes.json")).json[0]["name"]
    answer = page.post(page.at("/weave/stroke/change"), {"name": name, "right": "-90", "down": "4", "stage": "mend"})
    assert answer.status_code == 200 and page.recipe().strokes[0].source == (-90, 4)
    name = page.get(page.at("/weave/strokes.json")).json[0]["name"]
    for bad in ({"right": "0", "down": "0"}, {"right": "x", "down": "1"}, {"frame": page.recipe().frames[0].id}):
        assert page.post(page.at("/weave/stroke/change"), {"name": name, "stage": "mend", **bad}).status_code == 400
    nowhere = page.post(page.at("/mend/stroke"), {"stroke": json.dumps({**spot, "width": 1400})})
    assert nowhere.status_code == 400 and "narrower brush" in nowhere.text
    assert page.post(page.at("/weave/stroke"), {"stroke": json.dumps(spot)}).status_code == 400
    page.post(page.at("/mend/clear"))


def test_edges_are_walked_and_the_sharpest_frame_at_a_place_is_told(woven: Page) -> None:
    page = woven
    stops = page.get(page.at("/mend/walk.json")).json
    _, view = _weave(page)
    assert stops and all(s["near"] < s["far"] for s in stops) and [s["near"] for s in stops] == sorted(s["near"] for s in stops)
    ids = [f.id for f in page.recipe().kept()]
    masks = view.shares(0, (0, 0, *view.size))
    right = total = 0
    for id in ids:
        soft = cv2.blur(masks[id], (61, 61))[60:-60, 60:-60]
        y, x = np.unravel_index(int(soft.argmax()), soft.shape)
        told = page.get(page.at(f"/mend/sharpest.json?x={x + 60}&y={y + 60}&width=60")).json["frame"]
        total += told is not None
        right += told == id
    assert total >= 3 and right == total
    assert page.get(page.at("/mend/sharpest.json?x=a&y=1&width=3")).status_code == 400
    assert page.get(page.at("/mend/sharpest.json?x=1e9&y=1&width=3")).json == {"frame": None}


def test_a_mask_that_takes_anothers_place_is_seen_at_once(woven: Page) -> None:
    page = woven
    frame = page.recipe().frames[0].id

    def given(codes: np.ndarray, weave: bool) -> np.ndarray:
        assert page.post(page.at("/weave/mask/file"), {"frame": frame, "file": (_tiff(codes), "mine.tif")}).status_code == 200
        if weave:
            _do(page, "weave")
        _, view = _weave(page)
        return np.asarray(view.shares(0, (0, 0, *view.size)).get(frame, np.zeros((480, 720), np.float32)))

    left, right = np.zeros((480, 720), np.uint16), np.zeros((480, 720), np.uint16)
    left[100:200, 100:200], right[100:200, 500:600] = 65535, 65535
    first = given(left, weave=True)
    assert first[150, 150] > 0.99 and first[150, 550] == 0
    second = given(right, weave=False)
    assert second[150, 150] == 0 and second[150, 550] > 0.99
