"""What stands on the ground: stones, ray-marched once, and stems, twigs and blades, drawn frame by frame.

Axes and units as in `ground`. A stone is a row of numbers: centre x, y, z; half sizes x, y, z; roughness;
seed; albedo red, green, blue; height of the ground it stands in. A twig is a tapered capsule: x, y, z, radius
at either end; how far either end sways, as a share of the plant's top; number of its plant; albedo red, green,
blue; how much light comes through it; strength of its bark.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..imaging.colour import FloatArray
from ..imaging.rows import by_rows
from .ground import Light, View
from .noise import fractal, fractal3, lattice, smooth

PLANES = 15
STONE, TWIG = 12, 16


@dataclass(frozen=True)
class Sheet:
    """A part of a landscape with what it hides left whole behind it: radiance premultiplied with coverage (h, w, 4)
    from pixel (x, y) of the view's grid on, and its dioptres (h, w)."""

    x: int
    y: int
    light: FloatArray
    dioptres: FloatArray

    @cached_property
    def back(self) -> float:
        """Dioptres of its farthest part: what stands on it is in front of it."""
        return float(self.dioptres.min())

    @cached_property
    def nearest(self) -> float:
        return float(self.dioptres.max())


@njit(cache=True, nogil=True)
def _facets(seed: int, normals: np.ndarray) -> None:
    """Planes that cut a stone, spread over the sphere and shaken: normal and distance from the centre."""
    for i in range(PLANES):
        up = 1 - 2 * (i + 0.5) / PLANES
        turn = i * 2.399963 + 6.28 * lattice(i, 1, seed)
        flat = np.sqrt(max(1 - up * up, 0.0))
        nx = flat * np.cos(turn) + 0.35 * (lattice(i, 2, seed) - 0.5)
        ny = up + 0.35 * (lattice(i, 3, seed) - 0.5)
        nz = flat * np.sin(turn) + 0.35 * (lattice(i, 4, seed) - 0.5)
        n = np.sqrt(nx * nx + ny * ny + nz * nz)
        normals[i, 0], normals[i, 1], normals[i, 2] = nx / n, ny / n, nz / n
        normals[i, 3] = 0.74 + 0.22 * lattice(i, 5, seed)


@njit(cache=True, nogil=True, fastmath=True)
def _stone_at(x: float, y: float, z: float, facets: np.ndarray, rough: float, fine: float, seed: int) -> float:
    """Signed distance, roughly, in half sizes of the stone."""
    most = -1e9
    for i in range(PLANES):
        most = max(most, x * facets[i, 0] + y * facets[i, 1] + z * facets[i, 2] - facets[i, 3])
    if most > 2.5 * rough + 0.1:
        return most - 1.5 * rough
    total = 0.0
    for i in range(PLANES):
        behind = x * facets[i, 0] + y * facets[i, 1] + z * facets[i, 2] - facets[i, 3] - most
        if behind > -0.22:
            total += np.exp(24.0 * behind)
    return most + np.log(total) / 24.0 + rough * fractal3(x, y, z, 0.55, fine, 0.55, seed)


@njit(cache=True, nogil=True, fastmath=True)
def _neighbours(sun: np.ndarray, stones: np.ndarray, own: int) -> tuple[np.ndarray, np.ndarray]:
    """Which stones may take the sun from this one, and which stand close to it."""
    shading, close = np.empty(len(stones), np.int64), np.empty(len(stones), np.int64)
    shades, near = 0, 0
    size = max(stones[own, 3], max(stones[own, 4], stones[own, 5]))
    for s in range(stones.shape[0]):
        if s == own:
            continue
        dx, dy, dz = stones[s, 0] - stones[own, 0], stones[s, 1] - stones[own, 1], stones[s, 2] - stones[own, 2]
        reach = size + max(stones[s, 3], max(stones[s, 4], stones[s, 5]))
        along = dx * sun[0] + dy * sun[1] + dz * sun[2]
        away = dx * dx + dy * dy + dz * dz
        if along > -reach and away - along * along < reach * reach * 1.3:
            shading[shades] = s
            shades += 1
        if away < 2.2 * reach * reach:
            close[near] = s
            near += 1
    return shading[:shades], close[:near]


