"""A camera that did not know which way up it was: frames of one scene, turned as most of them."""

from __future__ import annotations

import json
from pathlib import Path

import cv2
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eaveplane.core.gather.detail import measure_detail
from eaveplane.core.gather.order import near_to_far
from eaveplane.imaging.exif import Metadata
from eaveplane.imaging.formats.format import turned
from eaveplane.imaging.formats.picture import QUARTERS, upright
from eaveplane.imaging.formats.registry import read_picture, write_picture
from eaveplane.imaging.icc import standard_encoding
from eaveplane.imaging.light import root_of, to_codes, to_light
from eaveplane.jobs.worker import Worker
from eaveplane.pipeline.frames import File, held_alike
from eaveplane.pipeline.library import Library
from eaveplane.pipeline.steps import open_frame
from eaveplane.store import outings, scenes
from eaveplane.web.app import create_app
from tests.conftest import Set
from tests.pipeline.test_intake import came_in
from tests.pipeline.test_work import library, worker
from tests.test_cli import PLAIN, run

__all__ = ["library", "worker"]
STORED = (9, 6)


def file(k: int, orientation: int, stored: tuple[int, int] | None = STORED) -> File:
    return File(Path(f"{k}.tif"), f"{k:064d}", f"{k}.tif", turned(stored, orientation) if stored else None, orientation)


@given(st.lists(st.sampled_from([1, 3, 6, 8]), min_size=1, max_size=6))
def test_what_a_camera_stored_alike_ends_alike(said: list[int]) -> None:
    stored = np.arange(54 * 3, dtype=np.uint16).reshape(6, 9, 3)
    ends = [np.rot90(upright(stored, f.orientation), f.turned) for f in held_alike([file(k, o) for k, o in enumerate(said)])]
    most = max(said, key=said.count)
    for end in ends:
        np.testing.assert_array_equal(end, upright(stored, most))


def test_files_of_another_size_or_mirrored_or_unknown_stay_as_they_are() -> None:
    # one that was put upright before says nothing of how it was held, and is as large as the others are upright
    files = [file(0, 6), file(1, 6), file(2, 1, (6, 9)), file(3, 2), file(4, 8), file(5, 1, None)]
    assert [f.turned for f in held_alike(files)] == [0, 0, 0, 0, (QUARTERS[6] - QUARTERS[8]) % 4, 0]
    assert held_alike([]) == [] and [f.turned for f in held_alike([file(0, 1, None)])] == [0]


@pytest.fixture(scope="module")
def cards(tiny: Set, tmp_path_factory: pytest.TempPathFactory) -> list[Path]:
    """Frames as a camera stores them, of which it says of the nearest, pointed at the ground, that it was held another way."""
    folder = tmp_path_factory.mktemp("mixed")
    for k, path in enumerate(tiny.paths):
        picture = read_picture(path)
        codes = to_codes(root_of(np.clip(to_light(picture.codes, picture.encoding), 0, 1)), standard_encoding("srgb"))
        write_picture(folder / f"{k}.tif", codes, None, Metadata(orientation=6 if k == 0 else 1))
    return sorted(folder.iterdir())


@pytest.mark.slow
def test_a_stack_with_a_frame_that_says_otherwise_is_woven_of_all(cards: list[Path], tiny: Set, tmp_path: Path) -> None:
    done = run("stack", *cards, "--out", tmp_path / "o.tif", "--report", tmp_path / "r.json", "--canvas", "reference", *PLAIN)
    assert done.exit_code in (0, 4), done.output
    frames = json.loads((tmp_path / "r.json").read_text())["frames"]
    assert [f["quarters_turned"] for f in frames] == [1, 0, 0, 0] and all(f["state"] == "used" for f in frames)
    height, width = read_picture(tmp_path / "o.tif").codes.shape[:2]
    # turned by itself, it would lie elsewhere
    assert (width, height) == tiny.size and max(np.hypot(*f["shift_px"]) for f in frames) < 5
    assert run("sets", cards[0].parent, "--report", tmp_path / "sets.json").exit_code == 0
    assert [len(s["frames"]) for s in json.loads((tmp_path / "sets.json").read_text())["scenes"]] == [4]


@pytest.mark.slow
def test_on_the_page_it_is_one_scene_and_the_notebook_tells(cards: list[Path], tiny: Set, library: Library, worker: Worker) -> None:
    outing = outings.add_outing(library.db, "Ground", cards[0].parent)
    assert came_in(library, worker, outing, cards[0].parent) == "4 frames brought in."
    (row,) = scenes.scenes_of(library.db, outing)
    recipe = scenes.recipe_of(library.db, row["id"])
    assert len(recipe.kept()) == 4
    files = library.files_in(outing, recipe)
    assert {f.name: f.turned for f in files.values()} == {"0.tif": 1, "1.tif": 0, "2.tif": 0, "3.tif": 0}
    assert {open_frame(library.cache, step).size for step in library.decoded(files, recipe.capture).values()} == {tiny.size}
    page = create_app(library, worker).test_client().get(f"/scene/{row['id']}/gather").get_data(as_text=True)
    assert page.count("was turned") == 1 and "held another way up" in page


def test_what_frames_show_is_turned_with_them_and_frames_of_two_shapes_have_some_order() -> None:
    picture = np.random.default_rng(3).random((160, 240), np.float32)
    picture = cv2.GaussianBlur(picture, (0, 0), 1.5, sigmaY=0.8) * np.linspace(0.2, 1, 240, dtype=np.float32)
    for quarters in range(4):
        seen, expected = (measure_detail(np.ascontiguousarray(p)).octaves for p in (np.rot90(picture, quarters), picture))
        for found, wanted in zip((*seen.energy[:2], *seen.slopes), (*expected.turned(quarters).energy[:2], *expected.turned(quarters).slopes), strict=True):
            assert np.median(np.abs(found / wanted - 1)) < 0.15
    # two scenes that were made one by hand, one of them upright
    assert sorted(near_to_far([expected, expected.turned(1), expected])) == [0, 1, 2]
