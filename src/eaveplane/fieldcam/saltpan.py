"""The salt pan at dawn: cracked crust at one's feet, survey posts, a cinder cone behind.

The picture is described in plane coordinates of an ideal lens: `u` to the right and `v` downwards from the
centre, in widths of the picture. Radiance is linear Rec. 2020 and unbounded above; 1 is a sunlit white.
The backdrop (ground to the horizon, cone, sky) has a distance everywhere; each post and the line strung
between them is a layer of its own distance in front of it, drawn whole with what it hides kept behind.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from ..imaging.colour import FloatArray
from ..imaging.rows import by_rows
from .noise import cells, fractal, smooth, value

EYE = 0.32
"""Height of the lens above the ground, metres."""
HORIZON = -0.105
"""Where the horizon lies, in widths of the picture from its centre."""
FAR = 1.0e6
"""Distance that stands for infinity, metres."""


FINEST = 2.6
"""Size in pixels of the finest detail, about what a good lens still resolves on its sensor."""


@dataclass(frozen=True)
class Layer:
    """Something that stands up at one distance. `kind` 0 is a post, 1 the line between two of them.

    For a post, (u, v) is its foot and (u2, v2) its top, `half` half its width at the foot; for the line the
    two ends, `sag` the depth of its hanging and `half` half its thickness, all in widths of the picture.
    """

    distance: float
    kind: int
    u: float
    v: float
    u2: float
    v2: float
    half: float
    sag: float
    seed: int

    def span(self) -> tuple[float, float, float, float]:
        """(u0, v0, u1, v1) of a box around the layer."""
        pad = 2 * self.half + 0.002
        return (
            min(self.u, self.u2) - pad,
            min(self.v, self.v2) - pad,
            max(self.u, self.u2) + pad,
            max(self.v, self.v2) + self.sag + pad,
        )


# distance m, across m, height m, width m, lean
POSTS = (
    (0.72, -0.40, 0.44, 0.030, 0.05),
    (1.35, 0.66, 0.56, 0.046, -0.06),
    (2.3, -0.52, 0.68, 0.055, 0.03),
    (3.9, 1.30, 0.78, 0.062, 0.05),
    (6.5, -0.42, 0.86, 0.070, -0.04),
    (11.0, 2.4, 0.92, 0.076, 0.02),
    (19.0, 0.6, 1.00, 0.085, -0.03),
)


def ground_row(distance: float, lens: float) -> float:
    """`v` of the ground at a distance, for a lens of `lens` widths focal length."""
    return HORIZON + lens * EYE / distance


def layers(lens: float) -> list[Layer]:
    """The things that stand up, far to near, for a lens whose focal length is `lens` widths of the picture."""
    found = []
    for number, (distance, across, height, width, lean) in enumerate(POSTS):
        k = lens / distance
        foot = ground_row(distance, lens)
        found.append(
            Layer(distance, 0, k * across, foot, k * (across + lean * height), foot - k * height, k * width / 2, 0.0, 40 + number)
        )
    by_distance = {p[0]: post for p, post in zip(POSTS, found, strict=True)}
    for near, far, thickness in ((2.3, 3.9, 0.006), (1.35, 2.3, 0.004)):
        a, b = by_distance[near], by_distance[far]
        found.append(
            Layer(
                (near * far) ** 0.5,
                1,
                a.u2,
                a.v2 + 0.06 * (a.v - a.v2),
                b.u2,
                b.v2 + 0.08 * (b.v - b.v2),
                lens / near * thickness / 2,
                0.02,
                90,
            )
        )
    return sorted(found, key=lambda layer: -layer.distance)


@njit(fastmath=True, cache=True)
def crust_height(x: float, z: float, smallest: float) -> float:
    """Height of the salt crust in metres at a place on the ground, without what is finer than `smallest`."""
    wx = x + 0.035 * fractal(x, z, 0.25, max(smallest, 0.05), 0.5, 3)
    wz = z + 0.035 * fractal(x, z, 0.25, max(smallest, 0.05), 0.5, 5)
    border, number = cells(wx / 0.34, wz / 0.34, 11)
    border *= 0.34
    rim = 0.016 * np.exp(-((border / 0.022) ** 2)) * smooth(0.006, 0.03, 0.02 / max(smallest, 1e-6) * 0.02)
    crack = 0.020 * np.exp(-((border / 0.0045) ** 2)) * smooth(0.4, 1.4, 0.009 / max(smallest, 1e-6))
    small, _ = cells(wx / 0.06 + 9.1, wz / 0.06, 23)
    scales = 0.0035 * smooth(0.0, 0.35, small) * smooth(0.5, 1.5, 0.03 / max(smallest, 1e-6))
    grain = 0.0065 * fractal(x, z, 0.05, smallest, 0.56, 31)
    return rim - crack + scales + grain + 0.006 * (number - 0.5) + 0.01 * fractal(x, z, 1.3, max(smallest, 0.5), 0.5, 17)


@njit(fastmath=True, cache=True)
def ground(u: float, v: float, lens: float, pixel: float, posts: np.ndarray, out: np.ndarray) -> None:
    """Radiance of the ground where (u, v) looks at it, into `out` (3,)."""
    z = lens * EYE / max(v - HORIZON, 1e-5)
    x = u * z / lens
    along = z * z * pixel / (lens * EYE)
    across = z * pixel / lens
    smallest = FINEST * max(across, 0.45 * along)
    step = max(0.5 * smallest, 0.0004)
    h = crust_height(x, z, smallest)
    slope_x = (crust_height(x + step, z, smallest) - h) / step
    slope_z = (crust_height(x, z + step, smallest) - h) / step
    norm = 1.0 / np.sqrt(1 + slope_x * slope_x + slope_z * slope_z)
    sun = max(0.0, (0.86 * slope_x + 0.30 * -slope_z + 0.34) * norm)
    sky = 0.5 + 0.5 * norm
    # the posts' shadows lie on the ground, drawn out to the right by the low sun
    lit = 1.0
    for i in range(posts.shape[0]):
        along_shadow = x - posts[i, 1]
        if 0.0 < along_shadow < 2.6 * posts[i, 2]:
            off = abs(z - posts[i, 0] - 0.35 * along_shadow) - posts[i, 3] * 0.55
            lit = min(lit, smooth(-0.002 - 0.03 * along_shadow - along, 0.002 + 0.03 * along_shadow + along, off))
    damp = smooth(-0.2, 0.7, fractal(x, z, 1.6, max(smallest, 0.02), 0.55, 71))
    dirt = smooth(0.1, 0.9, fractal(x, z, 0.11, smallest, 0.62, 83) - 60.0 * h)
    red = 0.74 - 0.20 * damp - 0.27 * dirt
    green = 0.70 - 0.20 * damp - 0.29 * dirt
    blue = 0.66 - 0.18 * damp - 0.32 * dirt
    sun *= lit
    haze = 1 - np.exp(-z / 900.0)
    out[0] = red * (1.25 * sun + 0.30 * sky) * (1 - haze) + haze * 0.66
    out[1] = green * (0.94 * sun + 0.34 * sky) * (1 - haze) + haze * 0.58
    out[2] = blue * (0.60 * sun + 0.43 * sky) * (1 - haze) + haze * 0.56


@njit(fastmath=True, cache=True)
def cone_top(u: float) -> float:
    """`v` of the skyline at `u`: the cone, its foot, low hills."""
    d = u - 0.11
    side = abs(d) - 0.035
    cone = 0.150 * np.exp(-max(side, 0.0) / 0.085) if side > 0 else 0.150 - 0.012 * np.cos(d / 0.035 * np.pi / 2)
    cone += 0.0022 * fractal(u, 0.0, 0.05, 0.0008, 0.5, 51)
    hills = 0.016 + 0.010 * fractal(u, 4.0, 0.22, 0.0008, 0.5, 57)
    return HORIZON - max(cone - 0.012, hills)


@njit(fastmath=True, cache=True)
def behind(u: float, v: float, pixel: float, out: np.ndarray) -> None:
    """Radiance above the horizon, into `out` (3,)."""
    up = HORIZON - v
    warm = np.exp(-up / 0.10) * (0.75 + 0.5 * smooth(0.6, -0.7, u))
    cloud = smooth(0.12, 0.85, fractal(u * 0.55, v * 2.6 + 0.3 * u, 0.16, FINEST * pixel, 0.54, 61) + 0.25 * (up - 0.1))
    sky_r = 0.20 + 0.62 * warm + cloud * (0.20 + 0.35 * warm)
    sky_g = 0.27 + 0.36 * warm + cloud * (0.11 + 0.16 * warm)
    sky_b = 0.42 + 0.14 * warm + cloud * (0.06 + 0.04 * warm)
    top = cone_top(u)
    cover = smooth(-0.6 * pixel, 0.6 * pixel, v - top)
    if cover > 0:
        d = u - 0.11
        down = max(v - top, 0.0)
        gully_u = d / (0.03 + 1.1 * max(v - (HORIZON - 0.15), 0.0))
        gully = fractal(gully_u, down * 2.0, 0.16, 6 * FINEST * pixel, 0.6, 41)
        gully_next = fractal(gully_u + 0.012, down * 2.0, 0.16, 6 * FINEST * pixel, 0.6, 41)
        scree = fractal(u, v, 0.012, FINEST * pixel, 0.62, 43)
        slope = 0.42 - 1.8 * smooth(-0.16, 0.16, d) + (gully - gully_next) * 5 + 0.32 * scree
        light = max(0.0, 0.55 + 0.5 * slope)
        bush = smooth(0.35, 0.75, fractal(u, v * 1.6, 0.006, FINEST * pixel, 0.7, 47) + 2.5 * (v - HORIZON + 0.01))
        red, green, blue = 0.30 + 0.06 * gully, 0.19 + 0.03 * gully, 0.16
        red, green, blue = red * (1 - 0.55 * bush), green * (1 - 0.4 * bush), blue * (1 - 0.5 * bush)
        haze = 0.30 + 0.30 * smooth(-0.05, 0.0, v - HORIZON)
        r = red * (1.1 * light + 0.22) * (1 - haze) + haze * 0.52
        g = green * (0.80 * light + 0.27) * (1 - haze) + haze * 0.44
        b = blue * (0.52 * light + 0.38) * (1 - haze) + haze * 0.46
        sky_r, sky_g, sky_b = sky_r + (r - sky_r) * cover, sky_g + (g - sky_g) * cover, sky_b + (b - sky_b) * cover
    out[0], out[1], out[2] = sky_r, sky_g, sky_b


@njit(fastmath=True, cache=True, nogil=True)
def _backdrop(grid: np.ndarray, lens: float, pixel: float, posts: np.ndarray, first: int, last: int, light: np.ndarray, distance: np.ndarray) -> None:
    a = np.empty(3)
    b = np.empty(3)
    for row in range(first, last):
        for col in range(light.shape[1]):
            w = grid[2, 0] * col + grid[2, 1] * row + grid[2, 2]
            u = (grid[0, 0] * col + grid[0, 1] * row + grid[0, 2]) / w
            v = (grid[1, 0] * col + grid[1, 1] * row + grid[1, 2]) / w
            land = smooth(-0.7 * pixel, 0.7 * pixel, v - HORIZON)
            a[:] = 0
            b[:] = 0
            if land > 0:
                ground(u, v, lens, pixel, posts, a)
            if land < 1:
                behind(u, v, pixel, b)
            for c in range(3):
                light[row, col, c] = a[c] * land + b[c] * (1 - land)
            distance[row, col] = min(FAR, lens * EYE / max(v - HORIZON, 1e-9))


@njit(fastmath=True, cache=True, nogil=True)
def _layer(grid: np.ndarray, box: np.ndarray, pixel: float, kind: int, shape: np.ndarray, seed: int) -> tuple[np.ndarray, np.ndarray]:
    x0, y0, width, height = box
    light = np.zeros((height, width, 3), np.float32)
    cover = np.zeros((height, width), np.float32)
    fu, fv, tu, tv, half, sag = shape
    length = np.sqrt((tu - fu) ** 2 + (tv - fv) ** 2)
    ax, ay = (tu - fu) / length, (tv - fv) / length
    for j in range(height):
        for i in range(width):
            col, row = i + x0, j + y0
            w = grid[2, 0] * col + grid[2, 1] * row + grid[2, 2]
            u = (grid[0, 0] * col + grid[0, 1] * row + grid[0, 2]) / w
            v = (grid[1, 0] * col + grid[1, 1] * row + grid[1, 2]) / w
            if kind == 1:
                t = (u - fu) / (tu - fu)
                if t < 0 or t > 1:
                    continue
                middle = fv + (tv - fv) * t + sag * 4 * t * (1 - t)
                side = (v - middle) / half
                cover[j, i] = smooth(0.5 * pixel, -0.5 * pixel, abs(v - middle) - half)
                twist = 0.5 + 0.5 * np.sin((u * 0.9 + v * 0.5) / (1.6 * half))
                shade = (0.35 + 0.5 * twist) * (1 - 0.5 * side)
                light[j, i, 0], light[j, i, 1], light[j, i, 2] = 0.50 * shade, 0.40 * shade, 0.30 * shade
                continue
            t = (u - fu) * ax + (v - fv) * ay
            s = -(u - fu) * ay + (v - fv) * ax
            here = half * (1 - 0.16 * t / length)
            unit = half * 2
            edge = abs(s) - here * (1 + 0.05 * value(t / unit * 0.7, 3.0 * np.sign(s), seed) + 0.03 * value(t / unit * 5, np.sign(s), seed))
            crown = t - length * (1 - 0.012 * (1 + value(s / half * 2, 0.3, seed)))
            outside = max(edge, crown, -t - 0.3 * half)
            c = smooth(0.55 * pixel, -0.55 * pixel, outside)
            if c <= 0:
                continue
            cover[j, i] = c
            q = min(max(s / here, -1.0), 1.0)
            fine = FINEST * pixel / unit
            grain = fractal(s / unit * 7 + 0.6 * value(t / unit * 0.8, s / unit, seed), t / unit * 0.35, 1.0, fine * 7, 0.68, seed)
            split = smooth(0.42, 0.7, fractal(s / unit * 5, t / unit * 0.16, 0.8, fine * 5, 0.5, seed + 3))
            pits = smooth(0.3, 0.9, fractal(s / unit, t / unit, 0.12, fine, 0.62, seed + 5))
            lamp = np.sqrt(1 - q * q) * 0.5 - q * 0.72
            sun = max(0.0, lamp + 0.22 * grain)
            wood = (0.46 + 0.16 * grain) * (1 - 0.75 * split) * (1 - 0.35 * pits)
            band = smooth(-0.01, 0.01, t / length - 0.80) * smooth(0.01, -0.01, t / length - 0.90)
            paint = band * smooth(-0.5, 0.1, value(s / unit * 6, t / unit * 6, seed + 9) + 0.3 - 1.2 * split)
            r, g, b = wood * 1.02, wood * 0.92, wood * 0.80
            r, g, b = r + (0.55 - r) * paint, g + (0.12 - g) * paint, b + (0.07 - b) * paint
            contact = 0.55 + 0.45 * smooth(0.0, 1.5 * unit, t)
            light[j, i, 0] = r * (1.35 * sun + 0.24 * contact)
            light[j, i, 1] = g * (1.00 * sun + 0.28 * contact)
            light[j, i, 2] = b * (0.64 * sun + 0.36 * contact)
    return light, cover


def backdrop(grid: np.ndarray, height: int, width: int, lens: float, pixel: float) -> tuple[FloatArray, FloatArray]:
    """Radiance (height, width, 3) and distance in metres (height, width) of ground, cone and sky.

    `grid` (3, 3) takes (column, row, 1) to plane coordinates (u, v); `pixel` is the width of a pixel there.
    """
    posts = np.array([p[:4] for p in POSTS], dtype=np.float64)
    light, distance = np.empty((height, width, 3), np.float32), np.empty((height, width), np.float32)
    by_rows(lambda a, b: _backdrop(grid, lens, pixel, posts, a, b, light, distance), height, width)
    return light, distance


def draw_layer(layer: Layer, grid: np.ndarray, box: tuple[int, int, int, int], pixel: float) -> tuple[FloatArray, FloatArray]:
    """Radiance (h, w, 3), not multiplied by coverage, and coverage (h, w) of a layer in the pixel box (x, y, w, h)."""
    shape = np.array([layer.u, layer.v, layer.u2, layer.v2, layer.half, layer.sag])
    light, cover = _layer(np.asarray(grid, np.float64), np.array(box), pixel, layer.kind, shape, layer.seed)
    return light, cover


