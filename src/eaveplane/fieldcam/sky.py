"""The sky above a landscape: its gradient, the glow around the sun, one layer of cloud, the sun's disc."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from ..imaging.colour import FloatArray
from ..imaging.rows import by_rows
from .ground import Light, View
from .noise import fractal, smooth
from .things import Sheet


@dataclass(frozen=True)
class Sky:
    """Radiances at the zenith, at the horizon, of the glow about the sun, of lit and unlit cloud; how far up the
    horizon's colour reaches (sine); how much cloud, its size and how it is drawn out sideways; the sun's disc."""

    zenith: tuple[float, float, float]
    low: tuple[float, float, float]
    glow: tuple[float, float, float]
    lit: tuple[float, float, float]
    dark: tuple[float, float, float]
    reach: float = 0.16
    cover: float = 0.2
    cell: float = 2.4
    drawn_out: float = 2.0
    disc: float = 0.0
    seed: int = 61


@njit(cache=True, nogil=True, fastmath=True)
def _sky(grid: np.ndarray, sun: np.ndarray, p: np.ndarray, first: int, last: int, out: np.ndarray) -> None:
    left, top, step, lens, horizon = grid
    reach, cover, cell, drawn_out, disc, seed_number = p[15:21]
    seed = int(seed_number)
    for r in range(first, last):
        for c in range(out.shape[1]):
            dx, dy = (left + step * c) / lens, -(top + step * r - horizon) / lens
            n = np.sqrt(dx * dx + dy * dy + 1)
            up = max(dy / n, 0.0)
            towards = (dx * sun[0] + dy * sun[1] + sun[2]) / n
            low = np.exp(-up / reach)
            glow = np.exp(-(1 - towards) / 0.14) * 0.35 + np.exp(-(1 - towards) / 0.012) * 0.8 + np.exp(-(1 - towards) / 0.0007) * 2.5
            flat = up + 0.035
            px, pz = dx / n / flat, 1.0 / n / flat
            small = 3.0 * step / lens / flat / flat
            wx, wz = px / drawn_out, pz
            bend = fractal(wx, wz, 3.0 * cell, max(small, 0.8), 0.5, seed + 40)
            d = fractal(wx + 0.5 * bend, wz, cell, small, 0.56, seed)
            nearer = fractal(wx + 0.5 * bend + 0.22 * sun[0], wz + 0.22 * sun[2], cell, max(small, 0.1), 0.56, seed)
            thick = smooth(0.55 - cover, 1.25 - cover, d + 0.3 * bend) * smooth(0.0, 0.09, up)
            bright = min(max(0.5 + 1.1 * (d - nearer), 0.0), 1.0)
            veil = 1 - thick * 0.75
            for b in range(3):
                clear = p[b] + (p[3 + b] - p[b]) * low + p[6 + b] * glow
                cloud = p[12 + b] + (p[9 + b] - p[12 + b]) * bright
                cloud = cloud * (1 - 0.55 * low) + 0.55 * low * clear + 0.6 * p[6 + b] * glow
                out[r, c, b] = clear + (cloud - clear) * thick
                if disc > 0:
                    # 0.27 degrees in radius, its rim softened by air
                    edge = smooth(1.0 - 1.30e-5, 1.0 - 0.95e-5, towards)
                    out[r, c, b] += disc * edge * veil * (1.0 if b == 0 else (0.66 if b == 1 else 0.30))
            out[r, c, 3] = 1.0


def draw_sky(view: View, horizon: float, light: Light, sky: Sky) -> FloatArray:
    """Radiance (h, w, 4) of the sky; the fourth is coverage, 1."""
    p = np.array([*sky.zenith, *sky.low, *sky.glow, *sky.lit, *sky.dark, sky.reach, sky.cover, sky.cell, sky.drawn_out, sky.disc, float(sky.seed)])
    grid = np.array([view.left, view.top, view.step, view.lens, horizon])
    out = np.empty((view.height, view.width, 4), np.float32)
    by_rows(lambda a, b: _sky(grid, light.packed()[:3], p, a, b, out), view.height, view.width)
    return out


def against_sky(land: tuple[FloatArray, FloatArray], sky: FloatArray) -> Sheet:
    """The farthest sheet: land with the sky behind it, opaque everywhere."""
    light, dioptres = land
    dioptres[light[..., 3] < 0.5] = 0
    sky *= 1 - light[..., 3:]
    sky += light
    return Sheet(0, 0, sky, dioptres)
