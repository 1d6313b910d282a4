"""A thread of the server that takes jobs from the table and submits their steps to an executor.

Everything a job has reached is in the cache and the database, so a job that a killed server left behind is
simply taken again: what was done is found, what was not is done.
"""

from __future__ import annotations

import ctypes
import json
import logging
import multiprocessing
import os
import signal
import sqlite3
import threading
import time
from concurrent.futures import Executor, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from datetime import datetime
from pathlib import Path

from ..core.deliver.delivery import SUFFIX, beside, file_name
from ..core.even.look import NEUTRAL, RAW_LOOK
from ..core.gather.composition import glimpse
from ..core.gather.split import Taken, split
from ..imaging.errors import PictureError
from ..imaging.read import PICTURE_SUFFIXES, facts
from ..imaging.rows import CORES
from ..imaging.write import free_name, put_in_place, writes
from ..recipe import FrameChoice, Recipe
from ..store import jobs, outings, scenes
from . import scene, shooting, steps
from .cache import hash_file
from .library import Library
from .ticket import Cancelled

log = logging.getLogger("eaveplane.work")
MOST_FILES = 5000


def _begin(nice: int) -> None:
    """A worker must not outlive a server that was killed; Linux sends it a signal when its parent is gone."""
    os.nice(nice)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        ctypes.CDLL("libc.so.6").prctl(1, signal.SIGKILL)
    except OSError:
        log.debug("no prctl here; workers end when their queue closes")
    parent = multiprocessing.parent_process()
    if parent is not None and os.getppid() != parent.pid:
        # the server was killed while this process was still starting; no signal would come any more
        os._exit(1)


def worker_pool(processes: int, nice: int) -> ProcessPoolExecutor:
    """Processes for steps; `nice` is how far they stand back behind others."""
    return ProcessPoolExecutor(processes, mp_context=multiprocessing.get_context("spawn"), initializer=_begin, initargs=(nice,))


