"""Depth told by colour, and by hatch and number beside it: warm and dark near, cool far."""

from __future__ import annotations

import numpy as np

from ..imaging.colour import FloatArray
from ..imaging.pyramid import Box

SCALE = ((138, 75, 18), (192, 138, 30), (127, 154, 58), (47, 143, 134), (54, 100, 143), (104, 82, 148))
HATCHES = ((1, 1), (1, -1), (0, 1), (1, 0), (2, 1), (1, -2))
"""Direction of the lines by the frame's number: across, down for each step of the phase."""
PERIOD = 12
BLACK_LOST, WHITE_LOST, COLOUR_LOST = (0, (70, 130, 220)), (1, (200, 60, 20)), (2, (30, 90, 60))
"""Hatch and colour of tones lost in black and in white, and of colours that a paper does not have."""


def depth_colour(place: int, count: int) -> tuple[int, int, int]:
    """sRGB (0..255) of the frame at `place` of `count`, from near to far."""
    at = 0.0 if count < 2 else (len(SCALE) - 1) * min(place, count - 1) / (count - 1)
    low = min(int(at), len(SCALE) - 2)
    mixed = np.array(SCALE[low]) + (np.array(SCALE[low + 1]) - np.array(SCALE[low])) * (at - low)
    r, g, b = (round(v) for v in mixed)
    return r, g, b


def hatch(place: int, box: Box) -> FloatArray:
    """Lines (h, w), 0..1, of a frame's hatch in a box, running on from box to box."""
    across, down = HATCHES[place % len(HATCHES)]
    x, y, w, h = box
    phase = (across * np.arange(x, x + w)[None, :] + down * np.arange(y, y + h)[:, None]) % PERIOD
    return (phase < 3).astype(np.float32)
