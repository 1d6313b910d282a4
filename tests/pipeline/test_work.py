"""Jobs: from a folder to a delivered picture, cancelled, killed, damaged; and the same pixels as headless."""

from __future__ import annotations

import errno
import os
import shutil
import signal
import subprocess
import sys
import time
from concurrent.futures import Future, ThreadPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from pathlib import Path

import cv2
import numpy as np
import pytest
import tifffile

from eaveplane.core.deliver.delivery import Delivery
from eaveplane.core.develop.areas import Area
from eaveplane.core.develop.look import RAW_LOOK, HuePoint
from eaveplane.core.even.capture.settings import Capture
from eaveplane.core.even.drift import apart_map
from eaveplane.core.masks.parts import DistanceRange, Elliptical, ToneRange
from eaveplane.imaging.colour import encode_srgb
from eaveplane.imaging.errors import PictureError
from eaveplane.imaging.light import light_of
from eaveplane.jobs import worker as working
from eaveplane.jobs.sort import joined, named
from eaveplane.jobs.worker import Worker
from eaveplane.pipeline import scene
from eaveplane.pipeline.cache import Cache, hash_file, key_of
from eaveplane.pipeline.frames import File, choice, frame_steps
from eaveplane.pipeline.library import Library, LibraryInUse
from eaveplane.pipeline.pictures import list_pictures, recipe_beside
from eaveplane.pipeline.runner import Runner
from eaveplane.pipeline.steps import FrameStep
from eaveplane.pipeline.ticket import Cancelled, Ticket
from eaveplane.pipeline.view import Frames, Memory, View, ViewOptions, open_view, overview, screen, viewport
from eaveplane.recipe import Recipe
from eaveplane.store import jobs, outings, scenes
from tests.conftest import Set, delivering, done, settled
from tests.test_cli import run

pytestmark = pytest.mark.slow


