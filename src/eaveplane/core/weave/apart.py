"""Where two pictures of one scene differ most."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from ...imaging.colour import FloatArray

WINDOW = 12
"""Side, in pixels of the pictures given, of the square whose difference is told."""
SEEN = 2 / 255
"""A difference below this, on the screen's scale, is not seen."""


@dataclass(frozen=True)
class Apart:
    """The middle (x, y) of the square that differs most, in pixels, by how much (0 to 1, on the screen's scale), and the part of the
    picture that differs visibly."""

    x: int
    y: int
    by: float
    part: float


def most_apart(one: FloatArray, other: FloatArray) -> Apart:
    """Where two developed pictures (h, w, 3), 0 to 1, differ most.

    >>> plain = np.zeros((60, 80, 3), np.float32)
    >>> changed = plain.copy(); changed[30:40, 50:60] = 0.5
    >>> most_apart(plain, changed).x, most_apart(plain, plain).part
    (54, 0.0)
    """
    apart = np.abs(np.clip(one, 0, 1) - np.clip(other, 0, 1)).max(axis=2)
    around = np.asarray(cv2.blur(apart, (WINDOW, WINDOW), borderType=cv2.BORDER_REFLECT_101), np.float32)
    y, x = np.unravel_index(int(around.argmax()), around.shape)
    return Apart(int(x), int(y), float(around[y, x]), float((apart > SEEN).mean()))
