"""Weaving registered frames into one picture, box by box.

A frame's weight at a pixel is its gate (how likely the regularised labels hold it for the sharpest there) times
a power of its own fine energy, so masks follow the detail of the picture within the bounds that the labels
set. The weighted frames are blended over octave bands (Burt and Adelson 1983) in the weaving encoding.
Only the frames that have a part in a box are read for it, so memory does not grow with their number.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...imaging.brush import draw_line
from ...imaging.colour import FloatArray
from ...imaging.light import root_luma
from ...imaging.placement import Placement
from ...imaging.pyramid import Box
from ...imaging.resample import spread
from ...parameter import Parameters, parameter
from ..gather.detail import POOL
from ..masks.strokes import Stroke

MARGIN = 48
"""Pixels around a box that can have a part in it: the reach of the bands and of the energy's window."""
LEAST_GATE = 0.1
QUIET = 2.0
"""Fine energy in multiples of the noise's below which frames are averaged rather than chosen from."""
DOUBT = 0.3
"""Cost difference at which a frame is e times less likely than the best, in the labels' costs for one direction."""
DIRECTIONS = 4


class Weaving(Parameters):
    """How the sharp zones are blended."""

    detail: float = parameter(2.0, 0.8, 8.0, 0.1, "Detail size", "Size of the window in which frames are compared; larger is calmer, smaller follows thin things.", "px", "Seams")
    decision: float = parameter(4.0, 0.5, 8.0, 0.1, "Decision", "How strictly the sharper of two frames is preferred.", "", "Seams")
    seam: float = parameter(2.0, 1.0, 5.0, 1.0, "Seam softness", "Number of octaves over which frames pass into each other.", "oct.", "Seams")
    quiet: float = parameter(1.0, 0.2, 4.0, 0.1, "Quiet areas", "How firmly areas without detail follow their surroundings.", "×", "Seams")


@dataclass(frozen=True, eq=False)
class RegisteredFrames:
    """The frames of a scene laid on the reference grid.

    `read(k, level, box)` gives frame k (h, w, 3) in the weaving encoding, evened out, for a box inside the reference grid,
    edges of the frame repeated beyond it;
    `placements` and `size` (w, h) are those of the full size, `noise` the variance that noise has in
    their Laplacians.
    """

    names: Sequence[str]
    reference: int
    size: tuple[int, int]
    placements: Sequence[Placement]
    noise: float
    read: Callable[[int, int, Box], FloatArray]


def label_weights(aggregated: FloatArray, reach: list[NDArray[np.bool_]]) -> FloatArray:
    """Gates (n, h, w) on the pooled grid from aggregated costs: each frame's likelihood, the unlikely shut out."""
    likely = np.exp(-(aggregated - aggregated.min(axis=0)) / (DOUBT * DIRECTIONS))
    for k, inside in enumerate(reach):
        likely[k][~inside] = 0
    likely /= np.maximum(likely.sum(axis=0), 1e-6)
    likely[likely < LEAST_GATE] = 0
    return np.asarray(likely / np.maximum(likely.sum(axis=0), 1e-6), np.float32)


def _gate_in(gate: FloatArray, box: Box, level: int) -> FloatArray:
    """A gate of the pooled grid, interpolated in a box of the picture halved `level` times."""
    x, y, w, h = box
    step = 2.0**level / POOL
    offset = ((2.0**level - 1) / 2 - (POOL - 1) / 2) / POOL
    return spread(gate, (step, step), (x * step + offset, y * step + offset), (w, h))


def _active(gates: FloatArray, box: Box, level: int) -> list[int]:
    x, y, w, h = (round(v * 2.0**level / POOL) for v in box)
    part = gates[:, max(0, y - 2) : max(0, y) + h + 3, max(0, x - 2) : max(0, x) + w + 3]
    return [k for k in range(len(gates)) if part[k].size and part[k].max() > 0]


def _strength(luma: FloatArray, window: float, decision: float, floor: float) -> FloatArray:
    """Fine energy in a window above `floor`, to the power by which the sharper frame is preferred.

    Where no frame rises above the noise all are equally strong and are averaged, instead of noise being chosen.
    """
    lap = cv2.Laplacian(luma, cv2.CV_32F, borderType=cv2.BORDER_REPLICATE)
    ratio = cv2.GaussianBlur(lap * lap, (0, 0), window, borderType=cv2.BORDER_REPLICATE) * np.float32(1 / floor) + np.float32(1)
    return np.asarray(np.square(ratio * ratio) if decision == 4 else ratio**decision, np.float32)