@njit(cache=True, nogil=True, fastmath=True)
def _in_shadow(x: float, y: float, z: float, sun: np.ndarray, stones: np.ndarray, shading: np.ndarray) -> float:
    """Share of the sun that other stones, taken as ellipsoids, leave."""
    share = 1.0
    for s in shading:
        a, b, c = stones[s, 3] * 0.86, stones[s, 4] * 0.86, stones[s, 5] * 0.86
        ox, oy, oz = (x - stones[s, 0]) / a, (y - stones[s, 1]) / b, (z - stones[s, 2]) / c
        dx, dy, dz = sun[0] / a, sun[1] / b, sun[2] / c
        dd = dx * dx + dy * dy + dz * dz
        t = -(ox * dx + oy * dy + oz * dz) / dd
        if t <= 0:
            continue
        px, py, pz = ox + t * dx, oy + t * dy, oz + t * dz
        share = min(share, smooth(0.9, 1.06, np.sqrt(px * px + py * py + pz * pz)))
    return share


@njit(cache=True, nogil=True, fastmath=True)
def _stone(stones: np.ndarray, own: int, x0: int, y0: int, grid: np.ndarray, light: np.ndarray, eye: float, first: int, last: int, out: np.ndarray, dioptres: np.ndarray) -> None:
    left, top, step, lens, horizon, pixel = grid
    cx, cy, cz, ax, ay, az, rough, seed_number, red, green, blue, floor = stones[own]
    seed = int(seed_number)
    facets = np.empty((PLANES, 4))
    _facets(seed, facets)
    shading, close = _neighbours(light, stones, own)
    least = min(ax, min(ay, az))
    for r in range(first, last):
        for c in range(out.shape[1]):
            dx = (left + step * (x0 + c)) / lens
            dy = -(top + step * (y0 + r) - horizon) / lens
            ox, oy, oz = -cx / ax, (eye - cy) / ay, -cz / az
            ex, ey, ez = dx / ax, dy / ay, 1.0 / az
            ee = ex * ex + ey * ey + ez * ez
            oe = ox * ex + oy * ey + oz * ez
            inside = oe * oe - ee * (ox * ox + oy * oy + oz * oz - 1.5)
            dioptres[r, c] = 1.0 / cz
            if inside < 0:
                continue
            t, end = (-oe - np.sqrt(inside)) / ee, (-oe + np.sqrt(inside)) / ee
            foot = t * pixel / lens
            fine = 2.4 * foot / least
            nearest, at, found = 1e9, t, False
            for _ in range(22):
                d = _stone_at(ox + t * ex, oy + t * ey, oz + t * ez, facets, rough, max(fine, 0.12), seed)
                if d < nearest:
                    nearest, at = d, t
                if d < 0.003:
                    found = True
                    break
                t += 0.8 * d * least / np.sqrt(1 + dx * dx + dy * dy)
                if t > end:
                    break
            cover = 1.0 if found else min(max(0.5 - nearest * least / foot, 0.0), 1.0)
            if cover <= 0:
                continue
            x, y, z = ox + at * ex, oy + at * ey, oz + at * ez
            wy = y * ay + cy
            # earth has gathered round its foot
            sunk = floor + 0.012 * fractal(x * ax + cx, z * az + cz, 0.08, foot, 0.5, 7)
            cover *= smooth(-0.7 * foot, 0.7 * foot, wy - sunk)
            if cover <= 0:
                continue
            e = max(0.4 * fine, 0.012)
            base = _stone_at(x, y, z, facets, rough, fine, seed)
            nx = (_stone_at(x + e, y, z, facets, rough, fine, seed) - base) / ax
            ny = (_stone_at(x, y + e, z, facets, rough, fine, seed) - base) / ay
            nz = (_stone_at(x, y, z + e, facets, rough, fine, seed) - base) / az
            n = np.sqrt(nx * nx + ny * ny + nz * nz) + 1e-12
            nx, ny, nz = nx / n, ny / n, nz / n
            wx, wz = x * ax + cx, z * az + cz
            facing = nx * light[0] + ny * light[1] + nz * light[2]
            direct = max(0.0, facing)
            if direct > 0:
                direct *= _in_shadow(wx, wy, wz, light, stones, shading)
                # its own bumps and edges stand in the light too
                reach = 0.03
                for _ in range(4):
                    qx, qy, qz = (wx + reach * least * light[0] - cx) / ax, (wy + reach * least * light[1] - cy) / ay, (wz + reach * least * light[2] - cz) / az
                    if direct <= 0 or qx * qx + qy * qy + qz * qz > 1.3:
                        break
                    direct *= smooth(-0.25 * reach, 0.1 * reach, _stone_at(qx, qy, qz, facets, rough, max(fine, 0.12), seed))
                    reach *= 2.2
            crowd = 1.0
            for s in close:
                ux, uy, uz = (wx - stones[s, 0]) / stones[s, 3], (wy - stones[s, 1]) / stones[s, 4], (wz - stones[s, 2]) / stones[s, 5]
                u = ux * ux + uy * uy + uz * uz
                if u < 2.2:
                    crowd *= smooth(0.55, 2.2, u) * 0.75 + 0.25
            sky = (0.5 + 0.5 * ny) * crowd * (0.35 + 0.65 * smooth(0.0, 0.5 * ay, wy - floor))
            grain = fractal3(wx, wy, wz, 0.05, 2.4 * foot, 0.66, seed + 3)
            patch = smooth(-0.1, 0.55, fractal3(wx, wy, wz, 0.09, 2.4 * foot, 0.6, seed + 9))
            speck = smooth(0.25, 0.6, fractal3(wx, wy, wz, 0.012, 2.4 * foot, 0.6, seed + 5))
            tone = (1 + 0.30 * grain) * (1 - 0.35 * speck)
            lichen = patch * smooth(-0.2, 0.6, ny) * (red + green > 0.3)
            for b in range(3):
                colour = (red if b == 0 else (green if b == 1 else blue)) * tone
                grown = 0.42 if b == 0 else (0.40 if b == 1 else 0.27)
                colour += (grown - colour) * 0.5 * lichen
                lit = colour * (light[3 + b] * (direct + 0.10 * light[1] * max(0.0, 0.4 - ny)) + light[6 + b] * sky)
                kept = np.exp(-at * light[12 + b])
                out[r, c, b] = cover * (lit * kept + (1 - kept) * light[9 + b])
            out[r, c, 3] = cover
            dioptres[r, c] = 1.0 / at


