"""Whether the camera moved while a frame was exposed: told by what turns its neighbours into it.

Defocus spreads light alike in all directions and by how much depends on what stands there; a moving camera spreads it along one
line, the same everywhere. So a shaken frame looks like its sharper neighbours blurred by one stroke, in most places at
once, and better than blurred by any disc. Places in which it is itself the sharper say nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.pyramid import Box

SIDE = 96
"""Pixels of a tile."""
ACROSS, DOWN, FEWEST_TILES = 10, 7, 6
LENGTHS = (4.0, 5.5, 7.5, 10.0, 14.0, 20.0, 28.0)
ANGLES = 12
DISCS = (0.0, 0.8, 1.4, 2.2, 3.2, 4.5, 6.5, 9.0, 13.0)
NEARLY = 1.4
"""Radius of the disc beside the stroke up to which a place is near focus: where blur is wide any stroke drowns in it."""
BETTER = 0.72
"""Part of what discs leave unexplained that a stroke may leave, summed over places."""
AGREEING = 0.55
"""Part of the places in which the stroke explains more than any disc."""


@dataclass(frozen=True)
class Shake:
    """A stroke of `length` pixels along `angle` (radians, from x towards y); `rest`: what it leaves unexplained in parts of what discs
    leave, `agreeing`: part of the places that are better explained by it."""

    length: float
    angle: float
    rest: float
    agreeing: float
    places: int

    def kernel(self) -> FloatArray:
        """The stroke as a kernel that sums to one."""
        reach = int(np.ceil(self.length / 2)) + 1
        out = np.zeros((2 * reach + 1, 2 * reach + 1), np.float32)
        for t in np.linspace(-0.5, 0.5, 8 * reach):
            x, y = reach + t * self.length * np.cos(self.angle), reach + t * self.length * np.sin(self.angle)
            left, top = int(x), int(y)
            for column, row, part in ((0, 0, (1 - x % 1) * (1 - y % 1)), (1, 0, x % 1 * (1 - y % 1)), (0, 1, (1 - x % 1) * (y % 1)), (1, 1, x % 1 * (y % 1))):
                out[min(top + row, 2 * reach), min(left + column, 2 * reach)] += part
        return np.asarray(out / out.sum(), np.float32)

    def believed(self) -> bool:
        return self.rest < BETTER and self.agreeing > AGREEING


@cache
def _transfers() -> tuple[FloatArray, FloatArray, FloatArray, list[tuple[float, float]]]:
    """Transfer functions ((strokes + 1) * discs, f) of strokes with discs, the first without a stroke, and their squares; weights (f,) of the
    band that is compared; length and angle of each stroke."""
    from scipy.special import j1

    fy = np.fft.fftfreq(SIDE)[:, None] * 2 * np.pi
    fx = np.fft.rfftfreq(SIDE)[None] * 2 * np.pi
    away = np.hypot(fx, fy) + 1e-9
    strokes = [(0.0, 0.0)] + [(length, np.pi * a / ANGLES) for length in LENGTHS for a in range(ANGLES)]
    discs = np.stack([np.ones_like(away) if r == 0 else 2 * j1(r * away) / (r * away) for r in DISCS])
    lines = np.stack([np.sinc(length / (2 * np.pi) * (fx * np.cos(angle) + fy * np.sin(angle))) for length, angle in strokes])
    twice = np.where((np.arange(away.shape[1]) > 0) & (np.arange(away.shape[1]) < SIDE // 2), 2.0, 1.0)
    # from what discs take last to what noise leaves
    band = np.exp(-((0.9 * away) ** 2)) * (1 - np.exp(-((4.0 * away) ** 2))) * twice
    count = away.size
    both = lines[:, None] * discs[None]
    transfers = both.reshape(len(strokes) * len(DISCS), count).astype(np.float32)
    return transfers, transfers**2, band.reshape(count).astype(np.float32), strokes


def shake_of(k: int, neighbours: Sequence[int], luma: Callable[[int, Box], FloatArray], size: tuple[int, int], noise: float) -> Shake | None:
    """The stroke that best turns the `neighbours` into frame k; None where too few places tell.

    `luma(k, box)` gives the square root of luminance on the reference's grid of `size` (w, h), `noise` the variance that noise has in
    the finest octave.
    """
    transfers, squares, band, strokes = _transfers()
    window = np.outer(np.hanning(SIDE), np.hanning(SIDE)).astype(np.float32)
    floor = noise * float((window**2).sum()) * float(band.sum())
    cross, power, strong = [], [], []
    inset = SIDE // 4
    corners = [(round(x), round(y)) for y in np.linspace(inset, size[1] - SIDE - inset, DOWN) for x in np.linspace(inset, size[0] - SIDE - inset, ACROSS)]
    for x, y in corners if min(size) > 2 * SIDE else []:
        box = (x, y, SIDE, SIDE)

        def seen(j: int, box: Box = box) -> NDArray[np.complex64]:
            tile = luma(j, box)
            return np.asarray(np.fft.rfft2((tile - tile.mean()) * window).ravel(), np.complex64)

        own = seen(k)
        others = [seen(j) for j in neighbours]
        strength = [float((band * np.abs(o) ** 2).sum()) for o in others]
        best = int(np.argmax(strength))
        mine = float((band * np.abs(own) ** 2).sum())
        if strength[best] < 1.15 * mine or mine < 4 * floor:
            continue
        cross.append(band * (own.conj() * others[best]).real)
        power.append(band * np.abs(others[best]) ** 2)
        strong.append(mine)
    if len(strong) < FEWEST_TILES:
        return None
    # |own - T other|² = |own|² - 2 T Re(own* other) + T² |other|², T being real
    left = np.array(strong) - 2 * transfers @ np.stack(cross, axis=1) + squares @ np.stack(power, axis=1)
    rest = list((np.maximum(left, 0) / np.array(strong)).T.reshape(-1, len(strokes), len(DISCS)))
    found: Shake | None = None
    for s, (length, angle) in enumerate(strokes[1:], 1):
        told = [r for r in rest if DISCS[int(r[s].argmin())] <= NEARLY and DISCS[int(r[0].argmin())] <= length]
        if len(told) < FEWEST_TILES:
            continue
        # a place that nothing explains would drown the others
        plain, swept = (np.minimum([r[i].min() for r in told], 0.5) for i in (0, s))
        shake = Shake(length, angle, float(swept.mean() / max(plain.mean(), 1e-6)), float((swept < 0.85 * plain).mean()), len(told))
        if found is None or shake.rest * (2 - shake.agreeing) < found.rest * (2 - found.agreeing):
            found = shake
    return found
