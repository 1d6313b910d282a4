"""The job without a page: results against truth, reports, exit codes, recipes."""

from __future__ import annotations

import hashlib
import json
import subprocess
import sys
from datetime import datetime
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest
import tifffile
from click.testing import CliRunner, Result

from bench.score import corner_error, depth_edges, fitted, psnr
from bench.textbook import arg_max
from eaveplane.cli import main
from eaveplane.core.even.capture.settings import Capture
from eaveplane.imaging.colour import SRGB_FROM_WORK, encode_srgb
from eaveplane.imaging.exif import Metadata
from eaveplane.imaging.formats.registry import read_picture, write_picture
from eaveplane.imaging.icc import standard_encoding
from eaveplane.imaging.light import root_of, to_codes, to_light, to_root
from eaveplane.imaging.resample import warp
from eaveplane.recipe import Recipe
from tests.conftest import CAMERA, Set

pytestmark = pytest.mark.slow


PLAIN = ("--veil", "leave")
"""For tests that are not about veils: to lift them takes most of a stack's time."""


def run(*arguments: object) -> Result:
    return CliRunner().invoke(main, [str(a) for a in arguments], catch_exceptions=False)


def hashes(paths: list[Path]) -> list[str]:
    return [hashlib.sha256(p.read_bytes()).hexdigest() for p in paths]


def shown(light: np.ndarray) -> np.ndarray:
    return encode_srgb(light @ SRGB_FROM_WORK.T.astype(np.float32)).astype(np.float64)


@pytest.fixture(scope="module")
def stacked(tripod: Set, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, dict[str, Any]]:
    """The tripod set through the command line, colours as they came, on the reference frame's grid."""
    folder = tmp_path_factory.mktemp("stacked")
    before = hashes(tripod.paths)
    result = run("stack", *tripod.paths, "--out", folder / "o.tif", "--report", folder / "r.json", "--save-recipe", folder / "recipe.json", "--develop", "none", "--canvas", "reference")
    assert result.exit_code == 0, result.output
    assert hashes(tripod.paths) == before
    return folder, json.loads((folder / "r.json").read_text())


def test_the_weave_beats_every_frame_and_the_textbook(stacked: tuple[Path, dict[str, Any]], tripod: Set) -> None:
    folder, report = stacked
    assert report["reference"] == tripod.truth.reference
    truth, size = shown(tripod.truth.sharp), tripod.size
    area = report["area"]
    inside = np.zeros(truth.shape[:2], bool)
    inside[area["y"] : area["y"] + area["h"], area["x"] : area["x"] + area["w"]] = True
    edge = depth_edges(tripod.truth.distance, 20) & inside

    def scores(picture: np.ndarray) -> tuple[float, float]:
        picture = fitted(picture, truth, inside)
        return psnr(picture, truth, inside), psnr(picture, truth, edge)

    ours = scores(tifffile.imread(folder / "o.tif") / 65535.0)
    frames = []
    for path, told in zip(tripod.paths, report["frames"], strict=True):
        picture = read_picture(path)
        frames.append(warp(to_light(picture.codes, picture.encoding, tuple(told["gain"])), np.array(told["homography"]), (0, 0, *size), repeat_edge=True))
    single = max(scores(shown(frame))[0] for frame in frames)
    textbook = scores(shown(arg_max(frames)))
    print(f"PSNR whole / edge: woven {ours[0]:.2f} / {ours[1]:.2f}, arg-max {textbook[0]:.2f} / {textbook[1]:.2f}, best frame {single:.2f}")
    assert ours[0] >= single + 6
    assert ours[0] > textbook[0] and ours[1] > textbook[1]


def test_the_report_keeps_its_promises(stacked: tuple[Path, dict[str, Any]], tripod: Set) -> None:
    _, report = stacked
    assert report["schema"] == 1 and report["flaws"] == []
    assert [f["file"] for f in report["frames"]] == [str(p) for p in tripod.paths]
    for told, true in zip(report["frames"], tripod.truth.fits, strict=True):
        assert told["state"] == "used" and told["reason"] is None and 0 < told["share"] < 1
        assert corner_error(np.array(told["homography"]), true, tripod.size) < 0.5
        assert told["residual_px"] < 0.5 and len(told["gain"]) == 3
    assert sum(f["share"] for f in report["frames"]) == pytest.approx(1, abs=1e-3) and [f["noise_times"] for f in report["frames"]] == [1, 1, 1, 1]
    assert set(report["seconds"]) >= {"read", "register", "weave", "write"} and report["peak_bytes"] > 1e7


