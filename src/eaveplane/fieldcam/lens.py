"""The lens: how large a blur disc is and of what shape, breathing, field curvature, fringes, falloff, diffraction."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import TypedDict

import cv2
import numpy as np
from numba import njit

from ..imaging.colour import FloatArray
from ..imaging.rows import by_rows
from ..optics.thinlens import AIRY_SIGMA, WAVELENGTH_MM

TILE = 96
SPANS = 128
"""Rows of the table that holds a disc's outline."""
REACH = 1.32
"""How far the outline of a disc of radius 1 may lie from its middle: a pentagon's corner."""
SHARP = 0.3
"""Radius in pixels below which a disc is not told from a point."""
ONE, TWO, THREE, FOUR, FIVE, SIX, SEVEN = (np.uint64(n) for n in range(1, 8))
STEPS, BINS = 24, 512
"""Discs are made for radii this many to a pixel; so many are kept at a time."""
CORE = 0.8
"""Size of the inner disc whose light a rim takes or gives."""


class Profile(TypedDict):
    """What takes falloff and fringes away, in the terms of DNG's opcodes FixVignetteRadial and WarpRectilinear."""

    centre: list[float]
    vignette: list[float]
    warp: list[list[float]]


@dataclass(frozen=True)
class Lens:
    """`sensor_mm` is the sensor's long side. `breathing` is the growth of the picture from infinity to `near_m`.

    `curvature`: dioptres by which the corners focus nearer than the middle. `blades`: 0 for a round aperture, else 5
    to 9. `cats_eye`: how far discs are cut towards the corners, 0 to 1. `rim`: how much brighter (above 0) or darker
    a disc's rim is than its middle. `fringe_red` and `fringe_blue`: how much larger red and blue are drawn at the
    corner than green. `falloff_ev`: light lost at the corner. `soft_px`: what the glass and the filter on the sensor
    spread even in focus, as a standard deviation.
    """

    focal_mm: float = 24.0
    f_number: float = 5.6
    sensor_mm: float = 36.0
    breathing: float = 0.02
    near_m: float = 0.6
    curvature: float = 0.0
    blades: int = 0
    cats_eye: float = 0.0
    rim: float = 0.0
    fringe_red: float = 0.0
    fringe_blue: float = 0.0
    falloff_ev: float = 0.0
    soft_px: float = 0.5

    def radius_per_dioptre(self, focus: float, long_side: int) -> float:
        """Radius in pixels of the blur disc for each dioptre off focus; `focus` in dioptres."""
        f = self.focal_mm / 1000
        return 0.5 * 1000 * (f / self.f_number) * (f / (1 - f * focus)) / self.sensor_mm * long_side

    def magnification(self, focus: float) -> float:
        """Size of the picture against that at infinity; `focus` in dioptres."""
        return 1 + self.breathing * self.near_m * focus

    def falloff(self) -> tuple[float, float]:
        """(k0, k1) of the gain 1 + k0 r² + k1 r⁴ that takes falloff away; r is 1 at the corner."""
        most: float = 2.0**self.falloff_ev - 1
        return 0.6 * most, 0.4 * most

    def softness(self, long_side: int) -> float:
        """Standard deviation in pixels of what diffraction and the glass spread in focus."""
        airy = AIRY_SIGMA * WAVELENGTH_MM * self.f_number / self.sensor_mm * long_side
        return math.hypot(self.soft_px, airy)

    def profile(self) -> Profile:
        k0, k1 = self.falloff()
        planes = [[1.0, a, 0.0, 0.0, 0.0, 0.0] for a in (self.fringe_red, 0.0, self.fringe_blue)]
        return {"centre": [0.5, 0.5], "vignette": [k0, k1, 0.0, 0.0, 0.0], "warp": planes}


