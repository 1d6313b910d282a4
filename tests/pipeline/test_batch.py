"""Many scenes with one recipe: killed and run again, one that fails, on a cluster of which one worker is lost; the same pixels everywhere."""

from __future__ import annotations

import json
import os
import platform
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile
from PIL import Image

from eaveplane.cli.many import outputs_of
from eaveplane.core.deliver.delivery import Delivery, OutputSet
from eaveplane.jobs import worker as working
from eaveplane.jobs.worker import Worker
from eaveplane.pipeline import cluster
from eaveplane.pipeline.batch import STATE
from eaveplane.pipeline.library import Library
from eaveplane.pipeline.taking import recipe_from
from eaveplane.recipe import Recipe
from eaveplane.store import outings
from eaveplane.store import scenes as stored
from eaveplane.store.outputs import save_set
from eaveplane.store.settings import CLUSTER, set_to
from tests.conftest import Set, settled
from tests.conftest import done as ended
from tests.test_cli import run

pytestmark = pytest.mark.slow
PATIENCE = 600.0


def until(true: Callable[[], Any], what: str) -> None:
    """Wait for something that is sure to come on a slow machine."""
    end = time.monotonic() + PATIENCE
    while not true():
        assert time.monotonic() < end, what
        time.sleep(0.05)


