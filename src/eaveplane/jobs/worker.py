"""A thread of the server that takes jobs from the table and carries them out.

Everything a job has reached is in the cache and the database, so a job that a killed server left behind is
simply taken again: what was done is found, what was not is done.
"""

from __future__ import annotations

import logging
import shutil
import sqlite3
import threading
import time
from concurrent.futures import Executor
from concurrent.futures.process import BrokenProcessPool

from ..imaging.errors import PictureError
from ..imaging.rows import CORES
from ..pipeline.cluster import Cluster
from ..pipeline.library import Library
from ..pipeline.pool import worker_pool
from ..pipeline.runner import Runner
from ..pipeline.ticket import Cancelled
from ..store import jobs
from ..store.settings import CLUSTER, setting
from .kind import KINDS
from .queue import JobQueue

log = logging.getLogger("eaveplane.jobs")


class Worker:
    """Carries out jobs one after the other until stopped; the field camera's on a lane of their own, as a device would."""

    def __init__(self, library: Library) -> None:
        self.library, self.db = library, library.db
        self.queue = JobQueue(library, self.wake)
        self.looked_at = 0
        """The scene that is open in the page."""
        self._stopping = threading.Event()
        self._lanes = [_Lane(self, "work", CORES), _Lane(self, "camera", 1)]

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

    def work_elsewhere(self) -> None:
        """Where the work is done has been set anew: from the next job on."""
        self._lanes[0].set_anew = True
        self.wake()

    def wake(self) -> None:
        """There is something new to do."""
        for lane in self._lanes:
            lane.awake.set()

    def loop(self, lane: _Lane) -> None:
        """Take one job after the other; processes are started with the first one."""
        if lane.name == "work":
            lane.pool = lane.start_pool()
            # the pool's first job should not wait for imports
            for _ in range(lane.processes):
                lane.pool.submit(time.sleep, 0.01)
        while not self._stopping.is_set():
            try:
                row = jobs.take(self.db, lane.name, self.looked_at)
            except sqlite3.Error:
                log.exception("the queue cannot be read just now")
                row = None
            if row is None:
                lane.awake.wait(1.0)
                lane.awake.clear()
                continue
            if lane.set_anew and lane.pool:
                lane.pool.shutdown(wait=False)
                lane.pool = None
            lane.set_anew = False
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
            return self._stopping.is_set() or jobs.is_cancelled(self.db, number) or (row["background"] and jobs.asked_for(self.db))

        assert lane.pool is not None

        def renewed() -> Executor:
            lane.pool = lane.start_pool()
            return lane.pool

        runner = Runner(lane.pool, self.library.tickets, tell, unwanted, renewed)
        try:
            message = KINDS[row["kind"]].carry(self.queue, row, runner)
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


class _Lane:
    """A thread that takes jobs of its own kind, and the processes it gives their steps to."""

    def __init__(self, worker: Worker, name: str, processes: int) -> None:
        self.name, self.processes, self.db = name, processes, worker.db
        self.set_anew = False
        """Whether its work goes elsewhere from now on."""
        self.pool: Executor | None = None
        self.awake = threading.Event()
        # a device beside the computer would not slow it down
        self.nice = 5 if name == "camera" else 0
        self.thread = threading.Thread(target=worker.loop, args=(self,), name=name, daemon=True)

    def start_pool(self) -> Executor:
        """Processes of this machine, or of the cluster that is set; one that does not answer is done without."""
        address = setting(self.db, CLUSTER) if self.name == "work" else ""
        if address:
            try:
                return Cluster(address)
            except ValueError as error:
                log.warning("%s The work is done here.", error)
        return worker_pool(self.processes, self.nice)
