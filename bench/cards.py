"""Made-up cards by the hundred: pictures of a few compositions, shot once, dealt out into outings of all kinds."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from functools import cache

import numpy as np

from eaveplane.fieldcam.camera import Camera, Shot, Stage
from eaveplane.fieldcam.landscapes import LANDSCAPES
from eaveplane.fieldcam.lens import Lens
from eaveplane.imaging.colour import FloatArray

SIZE = (360, 240)
POSITIONS = 7
LENSES = (17.0, 38.0)


@dataclass(frozen=True)
class Dealt:
    """A frame of a made-up card, with what is true of it: its scene, its place from near to far, its exposure."""

    light: FloatArray
    taken: datetime
    scene: int
    place: int
    ev: float
    focus_m: float
    focal_mm: float
    marker: bool = False


@dataclass
class Card:
    frames: list[Dealt] = field(default_factory=list)


@cache
def composition(landscape: str, focal_mm: float) -> tuple[list[FloatArray], list[FloatArray], list[float]]:
    """Pictures of one composition from near to far, two of a hand before it, and their focus in metres."""
    # blur as in a frame of some ten megapixels at f/8
    camera = Camera(*SIZE, Lens(focal_mm, 0.8 * (focal_mm / 24) ** 2, breathing=0.02))
    rng = np.random.default_rng(len(landscape) + int(focal_mm))
    focus = [1 / (d + 1e-9) for d in np.linspace(1 / 0.6, 0, POSITIONS)]
    shots = [Shot(f if f < 1e6 else math.inf, tuple(rng.normal(0, 0.7, 2)), float(rng.normal(0, 0.1)), gust=tuple(rng.normal(0, 0.3, 2))) for f in focus]
    stage = Stage(LANDSCAPES[landscape], camera, shots)
    hands = [Shot(f, hand=True, aim_px=tuple(rng.normal(0, 3, 2))) for f in (1.2, math.inf)]
    return [stage.picture(s)[0] for s in shots], [stage.picture(s)[0] for s in hands], focus


COMPOSITIONS = [(name, focal) for name in LANDSCAPES for focal in LENSES]


def deal(seed: int, scenes: int, brackets: int, markers: bool) -> Card:
    """An outing of `scenes` scenes in the order of time; `brackets` exposures at each focus position."""
    rng = np.random.default_rng(seed)
    card, now = Card(), datetime(2026, 4, 11, 6, 0)
    last = -1
    for scene in range(scenes):
        index = int(rng.choice([i for i in range(len(COMPOSITIONS)) if i != last]))
        last = index
        pictures, hands, focus = composition(*COMPOSITIONS[index])
        focal = COMPOSITIONS[index][1]
        count = int(rng.integers(2, POSITIONS + 1))
        chosen = sorted(rng.choice(POSITIONS, count, replace=False))
        if rng.uniform() < 0.2:
            chosen = chosen[::-1]
        base = float(rng.normal(0, 0.3))
        if markers:
            card.frames.append(Dealt(noisy(hands[int(rng.integers(2))], base, rng), now, scene, -1, base, 1.2, focal, marker=True))
            now += timedelta(seconds=float(rng.uniform(3, 12)))
        steps = [0.0] if brackets == 1 else [2.0 * (k - brackets // 2) * (1.0 if brackets == 3 else 0.7) for k in range(brackets)]
        if rng.uniform() < 0.5:
            steps = sorted(steps, key=abs)
        for place in chosen:
            for step in steps:
                ev = base + step
                card.frames.append(Dealt(noisy(pictures[place], ev, rng), now, scene, int(place), ev, focus[place], focal))
                now += timedelta(seconds=float(rng.uniform(0.4, 1.0)) if brackets > 1 else float(rng.uniform(1.0, 4.0)))
            now += timedelta(seconds=float(rng.uniform(0.5, 2.5)))
        now += timedelta(seconds=float(np.exp(rng.uniform(np.log(70), np.log(1500)))))
    return card


def noisy(light: FloatArray, ev: float, rng: np.random.Generator) -> FloatArray:
    """Exposed, clipped, with a sensor's noise averaged over the pixels that made it small."""
    out = light * np.float32(2.0**ev)
    return np.clip(out + rng.standard_normal(out.shape, np.float32) * np.sqrt(np.maximum(out, 0) / 3e5 + 1e-8).astype(np.float32), 0, 1)
