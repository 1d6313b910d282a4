"""Leaving out frames unasked, through the command line: nothing that is needed goes, and what goes is told."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest
import tifffile

from bench.layered import Order, kept
from bench.score import corner_error, fitted, psnr
from bench.strangers import SHADED, sent
from eaveplane.core.even.capture.settings import Capture
from eaveplane.recipe import FrameChoice, Recipe
from tests.test_cli import PLAIN, bracketed, run

pytestmark = pytest.mark.slow


def stacked(paths: list[Path], folder: Path, *extra: object) -> tuple[np.ndarray, dict[str, Any], int]:
    result = run("stack", *paths, "--out", folder / "o.tif", "--report", folder / "r.json", "--develop", "none", "--canvas", "reference", "--force", *PLAIN, *extra)
    assert result.exit_code in (0, 4), result.output
    return tifffile.imread(folder / "o.tif") / 65535.0, json.loads((folder / "r.json").read_text()), result.exit_code


@pytest.mark.parametrize(
    "order",
    [
        Order(40, ("stems",), 7, 0.6, width=400),
        Order(41, ("wire",), 4, 1.5, beyond=1, width=440),
        Order(43, ("few stems",), 2, 5.0, width=440),
    ],
    ids=["dense", "wires alone near", "two frames"],
)
def test_leaving_out_loses_nothing(order: Order, tmp_path: Path) -> None:
    paths, true = kept("set", order, tmp_path)
    none, report, _ = stacked(paths, tmp_path, "--reference", true["reference"], "--leave-out", "none")
    auto, chosen, _ = stacked(paths, tmp_path, "--reference", true["reference"])
    area = report["area"]
    inside = np.zeros(none.shape[:2], bool)
    inside[area["y"] : area["y"] + area["h"], area["x"] : area["x"] + area["w"]] = True
    before, after = (psnr(fitted(p, true["sharp"][0], inside), true["sharp"][0], inside) for p in (none, auto))
    assert after > before - 0.1
    assert all(k in true["overshot"] for k, f in enumerate(chosen["frames"]) if f["state"] == "left_out")


def test_frames_past_infinity_go_and_more_than_a_third_is_said(tmp_path: Path) -> None:
    paths, true = kept("set", Order(44, ("boulder",), 5, 3.0, beyond=2, width=400), tmp_path)
    _, report, code = stacked(paths, tmp_path)
    left = [k for k, f in enumerate(report["frames"]) if f["state"] == "left_out"]
    assert left == true["overshot"] and code == 4
    assert all(report["frames"][k]["reason"] in ("overshot", "redundant") and report["frames"][k]["evidence"] for k in left)


def test_a_shaken_frame_that_is_needed_stays_and_is_told_with_both_facts(tmp_path: Path) -> None:
    paths, _ = kept("set", Order(11, ("stems", "boulder"), 4, 2.5, shaken=2, width=720), tmp_path)
    _, report, _ = stacked(paths, tmp_path)
    frame = report["frames"][2]
    assert frame["state"] == "used" and frame["reason"] == "shaken" and frame["share"] > 0
    assert "direction" in frame["evidence"] and "but without it some places would be soft" in frame["evidence"]
    # nor is it what all others are laid on
    assert report["reference"] != 2


@pytest.mark.parametrize(("turn", "scale", "right", "down"), [(8, 1, 0, 0), (0, 1, 0.15, 0.05), (0, 0.9, 0, 0)], ids=["turned", "aside", "farther"])
def test_a_frame_that_a_hand_took_far_is_no_marker_but_a_hand_before_the_lens_is(turn: float, scale: float, right: float, down: float, tmp_path: Path) -> None:
    paths, true = kept("set", Order(45, ("boulder",), 4, 2.0, width=480), tmp_path)
    height, width = true["dioptres"].shape
    move = cv2.getRotationMatrix2D(((width - 1) / 2, (height - 1) / 2), turn, scale)
    move[:, 2] += (right * width, down * height)
    codes, hand = tifffile.imread(paths[2]), tifffile.imread(paths[1])
    moved = cv2.warpAffine(codes, move, (width, height), flags=cv2.INTER_CUBIC)
    # most of the picture hidden; what is left of it agrees with the others
    cv2.ellipse(hand, (width * 6 // 10, height // 2), (width * 2 // 5, height // 2), 10, 0, 360, (12000, 8000, 6000), -1)
    cv2.ellipse(hand, (width * 6 // 10, height // 3), (width // 5, height // 6), 70, 0, 360, (30000, 21000, 16000), -1)
    given = [*paths[:2], tmp_path / "moved.tif", paths[3], tmp_path / "hand.tif"]
    for path, picture in zip((given[2], given[4]), (moved, hand), strict=True):
        tifffile.imwrite(path, picture, photometric="rgb")
    _, report, _ = stacked(given, tmp_path, "--reference", 1)
    assert [(f["state"], f["reason"]) for f in report["frames"]] == [*[("used", None)] * 4, ("left_out", "marker")]
    lies = np.linalg.inv(true["fits"][1]) @ true["fits"][2] @ np.linalg.inv(np.vstack([move, [0, 0, 1]]))
    off = corner_error(np.array(report["frames"][2]["homography"]), lies, (width, height))
    print(f"a frame taken far: {off:.3f} px off at the corners")
    assert off < 0.3


def test_what_clouds_shaded_is_woven_in_one_light_and_no_frame_is_set_aside_for_it(tmp_path: Path) -> None:
    paths, true = kept("set", Order(61, ("few stems",), 3, 2.0, width=600), tmp_path)
    reference = true["reference"]
    files, _, _ = sent(SHADED, paths, reference, tmp_path / "sent", 2)
    (even, report, _), (uneven, left, _) = (stacked(files, tmp_path, "--reference", reference, "--even-out", on) for on in ("on", "off"))
    assert len(report["frames"]) == 3 and all(frame["state"] == "used" for frame in report["frames"])
    passed = [frame["passing_light_ev"] for frame in report["frames"]]
    assert passed[reference] == 0 and min(p for k, p in enumerate(passed) if k != reference) > 0.6 and all(frame["passing_light_ev"] == 0 for frame in left["frames"])
    sharp, inside = true["sharp"][0], np.zeros(even.shape[:2], bool)
    inside[10:-10, 10:-10] = True
    one, other = (psnr(fitted(p, sharp, inside), sharp, inside) for p in (even, uneven))
    print(f"shadows of clouds: {one:.1f} dB in one light, {other:.1f} dB as they came")
    assert one > other + 6


def test_a_recipe_for_other_frames_still_looks_for_markers(tmp_path: Path) -> None:
    other = Recipe(frames=[FrameChoice(id=f"{k:064x}", file=f"FIELD{k:04d}.dng") for k in range(4)])
    (tmp_path / "recipe.json").write_text(other.to_json())
    paths = bracketed(tmp_path / "card")
    result = run("stack", *paths, "--out", tmp_path / "p.tif", "--report", tmp_path / "r.json", "--recipe", tmp_path / "recipe.json", *PLAIN)
    assert result.exit_code in (0, 4), result.output
    report = json.loads((tmp_path / "r.json").read_text())
    assert report["frames"][0]["state"] == "left_out" and report["frames"][0]["reason"] == "marker" and report["reference"] != 0


def test_a_recipe_that_names_these_frames_is_carried_out_as_it_stands(tmp_path: Path) -> None:
    paths, _ = kept("set", Order(44, ("boulder",), 3, 3.0, beyond=1, width=400), tmp_path)
    assert run("stack", *paths, "--out", tmp_path / "o.tif", "--leave-out", "none", "--save-recipe", tmp_path / "recipe.json", *PLAIN).exit_code in (0, 4)
    result = run("stack", *paths, "--out", tmp_path / "p.tif", "--report", tmp_path / "r.json", "--recipe", tmp_path / "recipe.json", *PLAIN)
    assert result.exit_code in (0, 4) and all(f["state"] == "used" for f in json.loads((tmp_path / "r.json").read_text())["frames"])


def test_merged_brackets_keep_their_highlights_below_white(tmp_path: Path) -> None:
    paths = bracketed(tmp_path / "card", ev=2.0)
    picture, report, _ = stacked(paths, tmp_path)
    assert report["scale_ev"] < -1.5
    darkest = [tifffile.imread(paths[k]) for k in (3, 6, 9)]
    cut = max(float((p >= 65500).all(axis=2).mean()) for p in darkest)
    assert float((picture >= 0.999).all(axis=2).mean()) <= cut + 0.002
    # what the darkest exposure holds is told apart, not cut at one white
    bright = picture[picture[..., 1] > np.percentile(picture[..., 1], 90)]
    assert len(np.unique(np.round(bright[:, 1] * 65535))) > 500
    assert Capture().demosaic == "dht"
