"""The thistle terrace: dry thistles and grasses a few pixels thin, a drystone wall, a far limestone ridge, in wind."""

from __future__ import annotations

from functools import cache

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..ground import FINEST, Light, View, draw_ground, height_at, ranges
from ..landscape import Landscape
from ..noise import cells, fractal, ridged, smooth
from ..sky import Sky, against_sky, draw_sky
from ..things import Plants, Sheet, draw_stones

EYE, HORIZON = 0.40, -0.03
LIGHT = Light((-0.72, 0.42, -0.18), (1.75, 1.42, 0.98), (0.22, 0.27, 0.36), (0.46, 0.52, 0.60), (6.5e-5, 8.5e-5, 1.25e-4), glow=0.3)
SKY = Sky((0.14, 0.25, 0.50), (0.60, 0.64, 0.68), (0.18, 0.13, 0.07), (0.96, 0.88, 0.78), (0.46, 0.48, 0.54), reach=0.20, cover=0.16, cell=0.9, drawn_out=1.3, seed=83)
STRAW, UMBER = (0.50, 0.39, 0.20), (0.30, 0.21, 0.12)
# across m, distance m, height m
THISTLES = (
    (-0.30, 0.66, 0.62), (0.17, 0.92, 0.58), (0.52, 0.80, 0.50), (-0.62, 1.10, 0.78), (0.86, 1.40, 0.80), (-0.15, 1.45, 0.66),
    (-1.25, 1.9, 0.95), (0.40, 2.1, 0.85), (1.75, 2.5, 1.0), (-0.55, 2.6, 0.9), (-2.1, 3.0, 1.0), (1.1, 3.4, 0.95), (2.6, 4.2, 1.1), (-0.4, 4.6, 1.0),
)  # fmt: skip


@njit(cache=True, nogil=True, fastmath=True)
def _earth(tangents: np.ndarray, zs: np.ndarray, finest: np.ndarray, first: int, last: int, out: np.ndarray) -> None:
    for k in range(first, last):
        z, smallest = zs[k], finest[k]
        # the terrace ends in a drop; beyond it lies the valley
        drop = 3.5 * smooth(7.2, 8.6, z)
        for c in range(len(tangents)):
            x = tangents[c] * z
            border, number = cells(x / 0.055, z / 0.055, 37)
            pebble = 0.016 * number * smooth(0.70, 0.95, number) * smooth(0.05, 0.40, border) * smooth(0.5, 1.5, 0.03 / smallest)
            clods = 0.016 * fractal(x, z, 0.09, smallest, 0.62, 31)
            swell = 0.06 * fractal(x, z, 1.7, max(smallest, 0.3), 0.5, 17)
            out[k, c] = swell + clods + pebble - drop


@njit(cache=True, nogil=True, fastmath=True)
def _earth_colour(seen: np.ndarray, pixel: float, out: np.ndarray) -> None:
    for r in range(seen.shape[0]):
        for c in range(seen.shape[1]):
            if seen[r, c, 6] < 0:
                continue
            x, z = seen[r, c, 0], seen[r, c, 2]
            smallest = FINEST * z * pixel
            border, number = cells(x / 0.055, z / 0.055, 37)
            stone = smooth(0.70, 0.85, number) * smooth(0.05, 0.12, border) * smooth(0.5, 1.5, 0.03 / smallest)
            litter = smooth(-0.1, 0.5, fractal(x * 1.0, z * 0.45, 0.035, smallest, 0.7, 71) + 0.4 * fractal(x, z, 0.5, smallest, 0.5, 73))
            tone = 1 + 0.3 * fractal(x, z, 0.02, smallest, 0.7, 75)
            red, green, blue = 0.19 + 0.24 * litter, 0.135 + 0.185 * litter, 0.085 + 0.095 * litter
            out[r, c, 0] = (red + (0.42 - red) * stone) * tone
            out[r, c, 1] = (green + (0.39 - green) * stone) * tone
            out[r, c, 2] = (blue + (0.34 - blue) * stone) * tone


