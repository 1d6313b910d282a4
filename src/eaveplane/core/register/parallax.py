"""A camera that moved between frames: what one matrix a frame cannot say, from matches and from focus.

Near things shift against far ones once the lens itself has moved by more than a millimetre or two. A focus stack tells
depth by itself: what is sharp in a frame lies where that frame was focused. So a place in frame k is where a homography
puts it, plus a step of the camera times inverse depth: eleven numbers a frame and one a feature, solved for in turn.
The homography is held to what turning and zooming a camera can do; without that, plants that sway pass for a step.

Points are (x, y) in pixels of the pictures compared; `unit` points count from their middle, 1 at the end of the longer
side, so that all parameters are pixels there. Depth is inverse depth, 0 at the farthest focus and 1 at the nearest.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.placement import Matrix, Points, through, unit
from ...imaging.pyramid import Size
from ...imaging.rows import side_by_side

Array = NDArray[np.float64]
MATCH = 0.7
"""Expected error of a match of features, in pixels."""
PRIOR = 0.15
"""Expected error of depth from focus alone, in parts of the whole range."""
FAR, STEP = 10.0, 15.0
"""How far the homography's change and the step may go on no evidence, in pixels at the edge of the frame."""
BENT = 0.1
"""Pixels by which the homography may differ from what turning and zooming can do."""
KAPPAS = (0.0, 0.4, 0.8)
"""Half the longer side over the focal length, squared, as it is tried; 0 for frames that were shifted by software."""
DECIDED = 8
"""Power by which the sharpest frames tell a feature's depth."""


@dataclass(frozen=True, eq=False)
class Motion:
    """`matrices` (n) of (3, 3) from each frame to the reference for what is infinitely far, `steps` (n, 3) in pixels, and features:
    `points` (m, 2) of the reference with `depth` (m,) and `trust` (m,), 0 to 1. `unsure` (n,) is the standard error in pixels, at its worst corner, of
    where a matrix lays what is far: a frame all of whose matches are at one depth cannot tell a step from a turn. `cost` is what remains."""

    matrices: list[Matrix]
    steps: Array
    points: Points
    depth: Array
    trust: Array
    unsure: Array
    cost: float


def _far_basis(q: Points) -> Array:
    """Displacements (n, 2, 8) of unit parameters at unit points: shift, scale and turn, shear, perspective."""
    x, y = q.T
    o, z = np.ones_like(x), np.zeros_like(x)
    return np.stack([np.stack([o, z, x, -y, x, y, x * x, x * y], -1), np.stack([z, o, y, x, -y, x, x * y, y * y], -1)], -2)


def _step_basis(q: Points) -> Array:
    """Displacements (n, 2, 3) of a step of the camera to the side, up and forward, at depth 1."""
    x, y = q.T
    o, z = np.ones_like(x), np.zeros_like(x)
    return np.stack([np.stack([o, z, x], -1), np.stack([z, o, y], -1)], -2)


def depth_from_focus(details: Sequence[FloatArray], places: Sequence[Points], focus: Array, pool: float) -> Array:
    """Depth (m,) of features whose places (m, 2) in all n frames are known: the centroid of the sharpest frames.

    `details` (n) of (h, w): root of the energy of fine detail in each frame's own squares of `pool` pixels. They are looked up
    where the feature is in each frame: laid by a fit that is pixels off, depth would be mud.
    """
    rows = []
    for detail, place in zip(details, places, strict=True):
        q = ((place - (pool - 1) / 2) / pool).astype(np.float32)
        rows.append(cv2.remap(detail, q[:, 0].copy(), q[:, 1].copy(), cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE).ravel())
    energy = np.stack(rows)
    # where no frame shows anything all are as sharp
    weight = (energy / np.maximum(energy.max(axis=0), 1e-9)) ** DECIDED + 1e-9
    return np.asarray((weight * ((focus - focus.min()) / np.ptp(focus))[:, None]).sum(axis=0) / weight.sum(axis=0), np.float64)


