"""Vignette: steps of exposure towards the rim of the crop, in its shape."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import LUMA, FloatArray
from ..masks.parts import Site
from .kernels import vignette_rows
from .settings import Vignette

MOST = 2.0
"""Steps of exposure at full strength."""
SQUARE = 8.0
"""Exponent of the shape that follows the sides."""


def shape_of(vignette: Vignette, ratio: float) -> tuple[float, NDArray[np.float64]]:
    """Exponent of the rim's curve, and the matrix (3, 3) on places in a crop of a ratio (w / h), sides at 1, that makes it round; corners stay as
    far out as they are."""
    round_ = vignette.roundness / 100
    exponent = 2.0 + (SQUARE - 2.0) * max(-round_, 0.0)
    whole = np.array([ratio, 1.0]) * np.sqrt(2 / (ratio**2 + 1))
    across, down = 1 + max(round_, 0.0) * (whole - 1)
    corner = np.sqrt(2 / (across**2 + down**2))
    return exponent, np.diag([across * corner, down * corner, 1.0])


def lay_vignette(root: FloatArray, vignette: Vignette, to_crop: NDArray[np.float64], ratio: float, site: Site) -> None:
    """Darken or lighten a piece (h, w, 3) of a developed picture in the square root of light towards the rim of the crop, in place; `to_crop`
    (3, 3) leads from pixels of the full size to the crop (sides at 1) of a ratio w / h."""
    if vignette.strength == 0:
        return
    exponent, round_ = shape_of(vignette, ratio)
    x, y, _, _ = site.box
    unit = float(1 << site.level)
    from_piece = np.array([[unit, 0, (x + 0.5) * unit - 0.5], [0, unit, (y + 0.5) * unit - 0.5], [0, 0, 1]])
    begins = vignette.middle / 100
    ends = begins + (1 - begins) * vignette.feather / 100
    vignette_rows(root, round_ @ to_crop @ from_piece, exponent, begins, ends, MOST * vignette.strength / 100, vignette.keep / 100, LUMA)
