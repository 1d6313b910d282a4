"""Relief and haze, measured once on a small rendition of the whole picture and laid on at any size.

Relief is a local Laplacian filter (Paris, Hasinoff and Kautz 2011) with sampled references (Aubry et al. 2014) on the
logarithm of luminance: differences below `GRAIN` are detail and grow, larger ones are edges and stay, so no rims
arise. Only what it adds in three groups of octaves is kept, which makes relief linear in its three controls. Haze is
the dark channel prior (He, Sun and Tang 2009). Both are brought to any size as local lines over luminance (fast
guided filter, He and Sun 2015): value = slope × log luminance + offset, with slopes and offsets that are smooth.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from ...imaging.colour import FloatArray, luminance

LONGEST = 1024
"""Pixels of the long side on which relief and haze are measured."""
FLOOR = 2.0**-9
"""Light added before the logarithm, so that noise in blacks is no detail."""
SPACING = 0.35
"""Distance of the sampled references, in grains."""
GRAIN = 0.7
"""Difference in EV above which something is an edge."""
GROWTH = 2.0
"""How much small differences grow at full strength; below 4 brighter stays brighter."""
OCTAVES = 7
BANDS = ((0, 1), (2, 3), (4, 5, 6))
"""Octaves of the small rendition that make fine, middle and broad relief."""
CLEAREST = 0.9
"""Share of the veil that is taken for haze: distance needs some of it."""
GREYED = 0.5
"""How far the colour of the air is drawn to grey: whole, dusk would turn blue where haze is taken away."""
PATCH = 11


@dataclass(frozen=True, eq=False)
class Guide:
    """Maps (h, w) of a whole picture of the full size `size` (w, h): `slopes` and `offsets` (3, h, w) of relief in EV at
    full strength, `clear` (2, h, w) the same for the share of light that reaches the camera, `air` (3,) the
    light of the haze; `distance` in metres where frames told it."""

    size: tuple[int, int]
    slopes: FloatArray
    offsets: FloatArray
    clear: FloatArray
    air: FloatArray
    distance: FloatArray | None = None


def log_luminance(light: FloatArray) -> FloatArray:
    """EV (h, w) of linear light (h, w, 3), with a floor."""
    return np.log2(np.maximum(luminance(light), 0) + np.float32(FLOOR)).astype(np.float32)


def guide_of(root: FloatArray, size: tuple[int, int], distance: FloatArray | None = None) -> Guide:
    """What relief and haze need to know of a picture, from a rendition (h, w, 3) of all of it in the weaving encoding."""
    while max(root.shape[:2]) > LONGEST:
        scale = max(0.5, LONGEST / max(root.shape[:2]))
        root = np.asarray(cv2.resize(root, None, fx=scale, fy=scale, interpolation=cv2.INTER_AREA))
    light = np.maximum(root, 0) ** 2
    guide = log_luminance(light)
    lines = [_local_line(guide, added, 2, 0.03) for added in added_by_band(guide)]
    clear, air = _haze(light, guide)
    if distance is not None:
        distance = np.asarray(cv2.resize(distance, guide.shape[::-1], interpolation=cv2.INTER_LINEAR))
    return Guide(size, np.stack([a for a, _ in lines]), np.stack([b for _, b in lines]), clear, air, distance)


def added_by_band(guide: FloatArray) -> list[FloatArray]:
    """EV (h, w) that fine, middle and broad relief add at full strength to log luminance (h, w)."""
    octaves = max(1, min(OCTAVES, int(np.log2(min(guide.shape))) - 1))
    gauss = _pyramid(guide, octaves)
    low, high = float(guide.min()), float(guide.max())
    references = np.linspace(low, high, max(2, int(np.ceil((high - low) / (SPACING * GRAIN))) + 1), dtype=np.float32)
    step = max(float(references[1] - references[0]), 1e-6)
    grown = [np.zeros_like(g) for g in gauss[:-1]]
    for reference in references:
        off = guide - reference
        share = np.minimum(np.abs(off) / np.float32(GRAIN), 1)
        layers = _pyramid(off * np.float32(GROWTH) * (1 - share) ** 3, octaves)
        for k in range(octaves):
            grown[k] += np.maximum(0, 1 - np.abs(gauss[k] - reference) / np.float32(step)) * (layers[k] - _up(layers[k + 1], layers[k]))
    found = []
    for band in BANDS:
        total = np.zeros_like(gauss[-1])
        for k in reversed(range(octaves)):
            total = _up(total, gauss[k])
            if k in band:
                total = total + grown[k]
        found.append(total)
    return found


def _pyramid(picture: FloatArray, octaves: int) -> list[FloatArray]:
    layers = [picture.astype(np.float32)]
    for _ in range(octaves):
        layers.append(np.asarray(cv2.pyrDown(layers[-1])))
    return layers


def _up(small: FloatArray, like: FloatArray) -> FloatArray:
    return np.asarray(cv2.pyrUp(small, dstsize=like.shape[::-1]))


def _mean(picture: FloatArray, radius: int) -> FloatArray:
    side = 2 * radius + 1
    return np.asarray(cv2.blur(picture, (side, side), borderType=cv2.BORDER_REFLECT_101))


def _local_line(guide: FloatArray, value: FloatArray, radius: int, noise: float) -> tuple[FloatArray, FloatArray]:
    """Slope and offset (h, w) of the lines that give a value from the guide, smooth over the same radius."""
    mean_g, mean_v = _mean(guide, radius), _mean(value, radius)
    slope = (_mean(guide * value, radius) - mean_g * mean_v) / (_mean(guide * guide, radius) - mean_g**2 + np.float32(noise**2))
    return _mean(slope, radius), _mean(mean_v - slope * mean_g, radius)


def _haze(light: FloatArray, guide: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Lines for the share of light that haze lets through, and the haze's own light."""
    patch = max(3, round(PATCH * max(light.shape[:2]) / LONGEST)) | 1
    around = np.ones((patch, patch), np.uint8)
    dark = cv2.erode(np.minimum(light.min(axis=2), 1), around)
    # the haziest thousandth of the picture, of which the brighter half is air
    count = max(8, dark.size // 1000)
    haziest = light.reshape(-1, 3)[np.argpartition(dark.ravel(), -count)[-count:]]
    haziest = haziest[np.argsort(luminance(haziest))[count // 2 :]]
    air = np.maximum(np.median(haziest, axis=0), 0.02)
    air = (air + GREYED * (float(luminance(air)) - air)).astype(np.float32)
    # opened rather than only eroded, so that what is dark keeps its outline and no clear seam surrounds it
    veil = cv2.morphologyEx(np.minimum((light / air).min(axis=2), 1), cv2.MORPH_OPEN, around)
    slope, offset = _local_line(guide, 1 - np.float32(CLEAREST) * veil, patch, 0.05)
    return np.stack([slope, offset]), air
