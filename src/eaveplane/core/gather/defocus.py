"""How large each frame's blur disc is, everywhere, from what the frames of a focus stack show of one another.

Seen in dioptres, a disc's radius grows evenly with the distance from focus, whatever lies there. So the focus of
every frame and the place of every block of the picture can be laid on one line, measured in pixels of radius, on
which frame k draws the block at u with a disc of radius |u - f_k|. Both are found from the energies of octaves
(depth from defocus; Pentland 1987, Subbarao and Surya 1994): what the blocks show by themselves cancels between
frames, so neither exposure nor the kind of texture matters.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cache

import cv2
import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.rows import by_rows
from .octaves import OCTAVES, RADII, attenuation

STEP, COARSE_STEP = 0.25, 0.5
"""Pixels of radius between the places on the line that are tried."""
FAR_OFF = 6.0
"""How far beyond the first and the last focus a place may lie."""
CLEAR = 3.0
"""Energy over noise from which an octave is told."""
ALIKE = 1.3
"""Blocks over which neighbours are taken to lie at much the same place."""
MOST_BLOCKS, FEWEST_BLOCKS, MOST_AT_ONCE = 400, 30, 8
BEYOND = 0.12
"""Misfit for each pixel of radius beyond the first and the last focus, where a place is seldom."""
SPREAD = 0.35
"""Misfit of a log energy that is taken for usual; larger ones count less than their square."""
USUAL_FALLS = (-0.43, -0.25)
NOTHING = -100.0
"""Log energy below which an octave is taken to show nothing."""


@dataclass(frozen=True, eq=False)
class Defocus:
    """`focus` (n,): where each frame is focused on the line, pixels of radius, rising from near to far; `place` (h, w)
    on the reference frame's blocks of `block` pixels; `known` (h, w): where there is texture enough to tell."""

    focus: NDArray[np.float64]
    place: FloatArray
    known: NDArray[np.bool_]
    block: int

    def radius(self, frame: int) -> FloatArray:
        """Radius (h, w) in pixels of a frame's blur disc, everywhere."""
        return np.asarray(np.abs(self.place - np.float32(self.focus[frame])))

    def least(self, frames: Sequence[int] | None = None) -> FloatArray:
        """Radius (h, w) of the smallest disc that any of `frames` (all) offers."""
        chosen = self.focus if frames is None else self.focus[list(frames)]
        return np.asarray(np.abs(self.place[None] - chosen.astype(np.float32)[:, None, None]).min(axis=0))


@njit(cache=True, nogil=True)
def _kept(table: np.ndarray, radius: float, out: np.ndarray) -> None:
    """Row of the log attenuation, spaced by a tenth of a pixel."""
    at = min(radius * 10.0, table.shape[1] - 1.001)
    i = int(at)
    t = at - i
    for b in range(table.shape[0]):
        out[b] = table[b, i] * (1 - t) + table[b, i + 1] * t


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _log(numbers: np.ndarray, out: np.ndarray) -> None:
    """Logarithms (m,) of positive numbers (m,) in single precision, within 2e-6: many at once, which calling one after the other is not."""
    bits = numbers.view(np.int32)
    for i in range(len(out)):
        exponent = np.float32((bits[i] >> 23) - 127)
        # the mantissa, 1 to 2, less 1
        part = np.float32(bits[i] & 0x7FFFFF) * np.float32(2.0**-23)
        # log1p as log of (2 + part) / 2 and an odd series, of arguments of at most a fifth
        off = part > np.float32(0.41421356)
        exponent += np.float32(off)
        scaled = ((part - np.float32(1)) / (part + np.float32(3))) if off else (part / (part + np.float32(2)))
        square = scaled * scaled
        series = np.float32(2) * scaled * (np.float32(1) + square * (np.float32(1 / 3) + square * (np.float32(1 / 5) + square * np.float32(1 / 7))))
        out[i] = exponent * np.float32(0.6931471805599453) + series


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _misfits(energy: np.ndarray, noise: np.ndarray, seen: np.ndarray, focus: np.ndarray, places: np.ndarray, table: np.ndarray, spread: float, falls: np.ndarray, out: np.ndarray) -> None:
    """Misfit (blocks, places) of blocks `energy` (blocks, n, octaves) at each place on the line."""
    blocks, n, octaves = energy.shape
    count = len(places)
    kept = np.empty((octaves, n, count), np.float32)
    line = np.empty(octaves)
    for p in range(count):
        for k in range(n):
            _kept(table, abs(places[p] - focus[k]), line)
            for b in range(octaves):
                kept[b, k, p] = np.exp(line[b])
    scratch = np.empty((9, count), np.float32)
    above, below, least, own, log_own, finer, told, logs, total = scratch[0], scratch[1], scratch[2], scratch[3], scratch[4], scratch[5], scratch[6], scratch[7], scratch[8]
    wide, half = np.float32(spread), np.float32(0.5 / spread)
    for i in range(blocks):
        total[:] = 0
        for b in range(octaves):
            above[:], below[:], least[:] = 0, 1e-30, 0
            for k in range(n):
                if seen[i, k]:
                    clear, grain, row = np.float32(max(energy[i, k, b] - noise[i, k, b], 0.0)), np.float32(noise[i, k, b]), kept[b, k]
                    for p in range(count):
                        above[p] += clear * row[p]
                        below[p] += row[p] * row[p]
                        least[p] = max(least[p], grain / row[p])
            for p in range(count):
                own[p] = above[p] / below[p]
                told[p] = max(own[p], np.float32(1e-30))
            _log(told, log_own)
            if 0 < b <= len(falls):
                fall = np.float32(falls[b - 1])
                for p in range(count):
                    # textures are much alike in how their octaves compare
                    off = abs(finer[p] - log_own[p] - fall)
                    misfit = off * off * half if off < wide else off - np.float32(0.5) * wide
                    total[p] += misfit if finer[p] > NOTHING and own[p] > 0 else np.float32(0)
            for p in range(count):
                finer[p] = log_own[p] if own[p] > np.float32(0.5) * least[p] and own[p] > 0 else np.float32(2 * NOTHING)
            for k in range(n):
                if seen[i, k]:
                    seen_log, grain, row = np.float32(np.log(energy[i, k, b] + 0.3 * noise[i, k, b] + 1e-30)), np.float32(1.3 * noise[i, k, b] + 1e-30), kept[b, k]
                    for p in range(count):
                        told[p] = own[p] * row[p] + grain
                    _log(told, logs)
                    for p in range(count):
                        off = abs(seen_log - logs[p])
                        total[p] += off * off * half if off < wide else off - np.float32(0.5) * wide
        for p in range(count):
            out[i, p] = total[p]


