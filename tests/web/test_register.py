"""Register on the page: whether the camera moved is measured, said, and shown."""

from __future__ import annotations

import re

import numpy as np
import pytest

from eaveplane.core.register import moved
from eaveplane.imaging.placement import Shift
from eaveplane.store import jobs
from eaveplane.web.register import shifted_grid
from tests.pipeline.test_work import done
from tests.web.conftest import Page


def _registered(page: Page) -> str:
    page.post(page.at("/register/go"))
    assert done(page.library, jobs.latest(page.library.db, page.scene)["id"])["state"] == "done"  # type: ignore[index]
    return str(page.get(page.at("/register")).text)


def test_a_camera_that_stood_shows_no_shift_and_one_said_to_have_moved_does(page: Page, monkeypatch: pytest.MonkeyPatch) -> None:
    assert page.get(page.at("/register/shifts.json")).json == {}
    table = _registered(page)
    assert "measured: stood" in table and "Near things" not in table and 'id="shifts"' not in table
    # a tripod's frames: however little they tell of a step, it is looked for when a hand says so
    monkeypatch.setattr(moved, "LEAST_STEP", 0.0)
    assert page.post(page.at("/register/camera"), {"camera": "yes"}).status_code == 200
    assert page.recipe().camera_moved == "yes"
    table = _registered(page)
    assert "Near things" in table and 'id="shifts"' in table
    grids = page.get(page.at("/register/shifts.json")).json
    kept = [f.id for f in page.recipe().kept()]
    assert grids and set(grids) < set(kept) and all(g["path"].startswith("M") for g in grids.values())
    assert page.post(page.at("/register/camera"), {"camera": "sideways"}).status_code == 400
    assert page.recipe().camera_moved == "yes"


def test_the_grid_is_shifted_so_far_that_it_is_seen() -> None:
    still = shifted_grid(Shift(np.zeros(3), np.ones((4, 6), np.float32), (600, 400)))
    beside = shifted_grid(Shift(np.array([2.0, 0, 0]), np.ones((4, 6), np.float32), (600, 400)))
    assert beside["times"] == 10 and still["times"] == 50
    (x0, y0), (x1, y1) = ([float(v) for v in re.match(r"M([\d.]+) ([\d.]+)", g["path"]).groups()] for g in (still, beside))  # type: ignore[union-attr]
    assert (x1 - x0, y1 - y0) == (20, 0)