@njit(cache=True, nogil=True, fastmath=True)
def _ridge(tangents: np.ndarray, zs: np.ndarray, finest: np.ndarray, first: int, last: int, out: np.ndarray) -> None:
    for k in range(first, last):
        z, smallest = zs[k], finest[k]
        for c in range(len(tangents)):
            x = tangents[c] * z
            valley = -26.0 + 16.0 * fractal(x, z, 500.0, max(smallest, 4.0), 0.4, 43) + 2.2 * fractal(x, z, 11.0, smallest, 0.55, 45) * smooth(60.0, 200.0, z)
            line = 2900.0 - 0.22 * x + 260.0 * fractal(x, z, 900.0, max(smallest, 20.0), 0.5, 51)
            up = smooth(line - 1500.0, line, z)
            # a slope of scree, a cliff in two steps, a plateau
            out[k, c] = valley
            if up <= 0:
                continue
            body = 170.0 * up * up + 55.0 * ridged(x, z, 420.0, smallest, 0.5, 57) * up
            cliff, upper, crest = 0.0, 0.0, 0.0
            if z > line - 120:
                cliff = 150.0 * smooth(line - 80.0, line + 10.0, z + 26.0 * ridged(x, z, 130.0, smallest, 0.55, 59))
                upper = 95.0 * smooth(line + 190.0, line + 260.0, z + 40.0 * ridged(x, z + 90.0, 170.0, smallest, 0.55, 61))
                crest = 60.0 * fractal(x, 0.3 * z, 700.0, smallest, 0.45, 63) * smooth(line - 100.0, line + 300.0, z)
            out[k, c] += body + cliff + upper + crest


@njit(cache=True, nogil=True, fastmath=True)
def _ridge_colour(seen: np.ndarray, pixel: float, out: np.ndarray) -> None:
    for r in range(seen.shape[0]):
        for c in range(seen.shape[1]):
            if seen[r, c, 6] < 0:
                continue
            x, h, z, up = seen[r, c, 0], seen[r, c, 1], seen[r, c, 2], seen[r, c, 4]
            smallest = FINEST * z * pixel
            bed = fractal(0.06 * x, h, 16.0, smallest, 0.62, 47)
            streak = fractal(x, 0.12 * h, 12.0, smallest, 0.6, 49)
            red, green, blue = 0.50 + 0.09 * bed + 0.07 * streak, 0.45 + 0.085 * bed + 0.06 * streak, 0.38 + 0.08 * bed + 0.05 * streak
            field = cells((x + 0.3 * z) / 150.0, z / 190.0, 67)[1]
            tree = smooth(-0.05, 0.4, fractal(x, z, 9.0, smallest, 0.7, 53))
            woods = smooth(0.0, 0.4, fractal(x, z, 260.0, smallest, 0.55, 55) + 0.15)
            g_red, g_green, g_blue = 0.19 + 0.20 * field, 0.175 + 0.13 * field, 0.075 + 0.06 * field
            g_red += (0.05 + 0.03 * tree - g_red) * woods * (0.4 + 0.6 * tree)
            g_green += (0.065 + 0.03 * tree - g_green) * woods * (0.4 + 0.6 * tree)
            g_blue += (0.035 + 0.01 * tree - g_blue) * woods * (0.4 + 0.6 * tree)
            grown = smooth(0.62, 0.80, up + 0.08 * streak)
            out[r, c, 0], out[r, c, 1], out[r, c, 2] = red + (g_red - red) * grown, green + (g_green - green) * grown, blue + (g_blue - blue) * grown


def _bent(rng: np.random.Generator, foot: NDArray[np.float64], height: float, lean: float, count: int) -> NDArray[np.float64]:
    """Points (count, 3) of a stalk that leans one way and nods at its end."""
    t = np.linspace(0, 1, count)
    turn = rng.uniform(0, 2 * np.pi)
    side = lean * height * (0.25 * t + 0.75 * t**2.4)
    return foot + np.stack([np.cos(turn) * side, height * (t - 0.10 * t**3), np.sin(turn) * side], axis=1)


def _sways(points: NDArray[np.float64], floor: float) -> NDArray[np.float64]:
    return np.asarray((np.maximum(points[:, 1] - floor, 0) / 0.8) ** 1.6)


