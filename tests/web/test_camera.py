"""The pages of planner and field camera without a browser: what they refuse, what they promise."""

from __future__ import annotations

import json

from eaveplane.store import jobs
from tests.conftest import done
from tests.web.conftest import Page


def test_a_plan_that_makes_no_sense_says_what_to_do(page: Page) -> None:
    assert "6 shots" in page.get("/planner/").text
    assert "Change one of them" in page.get("/planner/answer?nearest_m=5&farthest_m=2").text
    assert "Aperture:" in page.get("/planner/answer?f_number=900").text
    assert "Focal length:" in page.get("/planner/?focal_mm=long").text
    assert "1 shot," in page.get("/planner/answer?nearest_m=6&f_number=16&blur_px=6").text


def test_an_order_is_settled_when_it_is_given(page: Page) -> None:
    answer = page.post("/camera/shoot", {"form": 1, "landscape": "saltpan", "long_side_px": 300, "count": 2, "marker": 1})
    assert answer.status_code == 200 and 'id="card"' in answer.text
    page.post("/camera/shoot", {"form": 1, "landscape": "saltpan", "long_side_px": 300, "count": 2, "seed": 2, "fresh_numbers": 1})
    first, second = sorted((row for row in jobs.shootings(page.library.db)), key=lambda row: int(row["id"]))[:2]
    a, b = json.loads(first["arguments"]), json.loads(second["arguments"])
    assert (a["folder"], a["first"], a["frames"]) == ("101SALTPAN", 1, 3)
    assert (b["folder"], b["first"]) == ("102SALTPAN", 1)
    assert done(page.library, first["id"])["state"] == "done" and done(page.library, second["id"])["state"] == "done"
    assert len(list((page.library.card / "101SALTPAN").glob("FIELD*.dng"))) == 3
    preview = page.get("/camera/frame/101SALTPAN/2.jpg")
    assert preview.status_code == 200 and preview.data[:2] == b"\xff\xd8"
    listed = page.get("/camera/card").text
    assert "101SALTPAN" in listed and "3 not on the shelf yet" in listed
    page.post("/camera/bring-in")
    assert "Field camera" in page.get("/").text


def test_what_is_out_of_range_or_not_on_the_card_is_refused(page: Page) -> None:
    assert page.post("/camera/shoot", {"form": 1, "landscape": "moon"}).status_code == 400
    assert "Frames:" in page.post("/camera/shoot", {"form": 1, "count": -3}).text
    assert "fill the card" in page.post("/camera/shoot", {"form": 1, "count": 200, "long_side_px": 12000}).text
    assert page.get("/camera/cost?count=many").status_code == 400
    for folder in ("..", "101LARCH", "%2e%2e", "101SALTPAN%2F.."):
        assert page.get(f"/camera/frame/{folder}/1.jpg").status_code in (404, 308)
    assert page.get("/camera/frame/101SALTPAN/99.jpg").status_code == 404