def _bands(picture: FloatArray, octaves: int) -> list[FloatArray]:
    out = []
    for _ in range(octaves):
        small = cv2.pyrDown(picture)
        out.append(picture - cv2.pyrUp(small, dstsize=(picture.shape[1], picture.shape[0])))
        picture = small
    return [*out, picture]


def _joined(bands: list[FloatArray]) -> FloatArray:
    picture = bands[-1]
    for band in bands[-2::-1]:
        picture = cv2.pyrUp(picture, dstsize=(band.shape[1], band.shape[0])) + band
    return picture


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _sum_up(strength: np.ndarray, gate: np.ndarray, free: np.ndarray, gated: np.ndarray) -> None:
    for i in range(strength.shape[0]):
        free[i] += strength[i]
        gated[i] += strength[i] * gate[i]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _invert(total: np.ndarray, least: np.float32) -> None:
    for i in range(total.shape[0]):
        total[i] = np.float32(1) / total[i] if total[i] > least else np.float32(0)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _share_out(strength: np.ndarray, gate: np.ndarray, by_free: np.ndarray, by_gate: np.ndarray, alone: np.float32, share: np.ndarray) -> None:
    for i in range(strength.shape[0]):
        share[i] = strength[i] * gate[i] * by_gate[i] if by_gate[i] > 0 else alone
    for i in range(strength.shape[0]):
        strength[i] *= by_free[i]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _weigh(spare: np.ndarray, gates: np.ndarray, reference: int, share: np.ndarray) -> None:
    """Shares (n, h, w) that sum to one from strengths in `spare`, which are then made to sum to one without gates.

    Where no frame that is let in reaches, the one at `reference` (an index, -1 for none) gives everything.
    """
    count, height, width = spare.shape
    free, gated = np.empty(width, np.float32), np.empty(width, np.float32)
    for j in range(height):
        free[:] = 0
        gated[:] = 0
        for k in range(count):
            _sum_up(spare[k, j], gates[k, j], free, gated)
        _invert(free, np.float32(0))
        _invert(gated, np.float32(1e-30))
        for k in range(count):
            _share_out(spare[k, j], gates[k, j], free, gated, np.float32(1.0 if k == reference else 0.0), share[k, j])


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _add(total: np.ndarray, band: np.ndarray, mask: np.ndarray) -> None:
    for j in range(band.shape[0]):
        for i in range(band.shape[1]):
            for c in range(band.shape[2]):
                total[j, i, c] += band[j, i, c] * mask[j, i]


def _painted(weights: dict[int, FloatArray], spare: dict[int, FloatArray], laid: RegisteredFrames, strokes: Sequence[Stroke], box: Box, level: int) -> None:
    """Apply mask strokes, in their order, to weights that sum to one."""
    index = {name: k for k, name in enumerate(laid.names)}
    for stroke in strokes:
        if stroke.action == "draw" or stroke.frame not in index:
            continue
        cover = draw_line(stroke, box, level)
        if cover is None:
            continue
        k = index[stroke.frame]
        if stroke.action == "in":
            for j in weights:
                weights[j] = weights[j] * (1 - cover)
            weights[k] = weights[k] + cover
        else:
            others = [j for j in weights if j != k]
            if not others:
                continue
            # what is taken from one goes to those that have a part already, else to the sharpest of the others
            freed = weights[k] * cover
            left = sum((spare[j] for j in others), np.full_like(freed, 1e-20))
            claims = {j: weights[j] + np.float32(1e-3) * (spare[j] + np.float32(1e-20 / len(others))) / left for j in others}
            total = sum(claims.values(), np.zeros_like(freed))
            weights[k] = weights[k] - freed
            for j in others:
                weights[j] = weights[j] + freed * claims[j] / total


