"""The part of the reference grid that every frame covers."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from scipy.optimize import linprog

from ...imaging.placement import Points
from ...imaging.pyramid import Box, Size

ROUNDING = 5e-7
"""Of a pixel: what arithmetic may miss a whole one by."""


def common_area(quads: Sequence[Points], size: Size) -> Box:
    """The largest box (x, y, w, h) at the aspect ratio of the frame that lies inside all frames laid on the reference.

    `quads` (4, 2) are the corners of each on the reference grid, in turn; `size` is (width, height). Each frame laid down is a convex quadrilateral, so the largest box of a given shape
    inside all of them is a linear programme in its centre and its scale. Nothing is invented: where the frames
    have no part in common, ValueError.

    >>> moved = np.array([[12, 0], [611, 0], [611, 399], [12, 399]], float)
    >>> common_area([moved], (600, 400))
    (12, 0, 588, 392)
    """
    width, height = size
    whole = np.array([[0, 0], [width - 1, 0], [width - 1, height - 1], [0, height - 1]], np.float64)
    conditions, limits = [], []
    for quad in [whole, *quads]:
        middle = quad.mean(axis=0)
        for a, b in zip(quad, np.roll(quad, -1, axis=0), strict=True):
            normal = np.array([b[1] - a[1], a[0] - b[0]])
            normal /= np.linalg.norm(normal)
            if normal @ (middle - a) > 0:
                normal = -normal
            # the corner of the box that reaches farthest over this side must stay inside
            reach = abs(normal[0]) * (width - 1) / 2 + abs(normal[1]) * (height - 1) / 2
            conditions.append([normal[0], normal[1], reach])
            limits.append(normal @ a)
    found = linprog([0, 0, -1], A_ub=conditions, b_ub=limits, bounds=[(None, None), (None, None), (0, 1)])
    if not found.success or found.x[2] < 0.1:
        raise ValueError("the frames have no part in common")
    cx, cy, scale = found.x
    x0, y0 = np.ceil(cx - scale * (width - 1) / 2 - ROUNDING), np.ceil(cy - scale * (height - 1) / 2 - ROUNDING)
    x1, y1 = np.floor(cx + scale * (width - 1) / 2 + ROUNDING), np.floor(cy + scale * (height - 1) / 2 + ROUNDING)
    return int(x0), int(y0), int(x1 - x0) + 1, int(y1 - y0) + 1
