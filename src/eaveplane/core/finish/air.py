"""Air between near and far: what passes along a curve with three handles from the nearest frame to the farthest."""

from __future__ import annotations

import cv2
import numpy as np

from ...imaging.colour import LUMA, FloatArray
from .kernels import AIR_STEPS, Airs
from .settings import Air, AirAt

NAMES = ("contrast", "darks", "warmth", "saturation", "haze")
FAR = 0.7
"""Place from which on the picture counts as distance, whose light is that of the haze."""
GREYED = 0.3
"""How far the colour of the haze is drawn to grey."""


def curve(air: Air, name: str, places: FloatArray) -> FloatArray:
    """What one of the air's values is at places from 0 to 1: through its three handles, never beyond them (PCHIP, Fritsch and Carlson 1980).

    >>> [float(v) for v in curve(Air(far=AirAt(haze=40)), "haze", np.array([0, 0.5, 1]))]
    [0.0, 0.0, 40.0]
    """
    from scipy.interpolate import PchipInterpolator

    values = [getattr(handle, name) for handle in (air.near, air.middle, air.far)]
    return np.asarray(PchipInterpolator([0, air.at, 1], values)(np.clip(places, 0, 1)))


def changes(air: Air) -> bool:
    """Whether it does anything."""
    return any(handle != AirAt() for handle in (air.near, air.middle, air.far))


def airs_of(air: Air, light: FloatArray) -> Airs:
    """The air as its kernel takes it, with the light (3,) of its haze."""
    places = np.linspace(0, 1, AIR_STEPS)
    table = np.stack([curve(air, name, places) / 100 for name in NAMES], axis=1).astype(np.float32)
    return Airs(table, bool(table.any()), light.astype(np.float32))


def light_of_distance(light: FloatArray, order: FloatArray) -> FloatArray:
    """The light (3,) of haze in a developed picture (h, w, 3, linear) whose places from near to far are `order` (h, w): the brighter half of
    what is palest in the distance (dark channel prior, He, Sun and Tang 2009), drawn a little to grey."""
    far = order >= min(FAR, float(np.quantile(order, 0.9)))
    dark = cv2.erode(np.clip(light, 0, 1).min(axis=2), np.ones((5, 5), np.uint8))
    palest = light[far & (dark >= np.quantile(dark[far], 0.7))]
    bright = palest @ LUMA
    air = np.median(palest[bright >= np.median(bright)], axis=0)
    grey = float(air @ LUMA)
    return np.clip(air + GREYED * (grey - air), 0, 1).astype(np.float32)
