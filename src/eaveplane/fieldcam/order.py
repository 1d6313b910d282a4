"""What the field camera can be asked for."""

from __future__ import annotations

import math
from typing import Literal

from pydantic import Field

from ..optics.thinlens import even_focus_steps
from ..parameter import Parameters, parameter

LandscapeName = Literal["saltpan", "thistle", "larch", "lava"]


class Order(Parameters):
    """A focus bracket of one landscape, and what goes wrong in it."""

    landscape: LandscapeName = Field("saltpan", title="Landscape", description="What stands before the lens.")
    focal_mm: float = parameter(24, 14, 100, 1, "Focal length", "Longer lenses see less and blur more.", "mm", "Lens")
    f_number: float = parameter(5.6, 1.4, 32, 0.1, "Aperture", "Larger numbers: less blur, more diffraction.", "f/", "Lens")
    sensor_mm: float = parameter(36, 6, 60, 0.1, "Sensor", "Its long side.", "mm", "Lens")
    long_side_px: float = parameter(2400, 240, 12000, 2, "Pixels", "Along the long side; the short side is two thirds of it.", "px", "Lens")
    upright: bool = Field(False, title="Upright", description="The camera is turned on its side.")

    nearest_m: float = parameter(0.62, 0.2, 20, 0.01, "First focus", "The distance of the first frame.", "m", "Focus")
    count: float = parameter(5, 1, 200, 1, "Frames", "Focus positions; without a step, spread evenly to infinity.", "", "Focus")
    step_dioptres: float = parameter(0, 0, 2, 0.01, "Step", "Dioptres between frames; 0 spreads them evenly.", "D", "Focus")
    planned: tuple[float, ...] = Field((), max_length=200, title="Planned", description="Focus in dioptres of shots that a plan asks for instead.")
    stop_at_infinity: bool = Field(True, title="Stop at infinity", description="No frame beyond infinity, even if more were asked for.")

    brackets: float = parameter(1, 1, 7, 2, "Exposures", "Exposures at each focus position.", "", "Exposure")
    bracket_ev: float = parameter(2, 0.3, 4, 0.1, "Apart by", "Between exposures of a bracket.", "EV", "Exposure")
    ev: float = parameter(0, -4, 4, 0.1, "Exposure", "Brighter or darker than the camera would meter.", "EV", "Exposure")
    iso: float = parameter(100, 0, 12800, 50, "ISO", "0 takes a frame without noise.", "", "Exposure")
    drift_ev: float = parameter(0, 0, 0.5, 0.01, "Drift", "How much exposure and white balance change from frame to frame.", "EV", "Exposure")

    by_hand: bool = Field(False, title="By hand", description="Turns and shifts by tens of pixels; otherwise a tripod that gives by one.")
    parallax_cm: float = parameter(0, 0, 3, 0.1, "Sway", "How far the lens itself moves, so that near things shift.", "cm", "Air and hand")
    wind: float = parameter(0, 0, 1, 0.05, "Wind", "How far plants bend between frames.", "", "Air and hand")

    breathing: float = parameter(2, 0, 8, 0.1, "Breathing", "Growth of the picture from infinity to the first focus.", "%", "Faults of the lens")
    blades: float = parameter(0, 0, 9, 1, "Blades", "Sides of the blur disc, 5 to 9; 0 is round.", "", "Faults of the lens")
    cats_eye: float = parameter(0, 0, 1, 0.05, "Cut discs", "How far discs are cut towards the corners.", "", "Faults of the lens")
    rim: float = parameter(0, -0.6, 0.6, 0.05, "Rim", "A brighter or darker rim of the discs.", "", "Faults of the lens")
    curvature: float = parameter(0, -0.4, 0.4, 0.01, "Curvature", "Field curvature: dioptres by which the corners focus nearer.", "D", "Faults of the lens")
    fringes: float = parameter(0, 0, 1, 0.05, "Fringes", "Red and blue apart at the corners, in thousandths of the half diagonal.", "‰", "Faults of the lens")
    falloff_ev: float = parameter(0, 0, 3, 0.1, "Falloff", "Light lost in the corners.", "EV", "Faults of the lens")

    marker: bool = Field(False, title="Hand before the lens", description="A first frame of a gloved hand marks where the scene begins.")
    overshoot: float = parameter(0, 0, 4, 1, "Overshoot", "Frames focused past infinity, sharp nowhere.", "", "Mistakes")
    gap: bool = Field(False, title="A step too large", description="One focus position is missing from the middle.")
    bumped: bool = Field(False, title="Bumped", description="The tripod was bumped during one frame.")
    fresh_numbers: bool = Field(False, title="Numbers start afresh", description="The camera numbers files from 1 in each folder.")
    preview: bool = Field(True, title="Preview", description="A small JPEG inside each file.")
    seed: float = parameter(1, 0, 9999, 1, "Chance", "The same number, the same frames.", "", "Mistakes")


def focus_positions(order: Order) -> list[float]:
    """Dioptres from near to far; those past infinity are negative."""
    count = int(order.count)
    if order.planned:
        found = sorted(order.planned, reverse=True)
    elif order.step_dioptres == 0:
        found = [0.0 if math.isinf(m) else 1 / m for m in even_focus_steps(order.nearest_m, math.inf, count)]
    else:
        found = [1 / order.nearest_m - k * order.step_dioptres for k in range(count)]
        if order.stop_at_infinity and found[-1] < 0:
            found = [*(d for d in found if d > 1e-9), 0.0]
    if order.gap and len(found) > 2:
        del found[len(found) // 2]
    apart = found[-2] - found[-1] if len(found) > 1 else 0.3
    return [*found, *(min(found[-1], 0.0) - apart * (k + 1) for k in range(int(order.overshoot)))]


def frames_of(order: Order) -> int:
    """How many frames an order makes."""
    return len(focus_positions(order)) * int(order.brackets) + int(order.marker)