def _head(plants: Plants, rng: np.random.Generator, at: NDArray[np.float64], way: NDArray[np.float64], size: float, floor: float) -> None:
    """A dry head: a ball of pointed bracts, pale down breaking out of it."""
    sway = float(((at[1] - floor) / 0.8) ** 1.6)
    for i in range(70):
        up = 1 - 1.7 * (i + 0.5) / 70
        turn = 2.4 * i
        flat = np.sqrt(1 - up * up)
        ray = np.array([flat * np.cos(turn), up, flat * np.sin(turn)])
        base = at + way * 0.45 * size + 0.40 * size * ray * [0.85, 1, 0.85]
        shade = rng.uniform(0.7, 1.15)
        rgb = (UMBER[0] * shade * 1.25, UMBER[1] * shade * 1.25, UMBER[2] * shade * 1.2)
        plants.twig(base - 0.3 * size * ray, base, 0.10 * size, 0.10 * size, rgb, (sway, sway), bark=0.3)
        plants.twig(base, base + 0.34 * size * (ray + 0.25 * way), 0.045 * size, 0.004 * size, STRAW, (sway, sway), through=0.2)
    for _ in range(46):
        ray = way + rng.normal(0, 0.33, 3)
        base = at + 0.8 * size * way
        plants.twig(base, base + rng.uniform(0.5, 0.95) * size * ray, 0.03 * size, 0.008 * size, (0.74, 0.66, 0.52), (sway, sway), through=0.5)


def _thistle(plants: Plants, rng: np.random.Generator, x: float, z: float, height: float) -> None:
    plants.next_plant()
    floor = height_at(_earth, x, z)
    stem = _bent(rng, np.array([x, floor - 0.01, z]), height, rng.uniform(0.05, 0.16), 12)
    shade = rng.uniform(0.8, 1.1)
    rgb = (STRAW[0] * shade * 0.8, STRAW[1] * shade * 0.78, STRAW[2] * shade * 0.85)
    plants.path(stem, np.linspace(0.0042, 0.0020, 12), rgb, _sways(stem, floor), bark=0.35)
    shoots = [(stem[-1], stem[-1] - stem[-2])]
    for _ in range(rng.integers(2, 5)):
        shoot = _bent(rng, stem[rng.integers(5, 11)], height * rng.uniform(0.16, 0.34), rng.uniform(0.5, 0.9), 7)
        plants.path(shoot, np.linspace(0.0022, 0.0013, 7), rgb, _sways(shoot, floor), bark=0.3)
        shoots.append((shoot[-1], shoot[-1] - shoot[-2]))
    for tip, way in shoots:
        _head(plants, rng, tip, way / np.linalg.norm(way), rng.uniform(0.020, 0.032), floor)
    for level in np.arange(0.08, 0.92, 0.055):
        foot = np.array([np.interp(level, np.linspace(0, 1, 12), stem[:, i]) for i in range(3)])
        turn, reach = rng.uniform(0, 2 * np.pi), height * rng.uniform(0.10, 0.19) * (1.15 - level)
        t = np.linspace(0, 1, 7)
        droop = rng.uniform(0.2, 0.9)
        leaf = foot + reach * np.stack([np.cos(turn) * t, 0.55 * t - droop * t * t, np.sin(turn) * t], axis=1)
        leaf += np.cumsum(rng.normal(0, 0.05 * reach, (7, 3)), axis=0) * t[:, None]
        tone = rng.uniform(0.6, 1.05)
        colour = (STRAW[0] * tone, STRAW[1] * tone * 0.93, STRAW[2] * tone * 0.9)
        sways = _sways(leaf, floor)
        plants.path(leaf, (0.0030 * np.sin(np.pi * np.clip(0.25 + 0.75 * t, 0, 1)) + 0.0006), colour, sways, through=0.25, bark=0.3)
        for i in range(1, 7):
            for side in (-1, 1):
                along = leaf[i] - leaf[i - 1]
                across = side * np.cross(along, [0.0, 1.0, 0.0]) * 1.2 + 0.5 * along + rng.normal(0, 0.12, 3) * reach * 0.2
                spine = across / (np.linalg.norm(across) + 1e-9) * reach * rng.uniform(0.10, 0.20)
                plants.twig(leaf[i], leaf[i] + spine, 0.0011, 0.00022, colour, (float(sways[i]), float(sways[i])), through=0.3)


def _tuft(plants: Plants, rng: np.random.Generator, x: float, z: float, blades: int) -> None:
    plants.next_plant()
    floor = height_at(_earth, x, z)
    tall = rng.uniform(0.16, 0.42)
    for _ in range(blades):
        foot = np.array([x + rng.normal(0, 0.018), floor - 0.005, z + rng.normal(0, 0.018)])
        blade = _bent(rng, foot, tall * rng.uniform(0.45, 1.0), rng.uniform(0.15, 1.0), 8)
        tone = rng.uniform(0.75, 1.25)
        rgb = (STRAW[0] * tone * 1.05, STRAW[1] * tone * rng.uniform(0.95, 1.1), STRAW[2] * tone)
        sways = _sways(blade, floor) * 1.4
        plants.path(blade, np.linspace(0.0010, 0.00025, 8), rgb, sways, through=0.35)
        if rng.uniform() < 0.16:
            for k in range(14):
                base = blade[-1] * (1 - k / 40) + blade[-2] * (k / 40)
                way = rng.normal((0, 0.008, 0), 0.004)
                plants.twig(base, base + way, 0.0009, 0.0002, (0.58, 0.47, 0.29), (float(sways[-1]), float(sways[-1])), through=0.4)


