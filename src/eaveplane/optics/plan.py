"""Planning a focus bracket: where to focus so that nothing between two distances is blurred by more than is allowed.

In dioptres a thin lens draws blur discs whose diameter grows evenly with the distance from focus, so the depth of
field of a shot is an interval with the focus in its middle, and a plan lays such intervals end to end.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from ..parameter import Parameters, parameter
from .thinlens import airy_diameter, depth_of_field, hyperfocal

STOPS = (2.0, 2.4, 2.8, 3.3, 4.0, 4.8, 5.6, 6.7, 8.0, 9.5, 11.0, 13.0, 16.0, 19.0, 22.0)
"""Half stops."""
MOST_SHOTS = 500


class Question(Parameters):
    """What is to be planned."""

    focal_mm: float = parameter(24, 8, 400, 1, "Focal length", "Of the lens as it is marked.", "mm", "Lens")
    f_number: float = parameter(8, 1.4, 32, 0.1, "Aperture", "The f-number to shoot at.", "f/", "Lens")
    sensor_mm: float = parameter(36, 4, 60, 0.1, "Sensor", "Its long side.", "mm", "Lens")
    long_side_px: float = parameter(6000, 600, 16000, 10, "Pixels", "Along the long side.", "px", "Lens")
    nearest_m: float = parameter(0.6, 0.1, 50, 0.01, "Nearest point", "What is closest to the lens and is to be sharp.", "m", "Ground")
    farthest_m: float = parameter(0, 0, 1000, 1, "Farthest point", "What is farthest and is to be sharp; 0 is infinity.", "m", "Ground")
    blur_px: float = parameter(2, 0.3, 12, 0.1, "Blur allowed", "Diameter of the blur disc at the worst distance.", "px", "Ground")
    blur_um: float = parameter(0, 0, 60, 0.5, "or on the sensor", "The circle of confusion; 0 takes the pixels above.", "µm", "Ground")
    overlap: float = parameter(10, 0, 60, 1, "Overlap", "Part of each shot's depth of field that the next one covers again.", "%", "Ground")

    def blur_mm(self) -> float:
        """The circle of confusion in mm."""
        return self.blur_um / 1000 if self.blur_um else self.blur_px * self.pixel_mm()

    def pixel_mm(self) -> float:
        return self.sensor_mm / self.long_side_px

    def ends(self) -> tuple[float, float]:
        """Nearest and farthest point in dioptres. Raises ValueError with what to do where they make no sense."""
        if self.farthest_m and self.farthest_m <= self.nearest_m:
            raise ValueError("The farthest point lies nearer than the nearest one. Change one of them.")
        if self.nearest_m <= 1.5 * self.focal_mm / 1000:
            raise ValueError(f"A {self.focal_mm:g} mm lens cannot focus as near as {self.nearest_m:g} m. Step back or take a shorter lens.")
        return 1 / self.nearest_m, 1 / self.farthest_m if self.farthest_m else 0.0


def in_metres(metres: float) -> str:
    """A distance as people say it.

    >>> in_metres(0.456), in_metres(37.2)
    ('0.46 m', '37 m')
    """
    if metres >= 10000:
        return "∞"
    return f"{metres:.2f} m" if metres < 10 else f"{metres:.0f} m"


@dataclass(frozen=True)
class Position:
    """One shot: focus and the limits of its depth of field, metres; `far_m` and `focus_m` may be `inf`."""

    focus_m: float
    near_m: float
    far_m: float


@dataclass(frozen=True)
class Stop:
    """One aperture: shots that the allowed blur asks for, and, with the plan's own number of shots, diameters in µm
    of the blur at the worst distance, of diffraction, and of both together (root of the sum of squares)."""

    f_number: float
    shots: int
    defocus_um: float
    diffraction_um: float
    both_um: float


@dataclass(frozen=True)
class Plan:
    """The answer. `worst_mm` is the blur left at the worst distance by so many shots, evenly spent."""

    question: Question
    hyperfocal_m: float
    positions: list[Position]
    worst_mm: float
    stops: list[Stop]
    best: Stop
    """The aperture at which the same number of shots is sharpest."""

    def to_json(self) -> dict[str, Any]:
        """Plain values; infinity is null."""

        def plain(metres: float) -> float | None:
            return metres if math.isfinite(metres) else None

        return {
            "schema": 1,
            "question": self.question.model_dump(),
            "hyperfocal_m": self.hyperfocal_m,
            "blur_mm": self.question.blur_mm(),
            "worst_mm": self.worst_mm,
            "count": len(self.positions),
            "positions": [{"focus_m": plain(p.focus_m), "near_m": p.near_m, "far_m": plain(p.far_m)} for p in self.positions],
            "apertures": [s.__dict__ for s in self.stops],
            "best_f_number": self.best.f_number,
        }


def _covering(near: float, far: float, focal_mm: float, f_number: float, blur_mm: float, overlap: float) -> list[float]:
    """Focus in dioptres of shots, near to far, whose depths of field for `blur_mm` cover far..near (dioptres)."""
    f = focal_mm / 1000
    aperture, c = f / f_number, blur_mm / 1000
    found: list[float] = []
    edge = near
    while len(found) < MOST_SHOTS:
        # the focus whose near limit is the edge: focus + c (1 - f focus) / (aperture f) = edge
        focus = (edge - c / (aperture * f)) / (1 - c / aperture)
        reach = c * (1 - f * focus) / (aperture * f)
        if not found and focus - reach <= far:
            return [(near + far) / 2]
        found.append(focus)
        if focus - reach <= far + 1e-12:
            break
        edge = focus - reach + overlap * 2 * reach
    return found


def _least_blur(near: float, far: float, focal_mm: float, f_number: float, count: int, overlap: float) -> float:
    """The smallest blur in mm that `count` shots leave at the worst distance."""
    low, high = 0.0, 2 * focal_mm / f_number * (near - far) * focal_mm / 1000
    for _ in range(50):
        middle = 0.5 * (low + high)
        if len(_covering(near, far, focal_mm, f_number, middle, overlap)) <= count:
            high = middle
        else:
            low = middle
    return high


def answer(question: Question) -> Plan:
    """Focus positions that leave no gap, and what other apertures would do. Raises ValueError with what to do."""
    near, far = question.ends()
    blur, overlap = question.blur_mm(), question.overlap / 100
    count = len(_covering(near, far, question.focal_mm, question.f_number, blur, overlap))
    if count >= MOST_SHOTS:
        raise ValueError(f"This takes more than {MOST_SHOTS} shots. Allow more blur, stop down, or begin farther away.")
    worst = _least_blur(near, far, question.focal_mm, question.f_number, count, overlap)
    positions = []
    for focus in _covering(near, far, question.focal_mm, question.f_number, worst, overlap):
        focus_m = 1 / focus if focus > 1e-9 else math.inf
        positions.append(Position(focus_m, *depth_of_field(question.focal_mm, question.f_number, focus_m, blur)))
    stops = []
    for f_number in sorted({*STOPS, question.f_number}):
        defocus = 1000 * _least_blur(near, far, question.focal_mm, f_number, count, overlap)
        diffraction = 1000 * airy_diameter(f_number)
        shots = len(_covering(near, far, question.focal_mm, f_number, blur, overlap))
        stops.append(Stop(f_number, shots, defocus, diffraction, math.hypot(defocus, diffraction)))
    best = min(stops, key=lambda s: s.both_um)
    return Plan(question, hyperfocal(question.focal_mm, question.f_number, blur), positions, worst, stops, best)