def weave_box(laid: RegisteredFrames, gates: FloatArray, weaving: Weaving, strokes: Sequence[Stroke], box: Box, level: int) -> tuple[FloatArray, dict[int, FloatArray]]:
    """The weave (h, w, 3) in a box of the picture halved `level` times, and the masks (h, w) of frames in it.

    `gates` (n, h/4, w/4) belong to the full size. The same box at any place gives the same pixels, up to
    rounding, whichever larger box it is cut from. Masks sum to one.
    """
    octaves = int(weaving.seam)
    unit = 1 << octaves
    x, y, w, h = box
    wide_x, wide_y = (x - MARGIN) // unit * unit, (y - MARGIN) // unit * unit
    width = -(-(x + w + MARGIN - wide_x) // unit) * unit
    height = -(-(y + h + MARGIN - wide_y) // unit) * unit
    limit_w, limit_h = -(-laid.size[0] >> level), -(-laid.size[1] >> level)
    x0, y0 = max(0, wide_x), max(0, wide_y)
    wide: Box = (x0, y0, min(limit_w, wide_x + width) - x0, min(limit_h, wide_y + height) - y0)

    touching = [s for s in strokes if s.action != "draw" and s.frame in laid.names and _meets(s.bounds(), wide, level)]
    chosen = set(_active(gates, wide, level)) or {laid.reference}
    for stroke in touching:
        k = list(laid.names).index(stroke.frame)
        chosen |= {j for j in (k - 1, k, k + 1) if 0 <= j < len(laid.names)}
    reach = {k: _coverage(laid, k, level, wide) for k in chosen if k != laid.reference}
    if not all(inside.all() for inside in reach.values()):
        chosen.add(laid.reference)
    pictures = {k: laid.read(k, level, wide) for k in sorted(chosen)}

    window = max(0.6, weaving.detail * 0.5**level) if level else weaving.detail
    order = list(pictures)
    # noise shrinks by half with every halving, its energy by a quarter
    floor = max(QUIET * laid.noise * 0.25**level, 1e-7)
    spare = np.stack([_strength(root_luma(picture), window, weaving.decision, floor) for picture in pictures.values()])
    gate = np.stack([_gate_in(gates[k], wide, level) for k in order])
    for i, k in enumerate(order):
        if k in reach:
            spare[i] *= reach[k]
    share = np.empty_like(spare)
    _weigh(spare, gate, order.index(laid.reference) if laid.reference in order else -1, share)
    weights = dict(zip(order, share, strict=True))
    if touching:
        _painted(weights, dict(zip(order, spare, strict=True)), laid, touching, wide, level)

    mixed: list[FloatArray] = []
    for k, picture in pictures.items():
        mask = weights[k]
        for octave, band in enumerate(_bands(picture, octaves)):
            if len(mixed) <= octave:
                mixed.append(np.zeros_like(band))
            _add(mixed[octave], band, mask)
            mask = np.asarray(cv2.pyrDown(mask)) if octave < octaves else mask
    woven = _joined(mixed)
    inner = np.s_[y - y0 : y - y0 + h, x - x0 : x - x0 + w]
    picture = np.ascontiguousarray(woven[inner])
    draw_from(picture, laid, strokes, box, level)
    return picture, {k: np.ascontiguousarray(m[inner]) for k, m in weights.items()}


def _coverage(laid: RegisteredFrames, k: int, level: int, box: Box) -> FloatArray:
    return laid.placements[k].at(level).covers(box).astype(np.float32)


def _meets(bounds: Box, box: Box, level: int) -> bool:
    x, y, w, h = (v * 2**level for v in box)
    return bounds[0] < x + w and bounds[0] + bounds[2] > x and bounds[1] < y + h and bounds[1] + bounds[3] > y


def touched(strokes: Sequence[Stroke], box: Box, level: int) -> Box | None:
    """The part of a box of the picture halved `level` times in which strokes can change something; None for none."""
    x, y, w, h = box
    left, top, right, bottom = x + w, y + h, x, y
    for bounds in (stroke.bounds() for stroke in strokes):
        left, top = min(left, (bounds[0] >> level) - MARGIN), min(top, (bounds[1] >> level) - MARGIN)
        right, bottom = max(right, (bounds[0] + bounds[2] >> level) + MARGIN), max(bottom, (bounds[1] + bounds[3] >> level) + MARGIN)
    left, top, right, bottom = max(left, x), max(top, y), min(right, x + w), min(bottom, y + h)
    return (left, top, right - left, bottom - top) if right > left and bottom > top else None


def draw_from(picture: FloatArray, laid: RegisteredFrames, strokes: Sequence[Stroke], box: Box, level: int) -> None:
    """Lay pixels of chosen frames over the weave, in place, where draw strokes say so, in their order."""
    index = {name: k for k, name in enumerate(laid.names)}
    for stroke in strokes:
        if stroke.action != "draw" or stroke.frame not in index or not _meets(stroke.bounds(), box, level):
            continue
        cover = draw_line(stroke, box, level)
        if cover is None:
            continue
        k = index[stroke.frame]
        cover = (cover * _coverage(laid, k, level, box))[..., None]
        picture += (laid.read(k, level, box) - picture) * cover