def test_results_carry_profile_and_exif(stacked: tuple[Path, dict[str, Any]]) -> None:
    picture = read_picture(stacked[0] / "o.tif")
    assert picture.codes.dtype == np.uint16 and picture.codes.shape == (CAMERA.height, CAMERA.width, 3)
    assert picture.meta.camera == "Field camera 1" and picture.encoding.profile


@pytest.mark.anew
def test_the_same_frames_and_recipe_give_the_same_pixels(stacked: tuple[Path, dict[str, Any]], tripod: Set, tmp_path: Path) -> None:
    folder, _ = stacked
    result = run("stack", *reversed(tripod.paths), "--out", tmp_path / "again.tif", "--recipe", folder / "recipe.json")
    assert result.exit_code == 0
    np.testing.assert_array_equal(tifffile.imread(tmp_path / "again.tif"), tifffile.imread(folder / "o.tif"))


def test_veils_are_lifted_unless_they_are_to_be_left(stacked: tuple[Path, dict[str, Any]], tripod: Set, tmp_path: Path) -> None:
    report = stacked[1]
    assert report["veil"] == "lift" and report["veil_why"] == "" and 0 <= report["veil_lifted"] < 0.5 and 0 <= report["veil_refused"] < 0.5
    result = run("stack", *tripod.paths, "--out", tmp_path / "o.tif", "--report", tmp_path / "r.json", "--save-recipe", tmp_path / "c.json", "--veil", "leave", "--develop", "none")
    assert result.exit_code == 0, result.output
    left = json.loads((tmp_path / "r.json").read_text())
    assert left["veil"] == "leave" and left["veil_lifted"] == 0 and json.loads((tmp_path / "c.json").read_text())["veil"] == "leave"
    assert run("stack", *tripod.paths, "--out", tmp_path / "p.tif", "--veil", "tear").exit_code == 2


@pytest.mark.parametrize("size", [(64, 48), (1800, 60), (20, 900), (16, 16)])
def test_frames_as_small_or_thin_as_they_may_be_are_woven_or_what_is_doubtful_is_said(size: tuple[int, int], tiny: Set, tmp_path: Path) -> None:
    width, height = size
    sharp = cv2.resize(shown(tiny.truth.sharp).astype(np.float32), size, interpolation=cv2.INTER_NEAREST)
    across = np.linspace(0, 1, width if width > height else height).reshape((1, -1, 1) if width > height else (-1, 1, 1))
    soft, softer = (cv2.GaussianBlur(sharp, (0, 0), sigma) for sigma in (1.0, 2.5))
    frames = [sharp * (1 - across) + softer * across, soft, sharp * across + softer * (1 - across)]
    paths = [tmp_path / f"{k}.png" for k in range(3)]
    for path, frame in zip(paths, frames, strict=True):
        cv2.imwrite(str(path), np.clip(255 * frame, 0, 255).astype(np.uint8))
    (tmp_path / "frames").mkdir()
    (tmp_path / "c.json").write_text(Recipe(capture=Capture(noise=30, noise_colour=60, fringes="measured")).to_json())
    # with --force everything that stands there is replaced, the registered frames too
    for also in ((), ("--recipe", tmp_path / "c.json", "--force")):
        result = run("stack", *paths, "--out", tmp_path / "o.tif", "--report", tmp_path / "r.json", "--save-frames", tmp_path / "frames", *also)
        assert result.exit_code in (0, 4), result.output
    assert list((tmp_path / "frames").iterdir())
    written, told = tifffile.imread(tmp_path / "o.tif"), json.loads((tmp_path / "r.json").read_text())
    assert list(written.shape[1::-1]) == told["size"] and written.shape[0] > 0.8 * height and written.shape[1] > 0.8 * width


