"""Whether two frames show the same composition, whatever their focus, exposure and the hand's unsteadiness."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from ...imaging.colour import FloatArray, luminance
from .smooth import COMPARED, smooth_part

WIDTH, HEIGHT = 180, 120
SCALES = (1.0, 0.965, 1.035)
"""How far breathing may take the size of the picture."""
MOST_SHIFT = (18, 12)
DARKEST, BRIGHTEST = 2.5e-3, 0.93
ENOUGH = 0.015
"""Part of the picture that must be exposed in both frames for them to be compared."""
LEAST_STRUCTURE = 1.0
"""Norm of the structure, in stops times the root of pixels, below which a frame is as good as blank."""
SURELY = 0.95
LIT_ELSEWHERE = 0.5
"""Likeness from which light that changed in places may be what two frames differ by."""
_WINDOW = cv2.createHanningWindow((WIDTH, HEIGHT), cv2.CV_32F)


@dataclass(frozen=True, eq=False)
class Glimpse:
    """A frame at a small size: brightness in stops (120, 180), and where it is clipped at neither end."""

    stops: FloatArray
    exposed: FloatArray


def glimpse(light: FloatArray) -> Glimpse:
    """Of linear light (h, w, 3), 1 being white; any size, upright pictures are turned into the same frame."""
    small = luminance(light)
    if small.shape[0] > small.shape[1]:
        small = np.rot90(small)
    small = cv2.resize(np.ascontiguousarray(small), (WIDTH, HEIGHT), interpolation=cv2.INTER_AREA)
    exposed = ((small > DARKEST) & (small < BRIGHTEST)).astype(np.float32)
    return Glimpse(np.log2(np.clip(small, DARKEST, BRIGHTEST)).astype(np.float32), exposed)


def exposure_between(a: Glimpse, b: Glimpse) -> float:
    """By how many stops `b` is brighter than `a`, from what is exposed in both; nan where that is too little."""
    seen = (a.exposed * b.exposed) > 0
    if seen.mean() < ENOUGH:
        return float("nan")
    return float(np.median((b.stops - a.stops)[seen]))


def common_tones(a: Glimpse, b: Glimpse, brighter: float) -> tuple[FloatArray, FloatArray]:
    """Stops (120, 180) of both in the exposure of `b`, which is `brighter` by so many, cut to the tones that either could hold."""
    low, high = np.log2(DARKEST) + max(brighter, 0), np.log2(BRIGHTEST) + min(brighter, 0)
    return np.clip(a.stops + brighter, low, high).astype(np.float32), np.clip(b.stops, low, high).astype(np.float32)


def _structure(stops: FloatArray) -> FloatArray:
    """Stops, band-passed so that neither focus nor falloff matter."""
    return np.clip(cv2.GaussianBlur(stops, (0, 0), 2) - cv2.GaussianBlur(stops, (0, 0), 14), -1.5, 1.5) * _WINDOW


def alike(a: Glimpse, b: Glimpse) -> float:
    """Normalised cross-correlation (-1..1) of two frames' structure at the best shift and scale, both cut to the tones
    that either could hold; nan where nothing is left to compare."""
    brighter = exposure_between(a, b)
    if brighter != brighter:
        return float("nan")
    first, second = (_structure(stops) for stops in common_tones(a, b, brighter))
    norm = float(np.linalg.norm(first))
    if min(norm, float(np.linalg.norm(second))) < LEAST_STRUCTURE:
        return float("nan")
    spectrum, best, lying = np.fft.rfft2(first), -1.0, None
    for scale in SCALES:
        moved = _carried(second, scale, 0, 0)
        product = np.fft.fftshift(np.fft.irfft2(spectrum * np.conj(np.fft.rfft2(moved)), (HEIGHT, WIDTH)))
        dx, dy = MOST_SHIFT
        part = product[HEIGHT // 2 - dy : HEIGHT // 2 + dy + 1, WIDTH // 2 - dx : WIDTH // 2 + dx + 1]
        likeness = float(part.max()) / (norm * float(np.linalg.norm(moved)) + 1e-9)
        if likeness > best:
            down, across = np.unravel_index(int(part.argmax()), part.shape)
            best, lying = likeness, (scale, int(across) - dx, int(down) - dy)
        if best > SURELY:
            break
    if LIT_ELSEWHERE < best < SURELY and lying:
        best = max(best, _evenly_lit(a, b, brighter, lying))
    return best


def _carried(maps: FloatArray, scale: float, across: int, down: int) -> FloatArray:
    """A map (h, w) of a glimpse, scaled about its middle and shifted; 0 beyond it."""
    if (scale, across, down) == (1.0, 0, 0):
        return maps
    about = np.array([[scale, 0, (1 - scale) * (WIDTH - 1) / 2 + across], [0, scale, (1 - scale) * (HEIGHT - 1) / 2 + down]])
    return np.asarray(cv2.warpAffine(maps, about, (WIDTH, HEIGHT), flags=cv2.INTER_LINEAR), np.float32)


def _evenly_lit(a: Glimpse, b: Glimpse, brighter: float, lying: tuple[float, int, int]) -> float:
    """The likeness of two frames once the light that changed in places is taken out, where `lying` says how the second lies; -1 where what they differ by is no
    light."""
    stops = _carried(b.stops, *lying)
    use = a.exposed * (_carried(b.exposed, *lying) > 0.99)
    differing = cv2.GaussianBlur(stops - a.stops - np.float32(brighter), (0, 0), COMPARED * WIDTH) * use
    light = smooth_part(np.float32(np.log(2)) * differing[..., None], use.astype(np.float32))
    if light is None:
        return -1.0
    first, second = (_structure(p * use) for p in (a.stops + np.float32(brighter) + light[..., 0] / np.float32(np.log(2)), stops))
    return float((first * second).sum() / (np.linalg.norm(first) * np.linalg.norm(second) + 1e-9))


def shared_part(a: Glimpse, b: Glimpse) -> float:
    """Part of the picture (0..1), patch by patch, in which two frames agree but for exposure: what a hand before the
    lens leaves free."""
    seen = a.exposed * b.exposed
    size = (WIDTH // 12, HEIGHT // 12)
    first, second = (cv2.resize(g.stops * seen, size, interpolation=cv2.INTER_AREA) for g in (a, b))
    weight = cv2.resize(seen, size, interpolation=cv2.INTER_AREA)
    known = weight > 0.6
    if known.mean() < 0.12:
        return 0.0
    difference = ((second - first) / np.maximum(weight, 1e-3))[known]
    # what most patches agree on is the exposure between the two frames
    counts, edges = np.histogram(difference, bins=np.arange(-6, 6.01, 0.25))
    common = edges[int(counts.argmax())] + 0.125
    return float((np.abs(difference - common) < 0.3).mean())