def draw_stones(stones: NDArray[np.float64], view: View, light: Light, eye: float, horizon: float) -> list[Sheet]:
    """A sheet for each stone (n, 12) that is in the view."""
    packed, grid = light.packed(), np.array([view.left, view.top, view.step, view.lens, horizon, view.pixel])
    found = []
    for own, (cx, cy, cz, ax, ay, az, *_) in enumerate(stones):
        near = max(cz - 1.2 * az, 0.1)
        corners = [(horizon + view.lens * (eye - cy + s * 1.25 * ay) / zz - view.top) / view.step for s in (-1, 1) for zz in (near, cz + az)]
        across = [((cx + s * 1.25 * ax) / zz * view.lens - view.left) / view.step for s in (-1, 1) for zz in (near, cz + az)]
        x0, x1 = max(0, math.floor(min(across))), min(view.width, math.ceil(max(across)))
        y0, y1 = max(0, math.floor(min(corners))), min(view.height, math.ceil(max(corners)))
        if x1 - x0 < 2 or y1 - y0 < 2:
            continue
        out, dioptres = np.zeros((y1 - y0, x1 - x0, 4), np.float32), np.empty((y1 - y0, x1 - x0), np.float32)

        def rows(a: int, b: int, own: int = own, x0: int = x0, y0: int = y0, out: FloatArray = out, dioptres: FloatArray = dioptres) -> None:
            _stone(stones, own, x0, y0, grid, packed, eye, a, b, out, dioptres)

        # marching is slow, so even small stones are worth sharing
        by_rows(rows, y1 - y0, (x1 - x0) * 30)
        if out[..., 3].any():
            found.append(Sheet(x0, y0, out, dioptres))
    return found