@cache
def _plants() -> NDArray[np.float64]:
    plants, rng = Plants(), np.random.default_rng(29)
    for x, z, height in THISTLES:
        _thistle(plants, rng, x, z, height)
    for _ in range(150):
        z = float(np.exp(rng.uniform(np.log(0.62), np.log(6.5))))
        _tuft(plants, rng, float(rng.uniform(-0.85, 0.85) * z), z, int(rng.integers(9, 24)))
    return plants.twigs()


def _wall() -> NDArray[np.float64]:
    """Three courses of a wall that runs from the right foreground to the left, loose stones at its foot."""
    rng = np.random.default_rng(33)
    rows = []
    a, b = np.array([2.15, 2.1]), np.array([-4.6, 6.4])
    length = float(np.linalg.norm(b - a))
    for course in range(4):
        s = rng.uniform(0, 0.15)
        while s < length:
            wide = rng.uniform(0.11, 0.21)
            x, z = a + (b - a) * (s + wide) / length
            floor = height_at(_earth, x, z)
            high = rng.uniform(0.062, 0.080)
            y = floor + 0.05 + 0.125 * course + rng.uniform(-0.012, 0.012)
            grey = rng.uniform(0.30, 0.44)
            half = (wide * 1.10, high * 1.22, rng.uniform(0.13, 0.18))
            rows.append((x, y, z + rng.uniform(-0.03, 0.03), *half, rng.uniform(0.04, 0.08), rng.integers(1, 9999), grey, grey * 0.94, grey * 0.84, floor - 0.02))
            if course == 1:
                # what fills the wall behind its face
                rows.append((x + 0.06, y + 0.04, z + 0.20, half[0] * 1.3, 0.21, 0.14, 0.05, rng.integers(1, 9999), 0.10, 0.09, 0.08, floor - 0.02))
            s += 2 * wide * 0.93
    for _ in range(9):
        s = rng.uniform(0.05, 0.8)
        x, z = a + (b - a) * s + rng.uniform([-0.5, -0.9], [0.1, -0.35])
        floor, size = height_at(_earth, x, z), rng.uniform(0.05, 0.12)
        grey = rng.uniform(0.32, 0.44)
        rows.append((x, floor + 0.25 * size, z, size * 1.2, size * 0.8, size, rng.uniform(0.05, 0.09), rng.integers(1, 9999), grey, grey * 0.94, grey * 0.85, floor - 0.01))
    return np.array(rows, np.float64)


def _sheets(view: View) -> list[Sheet]:
    pixel = view.pixel / view.lens
    zs = np.concatenate([ranges(view, EYE, 60.0, 1200.0, 4 * pixel), ranges(view, EYE, 1201.0, 6500.0, 2 * pixel)])
    far = draw_ground(view, zs, _ridge, _ridge_colour, EYE, HORIZON, LIGHT)
    zs = ranges(view, EYE, 0.24, 9.0, 3 * pixel)
    wall = _wall()
    standing = np.stack([wall[:, 0] - 0.5 * wall[:, 3], wall[:, 1], wall[:, 2], wall[:, 4], wall[:, 0] + 0.5 * wall[:, 3], wall[:, 1], wall[:, 2], wall[:, 4]], axis=1)
    near = draw_ground(view, zs, _earth, _earth_colour, EYE, HORIZON, LIGHT, np.concatenate([_plants()[:, :8], standing]))
    return [against_sky(far, draw_sky(view, HORIZON, LIGHT, SKY)), Sheet(0, 0, *near), *draw_stones(wall, view, LIGHT, EYE, HORIZON)]


LANDSCAPE = Landscape(
    "thistle", "Thistle terrace", "Dry thistles and grasses, thin against a far limestone ridge, in wind: the worst case for rims and doubling.",
    EYE, HORIZON, LIGHT, _sheets, _plants, sway=0.05, exposure=0.85,
)  # fmt: skip