@cache
def _table() -> NDArray[np.float64]:
    fine = np.arange(0, RADII[-1], 0.1)
    logs = np.log(attenuation())
    return np.stack([np.interp(fine, RADII, line) for line in logs])


def _places(focus: NDArray[np.float64], step: float) -> NDArray[np.float64]:
    return np.arange(focus.min() - FAR_OFF, focus.max() + FAR_OFF + step, step)


def _all_misfits(blocks: Blocks, focus: NDArray[np.float64], step: float) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Places on the line, and the misfit (blocks, places) of each block at each."""
    places = _places(focus, step)
    out = np.empty((len(blocks.energy), len(places)))
    table = _table()
    by_rows(lambda a, b: _misfits(blocks.energy[a:b], blocks.noise[a:b], blocks.seen[a:b], focus, places, table, SPREAD, blocks.falls, out[a:b]), len(out), 40 * blocks.energy.shape[1] * len(places))
    return places, out


def _cost(blocks: Blocks, focus: NDArray[np.float64]) -> float:
    return float(_all_misfits(blocks, focus, COARSE_STEP)[1].min(axis=1).mean())


@dataclass(frozen=True, eq=False)
class Blocks:
    """Blocks of the reference frame as all frames show them: `energy` (blocks, n, octaves), what of it is `noise`, alike,
    `seen` (blocks, n); `falls`: by how much the log energy of each of the finest octaves usually exceeds the next."""

    energy: NDArray[np.float64]
    noise: NDArray[np.float64]
    seen: NDArray[np.bool_]
    falls: NDArray[np.float64] = field(default_factory=lambda: np.array(USUAL_FALLS))

    def of(self, frames: Sequence[int]) -> Blocks:
        chosen = list(frames)
        return Blocks(np.ascontiguousarray(self.energy[:, chosen]), np.ascontiguousarray(self.noise[:, chosen]), np.ascontiguousarray(self.seen[:, chosen]), self.falls)


def line_up(blocks: Blocks, start: NDArray[np.float64], to_scale: bool) -> NDArray[np.float64]:
    """Focus (n,) of the frames on the line, from a first guess that has them in order; only its scale is sought where
    that guess is otherwise to be trusted."""
    gaps = np.maximum(np.diff(start), 0.05)

    def focus_at(gaps: NDArray[np.float64]) -> NDArray[np.float64]:
        return np.concatenate([[0.0], np.cumsum(gaps)])

    # first all together, then one after the other
    best = min((f for f in np.geomspace(0.3, 3.2, 11)), key=lambda f: _cost(blocks, focus_at(gaps * f)))
    gaps = gaps * best
    if to_scale:
        best = min((f for f in np.geomspace(0.82, 1.22, 9)), key=lambda f: _cost(blocks, focus_at(gaps * f)))
        return focus_at(gaps * best)
    least = _cost(blocks, focus_at(gaps))
    for reach in (4.0, 1.5, 1.25, 1.12, 1.06):
        for _ in range(2):
            moved = False
            for k in range(len(gaps)):
                for factor in (1 / reach, reach):
                    tried = gaps.copy()
                    tried[k] *= factor
                    cost = _cost(blocks, focus_at(tried))
                    if cost < least - 1e-4:
                        gaps, least, moved = tried, cost, True
            if not moved:
                break
    return focus_at(gaps)


def find_defocus(
    energies: Sequence[FloatArray], noises: Sequence[FloatArray], reach: Sequence[NDArray[np.bool_]], block: int, start: NDArray[np.float64], to_scale: bool, steady: Sequence[int]
) -> Defocus:
    """The discs of frames in order from near to far.

    `energies` (n) of (6, h, w) lie on the reference frame's blocks of `block` pixels, what of them is noise in `noises`, `reach` (n) of (h, w) tells
    where each frame is; `start` (n,) is a guess of the focus, rising,
    right but for its scale where `to_scale`; `steady` are the frames, at least two, by which
    blocks are placed: one that was shaken would mislead.
    """
    energy, noise = np.stack(energies).astype(np.float64), np.stack(noises).astype(np.float64)
    seen = np.stack(reach)
    n, _, height, width = energy.shape
    chosen = list(steady)
    sharpest = energy[chosen].max(axis=0)
    floor = noise[chosen].max(axis=0)
    known = (sharpest[1] > CLEAR**2 * floor[1]) & (sharpest[2] > CLEAR**2 * floor[2]) & seen[chosen].any(axis=0)
    spread, floor_of = (np.ascontiguousarray(e.reshape(n, OCTAVES, -1).transpose(2, 0, 1)) for e in (energy, noise))
    flat = Blocks(spread, floor_of, np.ascontiguousarray(seen.reshape(n, -1).T))
    pick = np.flatnonzero(known)
    if len(pick) < FEWEST_BLOCKS or len(chosen) < 2:
        return Defocus(start.astype(np.float64), np.full((height, width), np.nan, np.float32), np.zeros((height, width), bool), block)
    if len(pick) > MOST_BLOCKS:
        pick = pick[np.random.default_rng(0).choice(len(pick), MOST_BLOCKS, replace=False)]
    sample = Blocks(flat.energy[pick], flat.noise[pick], flat.seen[pick])
    ends = sorted({*np.linspace(0, len(chosen) - 1, min(len(chosen), MOST_AT_ONCE)).round().astype(int).tolist()})
    frame_at = [chosen[i] for i in ends]
    focus = start.astype(np.float64).copy()
    focus[frame_at] = line_up(sample.of(frame_at), start[frame_at], to_scale)
    # the others are laid between them where the blocks, placed by those, put them
    places, misfit = _all_misfits(sample.of(frame_at), focus[frame_at], STEP)
    at = places[misfit.argmin(axis=1)]
    for k in range(n):
        if k not in frame_at:
            focus[k] = _insert(sample, frame_at, focus, k, at)
    told = np.flatnonzero(known)
    places, misfit = _all_misfits(Blocks(flat.energy[told], flat.noise[told], flat.seen[told]).of(frame_at), focus[frame_at], STEP)
    misfit += BEYOND * np.maximum(0, np.maximum(focus[frame_at].min() - places, places - focus[frame_at].max()))[None]
    # what neighbours show helps, but not what is unknown
    volume = np.zeros((height * width, len(places)), np.float32)
    volume[told] = misfit
    volume = volume.reshape(height, width, -1)
    for p in range(0, len(places), 4):
        volume[..., p : p + 4] = cv2.GaussianBlur(volume[..., p : p + 4], (0, 0), ALIKE).reshape(height, width, -1)
    best = np.clip(volume.argmin(axis=2), 1, len(places) - 2)
    before, least, after = (np.take_along_axis(volume, (best + d)[..., None], 2)[..., 0] for d in (-1, 0, 1))
    # between the places that were tried, where a parabola through three of them is least
    bend = np.maximum(before + after - 2 * least, 1e-9)
    place = (places[best] + STEP * np.clip(0.5 * (before - after) / bend, -0.5, 0.5)).astype(np.float32)
    return Defocus(focus, place, known, block)


def _insert(sample: Blocks, others: list[int], focus: NDArray[np.float64], k: int, at: NDArray[np.float64]) -> float:
    """Where on the line frame k is focused, by blocks that lie at `at`."""
    nearest = np.abs(at[:, None] - focus[others]).argmin(axis=1)
    best = np.array(others)[nearest]
    rows = np.arange(len(at))
    own = np.maximum(sample.energy[rows, best] - sample.noise[rows, best], 0)
    left = np.exp(_logs(np.abs(at - focus[best])))
    scene = own / np.maximum(left, 1e-3)
    tried = np.arange(focus[others].min() - FAR_OFF / 2, focus[others].max() + FAR_OFF / 2, STEP)
    costs = []
    for f in tried:
        told = scene * np.exp(_logs(np.abs(at - f))) + sample.noise[:, k]
        off = np.abs(np.log((sample.energy[:, k] + 0.3 * sample.noise[:, k]) / (told + 0.3 * sample.noise[:, k])))
        costs.append(np.where(off < SPREAD, off * off / (2 * SPREAD), off - 0.5 * SPREAD)[sample.seen[:, k]].mean() if sample.seen[:, k].any() else 0.0)
    return float(tried[int(np.argmin(costs))])


def _logs(radius: NDArray[np.float64]) -> NDArray[np.float64]:
    """Log attenuation (blocks, octaves) at radii (blocks,)."""
    fine = np.arange(_table().shape[1]) / 10.0
    return np.stack([np.interp(radius, fine, line) for line in _table()], axis=-1)
