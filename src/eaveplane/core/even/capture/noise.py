"""Noise: measured in a frame, and taken away in proportion to what was measured.

In the square root of light photon noise is equally strong everywhere (Anscombe 1948). There brightness and two
differences of colour are split into undecimated wavelet scales (Starck and Murtagh 1994, B3 spline), and each
scale is shrunk by the non-negative garrote (Breiman 1995; Gao 1998) with thresholds in units of its noise.
"""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np

from ....imaging.colour import FloatArray
from ....imaging.light import light_of, root_of
from ....imaging.pyramid import Box

SCALES = 4
REACH = 2 * (2**SCALES - 1)
"""Pixels around a box that have a part in it."""
SPLINE = np.array([1, 4, 6, 4, 1], np.float32) / 16
TO_OPPONENT = np.array([[0.25, 0.5, 0.25], [1, -1, 0], [0, -1, 1]], np.float32)
FROM_OPPONENT = np.linalg.inv(TO_OPPONENT).astype(np.float32)
THRESHOLDS = (1.8, 1.1, 0.55, 0.25)
"""Multiples of the noise below which a scale is taken for noise at full strength, fine to coarse."""
STEEPEST = 0.65
SAMPLE = 192
QUIET = 0.2
"""Share of the blocks that is taken to be without texture."""


def _smooth(plane: FloatArray, scale: int) -> FloatArray:
    step = 1 << scale
    kernel = np.zeros(4 * step + 1, np.float32)
    kernel[::step] = SPLINE
    return np.asarray(cv2.sepFilter2D(plane, -1, kernel, kernel, borderType=cv2.BORDER_REFLECT))


def _opponent(light: FloatArray) -> FloatArray:
    return np.ascontiguousarray(root_of(light) @ TO_OPPONENT.T)


def measure_noise(read: Callable[[Box], FloatArray], size: tuple[int, int]) -> FloatArray:
    """Standard deviation (3, SCALES) of noise in brightness and two colour differences of the square root of light, by
    scale: what the quietest blocks of samples spread over the frame have. `read` gives linear light (h, w, 3) of a box."""
    width, height = size
    side = min(SAMPLE, width, height)
    found: list[list[list[float]]] = [[[] for _ in range(SCALES)] for _ in range(3)]
    for y in np.linspace(0, height - side, 5).astype(int):
        for x in np.linspace(0, width - side, 5).astype(int):
            light = read((int(x), int(y), side, side))
            if light.max() > 0.98:
                continue
            planes = _opponent(light)
            for c in range(3):
                plane = planes[..., c]
                for scale in range(SCALES):
                    smooth = _smooth(plane, scale)
                    block = min(max(16, 4 << scale), side)
                    detail = (plane - smooth)[: side // block * block, : side // block * block]
                    blocks = detail.reshape(side // block, block, -1, block).swapaxes(1, 2).reshape(-1, block * block)
                    found[c][scale] += (np.median(np.abs(blocks), axis=1) / 0.6745).tolist()
                    plane = smooth
    noise = np.array([[float(np.quantile(v, QUIET)) if v else 0.0 for v in scales] for scales in found], np.float32)
    for scale in range(2, SCALES):
        # noise falls from scale to scale, demosaiced too; what does not is the picture
        noise[:, scale] = np.minimum(noise[:, scale], STEEPEST * noise[:, scale - 1])
    return noise


def denoised(light: FloatArray, noise: FloatArray, strength: float, colour: float) -> FloatArray:
    """Linear light (h, w, 3) without the noise (3, SCALES) that `measure_noise` found; strengths 0..100 for brightness and
    for colour. Within REACH of its edges a piece is only nearly right."""
    planes = _opponent(light)
    for c in range(3):
        amount = (strength if c == 0 else colour) / 100
        if amount == 0:
            continue
        plane = np.ascontiguousarray(planes[..., c])
        kept = np.zeros_like(plane)
        for scale in range(SCALES):
            smooth = _smooth(plane, scale)
            detail = plane - smooth
            limit = np.float32((amount * THRESHOLDS[scale] * noise[c, scale]) ** 2)
            kept += detail * np.maximum(1 - limit / np.maximum(detail * detail, 1e-20), 0)
            plane = smooth
        planes[..., c] = kept + plane
    return light_of(planes @ FROM_OPPONENT.T)
