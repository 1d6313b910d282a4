"""How far off everything lies, from which frame is sharp there and on what it was focused."""

from __future__ import annotations

from collections.abc import Sequence

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray

CLEAR = {2: (0.32, 0.48), 3: (0.6, 0.76)}
MANY = (0.72, 0.88)
"""Spread of the frames that are let in, in steps of focus, up to which they tell a distance, and from which they tell none,
by the number of distances. Two neighbours alike are half a step apart; all of two frames 0.5, of three 0.82, of four 1.12."""
BRIDGE = 9
"""Width, on the gates' grid, up to which a quiet strip, such as a smooth post, does not carry the sky down to the ground."""
NEAR_BY = 5
"""Side of the square, on the gates' grid, over which it is told whether a place is clear."""


def distances_of(gates: FloatArray, focus: Sequence[float | None]) -> FloatArray | None:
    """How far off (h, w), in metres, what gates (n, h, w) hold for sharp lies, from the distances in metres that the frames
    were focused on, infinity included; None where a frame does not tell its distance.

    Where all frames are let in alike nothing is to be seen, and so nothing to be told: up to the upper edge that is sky, as
    far as the farthest frame; elsewhere it is taken from around.
    """
    if not focus or not all(focus):
        return None
    dioptres = np.array([1 / f for f in focus if f], np.float32)
    total = np.maximum(gates.sum(axis=0), 1e-6)
    mean = np.asarray(np.tensordot(dioptres, gates, 1) / total)
    # cameras round what they tell, so several frames may name one distance
    places = np.unique(dioptres)
    if len(places) > 1:
        step = float(np.median(np.diff(places)))
        apart = np.sqrt(np.maximum(np.tensordot(dioptres**2, gates, 1) / total - mean**2, 0))
        clear = _clear(apart / step, len(places))
        sky = _up_to_the_edge(clear < 0.5)
        filled = _from_around(np.where(sky, dioptres.min(), mean).astype(np.float32), np.where(sky, 1, clear).astype(np.float32), step)
        mean = np.asarray(cv2.medianBlur(filled, 3))
    return np.asarray(1 / np.maximum(mean, 1e-4), np.float32)


def _clear(steps: FloatArray, places: int) -> FloatArray:
    whole, none = CLEAR.get(places, MANY)
    # a place is clear if it is by itself and among its neighbours: noise lets single frames in by chance
    near_by = np.asarray(cv2.blur(np.minimum(steps, 1.5).astype(np.float32), (NEAR_BY, NEAR_BY)))
    return np.asarray(np.clip((none - np.maximum(near_by, steps)) / (none - whole), 0, 1), np.float32)


def _up_to_the_edge(quiet: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """The quiet parts that reach the upper edge by more than a thin bridge."""
    square = np.ones((BRIDGE, BRIDGE), np.uint8)
    wide = cv2.morphologyEx(quiet.astype(np.uint8), cv2.MORPH_OPEN, square)
    _, parts = cv2.connectedComponents(wide, connectivity=4)
    reaching = (np.isin(parts, np.unique(parts[0][wide[0] > 0])) & (wide > 0)).astype(np.uint8)
    # step by step, so that nothing is reached across a rim
    for _ in range(BRIDGE // 2):
        reaching = np.where(quiet, cv2.dilate(reaching, np.ones((3, 3), np.uint8)), 0).astype(np.uint8)
    return np.asarray(reaching > 0)


def _from_around(value: FloatArray, weight: FloatArray, step: float) -> FloatArray:
    """Dioptres where they have weight, elsewhere means of those around, from as near as there are any. What is far counts
    for more: near things show their texture, and what lies quiet between them is seldom as near as they are."""
    counted = (weight * np.exp(-np.minimum((value - value.min()) / step, 8))).astype(np.float32)
    layers = [np.stack([value * counted, counted, weight], axis=-1)]
    while min(layers[-1].shape[:2]) > 1:
        height, width = layers[-1].shape[:2]
        layers.append(np.asarray(cv2.resize(layers[-1], ((width + 1) // 2, (height + 1) // 2), interpolation=cv2.INTER_AREA)))
    if not counted.any():
        # where nothing at all is clear the mean of everything stands
        return np.full(value.shape, value.mean(), np.float32)
    found = np.full(layers[-1].shape[:2], (value * counted).sum() / counted.sum(), np.float32)
    for layer in layers[::-1]:
        found = np.asarray(cv2.resize(found, layer.shape[1::-1], interpolation=cv2.INTER_LINEAR))
        own = layer[..., 0] / np.maximum(layer[..., 1], 1e-12)
        found = found + layer[..., 2] * (own - found)
    return np.asarray(found, np.float32)