@pytest.mark.parametrize("way", ["crisp-seams", "fine-tangle", "gentle"])
def test_every_way_weaves_and_is_told(way: str, stacked: tuple[Path, dict[str, Any]], tripod: Set, tmp_path: Path) -> None:
    """Joint light is the default, and nearer to truth than any other way."""
    folder, report = stacked
    assert report["way"] == "joint-light" and report["way_why"] == ""
    result = run("stack", *tripod.paths, "--out", tmp_path / "o.tif", "--report", tmp_path / "r.json", "--recipe", folder / "recipe.json", "--way", way)
    assert result.exit_code == 0, result.output
    told = json.loads((tmp_path / "r.json").read_text())
    assert told["way"] == way and "joint light" in told["veil_why"] and told["veil_lifted"] == 0
    truth = shown(tripod.truth.sharp)
    area = report["area"]
    inside = np.zeros(truth.shape[:2], bool)
    inside[area["y"] : area["y"] + area["h"], area["x"] : area["x"] + area["w"]] = True
    ours, other = (psnr(fitted(tifffile.imread(p) / 65535.0, truth, inside), truth, inside) for p in (folder / "o.tif", tmp_path / "o.tif"))
    assert 25 < other < ours + 0.2


def test_a_flaw_that_is_bad_is_told_and_is_exit_4(stacked: tuple[Path, dict[str, Any]], tripod: Set, tmp_path: Path) -> None:
    """One frame made much too bright on purpose: wherever it meets another its tone steps."""
    folder, report = stacked
    assert not [flaw for flaw in report["flaws"] if flaw["severity"] >= 0.5]
    recipe = json.loads((folder / "recipe.json").read_text())
    recipe["frames"][1]["trim"] = {"exposure": 0.4}
    (tmp_path / "r.json").write_text(json.dumps(recipe))
    result = run("stack", *tripod.paths, "--out", tmp_path / "o.tif", "--report", tmp_path / "told.json", "--recipe", tmp_path / "r.json", "--way", "crisp-seams")
    assert result.exit_code == 4 and "A flaw should be looked at, seam step around" in result.output
    told = json.loads((tmp_path / "told.json").read_text())["flaws"]
    names = {path.name for path in tripod.paths}
    assert told[0]["kind"] == "seam" and told[0]["severity"] >= 0.5 and set(told[0]["frames"]) <= names and tripod.paths[1].name in told[0]["frames"]
    assert all(len(f["box"]) == 4 and f["box"][0] >= 0 and f["box"][0] + f["box"][2] <= tripod.size[0] and f["said"] and f["state"] == "open" for f in told)
    # once somebody has accepted them, nothing is in the way
    recipe["accepted"] = [f"seam-{(f['box'][0] + f['box'][2] // 2) // 32}-{(f['box'][1] + f['box'][3] // 2) // 32}" for f in told]
    (tmp_path / "r.json").write_text(json.dumps(recipe))
    assert run("stack", *tripod.paths, "--out", tmp_path / "p.tif", "--recipe", tmp_path / "r.json", "--way", "crisp-seams").exit_code == 0


def test_by_hand_with_drift(handheld: Set, tmp_path: Path) -> None:
    shuffled = [handheld.paths[i] for i in (2, 0, 3, 1)]
    result = run("stack", *shuffled, "--out", tmp_path / "o.tif", "--report", tmp_path / "r.json", "--develop", "none", "--seam", 3, *PLAIN)
    assert result.exit_code == 0
    report = json.loads((tmp_path / "r.json").read_text())
    assert report["reference"] == shuffled.index(handheld.paths[2])
    for told, path in zip(report["frames"], shuffled, strict=True):
        true = handheld.truth.fits[handheld.paths.index(path)]
        assert corner_error(np.array(told["homography"]), true, handheld.size) < 1.0
    area = report["area"]
    assert tifffile.imread(tmp_path / "o.tif").shape == (area["h"], area["w"], 3)
    assert area["w"] / area["h"] == pytest.approx(1.5, abs=0.01)
    assert [f["gain"] for f in report["frames"] if f["file"] == str(handheld.paths[2])] == [[1.0, 1.0, 1.0]]