@njit(cache=True, nogil=True, fastmath=True)
def _twigs(twigs: np.ndarray, ends: np.ndarray, order: np.ndarray, x0: int, y0: int, light: np.ndarray, metres: float, out: np.ndarray) -> None:
    """`ends` (n, 6): pixel x, y and radius of both ends; drawn in `order`, far to near, over `out` (h, w, 4)."""
    height, width = out.shape[:2]
    for s in order:
        ax, ay, ra, bx, by, rb = ends[s]
        dx, dy = bx - ax, by - ay
        length = np.sqrt(dx * dx + dy * dy) + 1e-9
        ux, uy = dx / length, dy / length
        reach = max(ra, rb) + 1.0
        red, green, blue, through, bark = twigs[s, 11], twigs[s, 12], twigs[s, 13], twigs[s, 14], twigs[s, 15]
        seed = int(twigs[s, 10]) * 7 + 3
        # bark goes on from one piece of a stem to the next
        run0, run1 = twigs[s, 0] + twigs[s, 1] + twigs[s, 2], twigs[s, 4] + twigs[s, 5] + twigs[s, 6]
        kept0, kept1, kept2 = np.exp(-twigs[s, 2] * light[12]), np.exp(-twigs[s, 2] * light[13]), np.exp(-twigs[s, 2] * light[14])
        for r in range(max(int(min(ay, by) - reach) - y0, 0), min(int(max(ay, by) + reach) + 2 - y0, height)):
            # only the part of the row that the capsule can cover
            lo, hi = min(ax, bx) - reach, max(ax, bx) + reach
            if abs(uy) > 0.05:
                middle = ax + (r + y0 - ay) * ux / uy
                half = reach / abs(uy) + 1.0
                lo, hi = max(lo, middle - half), min(hi, middle + half)
            for c in range(max(int(lo) - x0, 0), min(int(hi) + 2 - x0, width)):
                px, py = c + x0 - ax, r + y0 - ay
                along = px * ux + py * uy
                t = min(max(along / length, 0.0), 1.0)
                side = px * uy - py * ux
                beyond = along - t * length
                d = np.sqrt(side * side + beyond * beyond)
                radius = ra + t * (rb - ra)
                cover = min(max(min(d + 0.5, radius) - max(d - 0.5, -radius), 0.0), 1.0)
                if cover <= 0:
                    continue
                q = min(max(side / max(radius, 0.5), -1.0), 1.0)
                front = np.sqrt(1 - q * q)
                facing = q * uy * light[0] + q * ux * light[1] - front * light[2]
                direct = max(0.0, facing) + through * (0.35 + 0.4 * max(0.0, light[2]))
                sky = 0.6 + 0.25 * q * ux
                tone = 1.0
                if bark > 0:
                    tone = 1 + bark * fractal(q * radius * metres * 2.2, 0.3 * (run0 + t * (run1 - run0)), 0.02, 2.4 * metres, 0.7, seed)
                for b in range(3):
                    colour = (red if b == 0 else (green if b == 1 else blue)) * tone
                    kept = kept0 if b == 0 else (kept1 if b == 1 else kept2)
                    lit = max(colour, 0.0) * (light[3 + b] * direct + light[6 + b] * sky)
                    lit = lit * kept + (1 - kept) * light[9 + b]
                    out[r, c, b] += cover * (lit - out[r, c, b])
                out[r, c, 3] += cover * (1 - out[r, c, 3])


