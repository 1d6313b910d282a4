"""How a frame lies against the reference, in the words of a photographer: shifted, enlarged, turned, tilted."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ...imaging.placement import Matrix, Points, around, through
from ...imaging.pyramid import Size


@dataclass(frozen=True)
class Movement:
    """What is far: shift of the middle to the right and down (pixels), enlargement (percent), turn (degrees clockwise), and `perspective`, the
    pixels at a corner that none of these tell."""

    right: float
    down: float
    scale: float
    turn: float
    perspective: float


def movement_of(matrix: Matrix, size: Size) -> Movement:
    """The movement that a matrix (3, 3) on points of a frame of `size` (w, h) stands for.

    >>> movement_of(np.array([[1, 0, 3], [0, 1, -2], [0, 0, 1.0]]), (600, 400))
    Movement(right=3.0, down=-2.0, scale=0.0, turn=0.0, perspective=0.0)
    """
    middle = (np.array(size, np.float64) - 1) / 2

    def carry(points: Points) -> Points:
        return through(points, matrix)

    factor, turn = around((float(middle[0]), float(middle[1])), carry)
    shift = carry(middle[None])[0] - middle
    angle = np.radians(turn)
    corners = np.array([[0, 0], [size[0] - 1, 0], [size[0] - 1, size[1] - 1], [0, size[1] - 1]], np.float64) - middle
    plain = factor * corners @ np.array([[np.cos(angle), np.sin(angle)], [-np.sin(angle), np.cos(angle)]]) + middle + shift
    apart = float(np.linalg.norm(carry(corners + middle) - plain, axis=1).max())
    return Movement(*(round(float(v), 6) for v in (shift[0], shift[1], 100 * (factor - 1), turn, apart)))
