"""The part of the picture that all frames share, and what each frame costs of it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from ...imaging.placement import Points
from ...imaging.pyramid import Box, Size

ROUNDING, SEARCHING = 5e-7, 0.02
"""Of a pixel: what arithmetic, and a search, may miss a whole one by."""
LEAST_SCALE = 0.1
"""Of the frame's sides, below which frames have no part in common worth keeping."""
MOST_LONGER = 4.0
"""How many times longer, against its height, than the frame a box of any ratio may be, or shorter."""


def common_area(quads: Sequence[Points], size: Size, free: bool = False) -> Box:
    """The largest box (x, y, w, h) at the aspect ratio of the frame, or at any where `free`, that lies inside all frames laid on the reference.

    `quads` (4, 2) are the corners of each on the reference grid, in turn; `size` is (width, height). Each frame laid down is a convex quadrilateral, so the largest box of a given shape
    inside all of them is a linear programme in its centre and its scale. Nothing is invented: where the frames
    have no part in common, ValueError.

    >>> moved = np.array([[12, 0], [611, 0], [611, 399], [12, 399]], float)
    >>> common_area([moved], (600, 400)), common_area([moved], (600, 400), free=True)
    ((12, 0, 588, 392), (12, 0, 588, 400))
    """
    normals, limits = _sides(quads, size)
    wide, high = float(size[0] - 1), float(size[1] - 1)
    if free:
        from scipy.optimize import minimize_scalar

        longest = float(np.log(MOST_LONGER))
        best = minimize_scalar(lambda way: -_largest(normals, limits, wide * np.exp(way), high * np.exp(-way))[2], bounds=(-longest, longest), method="bounded", options={"xatol": 1e-7})
        wide, high = wide * float(np.exp(best.x)), high * float(np.exp(-best.x))
    cx, cy, scale = _largest(normals, limits, wide, high)
    if scale < LEAST_SCALE:
        raise ValueError("the frames have no part in common")
    slack = SEARCHING if free else ROUNDING
    x0, y0 = np.ceil(cx - scale * wide / 2 - slack), np.ceil(cy - scale * high / 2 - slack)
    x1, y1 = np.floor(cx + scale * wide / 2 + slack), np.floor(cy + scale * high / 2 + slack)
    return int(x0), int(y0), int(x1 - x0) + 1, int(y1 - y0) + 1


def costs(quads: Sequence[Points], size: Size) -> list[float]:
    """For each frame, by which part (0..1) the common area would grow if it alone did not count."""
    normals, limits = _sides(quads, size)
    # four sides of the reference itself come first, then four of each frame
    of = np.repeat(np.arange(-1, len(quads)), 4)
    wide, high = float(size[0] - 1), float(size[1] - 1)
    whole = _largest(normals, limits, wide, high)[2]
    grown = [_largest(normals[of != k], limits[of != k], wide, high)[2] for k in range(len(quads))]
    return [0.0 if scale < LEAST_SCALE else max(0.0, 1 - (whole / scale) ** 2) for scale in grown]


def _sides(quads: Sequence[Points], size: Size) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Outward normals (n, 2) of the sides of the reference and of all frames, and how far out (n,) each lies."""
    width, height = size
    whole = np.array([[0, 0], [width - 1, 0], [width - 1, height - 1], [0, height - 1]], np.float64)
    normals, limits = [], []
    for quad in [whole, *quads]:
        middle = quad.mean(axis=0)
        for a, b in zip(quad, np.roll(quad, -1, axis=0), strict=True):
            normal = np.array([b[1] - a[1], a[0] - b[0]])
            normal /= np.linalg.norm(normal)
            if normal @ (middle - a) > 0:
                normal = -normal
            normals.append(normal)
            limits.append(normal @ a)
    return np.array(normals), np.array(limits)


def _largest(normals: NDArray[np.float64], limits: NDArray[np.float64], wide: float, high: float) -> tuple[float, float, float]:
    """Centre and scale of the largest box of a shape inside all sides; scale 0 where there is none."""
    from scipy.optimize import linprog

    # the corner of the box that reaches farthest over a side must stay inside
    reach = np.abs(normals) @ (np.array([wide, high]) / 2)
    found = linprog([0, 0, -1], A_ub=np.column_stack([normals, reach]), b_ub=limits, bounds=[(None, None), (None, None), (0, None)])
    return (float(found.x[0]), float(found.x[1]), float(found.x[2])) if found.success else (0.0, 0.0, 0.0)
