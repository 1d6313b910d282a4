"""What a landscape is to the camera: sheets drawn once, plants drawn in each frame."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .ground import Light, View
from .things import Sheet


@dataclass(frozen=True)
class Landscape:
    """`eye` is the height of the lens in metres, `horizon` where level sight meets the picture plane, in long sides
    below the optical axis. `sheets(view)` draws what stands still, far to near; `plants()` (n, 16) what moves in
    wind, by up to `sway` metres at its top. `exposure` makes it bright enough at 1/25 s, f/8."""

    name: str
    title: str
    about: str
    eye: float
    horizon: float
    light: Light
    sheets: Callable[[View], list[Sheet]]
    plants: Callable[[], NDArray[np.float64]]
    sway: float = 0.0
    exposure: float = 1.0
