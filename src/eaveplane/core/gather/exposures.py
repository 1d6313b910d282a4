"""Exposure brackets inside a focus bracket: which frames are the exposures of one focus position, and what a step between two of them looks like."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable, Sequence
from itertools import combinations, pairwise

import cv2
import numpy as np

from .composition import ENOUGH, HEIGHT, WIDTH, Glimpse, common_tones, exposure_between

LEAST_STEP, LEAST_PAIR = 0.3, 0.9
"""Stops between exposures of a bracket, at least, and between those of a bracket of two."""
SAME_EXPOSURE = 0.4
"""Part of the smallest step within which two exposures count as one."""
MOST_EXPOSURES = 9
AGREE = 0.75
"""Part of the focus positions that must have the usual exposures."""
UNEVEN = 0.05, 0.01
"""Stops, and part of the step, by which a step between two exposures may differ among places of one tone."""
WIDE, UNEVEN_WIDE = 0.9, 0.12
"""Told steps from which a bracket was meant, and by how much these may differ: by wind."""
SHOWN = 0.4
"""Part of a told step that pictures have to show."""
TONES, OPEN = 16, 0.5
"""Groups of tones, and the brightest in which no channel is clipped yet."""

Between = Callable[[int, int], float]
"""By how many stops the second frame is brighter than the first; nan where that cannot be told."""


def brackets_of(count: int, between: Between, same_focus: Callable[[int, int], bool] = lambda a, b: True) -> list[list[int]]:
    """Frames 0..count-1 of a scene, in the order of time, as one list a focus position, each from dark to bright.

    A position ends where an exposure comes that it has already, in whatever order the camera goes through them; or,
    where the camera goes through all positions at one exposure and then at the next, positions are what stand at the
    same place in each pass. `same_focus` may forbid that two frames share a position. Lists of one frame each where
    there is no bracket.
    """
    single = [[i] for i in range(count)]
    if count < 2:
        return single
    groups = _in_turn(count, between, same_focus)
    if groups is None:
        groups = _in_passes(count, between, same_focus)
    if groups is None:
        return single
    return [sorted(g, key=lambda i: _brightness(g, i, between)) for g in groups]


def _brightness(group: Sequence[int], i: int, between: Between) -> float:
    """How much brighter a frame is than the rest of its group, through neighbours where ends are too far apart."""
    values = [between(j, i) if j < i else -between(i, j) for j in group if j != i]
    known = [v for v in values if v == v]
    return sum(known) / len(known) if known else 0.0


def _apart(a: int, b: int, between: Between) -> float:
    value = between(a, b)
    return math.inf if value != value else abs(value)


def _in_turn(count: int, between: Between, same_focus: Callable[[int, int], bool]) -> list[list[int]] | None:
    steps = [s for s in (_apart(i, i + 1, between) for i in range(count - 1)) if s >= LEAST_STEP]
    if len(steps) < (count - 1) / 3:
        return None
    # the smallest usual step; a bracket of three in the order 0 - + jumps by two of them
    low = sorted(steps)[len(steps) // 5]
    tolerance = max(0.5 * LEAST_STEP, SAME_EXPOSURE * (low if math.isfinite(low) else 1.0))
    groups: list[list[int]] = [[0]]
    for i in range(1, count):
        now = groups[-1]
        if len(now) >= MOST_EXPOSURES or not same_focus(now[0], i) or any(_apart(j, i, between) < tolerance for j in now):
            groups.append([])
        groups[-1].append(i)
    return groups if _consistent(groups, between, tolerance) else None


def _in_passes(count: int, between: Between, same_focus: Callable[[int, int], bool]) -> list[list[int]] | None:
    """All focus positions at one exposure, then all at the next."""
    for passes in (3, 5, 2, 7):
        length = count // passes
        if count % passes or length < 2:
            continue
        within = [_apart(p * length + k, p * length + k + 1, between) for p in range(passes) for k in range(length - 1)]
        across = [_apart(p * length + length - 1, (p + 1) * length, between) for p in range(passes - 1)]
        if max(within) < 0.5 * min(across) and min(across) >= (LEAST_STEP if passes > 2 else LEAST_PAIR):
            groups = [[p * length + k for p in range(passes)] for k in range(length)]
            # any two exposures of a position are a step apart, not only those taken one after the other
            stepped = all(_apart(a, b, between) >= LEAST_STEP for g in groups for a, b in combinations(g, 2))
            if stepped and all(same_focus(g[0], i) for g in groups for i in g):
                return groups
    return None


def _consistent(groups: list[list[int]], between: Between, tolerance: float) -> bool:
    """Whether the focus positions have the same exposures, all but a few."""
    usual, frequent = Counter(len(g) for g in groups).most_common(1)[0]
    if usual < 2 or (usual == 2 and len(groups) == 1) or frequent < AGREE * len(groups):
        return False
    whole = [g for g in groups if len(g) == usual]

    def steps(group: list[int]) -> list[float]:
        ordered = sorted(group, key=lambda i: _brightness(group, i, between))
        return [_apart(min(a, b), max(a, b), between) for a, b in pairwise(ordered)]

    first = steps(whole[0])
    # two exposures that lie close together are drift sooner than a bracket
    if any(s < (LEAST_STEP if usual > 2 else LEAST_PAIR) for s in first):
        return False
    alike = sum(all(abs(a - b) < 2 * tolerance or not (math.isfinite(a) and math.isfinite(b)) for a, b in zip(first, steps(g), strict=True)) for g in whole)
    return alike >= AGREE * len(whole)


def exposure_step(a: Glimpse, b: Glimpse, told: float | None = None) -> float:
    """By how many stops `b` is exposed more than `a`: as is `told`, or as `exposure_between`.

    It is 0 where that is no step between two exposures of one position: it differs among places of one tone, so light or focus changed; or the pictures show
    little of what is told, so the camera followed the light. A tone curve changes tones alike wherever they are, and is none of that."""
    if told == 0:
        return 0.0
    brighter = exposure_between(a, b)
    step = brighter if told is None else told
    differing = _differing(a, b)
    if brighter != brighter or differing != differing:
        return step
    limit = UNEVEN_WIDE if told is not None and abs(told) >= WIDE else UNEVEN[0] + UNEVEN[1] * abs(step)
    if differing > limit:
        # a hand may have moved in between
        differing = _differing(a, _laid_on(a, b, brighter))
    return 0.0 if differing > limit or brighter * np.sign(step) < SHOWN * abs(step) else step


def _differing(a: Glimpse, b: Glimpse) -> float:
    """Stops by which most of what is brighter in one glimpse than in the other differs among places of one tone; nan where too little can be compared."""
    first, second = (cv2.GaussianBlur(g.stops, (0, 0), 0.7) for g in (a, b))
    seen = (cv2.erode(a.exposed * b.exposed, np.ones((3, 3))) > 0) & (np.maximum(first, second) < np.log2(OPEN))
    if seen.mean() < ENOUGH:
        return float("nan")
    brighter, tones = (second - first)[seen], (second + first)[seen]
    apart = np.concatenate([part - np.median(part) for part in np.array_split(brighter[np.argsort(tones)], TONES)])
    return float(np.subtract(*np.percentile(apart, (90, 10))))


def _laid_on(a: Glimpse, b: Glimpse, brighter: float) -> Glimpse:
    """The second glimpse, shifted and turned so that it lies on the first (enhanced correlation: Evangelidis and Psarakis 2008), or as it is where nothing leads
    there."""
    first, second = common_tones(a, b, brighter)
    ending = (cv2.TERM_CRITERIA_COUNT | cv2.TERM_CRITERIA_EPS, 40, 1e-4)
    try:
        _, fit = cv2.findTransformECC(first, second, np.eye(2, 3, dtype=np.float32), cv2.MOTION_EUCLIDEAN, ending, None, 3)  # type: ignore[call-overload]
    except cv2.error:
        return b
    stops, exposed = (cv2.warpAffine(p, fit, (WIDTH, HEIGHT), flags=how | cv2.WARP_INVERSE_MAP) for p, how in ((b.stops, cv2.INTER_CUBIC), (b.exposed, cv2.INTER_LINEAR)))
    return Glimpse(np.asarray(stops, np.float32), (exposed > 0.99).astype(np.float32))
