"""Sharing a picture's rows among the cores. Compiled kernels here release the interpreter and run side by side."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise
from typing import TypeVar

T = TypeVar("T")
R = TypeVar("R")
CORES = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else (os.cpu_count() or 1)
_WORTH_SHARING = 250_000


def by_rows(work: Callable[[int, int], object], height: int, width: int) -> None:
    """Call `work(first, last)` for slices of rows that together make 0..height, on all cores if it is worth it."""
    if height * width < _WORTH_SHARING or CORES == 1:
        work(0, height)
        return
    pieces = 4 * CORES
    edges = [height * i // pieces for i in range(pieces + 1)]
    for _ in side_by_side(lambda span: work(*span), list(pairwise(edges))):
        pass


def side_by_side(work: Callable[[T], R], items: Sequence[T]) -> Iterator[R]:
    """What `work` makes of each item, in order, as many at a time as there are cores. The one place where threads are started
    for computing; what is raised ends it."""
    with ThreadPoolExecutor(CORES) as pool:
        futures = [pool.submit(work, item) for item in items]
        try:
            for future in futures:
                yield future.result()
        finally:
            for future in futures:
                future.cancel()
