"""Sunrise over lava: clinker and broken blocks close up in deep shadow, the sun just above a cone in the frame."""

from __future__ import annotations

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..ground import FINEST, Light, View, draw_ground, height_at, ranges
from ..landscape import Landscape
from ..noise import cells, fractal, ridged, smooth
from ..sky import Sky, against_sky, draw_sky
from ..things import TWIG, Sheet, draw_stones

EYE, HORIZON = 0.42, -0.12
LIGHT = Light((0.20, 0.085, 1.0), (3.0, 1.75, 0.75), (0.17, 0.19, 0.25), (0.42, 0.25, 0.17), (5.0e-5, 6.0e-5, 8.0e-5), glow=2.2)
SKY = Sky((0.09, 0.15, 0.30), (0.62, 0.33, 0.19), (1.25, 0.62, 0.20), (0.95, 0.50, 0.30), (0.16, 0.15, 0.20), reach=0.11, cover=0.22, cell=1.7, drawn_out=3.0, disc=420.0, seed=23)


@njit(cache=True, nogil=True, fastmath=True)
def _clinker(tangents: np.ndarray, zs: np.ndarray, finest: np.ndarray, first: int, last: int, out: np.ndarray) -> None:
    for k in range(first, last):
        z, smallest = zs[k], finest[k]
        for c in range(len(tangents)):
            x = tangents[c] * z
            wx, wz = x + 0.06 * fractal(x, z, 0.4, max(smallest, 0.05), 0.5, 3), z + 0.06 * fractal(x, z, 0.4, max(smallest, 0.05), 0.5, 5)
            border, number = cells(wx / 0.20, wz / 0.15, 19)
            # slabs that broke and tipped: each has a height and a tilt of its own
            tilt = (number - 0.5) * 0.7
            slab = (0.05 * number + tilt * 0.14 * (border - 0.25)) * smooth(0.0, 0.25, border) - 0.030 * np.exp(-((border / 0.05) ** 2)) * smooth(0.4, 1.6, 0.03 / smallest)
            ropes = 0.006 * np.sin(70.0 * (wx * (number - 0.3) + wz) + 9 * number + 2.5 * fractal(x, z, 0.2, max(smallest, 0.03), 0.5, 9)) * smooth(0.4, 1.5, 0.05 / smallest)
            rough = 0.017 * fractal(x, z, 0.07, smallest, 0.60, 31)
            swell = 0.10 * fractal(x, z, 2.2, max(smallest, 0.4), 0.5, 17) + 0.5 * fractal(x, z, 18.0, max(smallest, 4.0), 0.4, 27) * smooth(4.0, 14.0, z)
            out[k, c] = slab + ropes + rough + swell


@njit(cache=True, nogil=True, fastmath=True)
def _clinker_colour(seen: np.ndarray, pixel: float, out: np.ndarray) -> None:
    for r in range(seen.shape[0]):
        for c in range(seen.shape[1]):
            if seen[r, c, 6] < 0:
                continue
            x, z = seen[r, c, 0], seen[r, c, 2] + seen[r, c, 1]
            smallest = FINEST * z * pixel
            rust = 0.6 * smooth(0.15, 0.8, fractal(x, z, 0.5, smallest, 0.62, 71))
            ash = smooth(0.2, 0.8, fractal(x, z, 0.9, smallest, 0.6, 73)) * smooth(0.75, 0.95, seen[r, c, 4])
            tone = 1 + 0.35 * fractal(x, z, 0.02, smallest, 0.66, 83)
            out[r, c, 0] = (0.085 + 0.10 * rust + 0.10 * ash) * tone
            out[r, c, 1] = (0.078 + 0.035 * rust + 0.09 * ash) * tone
            out[r, c, 2] = (0.078 + 0.015 * rust + 0.08 * ash) * tone
            out[r, c, 3] = 0.10 * (1 - ash)


