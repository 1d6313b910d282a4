"""The salt pan at dawn: cracked crust at one's feet, weathered posts with a line between two, a cinder cone."""

from __future__ import annotations

from functools import cache

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..ground import FINEST, Light, View, draw_ground, height_at, ranges
from ..landscape import Landscape
from ..noise import cells, fractal, ridged, smooth
from ..sky import Sky, against_sky, draw_sky
from ..things import Plants, Sheet

EYE, HORIZON = 0.32, -0.105
LIGHT = Light((-0.86, 0.30, 0.30), (2.1, 1.48, 0.92), (0.24, 0.28, 0.36), (0.60, 0.50, 0.50), (6.0e-5, 7.5e-5, 1.05e-4), glow=0.5)
SKY = Sky((0.16, 0.25, 0.44), (0.80, 0.60, 0.50), (0.55, 0.32, 0.12), (0.92, 0.66, 0.52), (0.30, 0.30, 0.38), cover=0.10, cell=2.2, drawn_out=2.6)
# distance m, across m, height m, radius m, lean
POSTS = (
    (0.72, -0.40, 0.44, 0.015, 0.05),
    (1.35, 0.66, 0.56, 0.023, -0.06),
    (2.3, -0.52, 0.68, 0.027, 0.03),
    (3.9, 1.30, 0.78, 0.031, 0.05),
    (6.5, -0.42, 0.86, 0.035, -0.04),
    (11.0, 2.4, 0.92, 0.038, 0.02),
    (19.0, 0.6, 1.00, 0.042, -0.03),
)


@njit(cache=True, nogil=True, fastmath=True)
def _crust(tangents: np.ndarray, zs: np.ndarray, finest: np.ndarray, first: int, last: int, out: np.ndarray) -> None:
    for k in range(first, last):
        z, smallest = zs[k], finest[k]
        for c in range(len(tangents)):
            x = tangents[c] * z
            wx = x + 0.045 * fractal(x, z, 0.25, max(smallest, 0.05), 0.5, 3)
            wz = z + 0.045 * fractal(x, z, 0.25, max(smallest, 0.05), 0.5, 5)
            border, number = cells(wx / 0.36, wz / 0.36, 11)
            border *= 0.36
            rim = 0.021 * np.exp(-((border / 0.030) ** 2)) * smooth(0.4, 1.6, 0.05 / smallest)
            crack = 0.017 * np.exp(-((border / 0.006) ** 2)) * smooth(0.4, 1.4, 0.012 / smallest)
            small, _ = cells(wx / 0.055 + 9.1, wz / 0.055, 23)
            scales = 0.0022 * smooth(0.0, 0.3, small) * smooth(0.5, 1.5, 0.02 / smallest)
            crumbs = 0.0042 * fractal(x, z, 0.035, smallest, 0.60, 31)
            out[k, c] = rim - crack + scales + crumbs + 0.008 * (number - 0.5) + 0.012 * fractal(x, z, 1.3, max(smallest, 0.3), 0.5, 17)


@njit(cache=True, nogil=True, fastmath=True)
def _crust_colour(seen: np.ndarray, pixel: float, out: np.ndarray) -> None:
    for r in range(seen.shape[0]):
        for c in range(seen.shape[1]):
            if seen[r, c, 6] < 0:
                continue
            x, h, z = seen[r, c, 0], seen[r, c, 1], seen[r, c, 2]
            smallest = FINEST * z * pixel
            damp = smooth(-0.3, 0.6, fractal(x, z, 1.6, max(smallest, 0.02), 0.55, 71))
            dirt = smooth(0.0, 0.9, fractal(x, z, 0.11, smallest, 0.62, 83) + 0.25 - 45.0 * h)
            out[r, c, 0] = 0.80 - 0.16 * damp - 0.34 * dirt
            out[r, c, 1] = 0.77 - 0.18 * damp - 0.38 * dirt
            out[r, c, 2] = 0.73 - 0.17 * damp - 0.41 * dirt
            out[r, c, 3] = 0.05 * (1 - dirt)


@njit(cache=True, nogil=True, fastmath=True)
def _cone(tangents: np.ndarray, zs: np.ndarray, finest: np.ndarray, first: int, last: int, out: np.ndarray) -> None:
    for k in range(first, last):
        z, smallest = zs[k], finest[k]
        for c in range(len(tangents)):
            x = tangents[c] * z
            plain = 0.5 * fractal(x, z, 90.0, max(smallest, 4.0), 0.5, 59)
            hills = 110.0 * ridged(x, z, 900.0, smallest, 0.5, 57) * smooth(3300.0, 4600.0, z) if z > 3300 else 0.0
            out[k, c] = plain + hills
            dx, dz = x - 430.0, z - 2600.0
            far = np.sqrt(dx * dx + dz * dz)
            if far > 1600:
                continue
            around = np.arctan2(dz, dx)
            # a rim 90 m from the axis, a slope at rest outside it, a foot that runs out
            out_of_rim = max(far - 90.0, 0.0)
            cone = 330.0 * np.exp(-out_of_rim / 300.0) * smooth(1600.0, 500.0, far)
            cone -= 70.0 * smooth(90.0, 20.0, far)
            gully = ridged(around * 520.0, 0.30 * far, 130.0, max(smallest, 8.0), 0.5, 41)
            cone *= 1 - 0.20 * gully * smooth(70.0, 260.0, far) - 0.09 * smooth(-0.4, 1.2, np.cos(around - 2.2)) * smooth(200.0, 90.0, far)
            scree = 5.0 * fractal(x, z, 40.0, smallest, 0.58, 43) * smooth(1300.0, 600.0, far)
            out[k, c] += cone + scree


