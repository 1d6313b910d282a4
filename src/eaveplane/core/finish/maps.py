"""Painted light: what a brush has laid on, bound to tones and to a part of near to far."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ...imaging.colour import FloatArray
from ...imaging.pyramid import Box
from ..masks.parts import Brushed, Site, ToneRange, between, joined, softened
from .kernels import Painted
from .settings import PaintedMap

MOST = {"lighter": 1.0, "darker": -1.0, "richer": 1.0, "warmer": 1.0}
"""What a map of full strength does where it is whole: steps of exposure, share of colour, share of the strongest warmth."""
NONE = np.zeros((1, 1), np.float32)


def needs_order(maps: Sequence[PaintedMap]) -> bool:
    """Whether any of the maps at work asks how far off things are."""
    return any(map_.acts and map_.by_depth for map_ in maps)


def reach_of(maps: Sequence[PaintedMap], level: int) -> int:
    """Pixels around a box whose brush has a part in the maps inside it."""
    return max((int(np.ceil(3 * map_.feather / (1 << level))) for map_ in maps if map_.acts and map_.feather), default=0)


def coverage_of(map_: PaintedMap, site: Site, light: FloatArray, order: FloatArray | None) -> FloatArray:
    """How much of a map there is (h, w), 0..1, at each pixel of a piece of the picture as it is seen, linear light (h, w, 3); `order` (h, w)
    its places from near to far, without which nothing goes by it."""
    painted = [Brushed(lines=map_.lines)]
    mask = softened(lambda coarse, _: joined(painted, coarse, light, None), site, map_.feather)
    if map_.low > 0 or map_.high < 1:
        # the ends of the scale are open: nothing is darker than black or brighter than white
        low, high = (map_.low if map_.low > 0 else -1.0), (map_.high if map_.high < 1 else 2.0)
        tones = ToneRange.model_construct(low=low, high=high, soft=map_.soft, join="add", invert=False)
        mask = mask * joined([tones], site, light, None)
    if map_.by_depth and order is not None:
        near, far = (map_.near if map_.near > 0 else -9.0), (map_.far if map_.far < 1 else 9.0)
        mask = mask * between(order, near, far, map_.soft)
    return np.asarray(mask, np.float32)


def _touched(map_: PaintedMap, site: Site) -> Box | None:
    """The part of a piece that a map's lines touch, softened; None where they do not."""
    bounds = [line.bounds() for line in map_.lines if not line.erase]
    unit, soft = 1 << site.level, 3 * map_.feather + 2
    x0, y0 = (int((min(b[k] for b in bounds) - soft) // unit) - 1 for k in (0, 1))
    x1, y1 = (int((max(b[k] + b[k + 2] for b in bounds) + soft) // unit) + 2 for k in (0, 1))
    x, y, w, h = site.box
    left, top, right, bottom = max(x0, x), max(y0, y), min(x1, x + w), min(y1, y + h)
    return (left, top, right - left, bottom - top) if right > left and bottom > top else None


def laid_out(maps: Sequence[PaintedMap], site: Site, light: FloatArray, order: FloatArray | None) -> tuple[Painted, FloatArray | None]:
    """All maps together as their kernel takes them, and how much glows (h, w) where glow was painted in; None where it was not."""
    sums: dict[str, FloatArray] = {}
    for map_ in maps:
        there = _touched(map_, site) if map_.acts else None
        if there is None:
            continue
        kind = "steps" if map_.kind in ("lighter", "darker") else map_.kind
        whole = sums.setdefault(kind, np.zeros(site.box[:1:-1], np.float32))
        (x, y, w, h), (left, top) = there, site.box[:2]
        part = np.s_[y - top : y - top + h, x - left : x - left + w]
        share = map_.strength / 100 * coverage_of(map_, Site(site.size, site.level, there), light[part], order[part] if order is not None else None)
        whole[part] = np.maximum(whole[part], share) if kind == "glow" else whole[part] + np.float32(MOST[map_.kind]) * share
    if any(map_.kind == "glow" and map_.acts for map_ in maps):
        sums.setdefault("glow", np.zeros(site.box[:1:-1], np.float32))
    steps, rich, warm = (np.ascontiguousarray(sums.get(name, NONE), np.float32) for name in ("steps", "richer", "warmer"))
    return Painted(steps, rich, warm, "steps" in sums, "richer" in sums, "warmer" in sums), sums.get("glow")
