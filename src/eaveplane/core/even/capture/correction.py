"""Capture corrections on pixels, each from what was set and what was measured in the frame."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import cv2
import numpy as np

from ....imaging.colour import LUMA, FloatArray
from ....imaging.lensdata import LensData, Radial
from ....imaging.light import root_of
from ....imaging.pyramid import Box
from .fringes import Scale
from .noise import REACH, denoised
from .settings import Capture

STRAIGHT: Radial = (1.0, 0.0, 0.0, 0.0)
UNMOVED: Scale = (0.0, 0.0)
AROUND = 6
"""Pixels that resampling and sharpening need around a box."""


@dataclass(frozen=True)
class Measured:
    """What a frame itself tells: scales of red and blue against green, and noise (3, SCALES) as nested lists."""

    red: Scale
    blue: Scale
    noise: list[list[float]]


@dataclass(frozen=True)
class Correction:
    """All that a frame's capture corrections need: radial polynomials of the channels and of the gain, noise, settings."""

    capture: Capture
    radials: tuple[Radial, Radial, Radial]
    gain: tuple[float, ...]
    noise: list[list[float]]

    @property
    def peak(self) -> float:
        """What the brightest light may become."""
        return float(max(1.0, *(_gain(self.gain, np.linspace(0, 1, 50) ** 2))))


def correction(capture: Capture, measured: Measured, lens: LensData | None, size: tuple[int, int]) -> Correction:
    """What the settings come to for a frame of a size (w, h); where the lens is not known, its part is left out."""
    green = lens.green if lens and capture.distortion else STRAIGHT
    red = blue = (1.0, 0.0)
    half = float(np.hypot(*size)) / 2
    if capture.fringes == "measured":
        red, blue = (1 + measured.red[0], measured.red[1]), (1 + measured.blue[0], measured.blue[1])
    elif capture.fringes == "hand":
        # in the corners, and there in full: fringes grow with the third power of the radius
        red, blue = (1.0, capture.fringe_red / half), (1.0, capture.fringe_blue / half)
    radials = tuple(_times(scale, green) for scale in (red, (1.0, 0.0), blue))
    if capture.fringes == "lens" and lens:
        # only what red and blue differ from green by, unless distortion is taken away as well
        radials = (lens.red, lens.green, lens.blue) if capture.distortion else tuple(_over(k, lens.green) for k in (lens.red, lens.green, lens.blue))
    gain: tuple[float, ...] = ()
    if capture.vignetting == "lens" and lens:
        gain = lens.gain
    elif capture.vignetting == "hand":
        gain = (2.0**capture.falloff - 1,)
    return Correction(capture, (radials[0], radials[1], radials[2]), gain, measured.noise)


def _times(scale: Scale, radial: Radial) -> Radial:
    """The polynomial of a radius that is scaled by a + b r² after another; terms beyond r⁶ are left out."""
    a, b = scale
    k = radial
    return (a * k[0], a * k[1] + b * k[0] ** 3, a * k[2] + 3 * b * k[0] ** 2 * k[1], a * k[3] + 3 * b * (k[0] ** 2 * k[2] + k[0] * k[1] ** 2))


def _over(radial: Radial, green: Radial) -> Radial:
    """What lies at one radius for green lies at this for another channel: their ratio as a polynomial, to first order."""
    k = [a - g for a, g in zip(radial, green, strict=True)]
    return (1 + k[0], k[1], k[2], k[3])


def _gain(gain: tuple[float, ...], squared: FloatArray) -> FloatArray:
    total = np.zeros_like(squared)
    for g in reversed(gain):
        total = (total + g) * squared
    return 1 + total


