"""Depth at every pixel, where a frame is sharp, by search along the line on which the camera's step shifts it.

Only depths at which a frame is focused are tried: where it lies needs to be known only where it will be used, and a search
confined to its own zone cannot lock on to things before or behind it. A frame is blurred as the reference was when it took what
the frame holds sharp, then compared (plane sweep, Collins 1996).
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.placement import Placement, Shift
from ...optics.disc import disc_kernel
from .parallax import Motion

BAND_NOISE = 0.35
"""Part of a pixel's noise variance that the band from 0.7 to 8 px keeps."""
REACH = 0.75
"""A frame is searched this many steps of focus about its own."""
NEAREST = 2.2
"""… and that many times farther on the near side of the nearest frame: things stand before it."""
LEAST_GAP = 0.02
"""Step of focus, in parts of the whole range, that many frames focused alike are taken to have."""
STEP_PX = 0.4
MOST_DEPTHS = 60
SMOOTH = 70.0
"""Pixels over which the depth of features tells what to expect between them."""
WINDOW = 3.0
"""Width, in cells, of the window in which pictures are compared."""


def blurred(picture: FloatArray, sigma: float) -> FloatArray:
    return np.asarray(cv2.GaussianBlur(picture, (0, 0), sigma), np.float32)


def band(picture: FloatArray) -> FloatArray:
    """The band from 0.7 to 8 px (h, w), in which frames are compared."""
    return blurred(picture, 0.7) - blurred(picture, 8.0)


def defocused(picture: FloatArray, radius: float) -> FloatArray:
    """What is sharp in one frame as another sees it whose focus is `radius` away."""
    return picture if radius < 0.3 else np.asarray(cv2.filter2D(picture, -1, disc_kernel(radius), borderType=cv2.BORDER_REFLECT_101), np.float32)


def _expected(motion: Motion, low: float, high: float, shape: tuple[int, int]) -> FloatArray:
    """Smooth depth (h/2, w/2) of what lies within low..high, from features there; their mean where none are near."""
    use = (motion.depth > low) & (motion.depth < high) & (motion.trust > 0.4)
    h, w = -(-shape[0] // 4), -(-shape[1] // 4)
    x, y = np.clip(motion.points[use] / 4, 0, (w - 1, h - 1)).astype(int).T
    above, below = np.zeros((h, w), np.float32), np.zeros((h, w), np.float32)
    np.add.at(above, (y, x), motion.depth[use] * motion.trust[use])
    np.add.at(below, (y, x), motion.trust[use])
    mean = float(np.average(motion.depth[use], weights=motion.trust[use])) if use.sum() > 5 else (low + high) / 2
    little = 2e-2 / (2 * np.pi * (SMOOTH / 4) ** 2)
    smooth = (blurred(above, SMOOTH / 4) + little * mean) / (blurred(below, SMOOTH / 4) + little)
    return np.asarray(cv2.resize(smooth, (-(-shape[1] // 2), -(-shape[0] // 2)), interpolation=cv2.INTER_LINEAR))


def sweep(k: int, mine: FloatArray, theirs: FloatArray, motion: Motion, focus: NDArray[np.float64], reference: int, noise: float) -> FloatArray:
    """Depth (h/2, w/2) of what frame `k` holds sharp, on the reference grid.

    `mine` and `theirs` are the bands (h, w) of the frame and of the reference; `focus` as in `solve`; `noise` is a pixel's variance.
    """
    h, w = theirs.shape
    place = (focus - focus.min()) / np.ptp(focus)
    gap = max(float(np.median(np.diff(np.sort(place)))), LEAST_GAP)
    low = max(place[k] - REACH * gap, -0.03)
    high = place[k] + REACH * gap * (NEAREST if k == int(place.argmax()) else 1.0)
    prior = _expected(motion, low, high, (h, w))
    half = prior.shape[::-1]
    looks = [Placement(motion.matrices[k], (w, h), Shift(motion.steps[k], np.full((1, 1), d, np.float32), (w, h))).looks((0, 0, w, h)) for d in (0.0, 1.0)]
    far, along = looks[0], looks[1] - looks[0]
    length = float(np.percentile(np.linalg.norm(along[::4, ::4], axis=-1), 90))
    depths = np.linspace(low, high, int(np.clip(np.ceil((high - low) * length / STEP_PX), 2, MOST_DEPTHS)) + 1)
    mine = defocused(mine, abs(float(focus[k] - focus[reference])))
    contrast = blurred(cv2.resize(theirs**2, half, interpolation=cv2.INTER_AREA), WINDOW) + np.float32(3 * BAND_NOISE * noise)
    cost = np.empty((len(depths), *prior.shape), np.float32)
    for i, depth in enumerate(depths):
        at = far + np.float32(depth) * along
        seen = cv2.remap(mine, at[..., 0], at[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        # windows are wide: half the size will do
        apart, own = (blurred(cv2.resize(p, half, interpolation=cv2.INTER_AREA), WINDOW) for p in ((seen - theirs) ** 2, seen * seen))
        cost[i] = apart / (own + contrast) + np.float32(0.04 / gap**2) * (np.float32(depth) - prior) ** 2
    least = np.clip(cost.argmin(axis=0), 1, len(depths) - 2)
    a, b, c = (np.take_along_axis(cost, (least + o)[None], 0)[0] for o in (-1, 0, 1))
    bend = np.maximum(a + c - 2 * b, 1e-4)
    found = depths[0] + (least + np.clip(0.5 * (a - c) / bend, -1, 1)) * (depths[1] - depths[0])
    # curvature tells how well depth is known; what fits badly is not of this zone; smoothed with that as weight
    sure = (bend * np.clip(1 - 1.6 * cost.min(axis=0), 0.01, 1) ** 2 * np.sqrt(contrast + 1e-7)).astype(np.float32)
    sure /= np.percentile(sure, 90) + 1e-12
    found = np.clip(found, low, high).astype(np.float32)
    above = blurred(found * sure, 2.5) + 0.3 * blurred(found * sure, 7.0) + 0.003 * prior
    below = blurred(sure, 2.5) + 0.3 * blurred(sure, 7.0) + 0.003
    return np.asarray(above / below, np.float32)
