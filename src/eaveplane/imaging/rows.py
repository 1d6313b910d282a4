"""Sharing a picture's rows among the cores. Compiled kernels here release the interpreter and run side by side."""

from __future__ import annotations

import os
import threading
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from itertools import islice, pairwise
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

T = TypeVar("T")
R = TypeVar("R")
CORES_NAME = "EAVEPLANE_CORES"
"""What tells a process to compute with fewer cores than there are."""
CORES = max(1, int(os.environ.get(CORES_NAME) or 0)) if os.environ.get(CORES_NAME, "").isdecimal() else len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
_WORTH_SHARING = 250_000
AHEAD = 2
"""Results for each core that may be made before they are taken."""


_here = threading.local()


def by_rows(work: Callable[[int, int], object], height: int, width: int) -> None:
    """Call `work(first, last)` for slices of rows that together make 0..height, on all cores if it is worth it and they are not at work already."""
    if height * width < _WORTH_SHARING or CORES == 1 or getattr(_here, "shares", False):
        work(0, height)
        return
    pieces = 4 * CORES
    edges = [height * i // pieces for i in range(pieces + 1)]
    for _ in side_by_side(lambda span: work(*span), list(pairwise(edges))):
        pass


def side_by_side(work: Callable[[T], R], items: Sequence[T]) -> Iterator[R]:
    """What `work` makes of each item, in order, as many at a time as there are cores, or one after the other where they are at work already.
    The one place where threads are started for computing; what is raised ends it."""
    if len(items) == 1 or CORES == 1 or getattr(_here, "shares", False):
        yield from map(work, items)
        return

    def one(item: T) -> R:
        _here.shares = True
        return work(item)

    with ThreadPoolExecutor(CORES) as pool:
        # only so many ahead of what is taken: results may be large, and items many
        coming = iter(items)
        futures = deque(pool.submit(one, item) for item in islice(coming, AHEAD * CORES))
        try:
            while futures:
                done = futures.popleft().result()
                futures.extend(pool.submit(one, item) for item in islice(coming, 1))
                yield done
        finally:
            for future in futures:
                future.cancel()


STRIP = 288


def in_strips(picture: NDArray[Any], margin: int, work: Callable[[NDArray[Any], int], object]) -> None:
    """Change a picture (h, w, ...) in place, as many strips of rows at a time as there are cores: `work(piece, above)` changes a copy of the
    rows from `above` on, with `margin` rows around the strip as they were before any was changed; only the strip's own are put back."""
    height = picture.shape[0]
    deep = max(min(STRIP, -(-height // CORES)), 2 * margin, 1)
    tail = picture[:0]

    def changed(strip: tuple[int, int, NDArray[Any], int]) -> None:
        first, last, piece, above = strip
        work(piece, above)
        picture[first:last] = piece[first - above : last - above]

    for begin in range(0, height, deep * CORES):
        firsts = range(begin, min(height, begin + deep * CORES), deep)
        strips = []
        for first in firsts:
            last, above = min(first + deep, height), max(0, first - margin)
            below = min(height, last + margin)
            # those of the strips before are no longer what they were
            piece = np.concatenate([tail, picture[first:below]]) if first == begin else picture[above:below].copy()
            strips.append((first, last, piece, above))
        tail = picture[max(0, strips[-1][1] - margin) : strips[-1][1]].copy()
        for _ in side_by_side(changed, strips):
            pass