@njit(cache=True, nogil=True, fastmath=True)
def _range(tangents: np.ndarray, zs: np.ndarray, finest: np.ndarray, first: int, last: int, out: np.ndarray) -> None:
    for k in range(first, last):
        z, smallest = zs[k], finest[k]
        for c in range(len(tangents)):
            x = tangents[c] * z
            dx, dz = x - 150.0, z - 3400.0
            far = np.sqrt(dx * dx + dz * dz)
            cone = 300.0 * np.exp(-max(far - 120.0, 0.0) / 620.0)
            cone *= 1 - 0.18 * ridged(np.arctan2(dz, dx) * 600.0, 0.3 * far, 200.0, max(smallest, 10.0), 0.5, 41) * smooth(90.0, 500.0, far)
            flow = 9.0 * fractal(x, z, 120.0, smallest, 0.6, 43) * smooth(200.0, 700.0, z)
            side = 190.0 * ridged(x, z, 1300.0, smallest, 0.52, 57) * smooth(700.0, 2400.0, abs(x - 150.0))  * smooth(1500.0, 2600.0, z)
            out[k, c] = cone + flow + side - 2.0


@njit(cache=True, nogil=True, fastmath=True)
def _range_colour(seen: np.ndarray, pixel: float, out: np.ndarray) -> None:
    for r in range(seen.shape[0]):
        for c in range(seen.shape[1]):
            if seen[r, c, 6] < 0:
                continue
            tone = 1 + 0.4 * fractal(seen[r, c, 0], seen[r, c, 2], 30.0, FINEST * seen[r, c, 2] * pixel, 0.65, 47)
            out[r, c, 0], out[r, c, 1], out[r, c, 2] = 0.085 * tone, 0.065 * tone, 0.060 * tone


def _blocks() -> NDArray[np.float64]:
    """Broken blocks, from one at one's feet to small ones twelve metres off."""
    rng = np.random.default_rng(77)
    rows = []
    placed = [(-0.36, 0.82, 0.15), (0.40, 1.02, 0.17), (0.06, 1.55, 0.19), (-0.85, 1.75, 0.26), (1.05, 2.2, 0.30), (-0.2, 2.9, 0.26), (0.75, 3.6, 0.36), (-1.6, 3.9, 0.5)]
    for _ in range(34):
        z = float(np.exp(rng.uniform(np.log(0.9), np.log(12.0))))
        placed.append((float(rng.uniform(-0.75, 0.75) * z), z, float(rng.uniform(0.03, 0.09) * z**0.6)))
    for x, z, size in placed:
        floor = height_at(_clinker, x, z)
        half = size * rng.uniform([0.8, 0.55, 0.7], [1.1, 0.95, 1.0])
        grey = rng.uniform(0.06, 0.095)
        rows.append((x, floor + 0.22 * half[1], z, *half, rng.uniform(0.07, 0.13), rng.integers(1, 9999), grey * rng.uniform(1.0, 1.3), grey, grey * 0.97, floor - 0.01))
    return np.array(rows, np.float64)


def _sheets(view: View) -> list[Sheet]:
    pixel = view.pixel / view.lens
    zs = np.concatenate([ranges(view, EYE, 90.0, 900.0, 3 * pixel), ranges(view, EYE, 901.0, 7000.0, 2 * pixel)])
    far = draw_ground(view, zs, _range, _range_colour, EYE, HORIZON, LIGHT)
    zs = ranges(view, EYE, 0.24, 110.0, 3 * pixel)
    blocks = _blocks()
    capsules = np.stack([blocks[:, 0] - 0.5 * blocks[:, 3], blocks[:, 4], blocks[:, 2], blocks[:, 4] * 0.9, blocks[:, 0] + 0.5 * blocks[:, 3], blocks[:, 4], blocks[:, 2], blocks[:, 4] * 0.9], axis=1)
    near = draw_ground(view, zs, _clinker, _clinker_colour, EYE, HORIZON, LIGHT, capsules)
    return [against_sky(far, draw_sky(view, HORIZON, LIGHT, SKY)), Sheet(0, 0, *near), *draw_stones(blocks, view, LIGHT, EYE, HORIZON)]


LANDSCAPE = Landscape(
    "lava", "Lava sunrise", "Clinker close up in deep shadow, the low sun in the frame: bracket the exposure at each focus position.",
    EYE, HORIZON, LIGHT, _sheets, lambda: np.empty((0, TWIG)), exposure=0.9,
)  # fmt: skip