class _Problem:
    """Matches of all frames with the reference, and what is known before any of them is looked at."""

    def __init__(self, points: Points, seen: Mapping[int, tuple[Points, NDArray[np.int64]]], matrices: Sequence[Matrix], focus: Array, details: Sequence[FloatArray], size: Size, pool: float) -> None:
        self.points, self.seen, self.focus, self.details, self.size, self.pool = points, seen, focus, details, size, pool
        self.matrices = list(matrices)
        self.backs = [np.asarray(np.linalg.inv(matrix), np.float64) for matrix in matrices]
        q = unit(points, size)
        self.far, self.step = _far_basis(q), _step_basis(q)
        self.start = [through(points, back) for back in self.backs]
        self.begun = {k: self._in_basis(self.backs[k]) for k in seen}

    def _in_basis(self, back: Matrix) -> Array:
        """A fit in terms of the far basis, pixels (8,)."""
        across, down = np.linspace(0, self.size[0] - 1, 9), np.linspace(0, self.size[1] - 1, 9)
        grid = np.stack(np.meshgrid(across, down), -1).reshape(-1, 2)
        basis = _far_basis(unit(grid, self.size)).reshape(-1, 8)
        return np.asarray(np.linalg.lstsq(basis, (through(grid, back) - grid).ravel(), rcond=None)[0], np.float64)

    def solve(self, kappa: float, passes: int = 2, rounds: int = 10) -> Motion:
        """Frames for their motion with depths held, then depths with motions held, robust throughout (Cauchy weights)."""
        # rows of what should be nought: how far all of the homography is from a camera's, then plain ridges
        bent = np.zeros((4, 8))
        bent[[0, 1, 2, 3], [4, 5, 6, 7]] = 1
        bent[2, 0] = bent[3, 1] = -kappa
        held = np.zeros((15, 11))
        held[:4, :8] = bent / BENT
        held[4:] = np.diag([*[1 / FAR] * 8, *[1 / STEP] * 3])
        wanted = {k: np.concatenate([-(bent @ self.begun[k]) / BENT, np.zeros(11)]) for k in self.seen}
        place = [at.copy() for at in self.start]
        for k, (there, i) in self.seen.items():
            place[k][i] = there
        weight = {k: np.ones(len(i)) for k, (_, i) in self.seen.items()}
        parameters: dict[int, Array] = {}
        rest: dict[int, Array] = {}
        unsure = np.zeros(len(self.matrices))
        depth = depth_from_focus(self.details, place, self.focus, self.pool)
        for turn in range(passes):
            prior = depth_from_focus(self.details, place, self.focus, self.pool)
            for number in range(rounds):
                above, below = prior / PRIOR**2, np.full(len(prior), PRIOR**-2)
                early = turn == 0 and number < 3
                for k, (there, i) in self.seen.items():
                    rows = np.concatenate([self.far[i], self.step[i] * depth[i][:, None, None]], -1)
                    moved = there - self.start[k][i]
                    weighed = (rows * (weight[k] / MATCH**2)[:, None, None]).reshape(-1, 11).T
                    normal = weighed @ rows.reshape(-1, 11) + held.T @ held
                    parameters[k] = np.linalg.solve(normal, weighed @ moved.ravel() + held.T @ wanted[k])
                    unsure[k] = self._error_at_corners(np.linalg.inv(normal)[:8, :8])
                    rest[k] = np.linalg.norm(moved - rows @ parameters[k], axis=1)
                    scale = 8.0 if early else 1.5 * max(1.48 * float(np.median(rest[k])), 0.25)
                    weight[k] = 1 / (1 + (rest[k] / scale) ** 2)
                    along = self.step[i] @ parameters[k][8:]
                    # a feature of the reference is matched once in a frame
                    above[i] += weight[k] * (along * (moved - self.far[i] @ parameters[k][:8])).sum(axis=1) / MATCH**2
                    below[i] += weight[k] * (along**2).sum(axis=1) / MATCH**2
                if not early:
                    depth = above / below
            for k, (there, i) in self.seen.items():
                place[k] = self.start[k] + self.far @ parameters[k][:8] + (self.step @ parameters[k][8:]) * depth[:, None]
                sure = weight[k] > 0.3
                place[k][i[sure]] = there[sure]
        return self._motion(parameters, depth, weight, unsure, float(np.mean([np.log1p(r**2).mean() for r in rest.values()])))

    def _error_at_corners(self, covariance: Array) -> float:
        """The standard error in pixels of the far basis at the worst corner."""
        w, h = self.size
        basis = _far_basis(unit(np.array([[0, 0], [w - 1, 0], [0, h - 1], [w - 1, h - 1]], np.float64), self.size))
        return float(np.sqrt(np.einsum("pxa,ab,pxb->p", basis, covariance, basis).max()))

    def _motion(self, parameters: dict[int, Array], depth: Array, weight: dict[int, Array], unsure: Array, cost: float) -> Motion:
        trust = np.zeros(len(self.points))
        for k, (_, i) in self.seen.items():
            trust[i] = np.maximum(trust[i], weight[k])
        matrices, steps_of = list(self.matrices), np.zeros((len(self.matrices), 3))
        across, down = np.linspace(0, self.size[0] - 1, 9), np.linspace(0, self.size[1] - 1, 9)
        grid = np.stack(np.meshgrid(across, down), -1).reshape(-1, 2)
        for k, found in parameters.items():
            there = through(grid, self.backs[k]) + _far_basis(unit(grid, self.size)) @ found[:8]
            back = cv2.findHomography(grid, there, 0)[0]
            forward = np.linalg.inv(back)
            matrices[k], steps_of[k] = forward / forward[2, 2], found[8:]
        return Motion(matrices, steps_of, self.points, depth, trust, unsure, cost)


def solve(points: Points, seen: Mapping[int, tuple[Points, NDArray[np.int64]]], matrices: Sequence[Matrix], focus: Array, details: Sequence[FloatArray], size: Size, pool: float) -> Motion:
    """The motion of frames of `size` (w, h) whose fits to the reference are `matrices`, from matches.

    `points` (m, 2) are features of the reference, `seen` gives for a frame other than the reference places (c, 2) in it and which
    points they are (c,), each at most once; `focus` (n,) where frames are focused as pixels of radius of the blur disc, near largest; for `details` and
    `pool` see `depth_from_focus`.
    """
    problem = _Problem(points, seen, matrices, focus, details, size, pool)
    runs = list(side_by_side(problem.solve, KAPPAS))
    i = int(np.clip(np.argmin([run.cost for run in runs]), 1, len(runs) - 2))
    a, b, c = (runs[j].cost for j in (i - 1, i, i + 1))
    between = KAPPAS[i] + 0.5 * (KAPPAS[1] - KAPPAS[0]) * float(np.clip((a - c) / max(a + c - 2 * b, 1e-9), -2, 2))
    return min([*runs, problem.solve(max(between, 0.0))], key=lambda run: run.cost)
