"""Carrying out an order: the shots that come of it, with unsteadiness, wind and mistakes, and the card they land on."""

from __future__ import annotations

import math
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

import numpy as np

from .camera import Camera, Shot, Stage, shoot, truth_of, write_truth
from .landscapes import LANDSCAPES
from .lens import Lens
from .order import Order, focus_positions


def camera_of(order: Order) -> Camera:
    long_side = 2 * round(order.long_side_px / 2)
    short_side = 2 * round(long_side / 3)
    lens = Lens(
        focal_mm=order.focal_mm,
        f_number=order.f_number,
        sensor_mm=order.sensor_mm,
        breathing=order.breathing / 100,
        near_m=order.nearest_m,
        curvature=order.curvature,
        blades=int(order.blades) if order.blades >= 5 else 0,
        cats_eye=order.cats_eye,
        rim=order.rim,
        fringe_red=order.fringes * 1e-3,
        fringe_blue=-0.7e-3 * order.fringes,
        falloff_ev=order.falloff_ev,
    )
    width, height = (short_side, long_side) if order.upright else (long_side, short_side)
    return Camera(width, height, lens, int(order.iso))


def shots_of(order: Order) -> tuple[list[Shot], dict[str, object]]:
    """The shots in the order of time, and what is wrong with them: which are markers, overshot or bumped, by index."""
    rng = np.random.default_rng(int(order.seed))
    camera = camera_of(order)
    positions = focus_positions(order)
    exposures = [order.ev + order.bracket_ev * (k - int(order.brackets) // 2) for k in range(int(order.brackets))]
    usable = len(positions) - int(order.overshoot)
    bumped_at = int(rng.integers(1, max(usable - 1, 2))) if order.bumped else -1
    shots: list[Shot] = []
    wrong: dict[str, object] = {"marker": [], "overshot": [], "bumped": [], "gap": bool(order.gap), "brackets": []}

    def note(what: str) -> None:
        found = wrong[what]
        assert isinstance(found, list)
        found.append(len(shots))

    if order.marker:
        note("marker")
        shots.append(Shot(1.2, hand=True))
    knocked = np.zeros(2)
    for k, focus in enumerate(positions):
        if order.by_hand:
            # a hand's unsteadiness is an angle; so many pixels in a frame of 3000
            spread = camera.long_side / 3000
            aim, roll = rng.uniform(-30, 30, 2) * spread, float(rng.uniform(-0.7, 0.7))
        else:
            aim, roll = rng.normal(0, 1.0, 2), 0.0
        step = rng.uniform(-1, 1, 3) * [1, 1, 0.5] * order.parallax_cm / 100
        drift = np.exp2(rng.uniform(-1, 1) * order.drift_ev + rng.normal(0, 0.12, 3) * order.drift_ev)
        gust = rng.normal(0, 1, 2) * [1.0, 0.5] * order.wind
        shake = (0.0, 0.0)
        if k == bumped_at:
            knocked = rng.uniform(4, 8, 2) * rng.choice([-1, 1], 2) * camera.long_side / 2400
            shake = (float(1.6 * knocked[0]), float(-1.1 * knocked[1]))
        first = len(shots)
        for ev in exposures:
            if k >= usable:
                note("overshot")
            if k == bumped_at:
                note("bumped")
            shots.append(
                Shot(
                    math.inf if abs(focus) < 1e-9 else 1 / focus,
                    (float(aim[0] + knocked[0]), float(aim[1] + knocked[1])),
                    roll,
                    (float(step[0]), float(step[1]), float(step[2])),
                    (float(drift[0]), float(drift[1]), float(drift[2])),
                    ev,
                    shake,
                    (float(gust[0]), float(gust[1])),
                )
            )
        brackets = wrong["brackets"]
        assert isinstance(brackets, list)
        brackets.append(list(range(first, len(shots))))
    return shots, wrong


def reference_of(shots: list[Shot], wrong: dict[str, object]) -> int:
    """The frame in whose grid truth is told: the middle one of those that are good, in its middle exposure."""
    brackets, spoilt = wrong["brackets"], [*wrong["overshot"], *wrong["bumped"]]  # type: ignore[misc]
    assert isinstance(brackets, list)
    good = [b[len(b) // 2] for b in brackets if not any(i in spoilt for i in b)]
    return int(good[len(good) // 2]) if good else len(shots) // 2


def next_folder(card: Path, name: str) -> Path:
    """A folder of the card's own kind: three digits and a name, the next one free."""
    numbers = [int(p.name[:3]) for p in card.iterdir() if p.is_dir() and p.name[:3].isdigit()] if card.is_dir() else []
    return card / f"{max([100, *numbers]) + 1}{name.upper()[:8]}"


def next_number(card: Path) -> int:
    """The number after the highest on the card."""
    numbers = [int(p.stem[-4:]) for p in card.rglob("FIELD*.dng") if p.stem[-4:].isdigit()] if card.is_dir() else []
    return max([0, *numbers]) % 9999 + 1


def carry_out(
    order: Order, folder: Path, first_number: int, start: datetime, truth: Path | None = None, told: Callable[[str, float], None] | None = None
) -> list[Path]:
    """Shoot an order into a folder, and write the truth about it if asked. `told(what, share)` hears of progress and
    may raise to call it off; what is on the card then stays."""
    shots, wrong = shots_of(order)
    tell = told or (lambda what, share: None)
    landscape = LANDSCAPES[order.landscape]
    tell(f"Setting up {landscape.title}", 0.0)
    stage = Stage(landscape, camera_of(order), shots)

    def landed(number: int, path: Path) -> None:
        tell(f"{path.name}, {number + 1} of {len(shots)}", 0.25 + 0.75 * (number + 1) / len(shots))

    paths = shoot(stage, shots, folder, first_number, start, landed, order.preview, int(order.seed))
    if truth:
        tell("Writing the truth", 1.0)
        reference = reference_of(shots, wrong)
        write_truth(truth_of(stage, shots, reference), stage, shots, [p.name for p in paths], wrong, truth)
    return paths
