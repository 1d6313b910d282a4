"""How large an output is: its pixels, its density, and the paper it stands on."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ...imaging.pyramid import Box
from ..finish.geometry import cut_size
from ..finish.settings import Finish
from .delivery import Delivery

INCH = 2.54


class Sheet(NamedTuple):
    """The picture's `size` (w, h) in pixels, what `scale` it is brought to for that, pixels an inch, its long side on paper in cm, and the
    `paper` (w, h) in pixels in whose middle it stands, or None."""

    size: tuple[int, int]
    scale: float
    density: float
    centimetres: float
    paper: tuple[int, int] | None = None


def sheet_of(delivery: Delivery, cut: tuple[int, int]) -> Sheet:
    """How a cropped picture of a size (w, h) is written. It is enlarged only where that is asked for; a print keeps its size on paper then, at a
    lower density.

    >>> sheet_of(Delivery(size="print", print_long=25.4), (6000, 4000))
    Sheet(size=(3000, 2000), scale=0.5, density=300, centimetres=25.4, paper=None)
    >>> sheet_of(Delivery(size="print", print_long=50.8), (3000, 2000))[:3]
    ((3000, 2000), 1.0, 150.0)
    """
    w, h = cut
    longest, density = max(w, h), delivery.density
    across = delivery.print_long
    if delivery.on_paper:
        long_side, short_side = (max(v - 2 * delivery.border, 1.0) for v in (max(delivery.paper_w, delivery.paper_h), min(delivery.paper_w, delivery.paper_h)))
        across = min(long_side, short_side * longest / min(w, h))
    wanted = {
        "full": float(longest),
        "edge": float(delivery.long_edge or longest),
        "megapixels": longest * (delivery.megapixels * 1e6 / (w * h)) ** 0.5,
        "print": across / INCH * density,
    }[delivery.size]
    scale = wanted / longest
    if scale > 1 and not delivery.enlarge:
        if delivery.size == "print":
            density /= scale
        scale = 1.0
    size = (w, h) if scale == 1 else (max(1, round(w * scale)), max(1, round(h * scale)))
    if delivery.size != "print":
        across = max(size) / density * INCH
    paper = None
    if delivery.on_paper:
        sides = [max(side, round(v / INCH * density)) for side, v in zip(sorted(size), sorted((delivery.paper_w, delivery.paper_h)), strict=True)]
        paper = (sides[1], sides[0]) if w >= h else (sides[0], sides[1])
    return Sheet(size, scale, density, across, paper)


def mounted(codes: NDArray[np.uint16], sheet: Sheet) -> NDArray[np.uint16]:
    """The picture's codes (h, w, 3) in the middle of white paper, where there is paper."""
    if sheet.paper is None:
        return codes
    height, width = codes.shape[:2]
    paper = np.full((sheet.paper[1], sheet.paper[0], codes.shape[2]), 65535, codes.dtype)
    left, top = (sheet.paper[0] - width) // 2, (sheet.paper[1] - height) // 2
    paper[top : top + height, left : left + width] = codes
    return paper


WHOLE_STRENGTH = 100.0
"""Of sharpening for a screen or for paper, where the finish sets none."""


def written(finish: Finish, delivery: Delivery, canvas: Box) -> tuple[Finish, Sheet]:
    """The finish of an output of a canvas (x, y, w, h), sharpened for what the output is meant for and for its size on paper, and its sheet."""
    sheet = sheet_of(delivery, cut_size(finish, canvas))
    change: dict[str, object] = {}
    if delivery.size == "print":
        change["paper"] = min(max(sheet.centimetres, 5.0), 300.0)
    if delivery.sharpen == "none":
        change |= {"sharpen_for": "hand", "sharpen": 0.0}
    elif delivery.sharpen != "finish":
        change |= {"sharpen_for": delivery.sharpen, "sharpen": finish.sharpen or WHOLE_STRENGTH}
    return (finish.model_copy(update=change) if change else finish), sheet
