"""Crisp seams: every pixel from the frame that is sharpest there, as the labels hold it.

A frame's weight at a pixel is its gate (how likely the regularised labels hold it for the sharpest there) times a power of its own
fine energy, so masks follow the detail of the picture within the bounds that the labels set. This is also what stands in where
summing frames is wrong: where things moved, where frames end, and where a hand painted.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numba import njit

from ....imaging.colour import FloatArray
from ...masks.strokes import Stroke
from ..bands import mixed
from ..edges import cover_of
from ..laid import Piece


def weights_in(piece: Piece) -> dict[int, FloatArray]:
    """Masks (h, w) that sum to one, of the wide box: those made by hand as they are, and what they leave shared out among the others.
    Where no frame that is let in reaches, the reference gives everything."""
    order = list(piece.pictures)
    spare, gates = np.stack(list(piece.spare.values())), np.stack(list(piece.gates.values()))
    share = np.empty_like(spare)
    _weigh(spare, gates, order.index(piece.laid.reference) if piece.laid.reference in order else -1, share)
    weights = dict(zip(order, share, strict=True))
    given = {k: piece.laid.by_hand[k].within(piece.level, piece.wide) * piece.reach[k] for k in order if k in piece.laid.by_hand}
    if given:
        total = sum(given.values(), np.zeros_like(share[0]))
        left = 1 - np.minimum(total, 1)
        for k, mask in weights.items():
            mask *= left
            if k in given:
                mask += given[k] / np.maximum(total, 1)
    return weights


def crisp_seams(piece: Piece, strokes: Sequence[Stroke] = ()) -> tuple[FloatArray, dict[int, FloatArray]]:
    """The picture (h, w, 3) and the masks (h, w) of a wide box, with what was painted into masks."""
    weights = weights_in(piece)
    if strokes:
        paint(weights, piece, strokes)
    return mixed(((picture, weights[k]) for k, picture in piece.pictures.items()), piece.weaving.octaves), weights


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _sum_up(strength: np.ndarray, gate: np.ndarray, total: np.ndarray) -> None:
    for i in range(strength.shape[0]):
        total[i] += strength[i] * gate[i]


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _share_out(strength: np.ndarray, gate: np.ndarray, total: np.ndarray, alone: np.float32, share: np.ndarray) -> None:
    for i in range(strength.shape[0]):
        share[i] = strength[i] * gate[i] / total[i] if total[i] > np.float32(1e-30) else alone


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _weigh(strengths: np.ndarray, gates: np.ndarray, reference: int, share: np.ndarray) -> None:
    """Shares (n, h, w) that sum to one; where no frame that is let in reaches, the one at `reference` (an index, -1 for none) gives all."""
    count, height, width = strengths.shape
    total = np.empty(width, np.float32)
    for j in range(height):
        total[:] = 0
        for k in range(count):
            _sum_up(strengths[k, j], gates[k, j], total)
        for k in range(count):
            _share_out(strengths[k, j], gates[k, j], total, np.float32(1.0 if k == reference else 0.0), share[k, j])


def paint(weights: dict[int, FloatArray], piece: Piece, strokes: Sequence[Stroke]) -> None:
    """Apply mask strokes, in their order, to weights that sum to one."""
    # a frame with a mask by hand takes over only where no other can
    claim = {k: strength * np.float32(1e-6) if k in piece.laid.by_hand else strength for k, strength in piece.spare.items()}
    spare = {k: strength / np.maximum(sum(claim.values()), np.float32(1e-20)) for k, strength in claim.items()}
    index = {name: k for k, name in enumerate(piece.laid.names)}
    for stroke in strokes:
        if stroke.mends or stroke.frame not in index:
            continue
        cover = cover_of(stroke, piece.laid, piece.wide, piece.level)
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