class Worker:
    """Runs jobs one after the other until stopped; the field camera's on a lane of their own, as a device would."""

    def __init__(self, library: Library) -> None:
        self.library, self.db = library, library.db
        self._stopping = threading.Event()
        self._lanes = [_Lane(self, CORES, camera=False), _Lane(self, 1, camera=True)]

    def start(self) -> None:
        left = jobs.requeue_unfinished(self.db)
        if left:
            log.info("%d unfinished jobs wait again", left)
        self.library.cache.sweep()
        for lane in self._lanes:
            lane.thread.start()

    def stop(self) -> None:
        """End after the current step; what was begun is taken again at the next start."""
        self._stopping.set()
        self.wake()
        for lane in self._lanes:
            lane.thread.join(timeout=20)
            if lane.pool:
                lane.pool.shutdown(wait=False, cancel_futures=True)

    def wake(self) -> None:
        """There is something new to do."""
        for lane in self._lanes:
            lane.awake.set()

    def loop(self, lane: _Lane) -> None:
        """Take one job after the other; processes are started with the first one."""
        if not lane.camera:
            lane.pool = lane.start_pool()
            # the pool's first job should not wait for imports
            for _ in range(lane.processes):
                lane.pool.submit(time.sleep, 0.01)
        while not self._stopping.is_set():
            row = jobs.take(self.db, lane.camera)
            if row is None:
                lane.awake.wait(1.0)
                lane.awake.clear()
                continue
            lane.pool = lane.pool or lane.start_pool()
            self._run(row, lane)

    def _run(self, row: sqlite3.Row, lane: _Lane) -> None:
        number = row["id"]
        told = {"at": 0.0, "what": ""}

        def tell(what: str, share: float) -> None:
            now = time.monotonic()
            if now - told["at"] > 0.3 or what != told["what"]:  # type: ignore[operator]
                told.update(at=now, what=what)
                jobs.progress(self.db, number, what, share)

        def unwanted() -> bool:
            return self._stopping.is_set() or jobs.is_cancelled(self.db, number)

        assert lane.pool is not None
        runner = scene.Runner(lane.pool, self.library.tickets, tell, unwanted)
        kinds = {"bring_in": self._bring_in, "register": self._register, "weave": self._weave, "deliver": self._deliver, "shoot": self._shoot}
        try:
            message = kinds[row["kind"]](row, runner)
            jobs.end(self.db, number, "done", message)
            self.library.cache.trim(self.library.cache.room())
        except Cancelled:
            if jobs.is_cancelled(self.db, number):
                jobs.end(self.db, number, "cancelled", "Cancelled. What was done so far is kept.")
        except (PictureError, FileExistsError, ValueError) as error:
            jobs.end(self.db, number, "failed", str(error))
        except BrokenProcessPool:
            lane.pool = lane.start_pool()
            jobs.end(self.db, number, "failed", "A worker process was ended from outside, perhaps for want of memory. Try again with fewer programs open.")
        except OSError as error:
            jobs.end(self.db, number, "failed", f"{error.strerror or error}. Make room or check the folder, then try again.")
        except Exception:
            log.exception("job %d failed", number)
            jobs.end(self.db, number, "failed", "Something went wrong that should not. The server's log says more; trying again may help.")

    # ---- what jobs do ---------------------------------------------------------------------------------------

    def _bring_in(self, row: sqlite3.Row, runner: scene.Runner) -> str:
        outing_id, folder = row["outing_id"], Path(json.loads(row["arguments"])["folder"])
        paths = list_pictures(folder)
        known = {r["path"]: r for r in outings.files_of(self.db, outing_id)}
        for i, path in enumerate(paths):
            if runner.cancelled():
                raise Cancelled
            runner.tell("Looking at files", 0.1 * i / max(1, len(paths)))
            before = known.get(str(path))
            if before and before["sha256"]:
                continue
            name = before["name"] if before else path.name
            try:
                outings.add_file(self.db, outing_id, path, name, hash_file(path), facts(path), None)
            except PictureError as error:
                outings.add_file(self.db, outing_id, path, name, None, None, f"{name}: {error.problem} {error.remedy}")
        files = self.library.files(outing_id)
        if not files:
            problems = self.library.outing_problems(outing_id)
            return "No picture in this folder can be used." if problems else "There are no pictures in this folder."
        analysed = scene.analyse(self.library.cache, list(files.values()), runner, (0.1, 0.95), full_only=False)
        wrong = analysed.problems | scene.same_size(self.library.cache, list(files.values()), analysed.keys)
        for id, problem in wrong.items():
            outings.note_problem(self.db, outing_id, files[id].path, f"{files[id].name}: {problem.problem} {problem.remedy}")
        good = [f for id, f in files.items() if id not in wrong]
        frames = [steps.open_decoded(self.library.cache, analysed.keys[f.id]) for f in good]
        taken = [Taken(frame.meta.taken, frame.size, frame.meta.focal_mm) for frame in frames]
        found = split([glimpse(frame.small()) for frame in frames], taken)
        for group, markers in zip(found.scenes, found.marked, strict=True):
            order = scene.in_order(self.library.cache, [analysed.keys[good[i].id] for i in group])
            self._into_scene(outing_id, [good[group[i]] for i in order], [good[i] for i in markers], frames[group[0]].raw)
        return f"{len(good)} frames brought in" + (f", {len(files) - len(good)} set aside" if len(files) > len(good) else "") + "."

    def _into_scene(self, outing_id: int, ordered: list[scene.File], markers: list[scene.File], raw: bool) -> None:
        """Make a scene of frames that belong together, its markers left out, or let them join the one that has some of
        them already, where they belong from near to far."""
        there = scenes.scenes_of(self.db, outing_id)
        own = {f.id for f in ordered}
        taken = {row["id"]: {f.id for f in scenes.recipe_of(self.db, row["id"]).frames} for row in there}
        fresh = [f for f in ordered if not any(f.id in ids for ids in taken.values())]
        if not fresh:
            return
        host = next((number for number, ids in taken.items() if ids & own), None)
        if host is None:
            frames = [*named(ordered), *(FrameChoice(id=f.id, file=f.name, state="leave_out", reason="marker") for f in markers)]
            scenes.add_scene(self.db, outing_id, f"Scene {len(there) + 1}", Recipe(frames=frames, look=RAW_LOOK if raw else NEUTRAL))
        else:
            scenes.decide(self.db, host, f"Brought in {len(fresh)} more", lambda recipe: joined(recipe, ordered, fresh))

    def _prepare(self, scene_id: int, recipe: Recipe, runner: scene.Runner, upto: float) -> scene.Plan:
        """Everything up to the sharp zones. `upto` is the share of the job's time that this takes."""
        row = scenes.scene(self.db, scene_id)
        if row is None:
            raise Cancelled
        files = self.library.files(row["outing_id"])
        wanted = recipe.kept()
        if not wanted:
            raise ValueError("All frames are left out. Bring some back in Gather.")
        missing = [f.file for f in wanted if f.id not in files]
        if missing:
            raise ValueError(f"{missing[0]} is not among the files of this outing any more. Leave the frame out or bring the folder in again.")
        analysed = scene.analyse(self.library.cache, [files[f.id] for f in wanted], runner, (0.0, 0.2 * upto), full_only=False)
        for problem in (analysed.problems | scene.same_size(self.library.cache, [files[f.id] for f in wanted], analysed.keys)).values():
            raise problem
        planned = scene.plan(recipe, analysed.keys, full_only=False)
        assert planned is not None
        scene.register(self.library.cache, planned, runner, (0.2 * upto, 0.9 * upto))
        scene.label(self.library.cache, planned, recipe.weaving.quiet, runner, (0.9 * upto, upto))
        scenes.note_made(self.db, scene_id, registered=planned.registered)
        return planned

    def _register(self, row: sqlite3.Row, runner: scene.Runner) -> str:
        planned = self._prepare(row["scene_id"], scenes.recipe_of(self.db, row["scene_id"]), runner, 1.0)
        return f"{len(planned.ids)} frames registered."

    def _weave(self, row: sqlite3.Row, runner: scene.Runner) -> str:
        recipe = scenes.recipe_of(self.db, row["scene_id"])
        planned = self._prepare(row["scene_id"], recipe, runner, 0.4)
        scene.weave(self.library.cache, planned, recipe, runner, (0.4, 1.0), full_only=False)
        scenes.note_made(self.db, row["scene_id"], woven=planned.woven)
        return f"{len(planned.ids)} frames woven."

    def _deliver(self, row: sqlite3.Row, runner: scene.Runner) -> str:
        arguments = json.loads(row["arguments"])
        # the recipe of the moment in which delivery was asked for
        recipe = Recipe.model_validate_json(arguments["recipe"])
        planned = self._prepare(row["scene_id"], recipe, runner, 0.3)
        scene.weave(self.library.cache, planned, recipe, runner, (0.3, 0.7), full_only=False)
        scenes.note_made(self.db, row["scene_id"], woven=planned.woven)
        out = Path(arguments["out"]) if "out" in arguments else self._place(row, recipe)
        if "out" not in arguments:
            # told before it is written: after a crash a whole file of this name is this job's own
            with self.db.write() as connection:
                connection.execute("UPDATE job SET arguments = ? WHERE id = ?", (json.dumps({**arguments, "out": str(out)}), row["id"]))
        if not out.exists():
            scene.deliver(self.library.cache, planned, recipe, out, False, runner, (0.7, 1.0))
        beside_it = out.with_suffix(".recipe.json")
        if not beside_it.exists():
            put_in_place(beside_it, writes(recipe.to_json()))
        scenes.add_result(self.db, row["scene_id"], str(out), recipe)
        return f"Delivered {out.name}."

    def _place(self, row: sqlite3.Row, recipe: Recipe) -> Path:
        """A free name in the folder that the recipe chooses. Raises ValueError where the folder cannot be used."""
        about = scenes.scene(self.db, row["scene_id"])
        assert about is not None
        files = self.library.files(about["outing_id"])
        originals = [files[f.id].path for f in recipe.kept()]
        folder = beside(originals, recipe.delivery.folder)
        if not folder.is_absolute() or not folder.is_dir():
            raise ValueError(f"{folder} is not a folder. Choose another one, or none to write beside the originals.")
        today = datetime.now().strftime("%Y-%m-%d")
        told = {"outing": about["outing"], "scene": about["name"], "frames": str(len(originals)), "date": today, "detail": f"{recipe.weaving.detail:g}px"}
        return free_name(folder / (file_name(recipe.delivery.name, told) + SUFFIX[recipe.delivery.format]))


    def _shoot(self, row: sqlite3.Row, runner: scene.Runner) -> str:
        """Let the field camera carry out an order; where an outing is named, bring the card in again after it."""
        asked = json.loads(row["arguments"])
        count = runner.one(f"Field camera: {asked['folder']}", (0.0, 1.0), shooting.shoot, asked["order"], str(self.library.card / asked["folder"]), asked["first"], asked["start"])
        if row["outing_id"]:
            jobs.add_job(self.db, "bring_in", outing_id=row["outing_id"], folder=str(self.library.card))
            self.wake()
        return f"{count} frames landed in {asked['folder']}."