def test_reference_and_evening_out_are_as_told(tiny: Set, tmp_path: Path) -> None:
    result = run("stack", *tiny.paths[:2], "--out", tmp_path / "o.png", "--report", tmp_path / "r.json", "--reference", 1, "--even-out", "off", *PLAIN)
    assert result.exit_code == 0
    report = json.loads((tmp_path / "r.json").read_text())
    assert report["reference"] == 1 and all(f["gain"] == [1.0, 1.0, 1.0] for f in report["frames"])
    assert read_picture(tmp_path / "o.png").codes.dtype == np.uint16


def test_a_frame_without_a_part_is_left_out_unless_told_otherwise(tiny: Set, tmp_path: Path) -> None:
    blurred = tmp_path / "overshot.tif"
    import cv2

    paths = []
    for path in tiny.paths:
        picture = read_picture(path)
        light = to_light(picture.codes, picture.encoding)
        paths.append(tmp_path / f"{path.stem}.tif")
        write_picture(paths[-1], to_codes(root_of(light), standard_encoding("srgb")), None, Metadata())
        if path == tiny.paths[-1]:
            write_picture(blurred, to_codes(root_of(cv2.GaussianBlur(light, (0, 0), 3)), standard_encoding("srgb")), None, Metadata())
    result = run("stack", *paths, blurred, "--out", tmp_path / "o.tif", "--report", tmp_path / "r.json", *PLAIN)
    assert result.exit_code == 0
    last = json.loads((tmp_path / "r.json").read_text())["frames"][-1]
    assert last["state"] == "left_out" and last["reason"] in ("overshot", "redundant", "shaken") and last["homography"] is None
    result = run("stack", *paths, blurred, "--out", tmp_path / "p.tif", "--report", tmp_path / "s.json", "--leave-out", "none", *PLAIN)
    assert json.loads((tmp_path / "s.json").read_text())["frames"][-1]["state"] == "used"


@pytest.mark.parametrize(
    ("extra", "said"),
    [
        (["--reference", "9"], "from 0 to 3"),
        (["--seam", "99"], "99"),
        (["--recipe", "{tmp}/none.json"], "no such recipe"),
        (["--report", "{tmp}/not/there.json"], "not a folder"),
    ],
)
def test_a_wrong_call_is_exit_2_and_says_why(tripod: Set, tmp_path: Path, extra: list[str], said: str) -> None:
    result = run("stack", *tripod.paths, "--out", tmp_path / "o.tif", *[e.format(tmp=tmp_path) for e in extra])
    assert result.exit_code == 2 and said in result.output and not (tmp_path / "o.tif").exists()


def test_nothing_is_overwritten_without_force(tiny: Set, tmp_path: Path) -> None:
    out = tmp_path / "o.tif"
    out.write_text("mine")
    assert run("stack", *tiny.paths[:2], "--out", out).exit_code == 2 and out.read_text() == "mine"
    assert run("stack", *tiny.paths[:2], "--out", tiny.paths[0], "--force").exit_code == 2
    assert run("stack", *tiny.paths[:2], "--out", out, "--force", *PLAIN).exit_code == 0 and read_picture(out).codes.size
    assert run("stack", *tiny.paths[:2], "--out", tmp_path / "o.gif").exit_code == 2


@pytest.mark.parametrize("recipe", ["{}}", '{"schema": 3}', '{"schema": 1, "look": {"exposure": 99}}', "\x00"])
def test_a_recipe_that_is_none_is_refused(tripod: Set, tmp_path: Path, recipe: str) -> None:
    (tmp_path / "bad.json").write_text(recipe)
    result = run("stack", *tripod.paths[:2], "--out", tmp_path / "o.tif", "--recipe", tmp_path / "bad.json")
    assert result.exit_code == 2 and "bad.json" in result.output


def test_an_input_that_cannot_be_used_is_exit_3_and_named(tiny: Set, tmp_path: Path) -> None:
    (tmp_path / "notes.tif").write_text("milk, bread, two apples")
    other = tmp_path / "other.tif"
    tifffile.imwrite(other, np.zeros((40, 60, 3), np.uint16), photometric="rgb")
    for bad, said in ((tmp_path / "notes.tif", "not a picture"), (tmp_path / "gone.dng", "not there"), (other, "60 × 40")):
        result = run("stack", *tiny.paths, bad, "--out", tmp_path / "o.tif")
        assert result.exit_code == 3 and bad.name in result.output and said in result.output
        assert "Traceback" not in result.output and not (tmp_path / "o.tif").exists()