@pytest.fixture(scope="module")
def scenes(tiny: Set, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder of two scenes and one that cannot be read; a set of outputs and a recipe beside it."""
    home = tmp_path_factory.mktemp("many")
    for k in range(2):
        (home / "outing" / f"place {k}").mkdir(parents=True)
        for path in tiny.paths[k : k + 2]:
            shutil.copy(path, home / "outing" / f"place {k}" / path.name)
    (home / "outing" / "spoilt").mkdir()
    (home / "outing" / "spoilt" / "a.dng").write_bytes(b"II*\0nothing more")
    outputs = [Delivery(title="A", packing="deflate", provenance=True, name="{scene} {frames}f {output}"), Delivery(title="B", format="jpeg", size="edge", long_edge=300, name="{scene} small")]
    (home / "set.json").write_text(OutputSet(outputs=outputs).model_dump_json())
    (home / "recipe.json").write_text(Recipe.model_validate({"schema": 2, "look": {"exposure": 0.3}, "finish": {"vignette": {"strength": -20}}}).to_json())
    return home


def command(home: Path, out: Path, *more: str | Path) -> list[str]:
    return ["batch", str(home / "outing"), "--out", str(out), "--recipe", str(home / "recipe.json"), "--set", str(home / "set.json"), "--report", str(out.with_suffix(".json")), *map(str, more)]


def made(out: Path) -> list[str]:
    return sorted(p.name for p in out.iterdir() if p.is_file() and not p.name.endswith(".recipe.json"))


NAMES = [f"outing place {k} {end}" for k in (0, 1) for end in ("2f A origins.json", "2f A origins.tif", "2f A.tif", "small.jpg")]


@pytest.fixture(scope="module")
def done(scenes: Path) -> Path:
    """The results of a batch that was killed after its first scene and run again."""
    out = scenes / "results"
    first = subprocess.Popen([sys.executable, "-m", "eaveplane.cli", *command(scenes, out, "--workers", "1")], stderr=subprocess.DEVNULL, start_new_session=True)
    until(lambda: list((out / STATE).glob("*.json")) or first.poll() is not None, "no scene was done")
    os.killpg(first.pid, signal.SIGKILL)
    assert first.wait() == -signal.SIGKILL
    kept = {p.name: p.stat().st_mtime_ns for p in (out / STATE).glob("*.json")}
    result = run(*command(scenes, out))
    assert result.exit_code == 4, result.output
    report = json.loads(out.with_suffix(".json").read_text())
    assert (report["kept"], report["done"], report["failed"]) == (len(kept), 2 - len(kept), 1) and kept
    # what was done is not done again, and nothing stands there twice
    assert all((out / STATE / name).stat().st_mtime_ns == stamp for name, stamp in kept.items())
    return out


def test_killed_and_run_again_it_does_only_the_rest(scenes: Path, done: Path) -> None:
    assert made(done) == sorted(NAMES)
    report = json.loads(done.with_suffix(".json").read_text())
    told = {scene["scene"]: scene for scene in report["scenes"]}
    assert told["outing spoilt"]["state"] == "failed" and "a.dng" in told["outing spoilt"]["look_at"][0]
    assert told["outing place 1"]["frames"] == 2 and told["outing place 1"]["files"] == [str(done / name) for name in sorted(NAMES[4:])]
    # once more, all of it is there
    again = run(*command(scenes, done))
    assert again.exit_code == 4 and json.loads(done.with_suffix(".json").read_text())["kept"] == 2 and made(done) == sorted(NAMES)


def test_the_same_pixels_as_one_scene_by_itself(scenes: Path, done: Path, tmp_path: Path) -> None:
    picture = done / "outing place 1 2f A.tif"
    frames = sorted((scenes / "outing" / "place 1").iterdir())
    assert run("stack", *frames, "--out", tmp_path / "a.tif", "--recipe", picture).exit_code in (0, 4)
    np.testing.assert_array_equal(tifffile.imread(tmp_path / "a.tif"), tifffile.imread(picture))
    # and the recipe inside the file is the one beside it
    assert recipe_from(picture) == recipe_from(Path(f"{picture}.recipe.json"))
    with Image.open(done / "outing place 1 small.jpg") as small:
        assert max(small.size) == 300


def test_a_set_that_the_page_keeps_goes_by_its_name(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("EAVEPLANE_HOME", str(tmp_path))
    assert [output.title for output in outputs_of("Archive and web", Recipe())] == ["Archive", "Web"]
    save_set(Library(tmp_path).db, "Wall", OutputSet(outputs=[Delivery(title="Large", size="print"), Delivery(title="Not now", ticked=False)]))
    assert [output.title for output in outputs_of("Wall", Recipe())] == ["Large"] and outputs_of(None, Recipe()) == [Delivery()]


def test_called_off_it_ends_soon_and_says_how_to_go_on(scenes: Path, tmp_path: Path) -> None:
    out = scenes / "called off"
    asking = subprocess.Popen([sys.executable, "-m", "eaveplane.cli", *command(scenes, out)], stderr=subprocess.PIPE, text=True)
    until(lambda: [p for p in (out / STATE).glob("tickets/*") if p.suffix != ".cancel"] or asking.poll() is not None, "no scene was begun")
    asking.send_signal(signal.SIGINT)
    _, said = asking.communicate(timeout=PATIENCE)
    assert asking.returncode == 130 and "Called off" in said and "Traceback" not in said and made(out) == []


def test_wrong_calls_are_told(scenes: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(cluster, "PATIENCE", "1s")
    (tmp_path / "empty").mkdir()
    assert "holds no pictures" in run("batch", tmp_path / "empty", "--out", tmp_path / "out").output
    assert "there is no set Nonsense" in run(*command(scenes, tmp_path / "out")[:-2], "--set", "Nonsense").output
    assert "is not below" in run(*command(scenes, tmp_path / "out"), "--shared", scenes / "outing").output
    assert "holds no recipe" in run("batch", scenes / "outing", "--out", tmp_path / "out", "--recipe", scenes / "outing" / "place 0" / "FIELD0001.dng").output
    nobody = run(*command(scenes, tmp_path / "out"), "--cluster", "tcp://127.0.0.1:9")
    assert nobody.exit_code == 3 and "There is no cluster at" in nobody.output


# ---- a cluster --------------------------------------------------------------------------------------------------


@pytest.fixture
def machines(scenes: Path, tmp_path: Path) -> Iterator[tuple[str, list[subprocess.Popen[bytes]]]]:
    """A scheduler and two workers on loopback; the second has the shared folder mounted elsewhere."""
    file, elsewhere = tmp_path / "scheduler.json", tmp_path / "elsewhere"
    elsewhere.symlink_to(scenes)
    told = ["--scheduler-file", str(file), "--host", "127.0.0.1", "--no-dashboard"]
    running = [subprocess.Popen([sys.executable, "-m", "distributed.cli.dask_scheduler", *told, "--port", "0"], stderr=subprocess.DEVNULL)]
    try:
        until(lambda: file.exists() and file.read_text().rstrip().endswith("}"), "no scheduler")
        for shared in ("", str(elsewhere)):
            # each machine has one core, and its own kernels are those of this one
            env = {**os.environ, "EAVEPLANE_CORES": "1", **({"EAVEPLANE_SHARED": shared} if shared else {})}
            call = [sys.executable, "-m", "distributed.cli.dask_worker", *told, "--nthreads", "1", "--no-nanny", "--local-directory", str(tmp_path)]
            running.append(subprocess.Popen(call, env=env, stderr=subprocess.DEVNULL))
        address = json.loads(file.read_text())["address"]

        def workers() -> int:
            from distributed import Client

            with Client(address, timeout="20s", set_as_default=False) as client:  # type: ignore[no-untyped-call]
                return len(client.scheduler_info()["workers"])

        until(lambda: workers() == 2, "workers are missing")
        yield address, running[1:]
    finally:
        for process in running:
            process.kill()
            process.wait()


def test_a_cluster_does_them_too_though_one_worker_is_lost(scenes: Path, done: Path, machines: tuple[str, list[subprocess.Popen[bytes]]], monkeypatch: pytest.MonkeyPatch) -> None:
    address, workers = machines
    out = scenes / "from the cluster"
    asking = subprocess.Popen([sys.executable, "-m", "eaveplane.cli", *command(scenes, out, "--cluster", address)], stderr=subprocess.DEVNULL)
    # one of the two is lost in the middle of its first scene
    until(lambda: len([p for p in (out / STATE).glob("*") if p.is_dir() and p.name != "tickets"]) >= 2, "no scene was begun")
    workers[0].kill()
    assert asking.wait(timeout=PATIENCE) == 4
    assert made(out) == sorted(NAMES)
    for name in NAMES:
        if name.endswith(".tif"):
            np.testing.assert_array_equal(tifffile.imread(out / name), tifffile.imread(done / name))
    # another version is refused before anything is sent
    cluster.version_here.cache_clear()
    monkeypatch.setattr(platform, "python_version", lambda: "2.7")
    refused = run(*command(scenes, scenes / "never"), "--cluster", address)
    cluster.version_here.cache_clear()
    assert refused.exit_code == 3 and "another version" in refused.output




def test_the_pages_work_goes_to_a_cluster_that_is_set(scenes: Path, tiny: Set, machines: tuple[str, list[subprocess.Popen[bytes]]], monkeypatch: pytest.MonkeyPatch) -> None:
    def none(processes: int, nice: int) -> Any:
        raise AssertionError("a process of this machine was started")

    address, _ = machines
    library = Library(scenes / "library")
    set_to(library.db, CLUSTER, address)
    monkeypatch.setattr(working, "worker_pool", none)
    worker = Worker(library)
    worker.start()
    try:
        outing = outings.add_outing(library.db, "On a cluster", scenes / "outing" / "place 0")
        worker.queue.bring_in(outing, scenes / "outing" / "place 0")
        settled(library)
        (row,) = stored.scenes_of(library.db, outing)
        job = worker.queue.add("register", scene_id=row["id"])
        assert ended(library, job)["state"] == "done"
    finally:
        worker.stop()
    with pytest.raises(ValueError, match="does not see"):
        cluster.Cluster(address).check_sees(scenes / "not there")