@njit(cache=True, nogil=True)
def outline(blades: int, cut: float, along_x: float, along_y: float, turned: bool, low: np.ndarray, high: np.ndarray) -> float:
    """Where rows of a disc of unit area (of π) begin and end: `low`, `high` (SPANS) for heights -REACH..REACH.

    `cut` is how far, in radii, the barrel's edge has moved in along (along_x, along_y), a unit vector; `turned`
    gives the disc of what lies on the other side of focus. Returns how far up or down it reaches.
    """
    tall = 0.0
    flip = -1.0 if turned else 1.0
    n = float(blades)
    if blades:
        corner = np.sqrt(2 * np.pi / (n * np.sin(2 * np.pi / n)))
        apothem = corner * np.cos(np.pi / n)
    for k in range(len(low)):
        y = REACH * (2 * (k + 0.5) / len(low) - 1)
        if blades:
            a, b = -2.0, 2.0
            for i in range(blades):
                turn = 2 * np.pi * i / n + 0.31
                nx, ny = flip * np.cos(turn), flip * np.sin(turn)
                rest = apothem - ny * y
                if abs(nx) < 1e-9:
                    if rest < 0:
                        b = a
                elif nx > 0:
                    b = min(b, rest / nx)
                else:
                    a = max(a, rest / nx)
        else:
            half = np.sqrt(max(1 - y * y, 0.0))
            a, b = -half, half
        if cut > 0:
            # the barrel is a circle a little wider than the aperture
            cx, cy = flip * cut * along_x, flip * cut * along_y
            inside = 1.12 * 1.12 - (y - cy) ** 2
            if inside <= 0:
                b = a
            else:
                half = np.sqrt(inside)
                a, b = max(a, cx - half), min(b, cx + half)
        low[k], high[k] = a, max(a, b)
        if b > a:
            tall = max(tall, abs(y) + REACH / len(low))
    return tall


@njit(cache=True, nogil=True, fastmath=True)
def _spans(radius: float, tall: float, low: np.ndarray, high: np.ndarray, pitch: int, spans: np.ndarray, ends: np.ndarray) -> tuple[int, float]:
    """The rows of a disc: into `spans` (n, 2) where they begin and end, as steps off its middle in running sums with
    rows of `pitch`; into `ends` (n, 2) the parts of a pixel left over. How many, and the disc's area in pixels."""
    fine = 4 if radius < 1.5 else (2 if radius < 4 else 1)
    first = int(np.ceil(-radius * tall * fine - 0.5))
    # where there are several rows a pixel they lie about its middle
    half = 0.0 if fine == 1 else 0.5
    count, area = 0, 0.0
    for s in range(first, -first + 1):
        dy = (s + half) / fine
        k = int((dy / radius / REACH + 1) * 0.5 * len(low))
        if k < 0 or k >= len(low):
            continue
        a, b = 0.5 + radius * low[k], 0.5 + radius * high[k]
        if b <= a:
            continue
        ia, ib = int(np.floor(a)), int(np.floor(b))
        row = int(np.floor(dy + 0.5)) * pitch
        spans[count, 0], spans[count, 1] = row + 8 * ia, row + 8 * ib
        ends[count, 0], ends[count, 1] = a - ia, b - ib
        area += b - a
        count += 1
    return count, area / fine