class _Lane:
    """A thread that takes jobs of its own kind, and the processes it gives their steps to."""

    def __init__(self, worker: Worker, processes: int, camera: bool) -> None:
        self.processes, self.camera = processes, camera
        self.pool: Executor | None = None
        self.awake = threading.Event()
        # a device beside the computer would not slow it down
        self.nice = 5 if camera else 0
        self.thread = threading.Thread(target=worker.loop, args=(self,), name="camera" if camera else "worker", daemon=True)

    def start_pool(self) -> Executor:
        return worker_pool(self.processes, self.nice)


def list_pictures(folder: Path) -> list[Path]:
    """Files in a folder and below it that are named like pictures, in order; our own results are not taken for frames."""
    if not folder.is_dir():
        raise ValueError(f"{folder} is not a folder that can be read.")
    found = []
    for path in sorted(folder.rglob("*")):
        if path.suffix.lower() in PICTURE_SUFFIXES and path.is_file() and not any(part.startswith(".") for part in path.relative_to(folder).parts):
            if path.with_suffix(".recipe.json").exists():
                continue
            found.append(path)
            if len(found) > MOST_FILES:
                raise ValueError(f"{folder} holds more than {MOST_FILES} pictures. Bring in its subfolders one by one.")
    return found


def named(files: list[scene.File]) -> list[FrameChoice]:
    """Entries for frames from near to far, the ends and the middle with names."""
    names = {0: "Near", len(files) - 1: "Far"} if len(files) > 1 else {}
    if len(files) > 2:
        names[len(files) // 2] = "Mid"
    return [FrameChoice(id=f.id, file=f.name, name=names.get(i, "")) for i, f in enumerate(files)]


def joined(recipe: Recipe, ordered: list[scene.File], fresh: list[scene.File]) -> Recipe:
    """The recipe with new frames, each behind the nearest frame before it (in `ordered`) that the recipe has."""
    frames = list(recipe.frames)
    for file in fresh:
        before = [f.id for f in ordered[: ordered.index(file)]]
        at = max((i + 1 for i, f in enumerate(frames) if f.id in before), default=0)
        frames.insert(at, FrameChoice(id=file.id, file=file.name))
    return recipe.model_copy(update={"frames": frames})