@njit(cache=True, nogil=True, fastmath=True)
def _cone_colour(seen: np.ndarray, pixel: float, out: np.ndarray) -> None:
    for r in range(seen.shape[0]):
        for c in range(seen.shape[1]):
            if seen[r, c, 6] < 0:
                continue
            x, h, z, up = seen[r, c, 0], seen[r, c, 1], seen[r, c, 2], seen[r, c, 4]
            smallest = FINEST * z * pixel
            bush = smooth(0.05, 0.5, fractal(x, z, 14.0, smallest, 0.7, 47) - 0.006 * h + 0.35) * smooth(0.7, 0.9, up)
            stone = fractal(x, z + h, 12.0, smallest, 0.66, 49)
            salt = smooth(6.0, 0.5, h)
            red, green, blue = 0.27 + 0.07 * stone, 0.17 + 0.05 * stone, 0.13 + 0.04 * stone
            red, green, blue = red + (0.13 - red) * bush, green + (0.13 - green) * bush, blue + (0.07 - blue) * bush
            out[r, c, 0], out[r, c, 1], out[r, c, 2] = red + (0.62 - red) * salt, green + (0.57 - green) * salt, blue + (0.52 - blue) * salt


@cache
def _posts() -> NDArray[np.float64]:
    plants, rng = Plants(), np.random.default_rng(40)
    tops = []
    for distance, across, height, radius, lean in POSTS:
        plants.next_plant()
        wood = np.array([0.44, 0.38, 0.32]) * rng.uniform(0.85, 1.15)
        levels = np.array([-0.01, 0.3, 0.6, 0.8, 0.9, 1.0]) * height
        wobble = np.cumsum(rng.normal(0, 0.05 * radius, (len(levels), 2)), axis=0)
        points = np.stack([across + lean * levels + wobble[:, 0], height_at(_crust, across, distance) + levels, distance + wobble[:, 1]], axis=1)
        radii = radius * (1 - 0.14 * levels / height) * rng.uniform(0.96, 1.04, len(levels))
        for i in range(len(levels) - 1):
            rgb = (0.50, 0.11, 0.07) if i == 3 else tuple(wood)
            plants.twig(points[i], points[i + 1], radii[i], radii[i + 1], rgb, bark=0.75)
        # splinters at its head
        for _ in range(9):
            off = rng.uniform(-0.7, 0.7, 2) * radius
            head = points[-1] + [off[0], rng.uniform(0.002, 0.016), off[1]]
            plants.twig(points[-1] + [off[0], -0.02, off[1]], head, 0.16 * radius, 0.03 * radius, tuple(wood * 0.9), bark=0.4)
        tops.append(points[-2])
    for a, b, thickness in ((2, 3, 0.003), (1, 2, 0.0022)):
        plants.next_plant()
        t = np.linspace(0, 1, 41)[:, None]
        line = tops[a] * (1 - t) + tops[b] * t - np.array([0, 0.30, 0]) * t * (1 - t)
        plants.path(line, np.full(41, thickness), (0.34, 0.28, 0.21), np.zeros(41), bark=0.5)
    return plants.twigs()


def _sheets(view: View) -> list[Sheet]:
    pixel = view.pixel / view.lens
    zs = np.concatenate([ranges(view, EYE, 120.0, 1100.0, 3 * pixel), ranges(view, EYE, 1101.0, 8000.0, 2 * pixel)])
    far = draw_ground(view, zs, _cone, _cone_colour, EYE, HORIZON, LIGHT)
    zs = ranges(view, EYE, 0.24, 150.0, 3 * pixel)
    near = draw_ground(view, zs, _crust, _crust_colour, EYE, HORIZON, LIGHT, _posts()[:, :8])
    return [against_sky(far, draw_sky(view, HORIZON, LIGHT, SKY)), Sheet(0, 0, *near)]


LANDSCAPE = Landscape(
    "saltpan", "Salt pan", "Polygon crust at one's feet, old posts, a cinder cone. Nothing moves.", EYE, HORIZON, LIGHT, _sheets, _posts, exposure=0.72
)
