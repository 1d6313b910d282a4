"""Larches in snow: wind-carved drifts with little texture, a few saplings in autumn gold, a serrated range."""

from __future__ import annotations

from functools import cache

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..ground import FINEST, Light, View, draw_ground, height_at, ranges
from ..landscape import Landscape
from ..noise import fractal, ridged, smooth
from ..sky import Sky, against_sky, draw_sky
from ..things import Plants, Sheet

EYE, HORIZON = 0.50, -0.07
LIGHT = Light((0.80, 0.36, 0.10), (1.30, 1.06, 0.80), (0.24, 0.31, 0.43), (0.52, 0.60, 0.72), (3.0e-5, 4.2e-5, 7.0e-5), glow=0.35, wrap=0.10)
SKY = Sky((0.09, 0.20, 0.46), (0.56, 0.64, 0.74), (0.30, 0.22, 0.12), (0.95, 0.86, 0.80), (0.50, 0.54, 0.62), reach=0.22, cover=0.02, cell=1.5, drawn_out=1.4, seed=5)
NEEDLES = (0.52, 0.30, 0.055)
BARK = (0.17, 0.125, 0.095)
# across m, distance m, height m
TREES = ((-0.33, 0.86, 0.50), (0.66, 1.45, 0.60), (-1.25, 2.6, 1.05), (0.45, 4.2, 1.1), (3.0, 6.2, 2.4), (-3.9, 8.5, 2.9), (1.5, 13.0, 2.9), (-9.0, 19.0, 4.5), (8.6, 22.0, 5.0),
         (-2.4, 30.0, 4.6), (3.9, 38.0, 5.5))


@njit(cache=True, nogil=True, fastmath=True)
def _snow(tangents: np.ndarray, zs: np.ndarray, finest: np.ndarray, first: int, last: int, out: np.ndarray) -> None:
    for k in range(first, last):
        z, smallest = zs[k], finest[k]
        for c in range(len(tangents)):
            x = tangents[c] * z
            # wind from the left and a little towards the lens carves along (0.9, -0.43)
            along, across = 0.90 * x - 0.43 * z, 0.43 * x + 0.90 * z
            bend = 0.10 * fractal(x, z, 0.7, max(smallest, 0.1), 0.5, 3)
            drift = 0.10 * fractal(x, z, 2.6, max(smallest, 0.5), 0.45, 11) + 0.5 * fractal(x, z, 14.0, max(smallest, 3.0), 0.4, 13) * smooth(5.0, 20.0, z)
            carved = ridged(along * 0.28, across + bend, 0.34, max(smallest, 0.03), 0.42, 17)
            carved = 0.055 * carved * carved
            wide = 0.06 + 2.0 * smallest
            steps = 0.010 * smooth(0.16 - wide, 0.16 + wide, fractal(along * 0.40, across + 0.5 * bend, 0.30, max(smallest, 0.03), 0.5, 19)) * smooth(0.4, 1.4, 0.03 / smallest)
            grain = 0.0011 * fractal(along * 0.6, across, 0.03, smallest, 0.72, 31)
            out[k, c] = drift + carved + steps + grain


@njit(cache=True, nogil=True, fastmath=True)
def _snow_colour(seen: np.ndarray, pixel: float, out: np.ndarray) -> None:
    for r in range(seen.shape[0]):
        for c in range(seen.shape[1]):
            if seen[r, c, 6] < 0:
                continue
            x, z = seen[r, c, 0], seen[r, c, 2]
            tone = 1 + 0.05 * fractal(x, z, 0.02, FINEST * z * pixel, 0.75, 71)
            spark = smooth(0.62, 0.8, fractal(x, z, 0.004, FINEST * z * pixel, 0.8, 73))
            out[r, c, 0], out[r, c, 1], out[r, c, 2] = 0.86 * tone, 0.88 * tone, 0.91 * tone
            out[r, c, 3] = 0.04 + 1.2 * spark


@njit(cache=True, nogil=True, fastmath=True)
def _peaks(tangents: np.ndarray, zs: np.ndarray, finest: np.ndarray, first: int, last: int, out: np.ndarray) -> None:
    for k in range(first, last):
        z, smallest = zs[k], finest[k]
        rise = smooth(2200.0, 5200.0, z)
        hill = smooth(150.0, 900.0, z)
        for c in range(len(tangents)):
            x = tangents[c] * z
            woods = hill * (26.0 * fractal(x, z, 420.0, max(smallest, 2.0), 0.42, 43) - 22.0)
            out[k, c] = woods
            if rise > 0:
                teeth = 0.62 * ridged(x + 900.0, z, 1900.0, smallest, 0.50, 61) + 0.38 * ridged(x, z + 500.0, 700.0, smallest, 0.52, 63)
                out[k, c] += rise * (2100.0 * max(teeth - 0.22, 0.0) ** 1.25 + 70.0 * ridged(x, z, 160.0, smallest, 0.6, 67) * teeth - 40.0) * (0.75 + 0.4 * fractal(x, 0.0, 2600.0, 900.0, 0.5, 69))