# sums stay in order: in any other they would be made with gathers, four times slower
@njit(cache=True, nogil=True, fastmath={"contract"})
def _defocus(
    wide: np.ndarray, off: np.ndarray, pad: int, x0: int, y0: int, middle: np.ndarray, per_dioptre: float, curvature: float, blades: int, cats_eye: float, rim: float, out: np.ndarray
) -> None:
    """Blur `wide` (h + 2 pad, w + 2 pad, 4) into `out` (h, w, 4); `off` (h, w) is focus minus place in dioptres.

    Light under a disc is summed row by row from running sums, so its cost grows with its height, not its area.
    """
    height, width = out.shape[:2]
    low, high = np.empty(SPANS), np.empty(SPANS)
    radii = np.empty((TILE, TILE), np.float32)
    # with a rim, each disc is followed by the core that is taken from it
    layers = 2 if rim != 0 else 1
    longest = 4 * pad + 40
    spans = np.empty((BINS * layers, longest, 2), np.int64)
    ends = np.empty((BINS * layers, longest, 2), np.float32)
    counts, shares = np.zeros(BINS * layers, np.int64), np.zeros(BINS * layers, np.float32)
    made = np.empty(BINS, np.int64)
    for ty in range(0, height, TILE):
        for tx in range(0, width, TILE):
            th, tw = min(TILE, height - ty), min(TILE, width - tx)
            most, sign = 0.0, 0.0
            for j in range(th):
                for i in range(tw):
                    fx, fy = x0 + tx + i - middle[0], y0 + ty + j - middle[1]
                    signed = off[ty + j, tx + i] + curvature * (fx * fx + fy * fy) / (middle[2] * middle[2])
                    sign += signed
                    radii[j, i] = min(per_dioptre * abs(signed), (pad - 2) / REACH)
                    most = max(most, radii[j, i])
            if most < SHARP:
                out[ty : ty + th, tx : tx + tw] = wide[ty + pad : ty + pad + th, tx + pad : tx + pad + tw]
                continue
            reach = int(np.ceil(most * REACH)) + 1
            bare = True
            for j in range(ty + pad - reach, ty + pad + th + reach):
                for i in range(tx + pad - reach, tx + pad + tw + reach):
                    if wide[j, i, 3] > 0:
                        bare = False
                        break
                if not bare:
                    break
            if bare:
                out[ty : ty + th, tx : tx + tw] = np.float32(0)
                continue
            tile = wide[ty + pad - reach : ty + pad + th + reach, tx + pad - reach : tx + pad + tw + reach]
            # side by side at each pixel: the sum of what is left of it in its row, and its own light
            sums = np.zeros((tile.shape[0], tile.shape[1] + 1, 8), np.float32)
            pitch, flat = 8 * (tile.shape[1] + 1), sums.reshape(-1)
            covered = np.zeros((tile.shape[0] + 1, tile.shape[1] + 1), np.int32)
            for j in range(tile.shape[0]):
                for i in range(tile.shape[1]):
                    for c in range(4):
                        sums[j, i, 4 + c] = tile[j, i, c]
                        sums[j, i + 1, c] = sums[j, i, c] + tile[j, i, c]
                    covered[j + 1, i + 1] = covered[j, i + 1] + covered[j + 1, i] - covered[j, i] + (tile[j, i, 3] > 0)
            cx, cy = x0 + tx + 0.5 * tw - middle[0], y0 + ty + 0.5 * th - middle[1]
            away = np.sqrt(cx * cx + cy * cy) + 1e-9
            tall = outline(blades, cats_eye * away / middle[2], -cx / away, -cy / away, sign < 0, low, high)
            made[:] = -1
            for j in range(th):
                for i in range(tw):
                    r = radii[j, i]
                    y, x = j + reach, i + reach
                    if r < SHARP:
                        for c in range(4):
                            out[ty + j, tx + i, c] = tile[y, x, c]
                        continue
                    n = int(r * tall) + 2
                    below, right, above, left = min(y + n + 1, tile.shape[0]), min(x + n + 1, tile.shape[1]), max(y - n, 0), max(x - n, 0)
                    if covered[below, right] - covered[above, right] - covered[below, left] + covered[above, left] == 0:
                        for c in range(4):
                            out[ty + j, tx + i, c] = 0
                        continue
                    number = int(r * STEPS + 0.5)
                    slot = number % BINS
                    if made[slot] != number:
                        made[slot] = number
                        size = number / STEPS
                        counts[slot * layers], area = _spans(size, tall, low, high, pitch, spans[slot * layers], ends[slot * layers])
                        fine = 4 if size < 1.5 else (2 if size < 4 else 1)
                        if layers == 2:
                            inner = CORE * size
                            counts[slot * 2 + 1], core = _spans(inner, tall, low, high, pitch, spans[slot * 2 + 1], ends[slot * 2 + 1])
                            area -= rim * core
                            shares[slot * 2 + 1] = -rim / area / (4 if inner < 1.5 else (2 if inner < 4 else 1))
                        shares[slot * layers] = 1 / area / fine
                    middle_at = y * pitch + 8 * x
                    o0, o1, o2, o3 = np.float32(0), np.float32(0), np.float32(0), np.float32(0)
                    for layer in range(slot * layers, slot * layers + layers):
                        s0, s1, s2, s3 = np.float32(0), np.float32(0), np.float32(0), np.float32(0)
                        for k in range(counts[layer]):
                            # unsigned, so that no index is looked at for counting from the end
                            a, b = np.uint64(middle_at + spans[layer, k, 0]), np.uint64(middle_at + spans[layer, k, 1])
                            fa, fb = ends[layer, k, 0], ends[layer, k, 1]
                            s0 += flat[b] - flat[a] + fb * flat[b + FOUR] - fa * flat[a + FOUR]
                            s1 += flat[b + ONE] - flat[a + ONE] + fb * flat[b + FIVE] - fa * flat[a + FIVE]
                            s2 += flat[b + TWO] - flat[a + TWO] + fb * flat[b + SIX] - fa * flat[a + SIX]
                            s3 += flat[b + THREE] - flat[a + THREE] + fb * flat[b + SEVEN] - fa * flat[a + SEVEN]
                        share = shares[layer]
                        o0, o1, o2, o3 = o0 + share * s0, o1 + share * s1, o2 + share * s2, o3 + share * s3
                    out[ty + j, tx + i, 0], out[ty + j, tx + i, 1], out[ty + j, tx + i, 2], out[ty + j, tx + i, 3] = o0, o1, o2, o3


