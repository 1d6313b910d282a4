"""Lateral chromatic aberration, measured from a frame itself: how much larger red and blue are drawn than green.

In patches with texture the shift between two channels along the radius is found by least squares on gradients
(Lucas and Kanade 1981); all patches together give one radial polynomial a channel.
"""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from ....imaging.colour import FloatArray
from ....imaging.pyramid import Box

PATCH = 64
MOST_PATCHES = 400
LEAST_PATCHES = 12
BLUR = 3.0
"""Pixels: finer detail of red and blue is made from green by demosaicing and lies where green does."""
CLEAR = 8.0
"""Texture of a patch against that of the quietest tenth."""
MOST_SHIFT = 4.0
"""Pixels; what seems to have moved more is something else."""
Scale = tuple[float, float]


def measure_fringes(read: Callable[[Box], FloatArray], size: tuple[int, int]) -> tuple[Scale, Scale]:
    """(k0, k1) for red and for blue: what green draws at radius r they draw at r (1 + k0 + k1 r²), r being 1 in the corners.

    `read` gives linear light (h, w, 3) of a box. Zero where too little texture can be compared.
    """
    width, height = size
    half = float(np.hypot(width, height)) / 2
    step = max(PATCH, int(np.sqrt(width * height / (2.5 * MOST_PATCHES))))
    places = [(x, y) for y in range(2, height - PATCH - 2, step) for x in range(2, width - PATCH - 2, step)]
    patches: list[tuple[float, float, NDArray[np.float64], FloatArray]] = []
    for x, y in places:
        light = read((x, y, PATCH, PATCH))
        if light.max() > 0.95 or light[..., 1].mean() < 0.004:
            continue
        across = np.array([x + PATCH / 2 - width / 2, y + PATCH / 2 - height / 2])
        radius = float(np.linalg.norm(across))
        if radius < 0.12 * half:
            continue
        blurred = np.asarray(cv2.GaussianBlur(np.sqrt(np.maximum(light, 0)).astype(np.float32), (0, 0), BLUR))
        flat = blurred - np.asarray(cv2.GaussianBlur(blurred, (0, 0), 4 * BLUR))
        gy, gx = np.gradient(flat[..., 1])
        along = (gx * across[0] + gy * across[1]) / radius
        patches.append((float((along[4:-4, 4:-4] ** 2).sum()), radius / half, across / radius, flat))
    if not patches:
        return (0.0, 0.0), (0.0, 0.0)
    # patches whose gradient is little more than noise tell nothing
    patches.sort(key=lambda p: -p[0])
    least = CLEAR * float(np.quantile([p[0] for p in patches], 0.1))
    clear = sum(p[0] > least for p in patches)
    patches = patches[: max(LEAST_PATCHES, len(patches) // 10, min(MOST_PATCHES, clear))]
    return _fitted(patches, 0, half), _fitted(patches, 2, half)


def _fitted(patches: list[tuple[float, float, NDArray[np.float64], FloatArray]], channel: int, half: float) -> Scale:
    """Robust fit of the shifts of a channel over the radius, in two rounds: the second on patches moved by the first."""
    if len(patches) < LEAST_PATCHES:
        return 0.0, 0.0
    total = np.zeros(2)
    for _ in range(3):
        radii, shifts, weights, ways = [], [], [], []
        for _, radius, way, flat in patches:
            moved = radius * half * (total[0] + total[1] * radius**2)
            shift = np.array([[1, 0, moved * way[0]], [0, 1, moved * way[1]]])
            other = np.asarray(cv2.warpAffine(flat[..., channel], shift, (PATCH, PATCH), flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP, borderMode=cv2.BORDER_REFLECT))[8:-8, 8:-8].ravel()
            gy, gx = np.gradient(flat[..., 1])
            along = (gx * way[0] + gy * way[1])[8:-8, 8:-8].ravel()
            green = flat[8:-8, 8:-8, 1].ravel()
            # other = a (green - d along), so that d is how far outside of green it lies
            terms = np.stack([green, -along], axis=1).astype(np.float64)
            normal = terms.T @ terms
            if np.linalg.cond(normal) > 1e6:
                continue
            a, ad = np.linalg.solve(normal, terms.T @ other)
            if a < 0.2 or abs(ad / a) > MOST_SHIFT:
                continue
            rest = other - terms @ (a, ad)
            radii.append(radius)
            ways.append(way)
            shifts.append(ad / a)
            weights.append(a * a * normal[1, 1] / max(float((rest * rest).mean()), 1e-12))
        if len(radii) < LEAST_PATCHES:
            return 0.0, 0.0
        r, d, w = np.array(radii), np.array(shifts), np.sqrt(np.array(weights))
        # a shift of the whole channel is fitted beside, so that a lens not quite centred does not pass for a scale
        terms = np.column_stack([r * half, r**3 * half, np.array(ways)])
        k, sure = np.zeros(4), np.ones(len(r))
        # the cubic term is held back: without patches far out it is not known
        hold = np.diag([0.0, 1e-3 * float((w * w * terms[:, 1] ** 2).sum()), 0.0, 0.0])
        for _ in range(8):
            weight = (w * sure) ** 2
            k = np.linalg.solve(terms.T @ (weight[:, None] * terms) + hold, terms.T @ (weight * d))
            off = d - terms @ k
            sure = 1 / (1 + (off / max(0.05, 1.5 * float(np.median(np.abs(off))))) ** 2)
        total = total + k[:2]
    return float(total[0]), float(total[1])
