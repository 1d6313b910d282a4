"""Where a patch that heals a spot is taken from: the place whose surroundings go on as those of the spot do."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.pyramid import Box

RING = 10
"""Pixels around a spot that are compared."""
REACH = 3.0
"""How far away a source is sought, in sides of the spot, and at least so many pixels:"""
LEAST_REACH = 120
COARSE = 20
"""Pixels of a spot's longer side at which places are compared."""
TRIED = 4
"""Places from the rough search that are compared pixel by pixel."""
TONE, ROUGHNESS = 0.12, 0.5
"""Difference in root light, and in the logarithm of fine energy, that count as much as structure that does not go on at all: a source is of the
same stuff, though its tone is fitted."""
FINE = 3.0
"""Pixels (sigma) above which detail counts as structure rather than as roughness."""


def around_spot(bounds: Box, size: tuple[int, int]) -> Box:
    """The part of the picture (of `size`) in which a source for a spot is sought."""
    x, y, w, h = bounds
    reach = int(max(LEAST_REACH, REACH * max(w, h))) + RING
    x0, y0 = max(0, x - reach), max(0, y - reach)
    return x0, y0, min(size[0], x + w + reach) - x0, min(size[1], y + h + reach) - y0


def source_for(picture: FloatArray, cover: FloatArray) -> tuple[int, int]:
    """By how much (right, down) to move in a picture (h, w, 3) in root light to find what can stand where `cover` (h, w) is. Raises
    ValueError where there is no room for a source."""
    hole = cover > 1e-3
    ys, xs = np.nonzero(hole)
    if len(ys) == 0:
        raise ValueError("there is nothing to heal")
    top, left = max(0, int(ys.min()) - RING), max(0, int(xs.min()) - RING)
    wide = (slice(top, int(ys.max()) + RING + 1), slice(left, int(xs.max()) + RING + 1))
    spot, side = hole[wide], int(max(np.ptp(ys), np.ptp(xs))) + 1
    ring = _ring(spot, RING)
    step = max(1, round(side / COARSE))
    luma = np.ascontiguousarray(picture.mean(axis=2))
    coarse = np.asarray(cv2.GaussianBlur(luma, (0, 0), FINE), np.float32)
    rough = _energy(luma - coarse, side)
    price = _prices(_shrunk(picture, step), _shrunk(coarse, step), _shrunk(rough, step), _shrunk(hole.astype(np.float32), step) > 0.01, step)
    height, width = spot.shape
    # the top left corner of what is compared, for each place of its middle
    tried, best, least = _lowest(price, TRIED), (0, 0), np.inf
    own = float(np.log(rough[wide][ring].mean() + 1e-9))
    for y, x in tried:
        for down in (-step // 2, 0, step // 2) if step > 1 else (-1, 0, 1):
            for right in (-step // 2, 0, step // 2) if step > 1 else (-1, 0, 1):
                at_y, at_x = y * step + down - height // 2, x * step + right - width // 2
                if at_y < 0 or at_x < 0 or at_y + height > luma.shape[0] or at_x + width > luma.shape[1]:
                    continue
                there = (slice(at_y, at_y + height), slice(at_x, at_x + width))
                if (hole[there] & spot).any():
                    continue
                a, b = luma[there][ring], luma[wide][ring]
                apart = (a - b).var() / (a.var() + b.var() + 1e-9)
                unlike = float(np.log(rough[there][spot].mean() + 1e-9)) - own
                tone = picture[there][ring].mean(axis=0) - picture[wide][ring].mean(axis=0)
                cost = float(apart) + (unlike / ROUGHNESS) ** 2 + float(np.square(tone).sum()) / TONE**2
                if cost < least:
                    best, least = (at_x - left, at_y - top), cost
    if not np.isfinite(least):
        raise ValueError("there is no room around for a source")
    return best


def _prices(colour: FloatArray, coarse: FloatArray, rough: FloatArray, hole: NDArray[np.bool_], step: int) -> FloatArray:
    """What a source centred at each place of a shrunk picture would cost (h, w), infinite where it would lie on the hole or beyond the picture."""
    ys, xs = np.nonzero(hole)
    reach = max(1, RING // step)
    y0, y1, x0, x1 = (int(v) for v in (ys.min() - reach, ys.max() + reach + 1, xs.min() - reach, xs.max() + reach + 1))
    padded = np.pad(hole, reach + 1)
    ring_here = _ring(padded, reach)[reach + 1 + y0 : reach + 1 + y1, reach + 1 + x0 : reach + 1 + x1].astype(np.float32)
    y0, x0 = max(0, y0), max(0, x0)
    here = (slice(y0, min(y1, hole.shape[0])), slice(x0, min(x1, hole.shape[1])))
    ring = ring_here[: here[0].stop - y0, : here[1].stop - x0]
    count = float(ring.sum())
    if count == 0 or coarse.shape[0] <= ring.shape[0] or coarse.shape[1] <= ring.shape[1]:
        raise ValueError("there is no room around for a source")

    def over_ring(of: FloatArray) -> FloatArray:
        return np.asarray(cv2.matchTemplate(of, ring, cv2.TM_CCORR) / count, np.float32)

    own = coarse[here]
    mean, square, cross = over_ring(coarse), over_ring(coarse * coarse), np.asarray(cv2.matchTemplate(coarse, own * ring, cv2.TM_CCORR) / count)
    own_mean = float((own * ring).sum() / count)
    own_var, var = float(((own - own_mean) ** 2 * ring).sum() / count), np.maximum(square - mean**2, 0)
    apart = np.maximum(own_var + var - 2 * (cross - mean * own_mean), 0) / (own_var + var + 1e-7)
    spot = hole[here].astype(np.float32)
    inside = np.asarray(cv2.matchTemplate(rough, spot, cv2.TM_CCORR) / max(1.0, float(spot.sum())))
    unlike = np.log(np.maximum(inside, 0) + 1e-9) - float(np.log((rough[here] * ring).sum() / count + 1e-9))
    tone = np.sum([(over_ring(colour[..., c]) - float((colour[here][..., c] * ring).sum() / count)) ** 2 for c in range(3)], axis=0)
    cost = apart + (unlike / ROUGHNESS) ** 2 + tone / TONE**2
    cost[np.asarray(cv2.matchTemplate(hole.astype(np.float32), spot, cv2.TM_CCORR)) > 0.5] = np.inf
    out = np.full(coarse.shape, np.inf, np.float32)
    down, right = ring.shape[0] // 2, ring.shape[1] // 2
    out[down : down + cost.shape[0], right : right + cost.shape[1]] = cost
    return out


def _ring(spot: NDArray[np.bool_], width: int) -> NDArray[np.bool_]:
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * width + 1, 2 * width + 1))
    return np.asarray((cv2.dilate(spot.astype(np.uint8), disc) > 0) & ~spot)


def _energy(fine: FloatArray, side: int) -> FloatArray:
    """Fine energy around each place, over a tenth of the spot."""
    return np.asarray(cv2.GaussianBlur(fine * fine, (0, 0), max(2.0, side / 10)), np.float32)


def _shrunk(picture: FloatArray, step: int) -> FloatArray:
    h, w = max(1, picture.shape[0] // step), max(1, picture.shape[1] // step)
    return np.asarray(cv2.resize(picture[: h * step, : w * step], (w, h), interpolation=cv2.INTER_AREA), np.float32)


def _lowest(cost: FloatArray, count: int) -> list[tuple[int, int]]:
    """The places of lowest cost, none beside another."""
    found, cost = [], cost.copy()
    for _ in range(count):
        y, x = np.unravel_index(int(cost.argmin()), cost.shape)
        if not np.isfinite(cost[y, x]):
            break
        found.append((int(y), int(x)))
        cost[max(0, y - 2) : y + 3, max(0, x - 2) : x + 3] = np.inf
    return found
