"""Where one scene of an outing ends and the next begins, and which frames only mark a beginning."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from itertools import pairwise
from statistics import median

from .composition import Glimpse, alike, shared_part

LONGEST_PAUSE = 45.0
"""Seconds within which the next frame may belong to the same scene in any case."""
PAUSES = 6.0
"""A pause is the end of a scene when it is so many times as long as the outing's usual one."""
SAME = 0.90
"""Correlation from which two frames show one composition."""
UNSURE = 0.06
STRANGE = 0.78
REACH = 6
"""Frames on either side over which a stranger between two frames of one scene is looked past."""
MOST_MARKERS = 2
"""Before a scene."""
SHARED = 0.18
"""Part of the scene's picture that a marker lets through."""


Likeness = Callable[[int, int], float]


@dataclass(frozen=True)
class Taken:
    """What is known of a frame beside its picture, `size` as the camera stored it; None where the file does not say."""

    time: datetime | None = None
    size: tuple[int, int] | None = None
    focal_mm: float | None = None
    folder: str = ""


@dataclass
class Split:
    """Indices of frames: `scenes`, a list a scene, in the order of time; `marked`, the markers of each scene; `doubts`,
    the first frames of scenes whose beginning is uncertain."""

    scenes: list[list[int]] = field(default_factory=list)
    marked: list[list[int]] = field(default_factory=list)
    doubts: list[int] = field(default_factory=list)

    def markers(self) -> list[int]:
        """All of them."""
        return sorted(i for scene in self.marked for i in scene)


def _in_time(taken: Sequence[Taken]) -> list[int]:
    """Frames in the order of time, where all have one; folders that were filled at the same time, by two cameras or by
    clocks that were set, one after the other."""
    order = list(range(len(taken)))
    if not all(t.time for t in taken):
        return order
    spans: dict[str, tuple[datetime, datetime]] = {}
    for t in taken:
        assert t.time is not None
        first, last = spans.get(t.folder, (t.time, t.time))
        spans[t.folder] = min(first, t.time), max(last, t.time)
    begun = sorted(spans.values())
    overlap = any(after[0] <= before[1] for before, after in pairwise(begun))
    return sorted(order, key=lambda i: (*((spans[taken[i].folder][0], taken[i].folder) if overlap else ()), taken[i].time, i))


def _other_settings(a: Taken, b: Taken) -> bool:
    if a.size and b.size and a.size != b.size:
        return True
    return bool(a.focal_mm and b.focal_mm and abs(math.log(a.focal_mm / b.focal_mm)) > 0.03)


def split(glimpses: Sequence[Glimpse], taken: Sequence[Taken]) -> Split:
    """Scenes and markers of an outing; frames come in the order of their names and are put in the order of time where
    all have one."""
    order = _in_time(taken)
    known: dict[tuple[int, int], float] = {}

    def likeness(a: int, b: int) -> float:
        if (a, b) not in known:
            known[a, b] = alike(glimpses[order[a]], glimpses[order[b]])
        return known[a, b]

    gaps = [(b - a).total_seconds() for a, b in pairwise(taken[i].time for i in order) if a and b] if all(t.time for t in taken) else []
    usual = median(gaps) if gaps else 0.0
    runs: list[list[int]] = [[0]] if order else []
    doubtful: set[int] = set()
    for k in range(len(order) - 1):
        ends = bool(gaps) and gaps[k] > max(LONGEST_PAUSE, PAUSES * usual)
        ends = ends or (bool(gaps) and gaps[k] < 0) or _other_settings(taken[order[k]], taken[order[k + 1]])
        # a frame exposed so far off that it shows nothing goes with those before it
        if not ends and not _blank(likeness, k + 1, runs[-1][0]):
            best = _best_across(likeness, k, len(order), runs[-1][0])
            ends = not best >= SAME
            if abs(best - SAME) < UNSURE:
                doubtful.add(k + 1)
        if ends:
            runs.append([])
        runs[-1].append(k + 1)
    found = Split()
    waiting: list[int] = []
    for number, run in enumerate(runs):
        strangers = _strangers(likeness, run)
        kept = [k for k in run if k not in strangers]
        following = runs[number + 1] if number + 1 < len(runs) else None
        alone = len(kept) == 1 and not strangers and len(waiting) < MOST_MARKERS
        if following and alone and _goes_before(order, taken, gaps, usual, kept[0]) and _before_the_lens(glimpses, order, kept[0], following):
            waiting.append(order[kept[0]])
            continue
        found.scenes.append([order[k] for k in kept])
        found.marked.append([*waiting, *(order[k] for k in strangers)])
        waiting = []
        if kept[0] in doubtful:
            found.doubts.append(order[kept[0]])
    return found


def _goes_before(order: list[int], taken: Sequence[Taken], gaps: list[float], usual: float, k: int) -> bool:
    """Whether a frame may belong to what was taken next."""
    close = not gaps or gaps[k] <= max(LONGEST_PAUSE, PAUSES * usual)
    return close and not _other_settings(taken[order[k]], taken[order[k + 1]])


def _blank(likeness: Likeness, k: int, first: int) -> bool:
    """Whether a frame can be compared with none of those before it in its run."""
    return all(math.isnan(likeness(a, k)) for a in range(max(first, k - REACH), k))


def _best_across(likeness: Likeness, k: int, count: int, first: int) -> float:
    """The likeness of the frames on either side of a boundary, looking past strangers and frames exposed too
    differently; -1 where nothing can be compared."""
    best = -1.0
    for far in range(2 * REACH - 1):
        for a in range(max(k - REACH + 1, first), k + 1):
            b = k + 1 + far - (k - a)
            if k < b < min(k + 1 + REACH, count):
                # at most one stranger is looked past; exposures that cannot be compared are no strangers
                if sum(likeness(a, j) < STRANGE for j in range(k + 1, b)) > 1:
                    continue
                value = likeness(a, b)
                if value > best:
                    best = value
                if best >= SAME:
                    return best
    return best


def _strangers(likeness: Likeness, run: list[int]) -> list[int]:
    """Frames of a run that resemble none of those around them, where these resemble each other."""
    found = []
    for place, k in enumerate(run):
        around = [j for j in run[max(0, place - 3) : place + 4] if j != k]
        values = [likeness(min(j, k), max(j, k)) for j in around]
        values = [v for v in values if v == v]
        if len(around) >= 2 and values and median(values) < SAME - UNSURE / 2 and max(values) < SAME + UNSURE / 2:
            found.append(k)
    return found if 2 * len(found) < len(run) else []


def strangers(glimpses: Sequence[Glimpse]) -> list[int]:
    """Frames of one scene, in the order they were taken, that show something else: markers among them."""
    return _strangers(lambda a, b: alike(glimpses[a], glimpses[b]), list(range(len(glimpses))))


def _before_the_lens(glimpses: Sequence[Glimpse], order: list[int], k: int, following: list[int]) -> bool:
    """Whether a lone frame is something held before the composition that follows."""
    return max(shared_part(glimpses[order[k]], glimpses[order[j]]) for j in following[:3]) > SHARED