def test_doubtful_results_are_exit_4(tiny: Set, tmp_path: Path) -> None:
    import cv2

    stranger = np.clip(cv2.GaussianBlur(np.random.default_rng(1).random((320, 480, 3)), (0, 0), 3), 0, 1)
    tifffile.imwrite(tmp_path / "stranger.tif", (stranger * 65535).astype(np.uint16), photometric="rgb")
    result = run("stack", *tiny.paths[:2], tmp_path / "stranger.tif", "--out", tmp_path / "o.tif", "--leave-out", "none", "--reference", "1", *PLAIN)
    assert result.exit_code == 4 and "stranger.tif" in result.output and (tmp_path / "o.tif").exists()


def test_as_a_program_it_speaks_on_standard_error_only() -> None:
    done = subprocess.run([sys.executable, "-m", "eaveplane.cli", "stack", "nothing.dng", "--out", "o.tif"], capture_output=True, text=True, check=False)
    assert done.returncode == 3 and done.stdout == "" and "nothing.dng" in done.stderr and "Traceback" not in done.stderr
    for command in ("stack", "serve", "demo"):
        told = run(command, "--help")
        assert told.exit_code == 0 and len(told.output) > 200


def test_a_plan_is_printed_and_told_as_json() -> None:
    told = run("plan", "--nearest-m", "0.6", "--f-number", "8")
    assert told.exit_code == 0 and "6 shots" in told.output and "hyperfocal distance 6.02 m" in told.output
    facts = json.loads(run("plan", "--json", "--farthest-m", "20").output)
    assert facts["schema"] == 1 and facts["positions"][0]["near_m"] == pytest.approx(0.6, rel=0.05) and facts["positions"][-1]["far_m"] >= 20
    wrong = run("plan", "--nearest-m", "5", "--farthest-m", "2")
    assert wrong.exit_code == 2 and "Change one of them" in wrong.output


def test_the_field_camera_shoots_to_a_card_and_tells_the_truth(tmp_path: Path) -> None:
    call = ["shoot", "--card", str(tmp_path / "card"), "--landscape", "saltpan", "--count", "2", "--long-side-px", "300", "--overshoot", "1"]
    assert run(*call, "--truth", str(tmp_path / "truth")).exit_code == 0
    assert [p.name for p in sorted((tmp_path / "card" / "101SALTPAN").iterdir())] == ["FIELD0001.dng", "FIELD0002.dng", "FIELD0003.dng"]
    facts = json.loads((tmp_path / "truth" / "truth.json").read_text())
    assert facts["wrong"]["overshot"] == [2] and (tmp_path / "truth" / "sharp.tif").exists()
    assert run(*call).exit_code == 0 and (tmp_path / "card" / "102SALTPAN" / "FIELD0004.dng").exists()
    assert run(*call, "--folder", "102SALTPAN").exit_code == 2
    assert run(*call, "--folder", "../out").exit_code == 2
    assert run("shoot", "--card", str(tmp_path / "card"), "--landscape", "moon").exit_code == 2


def bracketed(folder: Path, ev: float = 0.0) -> list[Path]:
    """Three focus positions at three exposures each, written from bright to dark, and a hand before them."""
    import cv2

    from bench.cards import composition, noisy
    from eaveplane.imaging.exif import Metadata
    from eaveplane.imaging.formats.registry import write_picture
    from eaveplane.imaging.icc import standard_encoding
    from eaveplane.imaging.light import root_of, to_codes

    folder.mkdir()
    rng = np.random.default_rng(3)
    pictures, hands, focus = composition("saltpan", 17.0)
    shots = [(hands[0], 0.0, 1.2), *((pictures[k], ev, focus[k]) for k in (1, 3, 5) for ev in (2.0, 0.0, -2.0))]
    paths = []
    for number, (light, shot_ev, metres) in enumerate(shots):
        large = cv2.resize(noisy(light, shot_ev + ev, rng), None, fx=1.2, fy=1.2, interpolation=cv2.INTER_CUBIC)
        paths.append(folder / f"{number}.tif")
        meta = Metadata(taken=datetime(2026, 4, 11, 6, 0, 2 * number), seconds=0.02 * 2**shot_ev, f_number=8, iso=100, focus_m=metres)
        write_picture(paths[-1], to_codes(root_of(np.clip(large, 0, 1)), standard_encoding("srgb")), None, meta)
    return paths


