"""The processes that steps run in."""

from __future__ import annotations

import ctypes
import logging
import multiprocessing
import os
import signal
from concurrent.futures import ProcessPoolExecutor

log = logging.getLogger("eaveplane.pool")


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
