"""The demo's card: the salt pan at dawn, five frames from one's feet to infinity."""

from __future__ import annotations

import math
from collections.abc import Callable
from pathlib import Path

from ..optics.thinlens import even_focus_steps
from .camera import Camera, Lens, Shot, Stage, shoot

CAMERA = Camera(2400, 1600, Lens(f_number=4.0))
SHIFTS = ((1.3, -0.8), (-0.6, 1.1), (0.0, 0.0), (0.9, 1.7), (-1.4, -0.5))
DRIFTS = ((1.0, 1.0, 1.0), (1.03, 1.03, 1.03), (1.0, 1.0, 1.0), (0.96, 0.97, 0.97), (1.0, 1.0, 1.0))


def demo_shots() -> list[Shot]:
    """Even steps in dioptres, a tripod that gives a little, an exposure that drifts a little."""
    steps = even_focus_steps(0.62, math.inf, len(SHIFTS))
    return [Shot(focus, shift, 0.02 * (i - 2), drift) for i, (focus, shift, drift) in enumerate(zip(steps, SHIFTS, DRIFTS, strict=True))]


def shoot_demo(card: Path, told: Callable[[str], None]) -> Path:
    """Shoot the card's missing frames; the folder they are in."""
    folder = card / "101SALTPAN"
    shots = demo_shots()
    if len(list(folder.glob("*.dng"))) < len(shots):
        told("Field camera: setting up the salt pan …")
        stage = Stage(CAMERA)
        shoot(stage, shots, folder, on_frame=lambda number, path: told(f"Field camera: {path.name}, {number + 1} of {len(shots)}"))
    return folder