def draw_twigs(twigs: NDArray[np.float64], ends: NDArray[np.float64], box: tuple[int, int, int, int], light: Light, metres: float) -> FloatArray:
    """Radiance premultiplied with coverage (h, w, 4) of twigs (n, 16) whose projected `ends` (n, 6) are pixel x, y and
    radius of both, within the pixel box (x, y, w, h); `metres` is a pixel's size where they stand."""
    x, y, w, h = box
    out = np.zeros((h, w, 4), np.float32)
    order = np.argsort(-(twigs[:, 2] + twigs[:, 6]))
    packed = light.packed()
    by_rows(lambda a, b: _twigs(twigs, ends, order, x, y + a, packed, metres, out[a:b]), h, w * 4)
    return out


class Plants:
    """Gathers twigs while plants are grown."""

    def __init__(self) -> None:
        self.rows: list[tuple[float, ...]] = []
        self.plant = 0

    def next_plant(self) -> None:
        self.plant += 1

    def twig(
        self,
        a: NDArray[np.float64],
        b: NDArray[np.float64],
        ra: float,
        rb: float,
        rgb: tuple[float, float, float],
        sway: tuple[float, float] = (0.0, 0.0),
        through: float = 0.0,
        bark: float = 0.0,
    ) -> None:
        self.rows.append((*a, ra, *b, rb, *sway, float(self.plant), *rgb, through, bark))

    def path(
        self, points: NDArray[np.float64], radii: NDArray[np.float64], rgb: tuple[float, float, float], sways: NDArray[np.float64], through: float = 0.0, bark: float = 0.0
    ) -> None:
        """A bent twig through points (n, 3)."""
        for i in range(len(points) - 1):
            self.twig(points[i], points[i + 1], float(radii[i]), float(radii[i + 1]), rgb, (float(sways[i]), float(sways[i + 1])), through, bark)

    def twigs(self) -> NDArray[np.float64]:
        """All of them (n, 16), read-only: landscapes grow their plants once."""
        found = np.array(self.rows, np.float64).reshape(-1, TWIG)
        found.flags.writeable = False
        return found


def gloved_hand(eye: float, horizon: float) -> NDArray[np.float64]:
    """A hand in a work glove (n, 16) held an arm's length before the lens, fingers spread: the sign that a scene begins."""
    plants = Plants()
    plants.plant = 9000
    away = 0.25
    felt, seam = (0.20, 0.23, 0.20), (0.62, 0.25, 0.05)
    middle = np.array([0.015, eye + horizon * away - 0.015, away])

    def at(x: float, y: float, z: float = 0.0) -> NDArray[np.float64]:
        return middle + np.array([x, y, z])

    for x in np.linspace(-0.036, 0.036, 9):
        plants.twig(at(x, -0.06), at(x * 1.1, 0.035), 0.016, 0.015, felt, bark=0.25)
    plants.twig(at(-0.004, -0.28), at(0.0, -0.07), 0.044, 0.036, (0.16, 0.17, 0.20), bark=0.2)
    for x, long, lean in ((-0.040, 0.062, -0.022), (-0.014, 0.080, -0.008), (0.013, 0.076, 0.008), (0.038, 0.058, 0.020)):
        plants.twig(at(x, 0.03), at(x + 0.6 * lean, 0.03 + 0.55 * long, -0.006), 0.0135, 0.0125, felt, bark=0.25)
        plants.twig(at(x + 0.6 * lean, 0.03 + 0.55 * long, -0.006), at(x + lean, 0.03 + long, -0.010), 0.0125, 0.0105, felt, bark=0.25)
        plants.twig(at(x, 0.02, -0.016), at(x + 0.5 * lean, 0.03 + 0.4 * long, -0.018), 0.0012, 0.0012, seam)
    plants.twig(at(-0.045, -0.03), at(-0.085, 0.012, -0.01), 0.0165, 0.0125, felt, bark=0.25)
    return plants.twigs()
