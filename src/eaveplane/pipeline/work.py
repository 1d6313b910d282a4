"""A thread of the server that takes jobs from the table and submits their steps to an executor.

Everything a job has reached is in the cache and the database, so a job that a killed server left behind is
simply taken again: what was done is found, what was not is done.
"""

from __future__ import annotations

import ctypes
import filecmp
import glob
import json
import logging
import multiprocessing
import os
import shutil
import signal
import sqlite3
import threading
import time
from collections.abc import Sized
from concurrent.futures import Executor, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from datetime import datetime
from pathlib import Path

from ..core.deliver.delivery import SUFFIX, beside, facts_of, file_name
from ..core.even.look import NEUTRAL, RAW_LOOK
from ..core.gather.split import Taken, split
from ..imaging.errors import PictureError
from ..imaging.read import RAW_SUFFIXES
from ..imaging.rows import CORES
from ..imaging.write import free_name, put_in_place, writes
from ..recipe import FrameChoice, Recipe
from ..store import jobs, outings, scenes
from . import scene, shooting
from .cache import Cache
from .decisions import decide
from .frames import File, analyse, choice, correct, exposure_groups, frame_keys, in_order, merge, ordered, same_size
from .glance import Looked, glance_key, look, open_glance
from .library import Library
from .pictures import keep_in, list_pictures, recipe_beside
from .runner import Runner
from .steps import open_registration
from .ticket import Cancelled

