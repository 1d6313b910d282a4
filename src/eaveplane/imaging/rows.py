"""Sharing a picture's rows among the cores. Compiled kernels here release the interpreter and run side by side."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

CORES = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else (os.cpu_count() or 1)
_WORTH_SHARING = 250_000


def by_rows(work: Callable[[int, int], object], height: int, width: int) -> None:
    """Call `work(first, last)` for slices of rows that together make 0..height, on all cores if it is worth it."""
    if height * width < _WORTH_SHARING or CORES == 1:
        work(0, height)
        return
    pieces = 4 * CORES
    edges = [height * i // pieces for i in range(pieces + 1)]
    with ThreadPoolExecutor(CORES) as pool:
        list(pool.map(work, edges[:-1], edges[1:]))