def _radius(size: tuple[int, int], level: int, box: Box) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Offsets (1, w) and (h, 1) from the middle in pixels of a level, and squared radius (h, w), 1 in the corners."""
    x, y, w, h = box
    unit = 1 << level
    across = (np.arange(x, x + w, dtype=np.float32) + 0.5 - size[0] / 2 / unit)[None, :]
    down = (np.arange(y, y + h, dtype=np.float32) + 0.5 - size[1] / 2 / unit)[:, None]
    half = (size[0] ** 2 + size[1] ** 2) / 4 / unit**2
    return across, down, ((across**2 + down**2) / half).astype(np.float32)


def _scale(radial: Radial, squared: FloatArray) -> FloatArray:
    k0, k1, k2, k3 = (np.float32(k) for k in radial)
    return k0 + squared * (k1 + squared * (k2 + squared * k3))


def corrected(read: Callable[[Box], FloatArray], correcting: Correction, size: tuple[int, int], level: int, box: Box) -> FloatArray:
    """Linear light (h, w, 3) of a box at a level, corrected; `read` gives it uncorrected for any box of that level.

    Noise and sharpening are those of the full size: at smaller ones they would not be seen.
    """
    capture = correcting.capture
    width, height = -(-size[0] >> level), -(-size[1] >> level)
    x, y, w, h = box
    moves = any(radial != STRAIGHT for radial in correcting.radials)
    fine = level == 0
    around = (AROUND if moves or (fine and capture.sharpen) else 0) + (REACH if fine and (capture.noise or capture.noise_colour) else 0)
    edge = int(np.ceil(3 * capture.radius)) + 2 if fine and capture.sharpen else 0
    goal = _inside((x - edge, y - edge, w + 2 * edge, h + 2 * edge), width, height)
    across, down, squared = _radius(size, level, goal)
    source = goal
    maps: list[tuple[FloatArray, FloatArray]] = []
    if moves:
        for radial in correcting.radials:
            scale = _scale(radial, squared)
            maps.append(((across * scale + size[0] / 2 / (1 << level) - 0.5).astype(np.float32), (down * scale + size[1] / 2 / (1 << level) - 0.5).astype(np.float32)))
        xs, ys = [float(f) for m in maps for f in (m[0].min(), m[0].max())], [float(f) for m in maps for f in (m[1].min(), m[1].max())]
        x0, y0 = int(np.floor(min(xs))), int(np.floor(min(ys)))
        source = (x0, y0, int(np.ceil(max(xs))) - x0 + 1, int(np.ceil(max(ys))) - y0 + 1)
    source = _inside((source[0] - around, source[1] - around, source[2] + 2 * around, source[3] + 2 * around), width, height)
    light = np.array(read(source), np.float32)
    if correcting.gain:
        light *= _gain(correcting.gain, _radius(size, level, source)[2])[..., None]
    if fine and (capture.noise or capture.noise_colour):
        light = denoised(light, np.array(correcting.noise, np.float32), capture.noise, capture.noise_colour)
    if moves:
        planes = [np.ascontiguousarray(light[..., c]) for c in range(3)]
        light = np.stack([cv2.remap(p, m[0] - source[0], m[1] - source[1], cv2.INTER_LANCZOS4, borderMode=cv2.BORDER_REPLICATE) for p, m in zip(planes, maps, strict=True)], axis=-1)
    else:
        light = light[goal[1] - source[1] :, goal[0] - source[0] :][: goal[3], : goal[2]]
    if fine and capture.sharpen:
        light = _sharpened(light, correcting)
    return np.ascontiguousarray(light[y - goal[1] : y - goal[1] + h, x - goal[0] : x - goal[0] + w], np.float32)


def _inside(box: Box, width: int, height: int) -> Box:
    x, y = max(0, min(box[0], width - 1)), max(0, min(box[1], height - 1))
    return x, y, max(1, min(box[0] + box[2], width) - x), max(1, min(box[1] + box[3], height) - y)


def edge_mask(light: FloatArray, noise: FloatArray, edges: float) -> FloatArray:
    """Where (h, w) capture sharpening acts, 0..1: slopes of brightness against what noise makes; `edges` in percent."""
    luma = np.asarray(cv2.GaussianBlur(root_of(light) @ LUMA, (0, 0), 1.0))
    gy, gx = np.gradient(luma)
    slope = np.hypot(gx, gy)
    # noise of the finest scale after that blur makes slopes of about a quarter of its strength
    floor = max(0.25 * float(noise[0, 0]), 5e-4) * (0.5 + 0.12 * edges)
    t = np.clip((slope - floor) / (2 * floor), 0, 1)
    return np.asarray(cv2.GaussianBlur(t * t * (3 - 2 * t), (0, 0), 1.0), np.float32)


def _sharpened(light: FloatArray, correcting: Correction) -> FloatArray:
    capture = correcting.capture
    mask = edge_mask(light, np.array(correcting.noise, np.float32), capture.edges)
    root = np.asarray(root_of(light) @ LUMA, np.float32)
    detail = (root - np.asarray(cv2.GaussianBlur(root, (0, 0), capture.radius))) * mask * np.float32(1.5 * capture.sharpen / 100)
    # brightness alone changes, and no channel turns below zero
    factor = np.clip((root + detail) / np.maximum(root, 1e-4), 0.5, 2.0) ** 2
    return light * factor[..., None].astype(np.float32)
