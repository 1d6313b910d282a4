"""The order of frames from near to far, read from where each is sharp."""

from __future__ import annotations

import cv2
import numpy as np

from ...imaging.colour import FloatArray
from .detail import Detail, signal

PROFILE_ROWS = 48


def sharpness_shares(details: list[Detail]) -> FloatArray:
    """How likely each frame is the sharpest, (n, h, w) on a coarse grid; frames need not be registered."""
    maps = []
    for detail in details:
        fine = signal(detail)[:2].sum(axis=0)
        maps.append(cv2.resize(fine, (PROFILE_ROWS * 3 // 2, PROFILE_ROWS), interpolation=cv2.INTER_AREA))
    energy = np.stack(maps) ** 2
    return np.asarray(energy / np.maximum(energy.sum(axis=0), 1e-18), np.float32)


def profiles(details: list[Detail]) -> FloatArray:
    """Sharp-zone profile (n, 48) of each frame: row by row from the top, how much of the sharpest detail is its own."""
    shares = sharpness_shares(details)
    total = np.stack([cv2.resize(signal(d)[0], (shares.shape[2], shares.shape[1]), interpolation=cv2.INTER_AREA) for d in details]).max(axis=0)
    weight = np.sqrt(total)
    return np.asarray((shares * weight).sum(axis=2) / np.maximum(weight.sum(axis=1), 1e-9), np.float32)


def near_to_far(details: list[Detail]) -> list[int]:
    """Indices from near to far: near lies low in a landscape, so the frame sharp lowest in the picture is nearest.

    Frames are placed by the median row of what they show sharpest; ties keep the order given.
    """
    shares = sharpness_shares(details)
    by_row = shares.sum(axis=2) + 1e-9
    running = np.cumsum(by_row, axis=1) / by_row.sum(axis=1, keepdims=True)
    middle = [float(np.interp(0.5, line, np.arange(len(line)))) for line in running]
    return sorted(range(len(details)), key=lambda k: -middle[k])