def test_sets_tells_scenes_brackets_markers_and_what_is_left_over(tmp_path: Path) -> None:
    paths = bracketed(tmp_path / "card")
    (tmp_path / "card" / "x.jpg").write_text("no picture")
    report = tmp_path / "r.json"
    assert run("sets", tmp_path / "card", "--report", report).exit_code == 0
    told = json.loads(report.read_text())
    (found,) = told["scenes"]
    names = [str(p) for p in paths]
    assert told["schema"] == 1 and told["markers"] == names[:1] and told["left_over"] == [str(tmp_path / "card" / "x.jpg")]
    assert found["kind"] == "focus+exposure" and found["brackets"] == [[names[k + 2], names[k + 1], names[k]] for k in (1, 4, 7)]
    assert found["frames"] == [n for bracket in found["brackets"] for n in bracket]
    assert run("sets", tmp_path / "card", "--report", report).exit_code == 2
    assert run("sets", tmp_path / "nowhere", "--report", tmp_path / "s.json").exit_code == 2
    (tmp_path / "empty").mkdir()
    assert run("sets", tmp_path / "empty", "--report", tmp_path / "s.json").exit_code == 0
    assert json.loads((tmp_path / "s.json").read_text())["scenes"] == []


def test_inspect_tells_each_frame_and_the_coverage(tiny: Set, tmp_path: Path) -> None:
    shuffled = [tiny.paths[k] for k in (2, 0, 3, 1)]
    assert run("inspect", *shuffled, "--report", tmp_path / "r.json").exit_code == 0
    told = json.loads((tmp_path / "r.json").read_text())
    assert [f["order"] for f in told["frames"]] == [2, 0, 3, 1] and [f["file"] for f in told["frames"]] == [str(p) for p in shuffled]
    for frame in told["frames"]:
        assert frame["state"] == "keep" and frame["reason"] is None and 0 < frame["share"] < 1 and 0 <= frame["sharp_rows"][0] < frame["sharp_rows"][1] <= 1
        assert 0 <= frame["blur_px"] < 1
    assert told["coverage"]["gaps"] == [] and told["coverage"]["covered"] > 0.97
    assert run("inspect", tiny.paths[0], "--report", tmp_path / "one.json").exit_code == 0
    assert json.loads((tmp_path / "one.json").read_text())["frames"][0]["state"] == "keep"
    broken = tmp_path / "broken.dng"
    broken.write_bytes(tiny.paths[0].read_bytes()[:9000])
    result = run("inspect", *tiny.paths, broken, "--report", tmp_path / "s.json")
    assert result.exit_code == 3 and "broken.dng" in result.output and "Traceback" not in result.output


def test_stack_merges_brackets_first_and_leaves_out_the_marker(tmp_path: Path) -> None:
    paths = bracketed(tmp_path / "card")
    result = run("stack", *paths, "--out", tmp_path / "o.tif", "--report", tmp_path / "r.json", "--save-recipe", tmp_path / "recipe.json", *PLAIN)
    assert result.exit_code in (0, 4), result.output
    told = json.loads((tmp_path / "r.json").read_text())
    assert [f["state"] for f in told["frames"]] == ["left_out"] + ["used"] * 9 and told["frames"][0]["reason"] == "marker"
    # exposures of one position share its fit and its part
    assert told["frames"][1]["homography"] == told["frames"][3]["homography"] and told["frames"][1]["share"] == told["frames"][3]["share"] > 0
    recipe = json.loads((tmp_path / "recipe.json").read_text())
    assert [len(f["exposures"]) for f in recipe["frames"] if f["state"] == "keep"] == [3, 3, 3]
    again = run("stack", *paths, "--out", tmp_path / "p.tif", "--recipe", tmp_path / "recipe.json")
    assert again.exit_code in (0, 4)
    np.testing.assert_array_equal(tifffile.imread(tmp_path / "o.tif"), tifffile.imread(tmp_path / "p.tif"))


