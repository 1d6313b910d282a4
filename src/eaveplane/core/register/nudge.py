"""A frame moved by hand on the reference grid: shifted, enlarged, turned, or laid by pairs of pinned points."""

from __future__ import annotations

import cmath
import math

import numpy as np

from ...imaging.placement import Matrix, Points
from ...imaging.pyramid import Size
from ...parameter import Parameters, parameter

FEWEST_PINS = 3
"""Pairs of points from which scale and turn can be told with one to spare."""
MOST_SHIFT = 20_000.0


class Nudge(Parameters):
    """Where a frame is moved from where registration laid it, about the middle of the picture: in pixels of the reference, percent, degrees clockwise."""

    x: float = parameter(0.0, -MOST_SHIFT, MOST_SHIFT, 0.1, "Right", "Shift to the right.", "px", "Nudge")
    y: float = parameter(0.0, -MOST_SHIFT, MOST_SHIFT, 0.1, "Down", "Shift downwards.", "px", "Nudge")
    scale: float = parameter(0.0, -50.0, 50.0, 0.01, "Larger", "Enlarged about the middle of the picture.", "%", "Nudge")
    turn: float = parameter(0.0, -180.0, 180.0, 0.01, "Turned", "Turned clockwise about the middle of the picture.", "°", "Nudge")

    def matrix(self, size: Size) -> Matrix:
        """The same as a matrix (3, 3) on points of a reference frame of `size` (w, h).

        >>> Nudge(x=2, scale=10).matrix((101, 51))[:, 2].round(1).tolist()
        [-3.0, -2.5, 1.0]
        """
        a = self._factor()
        middle = complex((size[0] - 1) / 2, (size[1] - 1) / 2)
        b = complex(self.x, self.y) + middle - a * middle
        return np.array([[a.real, -a.imag, b.real], [a.imag, a.real, b.imag], [0, 0, 1]])

    def after(self, first: Nudge) -> Nudge:
        """`first`, and then this one."""
        return _of(self._factor() * first._factor(), self._factor() * complex(first.x, first.y) + complex(self.x, self.y))

    def back(self) -> Nudge:
        """What undoes it."""
        return _of(1 / self._factor(), -complex(self.x, self.y) / self._factor())

    def _factor(self) -> complex:
        return (1 + self.scale / 100) * cmath.exp(1j * math.radians(self.turn))


STILL = Nudge()


def _of(factor: complex, shift: complex) -> Nudge:
    return Nudge(x=shift.real, y=shift.imag, scale=100 * (abs(factor) - 1), turn=math.degrees(cmath.phase(factor)))


def pinned(there: Points, here: Points, size: Size) -> tuple[Nudge, float]:
    """What moves points (n, 2), as they are laid, to where the reference of `size` (w, h) shows the same, by least squares, and the RMS distance that
    remains, in pixels. Raises ValueError with what to do for fewer than FEWEST_PINS pairs, or such as do not tell it."""
    if len(there) < FEWEST_PINS or len(there) != len(here):
        raise ValueError(f"Pin at least {FEWEST_PINS} pairs of points.")
    middle = (np.array(size) - 1) / 2
    p, q = (np.asarray(points, np.float64) - middle for points in (there, here))
    p, q = p[:, 0] + 1j * p[:, 1], q[:, 0] + 1j * q[:, 1]
    spread = p - p.mean()
    if float(np.sum(np.abs(spread) ** 2)) < len(p) * 4:
        raise ValueError("The points lie on each other. Pin some that lie apart.")
    factor = complex(np.sum(np.conj(spread) * (q - q.mean())) / np.sum(np.abs(spread) ** 2))
    if not 0.5 <= abs(factor) <= 1.5:
        raise ValueError("These pairs would make the frame more than half larger or smaller. One of them is wrong: take it away.")
    shift = complex(q.mean() - factor * p.mean())
    if max(abs(shift.real), abs(shift.imag)) > MOST_SHIFT:
        raise ValueError("These pairs lie too far apart. One of them is wrong: take it away.")
    return _of(factor, shift), float(np.sqrt(np.mean(np.abs(factor * p + shift - q) ** 2)))
