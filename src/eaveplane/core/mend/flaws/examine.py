"""A weave held against the frames it is made of: what findings are looked for in, and all of them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

import cv2
import numpy as np
from numpy.typing import NDArray

from ....imaging.colour import FloatArray
from ....imaging.light import root_luma
from ....imaging.placement import Placement
from ....imaging.pyramid import Box
from ....imaging.resample import halve
from ....imaging.rows import side_by_side
from ...gather.detail import BANDS, LAPLACIAN, POOL, POOL_LEVEL, measure_detail, pooled_shape, signal
from ...weave.laid import RegisteredFrames
from .finding import Examined, Finding, ranked
from .ghosts import ghosts
from .seams import seam_steps
from .soft import soft_places
from .specks import specks

STRIP = 512
"""Rows that are read at a time; cells of the pooled grid are whole in them."""
SPOTS = 3000
"""Pixels of the longer side at which specks are looked for at most: smaller ones nobody sees."""


def flaws_in(seen: Examined, luma: FloatArray, placements: Sequence[Placement]) -> list[Finding]:
    """What is found in a weave of this `luma` (h, w), worst first."""
    level = 0
    while max(luma.shape) > SPOTS:
        luma, level = halve(luma), level + 1
    # the longest first
    kinds: list[Callable[[], Iterator[Finding]]] = [lambda: specks(seen, luma, level, placements), lambda: seam_steps(seen), lambda: ghosts(seen), lambda: soft_places(seen)]
    return ranked([finding for found in side_by_side(lambda kind: list(kind()), kinds) for finding in found])


def examined(
    laid: RegisteredFrames, gates: FloatArray, contrasts: NDArray[np.float16], woven: Callable[[Box], FloatArray], only_full_size: bool, tell: Callable[[float], None] = lambda share: None
) -> tuple[Examined, FloatArray]:
    """What findings are looked for in, and the luma (h, w) of the weave that `woven` gives for a box."""
    (width, height), count = laid.size, len(laid.names)
    shape = pooled_shape(height, width)
    luma, small = np.empty((height, width), np.float32), np.empty((*shape, 3), np.float32)

    def of_weave(top: int) -> None:
        strip = woven((0, top, width, min(STRIP, height - top)))
        luma[top : top + STRIP] = root_luma(strip)
        small[top // POOL : -(-(top + STRIP) // POOL)] = to_cells(strip)

    for _ in side_by_side(of_weave, list(range(0, height, STRIP))):
        pass
    tell(0.2)
    frames, sharp = np.empty((count, *shape, 3), np.float16), np.empty((BANDS, *shape), np.float32)

    def of_frame(k: int) -> None:
        if k < 0:
            sharp[:] = np.sqrt(signal(measure_detail(luma)))
        else:
            frames[k] = _quarter(laid, k, only_full_size)

    # what the weave shows is told beside
    for done, _ in enumerate(side_by_side(of_frame, range(-1, count)), 1):
        tell(0.2 + 0.8 * done / (count + 1))
    reach = np.stack([laid.covers(k, POOL_LEVEL, (0, 0, shape[1], shape[0])) for k in range(count)])
    places = list(laid.places.at) if laid.places else None

    def read(k: int | None, box: Box) -> FloatArray:
        return woven(box) if k is None else laid.read(k, 0, box)

    return Examined(contrasts, sharp, reach, small, frames, gates, places, laid.size, laid.noise / LAPLACIAN, read), luma


def _quarter(laid: RegisteredFrames, k: int, only_full_size: bool) -> FloatArray:
    """A registered frame (h, w, 3) on the pooled grid."""
    width, height = laid.size
    if not only_full_size:
        return laid.read(k, POOL_LEVEL, (0, 0, *laid.size_at(POOL_LEVEL)))
    return np.concatenate([to_cells(laid.read(k, 0, (0, top, width, min(STRIP, height - top)))) for top in range(0, height, STRIP)])


def to_cells(picture: FloatArray) -> FloatArray:
    """A picture (h, w) or (h, w, 3) on the pooled grid."""
    height, width = picture.shape[:2]
    if height % POOL or width % POOL:
        picture = cv2.copyMakeBorder(picture, 0, -height % POOL, 0, -width % POOL, cv2.BORDER_REPLICATE)
    return np.asarray(cv2.resize(picture, (-(-width // POOL), -(-height // POOL)), interpolation=cv2.INTER_AREA), np.float32)