def test_corrected_frames_are_delivered_in_the_profile_they_came_in(tiny: Set, tmp_path: Path) -> None:
    """Corrected frames are kept in an encoding of our own, which must not become the result's."""
    paths = []
    for path in tiny.paths[:2]:
        picture = read_picture(path)
        codes = to_codes(to_root(picture.codes, picture.encoding), standard_encoding("rec2020"))
        paths.append(tmp_path / f"{path.stem}.tif")
        write_picture(paths[-1], codes, standard_encoding("rec2020").profile, picture.meta)
    (tmp_path / "r.json").write_text(Recipe(capture=Capture(noise=20, vignetting="hand", falloff=0.05)).to_json())
    results = []
    for name, more in (("plain", []), ("corrected", ["--recipe", tmp_path / "r.json"])):
        result = run("stack", *paths, "--out", tmp_path / f"{name}.tif", "--leave-out", "none", "--develop", "none", *PLAIN, *more)
        assert result.exit_code in (0, 4), result.output
        results.append(read_picture(tmp_path / f"{name}.tif"))
    plain, corrected = results
    assert plain.encoding.profile == corrected.encoding.profile == standard_encoding("rec2020").profile
    off = np.abs(plain.codes.astype(int) - corrected.codes)
    assert 0 < np.median(off) < 1500


def test_frames_without_a_common_part_are_refused_before_they_are_woven(tmp_path: Path) -> None:
    strip = (cv2.GaussianBlur(np.random.default_rng(1).random((200, 600, 3)).astype(np.float32), (0, 0), 1.5) * 65535).astype(np.uint16)
    for name, x in (("a", 0), ("b", 285)):
        tifffile.imwrite(tmp_path / f"{name}.tif", strip[:, x : x + 300], photometric="rgb")
    told = run("stack", tmp_path / "a.tif", tmp_path / "b.tif", "--out", tmp_path / "o.tif", "--leave-out", "none")
    assert told.exit_code == 3 and "no part in common" in told.output and "a.tif" in told.output and "Weaving" not in told.output
    assert not (tmp_path / "o.tif").exists()


def test_masks_go_out_and_come_in_and_any_ratio_is_kept(tiny: Set, tmp_path: Path) -> None:
    out, masks, again = tmp_path / "o.tif", tmp_path / "masks", tmp_path / "again"
    masks.mkdir()
    again.mkdir()
    common = ("--way", "crisp-seams", "--leave-out", "none", "--develop", "none", "--force")
    result = run("stack", *tiny.paths, "--out", out, *common, "--save-masks", masks, "--canvas", "free")
    assert result.exit_code in (0, 4), result.output
    free = tifffile.imread(out).shape
    names = sorted(p.name for p in masks.iterdir())
    assert names == sorted(f"{p.stem}.mask.tif" for p in tiny.paths)
    result = run("stack", *tiny.paths, "--out", out, *common, "--masks", masks, "--save-masks", again, "--report", tmp_path / "r.json")
    assert result.exit_code in (0, 4), result.output
    assert free[0] * free[1] >= np.prod(tifffile.imread(out).shape[:2])
    for name in names:
        np.testing.assert_array_equal(tifffile.imread(masks / name), tifffile.imread(again / name))
    # one of another size is refused by name; so is a folder that holds none, and nothing is written over
    tifffile.imwrite(masks / names[0], np.zeros((10, 10), np.uint16), photometric="minisblack")
    result = run("stack", *tiny.paths, "--out", out, *common, "--masks", masks)
    assert result.exit_code == 3 and names[0] in result.output and "10 × 10 px" in result.output
    (tmp_path / "none").mkdir()
    result = run("stack", *tiny.paths, "--out", out, *common, "--masks", tmp_path / "none")
    assert result.exit_code == 3 and "holds no mask of these frames" in result.output
    result = run("stack", *tiny.paths, "--out", tmp_path / "new.tif", "--save-masks", again)
    assert result.exit_code == 2 and "stands there already" in result.output