@pytest.fixture
def library(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Library:
    # threads do for tests what processes do in earnest
    monkeypatch.setattr(working, "worker_pool", lambda processes, nice: ThreadPoolExecutor(2))
    return Library(tmp_path / "library")


@pytest.fixture
def worker(library: Library):  # type: ignore[no-untyped-def]
    started = Worker(library)
    started.start()
    yield started
    started.stop()


def card(folder: Path, shots: Set) -> Path:
    folder.mkdir(parents=True)
    for path in shots.paths:
        shutil.copy(path, folder)
    return folder


def brought_in(library: Library, worker: Worker, folder: Path) -> int:
    outing = outings.add_outing(library.db, "Pan", folder)
    job = jobs.add_job(library.db, "bring_in", outing_id=outing, folder=str(folder))
    worker.wake()
    assert done(library, job)["state"] == "done"
    settled(library)
    return outing


def test_from_a_folder_to_a_delivered_picture(library: Library, worker: Worker, tiny: Set, tmp_path: Path) -> None:
    folder = card(tmp_path / "card" / "100PAN", tiny)
    (folder / "notes.tif").write_text("not a picture")
    tifffile.imwrite(folder / "small.tif", np.zeros((40, 60, 3), np.uint16), photometric="rgb")
    before = {p.name: hash_file(p) for p in folder.iterdir()}
    outing = brought_in(library, worker, tmp_path / "card")
    problems = dict(library.outing_problems(outing))
    assert list(problems) == ["notes.tif"] and "not a picture" in problems["notes.tif"]

    # what has another size is another scene
    row, other = scenes.scenes_of(library.db, outing)
    assert [f.file for f in scenes.recipe_of(library.db, other["id"]).frames] == ["small.tif"]
    recipe = scenes.recipe_of(library.db, row["id"])
    assert [f.file for f in recipe.frames] == [p.name for p in tiny.paths]
    assert [f.name for f in recipe.frames] == ["Near", "", "Mid", "Far"] and recipe.look == RAW_LOOK

    woven = jobs.add_job(library.db, "weave", scene_id=row["id"])
    worker.wake()
    assert done(library, woven)["message"] == "4 frames woven."
    delivered = [jobs.add_job(library.db, "deliver", scene_id=row["id"], recipe=recipe.to_json(), again=i) for i in range(2)]
    worker.wake()
    for job in delivered:
        assert done(library, job)["state"] == "done"
    newer, older = scenes.results_of(library.db, row["id"])
    assert Path(older["path"]).parent == folder and Path(newer["path"]).name.endswith(" 2.tif")
    assert {p.name: hash_file(p) for p in folder.iterdir() if p.name in before} == before

    # the page's result and the command line's are the same, pixel by pixel
    beside = recipe_beside(Path(older["path"]))
    result = run("stack", *[folder / p.name for p in tiny.paths], "--out", tmp_path / "headless.tif", "--recipe", beside)
    assert result.exit_code == 0, result.output
    np.testing.assert_array_equal(tifffile.imread(tmp_path / "headless.tif"), tifffile.imread(older["path"]))
    # brought in again, our own results are not taken for frames
    assert {p.name for p in list_pictures(folder)[0]} == {*(p.name for p in tiny.paths), "notes.tif", "small.tif"}


def test_frames_that_come_later_find_their_place(library: Library, worker: Worker, tiny: Set, tmp_path: Path) -> None:
    folder = tmp_path / "card"
    folder.mkdir()
    for path in tiny.paths[::2]:
        shutil.copy(path, folder)
    outing = brought_in(library, worker, folder)
    for path in tiny.paths[1::2]:
        shutil.copy(path, folder)
    job = jobs.add_job(library.db, "bring_in", outing_id=outing, folder=str(folder))
    worker.wake()
    assert done(library, job)["state"] == "done"
    (row,) = scenes.scenes_of(library.db, outing)
    assert [f.file for f in scenes.recipe_of(library.db, row["id"]).frames] == [p.name for p in tiny.paths]


def test_a_cancelled_job_ends_soon_and_leaves_no_half_result(library: Library, worker: Worker, tiny: Set, tmp_path: Path) -> None:
    outing = brought_in(library, worker, card(tmp_path / "card", tiny))
    (row,) = scenes.scenes_of(library.db, outing)
    job = jobs.add_job(library.db, "weave", scene_id=row["id"])
    worker.wake()
    while jobs.job(library.db, job)["state"] == "queued":  # type: ignore[index]
        time.sleep(0.01)
    jobs.ask_to_cancel(library.db, job)
    assert done(library, job)["state"] in ("cancelled", "done")
    assert not list(library.cache.root.glob(".*"))


def test_what_goes_wrong_is_said_and_the_next_job_runs(library: Library, worker: Worker, tiny: Set, tmp_path: Path) -> None:
    folder = card(tmp_path / "card", tiny)
    outing = brought_in(library, worker, folder)
    (row,) = scenes.scenes_of(library.db, outing)
    recipe = scenes.recipe_of(library.db, row["id"])
    lost = recipe.model_copy(update={"frames": [*recipe.frames, recipe.frames[0].model_copy(update={"id": "0" * 12, "file": "gone.dng"})]})
    bad = jobs.add_job(library.db, "deliver", scene_id=row["id"], recipe=lost.to_json())
    nowhere = delivering(recipe, folder="/not/there")
    worse = jobs.add_job(library.db, "deliver", scene_id=row["id"], recipe=nowhere.to_json())
    good = jobs.add_job(library.db, "register", scene_id=row["id"])
    worker.wake()
    assert "gone.dng" in str(done(library, bad)["message"])
    assert "/not/there is not a folder" in str(done(library, worse)["message"])
    assert done(library, good)["state"] == "done"
    empty = jobs.add_job(library.db, "bring_in", outing_id=outing, folder=str(tmp_path / "none"))
    worker.wake()
    assert "not a folder" in str(done(library, empty)["message"])


def _breaks(error: BaseException):  # type: ignore[no-untyped-def]
    def step(*args: object, **options: object) -> None:
        raise error

    return step


def test_whatever_a_job_meets_is_said_plainly_and_the_next_one_runs(
    library: Library, worker: Worker, tiny: Set, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    folder = card(tmp_path / "card", tiny)
    (row,) = scenes.scenes_of(library.db, brought_in(library, worker, folder))
    met = [
        (OSError(errno.ENOSPC, os.strerror(errno.ENOSPC)), "No space left on device. Make room or check the folder, then try again."),
        (BrokenProcessPool("gone"), "A worker process was ended from outside, perhaps for want of memory. Try again with fewer programs open."),
        (ZeroDivisionError("never seen"), "Something went wrong that should not. The server's log says more; trying again may help."),
        (PictureError(tiny.paths[0], "cannot be read.", "Copy it again."), "cannot be read. Copy it again."),
    ]
    for error, told in met:
        with monkeypatch.context() as broken:
            broken.setattr(scene, "register", _breaks(error))
            job = jobs.add_job(library.db, "register", scene_id=row["id"])
            worker.wake()
            ended = done(library, job)
        assert ended["state"] == "failed" and told in str(ended["message"]) and "never seen" not in str(ended["message"])
    assert "never seen" in caplog.text, "the log tells what the page does not"
    good = jobs.add_job(library.db, "register", scene_id=row["id"])
    worker.wake()
    assert done(library, good)["state"] == "done"


def test_a_scene_without_frames_and_a_scene_that_is_gone(library: Library, worker: Worker, tiny: Set, tmp_path: Path) -> None:
    (row,) = scenes.scenes_of(library.db, brought_in(library, worker, card(tmp_path / "card", tiny)))
    scenes.decide(library.db, row["id"], "None", lambda r: r.model_copy(update={"frames": [f.model_copy(update={"state": "leave_out"}) for f in r.frames]}))
    empty = jobs.add_job(library.db, "weave", scene_id=row["id"])
    worker.wake()
    assert "All frames are left out. Bring some back in Gather." in str(done(library, empty)["message"])
    scenes.decide(library.db, row["id"], "One", lambda r: r.model_copy(update={"frames": [r.frames[0].model_copy(update={"state": "keep"}), *r.frames[1:]]}))
    alone = jobs.add_job(library.db, "weave", scene_id=row["id"])
    worker.wake()
    assert done(library, alone)["message"] == "1 frame woven."


@pytest.mark.anew
def test_files_that_turn_bad_between_two_looks_are_set_aside_with_the_reason(library: Library, worker: Worker, tiny: Set, tmp_path: Path) -> None:
    folder = card(tmp_path / "card", tiny)
    outing = brought_in(library, worker, folder)
    (row,) = scenes.scenes_of(library.db, outing)
    bad = scenes.recipe_of(library.db, row["id"]).frames[1]
    path = library.files(outing)[bad.id].path
    path.write_bytes(path.read_bytes()[:20_000])
    library.cache.sweep()
    shutil.rmtree(library.cache.root)
    library.cache.root.mkdir()
    # what a first look keeps is needed for the shelf only
    worker.queue.inspect(row["id"])
    settled(library)
    frame = next(f for f in scenes.recipe_of(library.db, row["id"]).frames if f.id == bad.id)
    assert frame.state == "leave_out" and frame.reason == "unreadable"
    assert any(path.name in problem for problem in library.outing_problems(outing))
    job = jobs.add_job(library.db, "register", scene_id=row["id"])
    worker.wake()
    assert done(library, job)["message"] == "3 frames registered."


SERVER = """
import sys
from pathlib import Path
from eaveplane.pipeline.library import Library
from eaveplane.jobs.worker import Worker
from eaveplane.store import jobs
import time
library = Library(Path(sys.argv[1])); library.claim()
worker = Worker(library); worker.start()
print("up", flush=True)
while jobs.open_jobs(library.db): time.sleep(0.05)
worker.stop()
print("idle", flush=True)
"""


@pytest.mark.parametrize("wait", [1.2])
def test_a_killed_server_loses_nothing_and_finishes(library: Library, worker: Worker, tiny: Set, tmp_path: Path, wait: float) -> None:
    folder = card(tmp_path / "card", tiny)
    outing = brought_in(library, worker, folder)
    worker.stop()
    (row,) = scenes.scenes_of(library.db, outing)
    recipe = scenes.decide(library.db, row["id"], "Exposure", lambda r: r.model_copy(update={"look": r.look.model_copy(update={"exposure": 0.5})}))
    job = jobs.add_job(library.db, "deliver", scene_id=row["id"], recipe=recipe.to_json())

    first = subprocess.Popen([sys.executable, "-c", SERVER, library.home], stdout=subprocess.PIPE, text=True, start_new_session=True)
    assert first.stdout is not None and first.stdout.readline() == "up\n"
    while (state := jobs.job(library.db, job)) is not None and state["state"] == "queued":
        time.sleep(0.02)
    time.sleep(wait)
    first.send_signal(signal.SIGKILL)
    first.wait()
    subprocess.run([sys.executable, "-c", SERVER, library.home], check=True, timeout=120, stdout=subprocess.DEVNULL)

    assert jobs.job(library.db, job)["state"] == "done"  # type: ignore[index]
    assert scenes.recipe_of(library.db, row["id"]) == recipe
    results = scenes.results_of(library.db, row["id"])
    assert len({r["path"] for r in results}) == 1 and tifffile.imread(results[0]["path"]).dtype == np.uint16
    assert not [p for p in folder.iterdir() if p.suffix == ".part"] and not list(library.cache.root.glob(".*"))
    assert Recipe.model_validate_json(recipe_beside(Path(results[0]["path"])).read_text()) == recipe.standing_alone(tiny.size)


def test_one_library_one_server(tmp_path: Path) -> None:
    first = Library(tmp_path)
    first.claim()
    with pytest.raises(LibraryInUse, match="Another Eaveplane server"):
        Library(tmp_path).claim()


@pytest.mark.anew
def test_a_cache_entry_is_whole_or_not_there(tmp_path: Path) -> None:
    cache = Cache(tmp_path)
    key = key_of("step", 1, {"a": 1})
    assert key == key_of("step", 1, {"a": 1}) != key_of("step", 2, {"a": 1})

    def breaks(folder: Path) -> None:
        (folder / "x").write_text("half")
        raise OSError("disk full")

    with pytest.raises(OSError, match="disk full"):
        cache.make(key, breaks)
    assert not cache.has(key) and list(tmp_path.iterdir()) == []
    cache.make(key, lambda folder: (folder / "x").write_text("whole") and None)
    cache.make(key, breaks)
    assert (cache.path(key) / "x").read_text() == "whole"
    (tmp_path / f".{key}.abc").mkdir()
    cache.sweep()
    assert [p.name for p in tmp_path.iterdir()] == [key]


def test_the_cache_gives_up_what_was_asked_for_longest_ago(tmp_path: Path) -> None:
    cache = Cache(tmp_path)
    keys = [key_of("step", 1, i) for i in range(4)]
    for age, key in enumerate(keys):
        cache.make(key, lambda folder: (folder / "x").write_bytes(b"1" * 100_000) and None)
        os.utime(cache.path(key), (1000 + age, 1000 + age))
    cache.make(keys[0], lambda folder: None)
    assert cache.trim(250_000) == 2
    assert [cache.has(key) for key in keys] == [True, False, False, True]
    assert cache.trim(cache.room()) == 0 and cache.room() >= 4 << 30


def test_tickets_tell_and_call_off(tmp_path: Path) -> None:
    ticket = Ticket(str(tmp_path / "t"))
    assert ticket.read() == 0
    ticket.tell(1.0)
    assert ticket.read() == 1
    ticket.cancel()
    with pytest.raises(Cancelled):
        Ticket(str(tmp_path / "t")).tell(1.0)


def test_a_runner_passes_on_what_steps_raise(tmp_path: Path) -> None:
    def step(fail: bool, ticket: str) -> int:
        if fail:
            raise ValueError("no")
        return 7

    with ThreadPoolExecutor(1) as pool:
        runner = Runner(pool, tmp_path, lambda what, share: None)
        fine, wrong = runner.run("x", [(step, (False,)), (step, (True,))])
        assert fine == 7 and isinstance(wrong, ValueError)
        with pytest.raises(ValueError, match="no"):
            runner.one("x", step, True)
        stopped = Runner(pool, tmp_path, lambda what, share: None, lambda: True)
        blocker: Future[None] = pool.submit(time.sleep, 0.5)
        with pytest.raises(Cancelled):
            stopped.run("x", [(step, (False,))])
        blocker.result()


def test_what_is_seen_is_what_was_woven(library: Library, worker: Worker, small: Set, tmp_path: Path) -> None:
    outing = brought_in(library, worker, card(tmp_path / "card", small))
    (row,) = scenes.scenes_of(library.db, outing)
    recipe = scenes.recipe_of(library.db, row["id"])
    keys = library.decoded(library.files(outing), Capture())
    planned = scene.plan(recipe, keys, {})
    assert planned is not None

    def view():  # type: ignore[no-untyped-def]
        return open_view(library.cache, recipe, Frames(keys, keys, keys), planned, *(Memory(1 << 28) for _ in range(3)))

    look, box = ViewOptions(recipe.look), (0, 0, 360, 240)
    frame = screen(view(), f"frame:{planned.ids[2]}", 1, box, look)
    np.testing.assert_array_equal(screen(view(), "weave", 1, box, look), frame)
    registering = jobs.add_job(library.db, "register", scene_id=row["id"])
    worker.wake()
    assert done(library, registering)["state"] == "done"
    early = screen(view(), "weave", 1, box, look).astype(int)
    weaving = jobs.add_job(library.db, "weave", scene_id=row["id"])
    worker.wake()
    assert done(library, weaving)["state"] == "done"
    late = screen(view(), "weave", 1, box, look).astype(int)
    assert np.abs(early - late).mean() < 2.0 < np.abs(frame.astype(int) - late).mean()
    picture, seen = viewport(view(), "share", (100, 50, 600, 400), 300, look)
    assert picture.shape[1] == 300 and seen[0] <= 100 and seen[0] + seen[2] >= 699
    assert overview(view(), "weave", 200, recipe.look).shape[2] == 3
    for what in ("frame:zzz", "mask:zzz", "nothing"):
        with pytest.raises((KeyError, ValueError)):
            screen(view(), what, 0, (0, 0, 8, 8), look)
    difference = screen(view(), f"difference:{planned.ids[2]}:{planned.ids[2]}:4", 0, (0, 0, 64, 64), look)
    assert (difference == 128).all()
    bright = screen(view(), "weave", 0, (0, 0, 64, 64), ViewOptions(recipe.look.model_copy(update={"exposure": 4.0}), clipping=True))
    assert (bright == (200, 60, 20)).all(axis=2).any()


@pytest.mark.anew
def test_one_look_is_carried_by_frames_weave_and_file(library: Library, worker: Worker, tiny: Set, tmp_path: Path) -> None:
    """Corrections, areas, relief and haze: what is seen on the page is what is written, and frames stay alike under it."""
    outing = brought_in(library, worker, card(tmp_path / "card", tiny))
    (row,) = scenes.scenes_of(library.db, outing)
    areas = [
        Area(name="Far", parts=[DistanceRange(near=1.2)], exposure=-0.6, haze=40, warmth=-20),
        Area(name="Middle", parts=[Elliptical(x=330, y=270, rx=200, ry=130), ToneRange(low=0.3, join="intersect")], feather=12, shadows=40, relief=60),
    ]
    look = RAW_LOOK.model_copy(update={"areas": areas, "fine": 30, "broad": 50, "haze": 30, "boost": 30, "hues": [HuePoint(hue=50, strength=40)]})
    capture = Capture(fringes="measured", vignetting="lens", noise=30, noise_colour=60)
    delivery = Delivery(format="tiff", profile="srgb", folder=str(tmp_path))
    scenes.decide(library.db, row["id"], "All of it", lambda recipe: recipe.model_copy(update={"look": look, "capture": capture, "canvas": "reference", "delivery": delivery}))
    recipe = scenes.recipe_of(library.db, row["id"])
    plain = library.decoded(library.files(outing), Capture())

    def view(keys: dict[str, FrameStep]) -> View:
        found = open_view(library.cache, recipe, Frames(plain, plain, keys), scene.plan(recipe, keys, {}), *(Memory(1 << 28) for _ in range(3)))
        assert found is not None
        return found

    # before frames have been corrected they are so while they are looked at, and look the same after it
    early = view({}).developed(f"frame:{recipe.frames[2].id}", 0, (90, 90, 140, 90), look)
    job = jobs.add_job(library.db, "deliver", scene_id=row["id"], recipe=recipe.to_json())
    worker.wake()
    told = done(library, job)
    assert told["state"] == "done", told
    seen = view(frame_steps(recipe.frames, plain, capture))
    assert seen.woven is not None and seen.guide().distance is not None
    # their noise was taken off, and none of them is any noisier for what is left
    assert seen.laid is not None and seen.laid.places is not None and seen.laid.places.noisier == (1,) * len(recipe.frames)
    late = seen.frames[recipe.frames[2].id]
    np.testing.assert_allclose(late.root(0, (90, 90, 140, 90)), view({}).frames[recipe.frames[2].id].root(0, (90, 90, 140, 90)), atol=2e-4)
    assert early.shape == (90, 140, 3)
    # distance as the weave tells it: within half a step between frames nearly everywhere, the sky included
    told_far = 1 / seen.guide().distance  # type: ignore[operator]
    steps = np.array([1 / shot.focus_m for shot in tiny.shots])
    true = np.clip(cv2.resize(1 / tiny.truth.distance.astype(np.float32), told_far.shape[::-1], interpolation=cv2.INTER_AREA), steps.min(), steps.max())
    near = np.abs(told_far - true) < np.abs(np.diff(steps)).min() / 2
    print(f"distances within half a step: {near.mean():.1%}, in the upper fifth {near[: len(near) // 5].mean():.1%}")
    assert near.mean() > 0.88 and near[: len(near) // 5].mean() > 0.9

    (written,) = [Path(r["path"]) for r in scenes.results_of(library.db, row["id"])]
    file = tifffile.imread(written).astype(float) / 65535
    width, height = seen.size
    screen = seen.developed("weave", 0, (0, 0, width, height), look)
    shown = encode_srgb(screen * np.abs(screen))
    assert file.shape == shown.shape
    off = np.abs(file - shown)
    # the page measures relief and haze on stored tinyer sizes, the file on its own
    assert np.median(off) < 0.002 and np.quantile(off, 0.99) < 0.012

    # and so is what the command line makes of the same recipe
    result = run("stack", *tiny.paths, "--out", tmp_path / "headless.tif", "--recipe", recipe_beside(written))
    assert result.exit_code == 0, result.output
    np.testing.assert_array_equal(tifffile.imread(tmp_path / "headless.tif"), tifffile.imread(written))

    # flicked through, frames do not jump: far beyond their blur they are as alike as without the look
    apart = []
    for frame in recipe.kept():
        pair = [light_of(seen.developed(f"frame:{i}", 0, (0, 0, width, height), look)) for i in (recipe.kept()[2].id, frame.id)]
        apart.append(float(np.median(apart_map(*pair))))
    assert max(apart) < 0.8, apart


def test_frames_get_names_and_newcomers_places() -> None:
    files = [choice([File(Path(f"/x/{n}.dng"), n * 64, f"{n}.dng")]) for n in "abcde"]
    assert [f.name for f in named(files)] == ["Near", "", "Mid", "", "Far"] and [f.name for f in named(files[:1])] == [""]
    recipe = Recipe(frames=named([files[0], files[3]]))
    assert [f.file[0] for f in joined(recipe, files, [files[1], files[2], files[4]]).frames] == ["a", "b", "c", "d", "e"]
    assert [f.file[0] for f in joined(Recipe(frames=named(files[2:4])), files, files[:1]).frames] == ["a", "c", "d"]


