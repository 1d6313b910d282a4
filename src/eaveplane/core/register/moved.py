"""Whether the camera itself moved between frames, and where they lie then."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.placement import Matrix, Placement, Points, Shift, scaled
from ...imaging.pyramid import Size
from ...imaging.rows import side_by_side
from .features import Features, matches
from .parallax import solve
from .sweep import BAND_NOISE, band, blurred, defocused, sweep

CameraMoved = Literal["auto", "yes", "no"]
"""Whether frames are laid as taken by a camera that moved: as is measured, or as is said."""
FARTHEST = 0.03
"""Distance of a match from where the fit puts it, in widths of the picture, beyond which it is taken for wrong."""
FEWEST = 60
"""Matches of a frame with the reference below which nothing is said of a step."""
OWN = 1.15
"""How much more energy a frame has than the reference where it counts as the sharper."""
LEAST_STEP = 0.75
"""Pixels at the edge of the frame, of things at the nearest focus, below which no frame's step is looked into."""
UNSURE = 1.0
"""Standard error, in pixels at the worst corner, of what is far above which a frame's step is a guess."""
WORTH, AT_MOST = 0.04, 0.06
"""By how much frames have to agree better, all together, for the camera to be believed to have moved; what a single one may bring into that,
for and against."""
LITTLE = 0.005
"""A gain or loss that says nothing: a little of many frames must not add up, and a frame that gains no more stays where its fit alone puts it,
since a thin stem half a pixel aside is dearer than the depth of its surroundings is known."""
MOST = 0.8
"""Misfit of a place beyond which it is not the same thing; more is not counted."""


@dataclass(frozen=True, eq=False)
class Moved:
    """Placements of all frames (n) under a camera that moved, and what that is worth: `gains` (n,), by what part the frames' own sharp
    zones differ less from the reference than under the fits alone, 0 for the reference; `focus` (n,) as it was given. Frames that gain
    nothing lie as their fits put them.

    It is one decision a scene: in a still one no frame gains, whatever it shows. Plants in the wind gain as well where they bend as near
    things shift, and are the better for it: they come to lie where the reference has them.
    """

    placements: list[Placement]
    gains: list[float]
    focus: list[float]

    def believed(self) -> bool:
        """Whether the frames, all together, speak for it."""
        clear = (math.copysign(min(max(abs(gain) - LITTLE, 0.0), AT_MOST), gain) for gain in self.gains)
        return sum(clear) > WORTH


def moved(
    luma: Callable[[int], FloatArray],
    features: Sequence[Features],
    details: Sequence[FloatArray],
    pool: float,
    fits: Sequence[Matrix],
    focus: NDArray[np.float64],
    reference: int,
    noise: float,
    size: Size,
    progress: Callable[[float], None] = lambda share: None,
) -> Moved | None:
    """Where frames lie if the camera moved between them; None where matches are too few, all frames are
    focused alike, or no step is worth a look.

    `luma(k)` is the square root of luminance (h, w) of frame k with noise of variance `noise`, `features` are found in it, `details` are as
    `depth_from_focus` wants them, `fits` (n) of (3, 3) its pixels' way to the reference, all for frames near to far; `size` (w, h) is that of
    the frames at full size. `focus` (n,) is in the luma's pixels of blur, near largest.
    """
    theirs = luma(reference)
    height, width = theirs.shape
    points = features[reference].points.astype(np.float64)

    def near(k: int) -> tuple[Points, NDArray[np.int64]]:
        """Places in frame k of points of the reference, those that lie about where its fit puts them."""
        pairs = matches(features[reference], features[k])
        there = features[k].points[pairs[:, 1]].astype(np.float64)
        close = np.linalg.norm(there - Placement(fits[k], (width, height)).back(points[pairs[:, 0]]), axis=1) < FARTHEST * width
        return there[close], pairs[close, 0]

    others = [k for k in range(len(features)) if k != reference]
    seen = {k: found for k, found in zip(others, side_by_side(near, others), strict=True) if len(found[1]) >= FEWEST}
    if np.ptp(focus) < 0.5 or not seen:
        return None
    motion = solve(points, seen, fits, focus, details, (width, height), pool)
    if np.linalg.norm(motion.steps, axis=1).max() < LEAST_STEP:
        return None
    progress(0.3)
    base = band(theirs)
    scale = size[0] / width

    def laid(k: int) -> tuple[Placement, float]:
        """A frame's placement and what it gains by the step."""
        plain = Placement(scaled(fits[k], 1 / scale), size)
        if k not in seen or motion.unsure[k] > UNSURE:
            return plain, 0.0
        mine = band(luma(k))
        depth = sweep(k, mine, base, motion, focus, reference, noise)
        stepped = Placement(motion.matrices[k], (width, height), Shift(motion.steps[k], depth, (width, height)))
        gain = _gain(mine, base, Placement(fits[k], (width, height)), stepped, float(focus[k] - focus[reference]), noise)
        return Placement(scaled(motion.matrices[k], 1 / scale), size, Shift(motion.steps[k] * scale, depth, size)) if gain > LITTLE else plain, gain

    placements, gains = [], []
    for k, (placement, gain) in enumerate(side_by_side(laid, range(len(fits)))):
        placements.append(placement)
        gains.append(gain)
        progress(0.3 + 0.7 * (k + 1) / len(fits))
    return Moved(placements, gains, focus.tolist())


def _gain(mine: FloatArray, theirs: FloatArray, before: Placement, after: Placement, apart: float, noise: float) -> float:
    """By what part a frame (its band, (h, w)) differs less from the reference's, in the zone that it holds sharper, where `after` lays it."""
    box = (0, 0, theirs.shape[1], theirs.shape[0])
    energy, standard = (blurred(p * p, 8.0) for p in (before.lay(mine, box), theirs))
    # the zone is that of the fit for both, or moving the zone would pass for an improvement
    zone = np.sqrt(np.maximum(energy - np.float32(3 * BAND_NOISE * noise), 0) * (energy > OWN * standard))
    blurry = defocused(mine, abs(apart))
    left = []
    for placement in (before, after):
        laid = placement.lay(blurry, box)
        misfit = blurred((laid - theirs) ** 2, 8.0) / (blurred(laid * laid + theirs * theirs, 8.0) + np.float32(3 * BAND_NOISE * noise))
        left.append(float((np.minimum(misfit, MOST) * zone).sum() / (zone.sum() + 1e-9)))
    return (left[0] - left[1]) / (left[0] + 0.003)