log = logging.getLogger("eaveplane.work")


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
        self.looked_at = 0
        """The scene that is open in the page."""
        self._stopping = threading.Event()
        self._lanes = [_Lane(self, CORES, camera=False), _Lane(self, 1, camera=True)]

    def start(self) -> None:
        left = jobs.requeue_unfinished(self.db)
        if left:
            log.info("%d unfinished jobs wait again", left)
        self.library.cache.sweep()
        shutil.rmtree(self.library.tickets, ignore_errors=True)
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
            try:
                row = jobs.take(self.db, lane.camera, self.looked_at)
            except sqlite3.Error:
                log.exception("the queue cannot be read just now")
                row = None
            if row is None:
                lane.awake.wait(1.0)
                lane.awake.clear()
                continue
            lane.pool = lane.pool or lane.start_pool()
            try:
                self._run(row, lane)
                self._make_room()
            except Exception as error:
                # nothing that goes wrong with one job may end the thread that does all of them
                log.exception("job %d could not be ended", row["id"])
                self._give_up(row["id"], error)

    def _give_up(self, number: int, error: Exception) -> None:
        """Say that a job failed as soon as that can be written down, as when a disk was full and has room again."""
        said = f"It could not be written down ({error}). Make room on the disk, then try again."
        while not self._stopping.is_set():
            try:
                jobs.end(self.db, number, "failed", said)
                return
            except sqlite3.Error:
                self._stopping.wait(2.0)

    def _run(self, row: sqlite3.Row, lane: _Lane) -> None:
        number = row["id"]
        told = {"at": 0.0, "what": ""}

        def tell(what: str, share: float) -> None:
            now = time.monotonic()
            if now - told["at"] > 0.3 or what != told["what"]:  # type: ignore[operator]
                told.update(at=now, what=what)
                jobs.progress(self.db, number, what, share)

        def unwanted() -> bool:
            return self._stopping.is_set() or jobs.is_cancelled(self.db, number) or (row["kind"] == jobs.BACKGROUND and jobs.asked_for(self.db))

        assert lane.pool is not None

        def renewed() -> Executor:
            lane.pool = lane.start_pool()
            return lane.pool

        runner = Runner(lane.pool, self.library.tickets, tell, unwanted, renewed)
        kinds = {"bring_in": self._bring_in, "inspect": self._inspect, "register": self._register, "weave": self._weave, "deliver": self._deliver, "shoot": self._shoot}
        try:
            message = kinds[row["kind"]](row, runner)
            jobs.end(self.db, number, "done", message)
        except Cancelled:
            if jobs.is_cancelled(self.db, number):
                jobs.end(self.db, number, "cancelled", "Cancelled. What was done so far is kept.")
            elif not self._stopping.is_set():
                # it makes way for what somebody waits for; what it has done is in the cache
                jobs.put_back(self.db, number)
        except (PictureError, FileExistsError, ValueError) as error:
            jobs.end(self.db, number, "failed", str(error))
        except BrokenProcessPool:
            renewed()
            jobs.end(self.db, number, "failed", "A worker process was ended from outside, perhaps for want of memory. Try again with fewer programs open.")
        except OSError as error:
            jobs.end(self.db, number, "failed", f"{error.strerror or error}. Make room or check the folder, then try again.")
        except Exception:
            log.exception("job %d failed", number)
            jobs.end(self.db, number, "failed", "Something went wrong that should not. The server's log says more; trying again may help.")

    def _make_room(self) -> None:
        """Give up results that were not asked for longest; what was done stays done whatever becomes of this."""
        try:
            self.library.cache.trim(self.library.cache.room())
        except OSError as error:
            log.warning("the cache could not be trimmed: %s", error)

    # ---- what jobs do ---------------------------------------------------------------------------------------

    def _bring_in(self, row: sqlite3.Row, runner: Runner) -> str:
        outing_id, asked = row["outing_id"], json.loads(row["arguments"])
        folder, cache = Path(asked["folder"]), self.library.cache
        paths, skipped = list_pictures(folder)
        unnamed = [p for p in paths if not _can_be_named(p)]
        paths = [p for p in paths if p not in unnamed]
        if asked.get("copy"):
            paths = self._copied(outing_id, paths, runner)
        known = {r["path"]: r for r in outings.files_of(self.db, outing_id)}

        def seen_before(path: Path) -> bool:
            row = known.get(str(path))
            return row is not None and bool(row["sha256"]) and row["stamp"] in ("", stamp_of(path)) and cache.has(glance_key(row["sha256"]))

        fresh = [p for p in paths if not seen_before(p)]
        changed: list[str] = []

        def landed(k: int, found: Looked) -> None:
            path = fresh[k]
            before = known.get(str(path))
            name = before["name"] if before else path.name
            if before and before["sha256"] and found.sha256 not in (None, before["sha256"]):
                changed.append(name)
            problem = f"{name}: {found.problem.problem} {found.problem.remedy}" if found.problem else None
            try:
                outings.add_file(self.db, outing_id, path, name, found.sha256, found.facts, problem, stamp=stamp_of(path))
            except (ValueError, OverflowError, sqlite3.DataError) as error:
                outings.add_file(self.db, outing_id, path, name, None, None, f"{name}: says things about itself that cannot be kept ({error}). Export it again.")

        results = runner.run("Looking at files", (0.0, 0.9), [(look, (str(cache.root), str(p))) for p in fresh], landed=landed)
        for k, result in enumerate(results):
            if isinstance(result, BaseException):
                told = f"could not be looked at ({result or type(result).__name__})."
                landed(k, Looked(None, None, PictureError(fresh[k], told, "Bring the folder in again; leave this file out if that does not help.")))
        files = self.library.files(outing_id)
        if not files:
            problems = self.library.outing_problems(outing_id)
            return "No picture in this folder can be used." if problems else "There are no pictures in this folder."
        runner.tell("Sorting into scenes", 0.92)
        made = self._sort(outing_id, files)
        for number in made:
            self.inspect(number)
        said = f"{len(files)} frames brought in"
        if changed:
            said += f"; {changed[0]}{f' and {len(changed) - 1} more' if len(changed) > 1 else ''} changed since, and came in as new"
        if unnamed:
            said += f"; {len(unnamed)} whose name is not UTF-8 stay out: rename {'it' if len(unnamed) == 1 else 'them'} first"
        unusable = len(self.library.outing_problems(outing_id))
        if unusable:
            said += f"; {unusable} cannot be used, as the shelf says"
        if skipped:
            said += f", {len(skipped)} file{'s' if len(skipped) > 1 else ''} left where they are ({skipped[0].name}{' …' if len(skipped) > 1 else ''})"
        return said + "."

    def _copied(self, outing_id: int, paths: list[Path], runner: Runner) -> list[Path]:
        """Copy pictures into the library, under names of our own; what is there already is not copied again."""
        place = self.library.uploads / str(outing_id)
        there = {r["origin"]: Path(r["path"]) for r in outings.files_of(self.db, outing_id) if r["origin"]}
        copies = []
        for k, path in enumerate(paths):
            if runner.cancelled():
                raise Cancelled
            runner.tell("Copying files", 0.1 * k / len(paths))
            copy = there.get(str(path))
            if copy is None or not copy.exists():
                copy = keep_in(place, path.suffix.lower(), lambda part, path=path: shutil.copyfile(path, part))  # type: ignore[misc]
                outings.add_file(self.db, outing_id, copy, path.name, None, None, None, str(path))
            copies.append(copy)
        return copies

    def _sort(self, outing_id: int, files: dict[str, File]) -> list[int]:
        """Put files into scenes; those that have one keep it. Numbers of the scenes that are new or grew."""
        listed = list(files.values())
        metas = self.library.metadata(outing_id)
        about = [metas[f.id] for f in listed]
        seen = [open_glance(self.library.cache, f.sha256) for f in listed]
        found = split([glimpse for glimpse, _ in seen], [Taken(m.taken, size, m.focal_mm, str(file.path.parent)) for (m, size), file in zip(about, listed, strict=True)])
        made = []
        for group, markers in zip(found.scenes, found.marked, strict=True):
            positions = exposure_groups([about[i][0] for i in group], [seen[i][0] for i in group])
            middle = [group[p[len(p) // 2]] for p in positions]
            order = ordered([about[i][0] for i in middle], [seen[i][1] for i in middle])
            frames = named([choice([listed[group[i]] for i in positions[k]]) for k in order])
            frames += [choice([listed[i]], reason="marker") for i in markers]
            raw = listed[group[0]].path.suffix.lower() in RAW_SUFFIXES
            number = self._into_scene(outing_id, frames, raw, group[0] in found.doubts)
            made += [number] if number is not None else []
        return made

    def _into_scene(self, outing_id: int, frames: list[FrameChoice], raw: bool, doubtful: bool) -> int | None:
        """Make a scene of frames that belong together, or let those that are new join the one that has some of them
        already, where they belong from near to far; None where there is nothing new."""
        there = scenes.scenes_of(self.db, outing_id)
        taken = {row["id"]: {i for f in scenes.recipe_of(self.db, row["id"]).frames for i in f.all_files()} for row in there}
        fresh = [f for f in frames if not any(i in ids for ids in taken.values() for i in f.all_files())]
        if not fresh:
            return None
        own = {i for f in frames for i in f.all_files() if f.reason != "marker"}
        host = next((number for number, ids in taken.items() if ids & own), None)
        if host is None:
            return scenes.add_scene(self.db, outing_id, scenes.name_of_place(self.db, outing_id), Recipe(frames=frames, look=RAW_LOOK if raw else NEUTRAL), doubtful)
        decide(self.library, host, f"Brought in {len(fresh)} more", lambda recipe: joined(recipe, frames, fresh))
        return host

    def bring_in(self, outing_id: int, folder: Path, copy: bool = False) -> None:
        """Queue the looking through of a folder for an outing."""
        job = jobs.add_job(self.db, "bring_in", outing_id=outing_id, folder=str(folder), **({"copy": True} if copy else {}))
        known = len(outings.files_of(self.db, outing_id))
        jobs.note_size(self.db, job, float(known))
        self.wake()

    def inspect(self, scene_id: int) -> None:
        """Queue the reading and inspecting of a scene's frames."""
        recipe = scenes.recipe_of(self.db, scene_id)
        job = jobs.add_job(self.db, "inspect", scene_id=scene_id)
        jobs.note_size(self.db, job, sum(self.library.megapixels(f.all_files()) for f in recipe.frames))
        self.wake()

    def _inspect(self, row: sqlite3.Row, runner: Runner) -> str:
        scene_id, cache = row["scene_id"], self.library.cache
        about = scenes.scene(self.db, scene_id)
        if about is None:
            raise Cancelled
        recipe = scenes.recipe_of(self.db, scene_id)
        files = self.library.files(about["outing_id"])
        looked_at = [f for f in recipe.frames if f.reason not in ("marker", "unreadable") and all(i in files for i in f.all_files())]
        wanted = [files[i] for f in recipe.frames if f.reason != "unreadable" for i in f.all_files() if i in files]
        analysed = analyse(cache, wanted, runner, (0.0, 0.6), False, recipe.capture)
        if analysed.problems:
            for id, problem in analysed.problems.items():
                outings.note_problem(self.db, about["outing_id"], files[id].path, f"{files[id].name}: {problem.problem} {problem.remedy}")
            unusable = {f.id for f in recipe.frames if any(i in analysed.problems for i in f.all_files())}
            decide(self.library, scene_id, "Frames that cannot be read set aside", lambda recipe: scene.leave_out(recipe, dict.fromkeys(unusable, "unreadable")))
            looked_at = [f for f in looked_at if f.id not in unusable]
        merge(cache, looked_at, analysed.keys, runner, (0.6, 0.65), full_only=False)
        correct(cache, looked_at, analysed.keys, runner, (0.65, 0.7), False, recipe.capture)
        keys = frame_keys(looked_at, analysed.keys, False, recipe.capture)
        if len(looked_at) < 2:
            return f"{_frames(looked_at)} read."
        ids = [f.id for f in looked_at]
        order = in_order(cache, [keys[i] for i in ids])
        arranged = [ids[i] for i in order]
        if arranged != ids and about["current"] == 0:
            place = {id: k for k, id in enumerate(arranged)}
            decide(self.library, scene_id, "Ordered near to far", lambda recipe: recipe.model_copy(update={"frames": named(sorted(recipe.frames, key=lambda f: place.get(f.id, len(place))))}))
            ids = arranged
        in_line = [keys[i] for i in arranged]
        found = scene.look_at(cache, in_line, runner, (0.7, 1.0))
        scenes.note_inspected(self.db, scene_id, scene.inspection_of(in_line), arranged)
        decide(self.library, scene_id, "Reference: the soundest frame near the middle", lambda recipe: scene.settled(recipe, found, arranged))
        flaws = sum(v.flaw is not None for v in found.verdicts)
        return f"{len(ids)} frames looked at: " + (f"{flaws} better left out" if flaws else "all are good") + (f", {len(found.bands)} soft." if found.bands else ".")

    def _prepare(self, scene_id: int, recipe: Recipe, runner: Runner, upto: float) -> scene.Plan:
        """Everything up to the sharp zones. `upto` is the share of the job's time that this takes."""
        row = scenes.scene(self.db, scene_id)
        if row is None:
            raise Cancelled
        files, cache = self.library.files(row["outing_id"]), self.library.cache
        kept = recipe.kept()
        if not kept:
            raise ValueError("All frames are left out. Bring some back in Gather.")
        missing = [f.file for f in kept if any(i not in files for i in f.sources())]
        if missing:
            raise ValueError(f"{missing[0]} is not among the files of this outing any more. Leave the frame out or bring the folder in again.")
        wanted = [files[i] for f in kept for i in f.sources()]
        analysed = analyse(cache, wanted, runner, (0.0, 0.2 * upto), False, recipe.capture)
        for problem in (analysed.problems | same_size(cache, wanted, analysed.keys)).values():
            raise problem
        merge(cache, kept, analysed.keys, runner, (0.2 * upto, 0.25 * upto), full_only=False)
        correct(cache, kept, analysed.keys, runner, (0.25 * upto, 0.3 * upto), False, recipe.capture)
        planned = scene.plan(recipe, frame_keys(kept, analysed.keys, False, recipe.capture), full_only=False)
        assert planned is not None
        scene.register(cache, planned, runner, (0.3 * upto, 0.9 * upto))
        scene.label(cache, planned, recipe.weaving.quiet, runner, (0.9 * upto, upto))
        scenes.note_made(self.db, scene_id, registered=(planned.registered, planned.ids))
        return planned

    def _register(self, row: sqlite3.Row, runner: Runner) -> str:
        planned = self._prepare(row["scene_id"], scenes.recipe_of(self.db, row["scene_id"]), runner, 1.0)
        return f"{_frames(planned.ids)} registered."

    def _weave(self, row: sqlite3.Row, runner: Runner) -> str:
        recipe = scenes.recipe_of(self.db, row["scene_id"])
        planned = self._prepare(row["scene_id"], recipe, runner, 0.4)
        scene.weave(self.library.cache, planned, recipe, runner, (0.4, 1.0), full_only=False)
        scenes.note_made(self.db, row["scene_id"], woven=planned.woven)
        return f"{_frames(planned.ids)} woven."

    def _deliver(self, row: sqlite3.Row, runner: Runner) -> str:
        arguments = json.loads(row["arguments"])
        # the recipe of the moment in which delivery was asked for
        recipe = Recipe.model_validate_json(arguments["recipe"])
        planned = self._prepare(row["scene_id"], recipe, runner, 0.3)
        scene.weave(self.library.cache, planned, recipe, runner, (0.3, 0.7), full_only=False)
        scenes.note_made(self.db, row["scene_id"], woven=planned.woven)
        # made in the library first: whatever stands at the name in the end can be told from it
        made = self.library.home / "delivering" / f"{row['id']}{SUFFIX[recipe.delivery.format]}"
        made.parent.mkdir(exist_ok=True)
        if not made.exists():
            scene.deliver(self.library.cache, planned, recipe, made, False, runner, (0.7, 0.97))
        out = Path(arguments["out"]) if "out" in arguments else self._place(row, recipe)
        for left in out.parent.glob(f".{glob.escape(out.name)}.*.part"):
            left.unlink(missing_ok=True)
        if out.exists() and not filecmp.cmp(made, out, shallow=False):
            # somebody else took the name meanwhile
            out = free_name(out)
        with self.db.write() as connection:
            connection.execute("UPDATE job SET arguments = ? WHERE id = ?", (json.dumps({**arguments, "out": str(out)}), row["id"]))
        if not out.exists():
            put_in_place(out, lambda part: _copied_file(made, part))
        put_in_place(recipe_beside(out), writes(recipe.standing_alone(planned_size(self.library.cache, planned)).to_json()), replace=True)
        made.unlink(missing_ok=True)
        scenes.add_result(self.db, row["scene_id"], str(out), recipe)
        return f"Delivered {out.name}."

    def _place(self, row: sqlite3.Row, recipe: Recipe) -> Path:
        """A free name in the folder that the recipe chooses. Raises ValueError where the folder cannot be used."""
        about = scenes.scene(self.db, row["scene_id"])
        assert about is not None
        files = self.library.files(about["outing_id"])
        originals = [files[i].path for f in recipe.kept() for i in f.sources()]
        folder = beside(originals, recipe.delivery.folder)
        if not folder.is_absolute() or not folder.is_dir():
            raise ValueError(f"{folder} is not a folder. Choose another one, or none to write beside the originals.")
        today = datetime.now().strftime("%Y-%m-%d")
        told = name_facts(self.library, about, recipe, today)
        return free_name(folder / (file_name(recipe.delivery.name, told) + SUFFIX[recipe.delivery.format]))

    def _shoot(self, row: sqlite3.Row, runner: Runner) -> str:
        """Let the field camera carry out an order; where an outing is named, bring the card in again after it."""
        asked = json.loads(row["arguments"])
        count = runner.one(f"Field camera: {asked['folder']}", (0.0, 1.0), shooting.shoot, asked["order"], str(self.library.card / asked["folder"]), asked["first"], asked["start"])
        if row["outing_id"]:
            self.bring_in(row["outing_id"], self.library.card)
        return f"{count} frames landed in {asked['folder']}."


def name_facts(library: Library, about: sqlite3.Row, recipe: Recipe, date: str) -> dict[str, str]:
    """What the name of a delivery of a scene (its row, with the outing's name) can tell."""
    metas = library.metadata(about["outing_id"])
    kept = recipe.kept()
    return facts_of(about["outing"], about["name"], [f.file for f in kept], [metas[i][0] for f in kept for i in f.sources() if i in metas], date, recipe.weaving.detail, recipe.finish.sharpen)


def planned_size(cache: Cache, planned: scene.Plan) -> tuple[int, int]:
    """Size (w, h) of the frames of a plan that has been registered."""
    return open_registration(cache, planned.registered).size


def _copied_file(source: Path, part: Path) -> None:
    shutil.copyfile(source, part)


def stamp_of(path: Path) -> str:
    """What changes when a file's content does, without reading it: size and time of change; empty where there is no file."""
    try:
        about = path.stat()
    except OSError:
        return ""
    return f"{about.st_size}-{about.st_mtime_ns}"


def _can_be_named(path: Path) -> bool:
    """Whether a file's name is text, so that it can be kept and shown."""
    try:
        str(path).encode()
    except UnicodeEncodeError:
        return False
    return True


def _frames(some: Sized) -> str:
    return f"{len(some)} frame{'s' if len(some) != 1 else ''}"


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


def named(frames: list[FrameChoice]) -> list[FrameChoice]:
    """Frames from near to far, the ends and the middle with names where they have none of their own."""
    kept = [f for f in frames if f.reason != "marker"]
    names = {0: "Near", len(kept) - 1: "Far"} if len(kept) > 1 else {}
    if len(kept) > 2:
        names[len(kept) // 2] = "Mid"
    offered = {f.id: names.get(i, "") for i, f in enumerate(kept)}
    return [f.model_copy(update={"name": offered.get(f.id, "")}) if f.name in ("", "Near", "Mid", "Far") else f for f in frames]


def joined(recipe: Recipe, ordered: list[FrameChoice], fresh: list[FrameChoice]) -> Recipe:
    """The recipe with new frames, each behind the nearest frame before it (in `ordered`) that the recipe has."""
    frames = list(recipe.frames)
    for frame in fresh:
        before = {f.id for f in ordered[: ordered.index(frame)]}
        at = max((i + 1 for i, f in enumerate(frames) if f.id in before), default=0)
        frames.insert(at if frame.reason != "marker" else len(frames), frame.model_copy(update={"name": ""}))
    return recipe.model_copy(update={"frames": frames})