def defocus(
    lens: Lens, focus: float, wide: FloatArray, dioptres: FloatArray, pad: int, place: tuple[int, int], size: tuple[int, int]
) -> FloatArray:
    """Light premultiplied with coverage (h, w, 4) as the lens, focused at `focus` dioptres, draws it.

    `wide` (h + 2 pad, w + 2 pad, 4) is what it would be in focus, with `pad` pixels around, and `dioptres` (h, w)
    where each pixel lies; the piece begins at pixel `place` (x, y) of a frame of `size` (w, h).
    """
    w, h = size
    middle = np.array([(w - 1) / 2, (h - 1) / 2, math.hypot(w, h) / 2])
    out = np.empty((*dioptres.shape, 4), np.float32)
    _defocus(wide, np.float32(focus) - dioptres, pad, *place, middle, lens.radius_per_dioptre(focus, max(size)), lens.curvature, lens.blades, lens.cats_eye, lens.rim, out)
    return out


def draw_fringes(light: FloatArray, lens: Lens) -> None:
    """Draw red and blue of (h, w, 3) larger or smaller than green, in place."""
    height, width = light.shape[:2]
    half = math.hypot(width, height) / 2
    for channel, k in ((0, lens.fringe_red), (2, lens.fringe_blue)):
        if not k:
            continue
        source = np.ascontiguousarray(light[..., channel])
        x = (np.arange(width, dtype=np.float32) - (width - 1) / 2) / half

        def rows(a: int, b: int, k: float = k, source: FloatArray = source, channel: int = channel, x: FloatArray = x) -> None:
            y = ((np.arange(a, b, dtype=np.float32) - (height - 1) / 2) / half)[:, None]
            # a pixel at s shows what belongs at d, where s = d (1 + k d²)
            squared = x * x + y * y
            shrink = np.ones_like(squared)
            for _ in range(4):
                shrink = 1 / (1 + k * squared * shrink * shrink)
            at_x = (x * shrink * half + (width - 1) / 2).astype(np.float32)
            at_y = (y * shrink * half + (height - 1) / 2).astype(np.float32)
            light[a:b, :, channel] = cv2.remap(source, at_x, at_y, cv2.INTER_LANCZOS4, borderMode=cv2.BORDER_REPLICATE)

        by_rows(rows, height, width)


def draw_falloff(light: FloatArray, lens: Lens) -> None:
    """Darken (h, w, 3) towards the corners, in place."""
    k0, k1 = lens.falloff()
    if not k0:
        return
    height, width = light.shape[:2]
    half2 = (width**2 + height**2) / 4
    x2 = ((np.arange(width) - (width - 1) / 2) ** 2 / half2).astype(np.float32)

    def rows(a: int, b: int) -> None:
        r2 = x2 + (((np.arange(a, b) - (height - 1) / 2) ** 2) / half2).astype(np.float32)[:, None]
        light[a:b] /= (1 + r2 * (k0 + k1 * r2))[..., None]

    by_rows(rows, height, width)


def disc_of(lens: Lens, radius: float, offset: tuple[float, float] = (0.0, 0.0), behind: bool = False) -> FloatArray:
    """The blur disc of `radius` pixels as a kernel that sums to one, at `offset` from the middle in half diagonals."""
    reach = math.ceil(radius * REACH) + 1
    size, pad = 2 * reach + 1, reach + 2
    point = np.zeros((size + 2 * pad, size + 2 * pad, 4), np.float32)
    point[pad + reach, pad + reach] = 1
    out = np.empty((size, size, 4), np.float32)
    half = 1e4
    middle = np.array([0.5 * size - offset[0] * half, 0.5 * size - offset[1] * half, half])
    _defocus(point, np.full((size, size), -radius if behind else radius, np.float32), pad, 0, 0, middle, 1.0, 0.0, lens.blades, lens.cats_eye, lens.rim, out)
    return np.asarray(out[..., 0] / out[..., 0].sum(), np.float32)