@njit(cache=True, nogil=True, fastmath=True)
def _peaks_colour(seen: np.ndarray, pixel: float, out: np.ndarray) -> None:
    for r in range(seen.shape[0]):
        for c in range(seen.shape[1]):
            if seen[r, c, 6] < 0:
                continue
            x, h, z, up = seen[r, c, 0], seen[r, c, 1], seen[r, c, 2], seen[r, c, 4]
            smallest = FINEST * z * pixel
            layer = fractal(0.2 * x, h + 0.2 * z, 28.0, smallest, 0.66, 47)
            snow = smooth(0.60, 0.78, up + 0.10 * layer + 0.00008 * h)
            wood = smooth(0.0, 0.35, fractal(x, z, 60.0, smallest, 0.66, 53) + 0.25 - 0.004 * max(h, 0.0)) * smooth(2600.0, 1500.0, z) * smooth(160.0, 420.0, z)
            tree = smooth(-0.1, 0.5, fractal(x, z, 9.0, smallest, 0.7, 59))
            gold = smooth(-0.1, 0.4, fractal(x, z, 150.0, smallest, 0.5, 55))
            red, green, blue = 0.24 + 0.06 * layer, 0.20 + 0.05 * layer, 0.18 + 0.05 * layer
            red, green, blue = red + (0.86 - red) * snow, green + (0.88 - green) * snow, blue + (0.91 - blue) * snow
            wood *= 0.35 + 0.65 * tree
            red += (0.05 + 0.26 * gold - red) * wood
            green += (0.055 + 0.12 * gold - green) * wood
            blue += (0.035 + 0.01 * gold - blue) * wood
            out[r, c, 0], out[r, c, 1], out[r, c, 2] = red, green, blue


def _grow(plants: Plants, rng: np.random.Generator, x: float, z: float, height: float) -> None:
    """A larch: a stem, whorls of drooping branches, tufts of needles along them."""
    plants.next_plant()
    floor = height_at(_snow, x, z) - 0.01
    levels = np.linspace(0, 1, 15)
    lean = np.cumsum(rng.normal(0, 0.006, (15, 2)), axis=0) * height
    stem = np.stack([x + lean[:, 0], floor + height * levels, z + lean[:, 1]], axis=1)
    thick = (0.003 + 0.0085 * height) * (1 - 0.9 * levels)
    plants.path(stem, thick, BARK, levels**1.6, bark=0.6)
    # far trees need fewer, larger tufts
    coarse = max(1.0, z / 2.2)
    at = 0.10
    while at < 0.97:
        for _ in range(rng.integers(2, 5)):
            turn = rng.uniform(0, 2 * np.pi)
            reach = height * (0.30 * (1 - at) + 0.03) * rng.uniform(0.6, 1.15)
            foot = np.array([np.interp(at, levels, stem[:, i]) for i in range(3)])
            t = np.linspace(0, 1, 7)
            out = np.stack([np.cos(turn) * t, 0.30 * t - 0.62 * t * t + 0.38 * t**3, np.sin(turn) * t], axis=1) * reach
            out += np.cumsum(rng.normal(0, 0.012 * reach, (7, 3)), axis=0)
            branch = foot + out
            radius = (0.0012 + 0.006 * reach) * (1 - 0.8 * t)
            plants.path(branch, radius, BARK, at**1.6 + 0.12 * t, bark=0.3)
            tufts = max(4, int(reach / (0.016 * coarse)))
            for s in rng.uniform(0.12, 1.0, tufts):
                base = np.array([np.interp(s, t, branch[:, i]) for i in range(3)])
                ways = rng.normal((0, 0.5, 0), 1, (9, 3))
                ways *= rng.uniform(0.013, 0.024, (9, 1)) * coarse**0.8 / np.linalg.norm(ways, axis=1, keepdims=True)
                shade = rng.uniform(0.65, 1.2)
                rgb = (NEEDLES[0] * shade, NEEDLES[1] * shade * rng.uniform(0.85, 1.15), NEEDLES[2] * shade)
                sway = at**1.6 + 0.12 * s
                for way in ways:
                    plants.twig(base, base + way, 0.0005 * coarse**0.8, 0.0003 * coarse**0.8, rgb, (sway, sway + 0.02), through=0.45)
        at += 0.035 if height < 1 else 0.028


@cache
def _trees() -> NDArray[np.float64]:
    plants, rng = Plants(), np.random.default_rng(15)
    for x, z, height in TREES:
        _grow(plants, rng, x, z, height)
    return plants.twigs()


def _sheets(view: View) -> list[Sheet]:
    pixel = view.pixel / view.lens
    zs = np.concatenate([ranges(view, EYE, 90.0, 1500.0, 3 * pixel), ranges(view, EYE, 1501.0, 9000.0, 2 * pixel)])
    far = draw_ground(view, zs, _peaks, _peaks_colour, EYE, HORIZON, LIGHT)
    zs = ranges(view, EYE, 0.24, 110.0, 3 * pixel)
    near = draw_ground(view, zs, _snow, _snow_colour, EYE, HORIZON, LIGHT, _trees()[:, :8])
    return [against_sky(far, draw_sky(view, HORIZON, LIGHT, SKY)), Sheet(0, 0, *near)]


LANDSCAPE = Landscape(
    "larch", "Larch snow", "Wind-carved snow with little texture, golden saplings, a serrated range.", EYE, HORIZON, LIGHT, _sheets, _trees, sway=0.012, exposure=0.80
)
