"""What an order makes: focus positions, mistakes, a card that can be taken up again, truth in files."""

from __future__ import annotations

import itertools
import json
import math
from datetime import datetime
from pathlib import Path

import numpy as np
import pytest
import rawpy
import tifffile
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from eaveplane.fieldcam.demo import CARD
from eaveplane.fieldcam.order import Order, focus_positions, frames_of
from eaveplane.fieldcam.outing import carry_out, next_folder, next_number, reference_of, shots_of
from eaveplane.imaging.exif import read_metadata
from eaveplane.imaging.formats.registry import read_picture

SMALL = {"long_side_px": 300.0}


@given(st.floats(0.3, 3), st.integers(1, 30), st.floats(0.02, 0.8), st.booleans())
def test_steps_are_even_and_stop_at_infinity(nearest: float, count: int, step: float, stop: bool) -> None:
    found = focus_positions(Order(nearest_m=nearest, count=count, step_dioptres=step, stop_at_infinity=stop))
    assert found[0] == pytest.approx(1 / nearest)
    assert all(a > b for a, b in itertools.pairwise(found))
    if stop:
        assert found[-1] >= 0 and len(found) <= count
    else:
        assert np.allclose(np.diff(found), -step) and len(found) == count


def test_mistakes_are_made_and_told() -> None:
    shots, wrong = shots_of(Order(count=6, overshoot=2, gap=True, bumped=True, marker=True, brackets=3, wind=0.5, drift_ev=0.2))
    assert len(shots) == 1 + 3 * (5 + 2)
    assert shots[0].hand and wrong["marker"] == [0]
    assert all(shots[i].focus < 0 for i in wrong["overshot"]) and len(wrong["overshot"]) == 6  # type: ignore[attr-defined,arg-type]
    assert all(any(shots[i].shake_px) for i in wrong["bumped"])  # type: ignore[attr-defined]
    assert [s.ev for s in shots[1:4]] == [-2, 0, 2]
    steps = -np.diff([shots[b[0]].focus for b in wrong["brackets"][:5]])  # type: ignore[index]
    assert max(steps) == pytest.approx(2 * min(steps))
    reference = reference_of(shots, wrong)
    assert reference not in [*wrong["overshot"], *wrong["bumped"], 0] and shots[reference].ev == 0  # type: ignore[misc]
    again, _ = shots_of(Order(count=6, overshoot=2, gap=True, bumped=True, marker=True, brackets=3, wind=0.5, drift_ev=0.2))
    assert again == shots


def test_an_order_out_of_range_is_refused() -> None:
    with pytest.raises(ValidationError):
        Order(landscape="moon")  # type: ignore[arg-type]
    with pytest.raises(ValidationError):
        Order(count=0)


def test_a_card_is_filled_with_truth_beside_it_and_taken_up_again(tmp_path: Path) -> None:
    order = Order(landscape="larch", count=3, by_hand=True, **SMALL)
    heard: list[str] = []
    paths = carry_out(order, tmp_path / "card", 7, datetime(2026, 5, 1, 5, 0), tmp_path / "truth", lambda what, share: heard.append(what))
    assert [p.name for p in paths] == ["FIELD0007.dng", "FIELD0008.dng", "FIELD0009.dng"] and any("3 of 3" in what for what in heard)
    first = [p.read_bytes() for p in paths]
    facts = json.loads((tmp_path / "truth" / "truth.json").read_text())
    assert facts["reference"] == 1 and facts["files"] == [p.name for p in paths] and facts["shots"][2]["focus_m"] is None
    np.testing.assert_allclose(facts["fits"][1], np.eye(3), atol=1e-12)
    sharp, distance = tifffile.imread(tmp_path / "truth" / "sharp.tif"), np.load(tmp_path / "truth" / "distance.npy")
    assert sharp.shape == (200, 300, 3) and distance.shape == (200, 300) and 0.3 < distance.min() < 1.0
    # the same order makes the same files, and only what is missing is made
    paths[1].unlink()
    stamp = paths[0].stat().st_mtime_ns
    carry_out(order, tmp_path / "card", 7, datetime(2026, 5, 1, 5, 0))
    assert [p.read_bytes() for p in paths] == first and paths[0].stat().st_mtime_ns == stamp


def test_upright_frames_and_previews_are_read_as_they_were_held(tmp_path: Path) -> None:
    (path,) = carry_out(Order(landscape="saltpan", count=1, nearest_m=2, upright=True, **SMALL), tmp_path, 1, datetime(2026, 5, 1, 5, 0))
    assert read_metadata(path).orientation == 6
    picture = read_picture(path)
    assert picture.codes.shape[:2] == (300, 200)
    # the sky is above
    assert picture.codes[:40, :, 2].mean() > picture.codes[-40:, :, 2].mean() * 0.5
    with rawpy.imread(str(path)) as raw:
        assert raw.extract_thumb().format == rawpy.ThumbFormat.JPEG


def test_cards_number_folders_and_files_on(tmp_path: Path) -> None:
    assert next_number(tmp_path) == 1 and next_folder(tmp_path, "larch").name == "101LARCH"
    (tmp_path / "104LAVA").mkdir()
    (tmp_path / "104LAVA" / "FIELD0041.dng").touch()
    assert next_number(tmp_path) == 42 and next_folder(tmp_path, "saltpan").name == "105SALTPAN"


def test_the_demo_card_holds_all_that_goes_wrong() -> None:
    orders = [roll.order for roll in CARD]
    assert {o.landscape for o in orders} == {"saltpan", "thistle", "larch", "lava"}
    assert all(o.marker for o in orders) and any(o.bumped for o in orders) and any(o.overshoot for o in orders)
    assert [r.first for r in CARD] == [1, 7, 1, 7] and {r.folder for r in CARD} == {"101FIELD", "102FIELD"}
    assert [frames_of(o) for o in orders] == [6, 7, 6, 10] and any(o.brackets == 3 for o in orders)
    assert all(math.isinf(shots_of(o)[0][-1].focus_m) or o.overshoot for o in orders)
