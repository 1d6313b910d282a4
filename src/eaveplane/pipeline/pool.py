"""The processes that steps run in."""

from __future__ import annotations

import ctypes
import logging
import multiprocessing
import os
import signal
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from contextlib import contextmanager

import cv2

from ..imaging.rows import CORES, CORES_NAME

log = logging.getLogger("eaveplane.pool")


def _begin(nice: int) -> None:
    """A worker computes with the cores it was given, and must not outlive a server that was killed; Linux sends it a signal when its parent is gone."""
    os.nice(nice)
    cv2.setNumThreads(CORES)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    try:
        ctypes.CDLL("libc.so.6").prctl(1, signal.SIGKILL)
    except OSError:
        log.debug("no prctl here; workers end when their queue closes")
    parent = multiprocessing.parent_process()
    if parent is not None and os.getppid() != parent.pid:
        # the server was killed while this process was still starting; no signal would come any more
        os._exit(1)


@contextmanager
def fewer_cores(count: int) -> Iterator[None]:
    """Processes that are started meanwhile compute with so many cores each."""
    before = os.environ.get(CORES_NAME)
    os.environ[CORES_NAME] = str(count)
    try:
        yield
    finally:
        if before is None:
            del os.environ[CORES_NAME]
        else:
            os.environ[CORES_NAME] = before


def worker_pool(processes: int, nice: int) -> ProcessPoolExecutor:
    """Processes for steps; `nice` is how far they stand back behind others."""
    return ProcessPoolExecutor(processes, mp_context=multiprocessing.get_context("spawn"), initializer=_begin, initargs=(nice,))
