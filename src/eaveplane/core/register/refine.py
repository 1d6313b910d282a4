"""Fits refined photometrically, all frames together, each compared with neighbours blurred to match it.

Two frames of a focus stack differ in blur, and what is blurred differently does not line up by itself. So in
every tile one of the two is blurred by the disc with which it resembles the other most before the shift between
them is solved (Lucas and Kanade 1981). All tiles of all pairs then enter one robust least-squares problem.
"""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.resample import coverage
from ...imaging.rows import by_rows
from ...optics.disc import disc_kernel

TILE = 64
MOST_TILES = 600
RADII = (0.0, 1.0, 1.8, 2.8, 4.2, 6.2, 9.0)
MOST_RESIDUAL = 0.20
"""Tiles whose difference keeps more than this part of their energy are not the same thing in both frames."""
MOST_GAIN = 0.4
"""Difference in contrast, in parts of it, that drift between frames may leave after blurs are matched."""
SIMILARITY, ROTATION, HOMOGRAPHY = 4, 5, 8
RIDGE = 1e-3


@dataclass(frozen=True, eq=False)
class Tiles:
    """Measured shifts between two frames laid on the reference grid.

    `centres` (n, 2) and `shifts` (n, 2) in pixels of the working grid: what stands at a centre in `first` stands
    a shift farther in `second`; `sigma` (n,) is the expected error of a shift, `sharper` (n,) below 0 where `first` is the
    sharper one, above where `second` is. `tried` is the number of tiles with texture, of which these are the ones that
    agree, `places` that of all tiles.
    """

    first: int
    second: int
    centres: NDArray[np.float64]
    shifts: NDArray[np.float64]
    sigma: NDArray[np.float64]
    sharper: NDArray[np.int8]
    tried: int
    places: int


def banded(picture: FloatArray) -> FloatArray:
    """The picture (h, w) band-passed from 0.7 to 8 px, blurred by each of RADII: (7, h, w)."""
    out = np.empty((len(RADII), *picture.shape), np.float32)
    np.subtract(cv2.GaussianBlur(picture, (0, 0), 0.7), cv2.GaussianBlur(picture, (0, 0), 8), out=out[0])
    for k, radius in enumerate(RADII[1:], 1):
        cv2.filter2D(out[0], cv2.CV_32F, disc_kernel(radius), dst=out[k], borderType=cv2.BORDER_REFLECT_101)
    return out


@njit(cache=True, nogil=True, error_model="numpy")
def _solved(n: np.ndarray, r: np.ndarray) -> np.ndarray:
    """Three symmetric equations by Cholesky's way, written out: a library's solver takes longer to compile than all else."""
    a = np.sqrt(n[0, 0])
    b, c = n[1, 0] / a, n[2, 0] / a
    d = np.sqrt(max(n[1, 1] - b * b, 1e-30))
    e = (n[2, 1] - b * c) / d
    f = np.sqrt(max(n[2, 2] - c * c - e * e, 1e-30))
    y0 = r[0] / a
    y1 = (r[1] - b * y0) / d
    y2 = (r[2] - c * y0 - e * y1) / f
    x = np.empty(3)
    x[2] = y2 / f
    x[1] = (y1 - e * x[2]) / d
    x[0] = (y0 - b * x[1] - c * x[2]) / a
    return x


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _solve(a: np.ndarray, b: np.ndarray, x0: int, y0: int, size: int, out: np.ndarray) -> None:
    """Shift and gain that take tile `a` to tile `b`: out = dx, dy, residual share, gradient strength."""
    # sums stand by themselves, a row's in single precision: in an array each would be stored at every pixel
    xx, xy, xg, yy, yg, gg = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    ex, ey, eg, e2 = 0.0, 0.0, 0.0, 0.0
    zero, half_of, quarter = np.float32(0), np.float32(0.5), np.float32(0.25)
    for y in range(y0, y0 + size, 2):
        r0, r1, r2, r3, r4, r5, r6, r7, r8, r9 = zero, zero, zero, zero, zero, zero, zero, zero, zero, zero
        # rows that begin at nought: an index that may be negative keeps the compiler from taking several pixels at once
        a0, a1, a2, above, below = a[y, x0 - 1 : x0 + size - 1], a[y, x0 : x0 + size], a[y, x0 + 1 : x0 + size + 1], a[y - 1, x0 : x0 + size], a[y + 1, x0 : x0 + size]
        b0, b1, b2, over, under = b[y, x0 - 1 : x0 + size - 1], b[y, x0 : x0 + size], b[y, x0 + 1 : x0 + size + 1], b[y - 1, x0 : x0 + size], b[y + 1, x0 : x0 + size]
        for x in range(size):
            gx = quarter * (a2[x] - a0[x] + b2[x] - b0[x])
            gy = quarter * (below[x] - above[x] + under[x] - over[x])
            g = half_of * (a1[x] + b1[x])
            e = a1[x] - b1[x]
            r0 += gx * gx
            r1 += gx * gy
            r2 += gx * g
            r3 += gy * gy
            r4 += gy * g
            r5 += g * g
            r6 += gx * e
            r7 += gy * e
            r8 += g * e
            r9 += e * e
        xx, xy, xg, yy, yg, gg = xx + r0, xy + r1, xg + r2, yy + r3, yg + r4, gg + r5  # type: ignore[assignment]
        ex, ey, eg, e2 = ex + r6, ey + r7, eg + r8, e2 + r9  # type: ignore[assignment]
    n = np.array([[xx, xy, xg], [xy, yy, yg], [xg, yg, gg]])
    r = np.array([ex, ey, eg])
    half = 0.5 * (n[0, 0] + n[1, 1])
    strength = half - np.sqrt((0.5 * (n[0, 0] - n[1, 1])) ** 2 + n[0, 1] ** 2)
    for i in range(3):
        n[i, i] += 1e-9 + 1e-6 * n[i, i]
    d = _solved(n, r)
    if abs(d[2]) > MOST_GAIN:
        # a tile blurred away matches anything whose gain may go to nothing
        out[0], out[1], out[2], out[3] = 0.0, 0.0, 1.0, strength
        return
    rest = max(e2 - d[0] * r[0] - d[1] * r[1] - d[2] * r[2], 0.0)
    out[0], out[1], out[2], out[3] = d[0], d[1], rest / (gg + 1e-12), strength


@njit(cache=True, nogil=True)
def _measure(a: np.ndarray, b: np.ndarray, corners: np.ndarray, size: int, out: np.ndarray) -> None:
    """For each tile the pairing of blurs with the least residual: from none, more blur on the side where it helps."""
    one = np.empty(4)
    for t in range(corners.shape[0]):
        _solve(a[0], b[0], corners[t, 0], corners[t, 1], size, one)
        out[t, :4] = one
        for side in range(2):
            before = out[t, 2]
            for k in range(1, a.shape[0]):
                _solve(a[k if side == 0 else 0], b[0 if side == 0 else k], corners[t, 0], corners[t, 1], size, one)
                if one[2] < out[t, 2]:
                    out[t, :4] = one
                    out[t, 4] = -1.0 if side == 0 else 1.0
                if one[2] > before:
                    break
                before = one[2]


def measure_pair(first: int, second: int, a: FloatArray, b: FloatArray, inside: NDArray[np.bool_], noise: float) -> Tiles:
    """Shifts in all tiles that show enough of the same thing in two band-passed frames on the working grid."""
    height, width = inside.shape
    size = min(TILE, (min(height, width) - 4) // 2)
    stride = max(size // 2, int(np.sqrt(height * width / MOST_TILES)))
    corners = np.array(
        [(x, y) for y in range(2, height - size - 2, stride) for x in range(2, width - size - 2, stride) if inside[y : y + size : 8, x : x + size : 8].all()],
        dtype=np.int64,
    ).reshape(-1, 2)
    out = np.zeros((len(corners), 5))
    by_rows(lambda i, j: _measure(a, b, corners[i:j], size, out[i:j]), len(corners), size * size)
    floor = noise * size * size / 2
    textured = out[:, 3] > 4 * floor
    keep = (out[:, 2] < MOST_RESIDUAL) & textured & (np.hypot(out[:, 0], out[:, 1]) < 4)
    energy = out[keep, 3]
    sigma = np.sqrt((out[keep, 2] * energy + floor) / energy / (size / 2)) + 0.01
    return Tiles(first, second, corners[keep] + (size - 1) / 2, out[keep, :2], sigma, out[keep, 4].astype(np.int8), int(textured.sum()), len(corners))


def _basis(points: NDArray[np.float64], centre: NDArray[np.float64], radius: float) -> NDArray[np.float64]:
    """Displacements (n, 2, 8) of unit parameters: shift, scale, rotation; aspect, shear, two of perspective."""
    x, y = ((points - centre) / radius).T
    one, zero = np.ones_like(x), np.zeros_like(x)
    across = [one, zero, x, -y, x, y, x * x, x * y]
    down = [zero, one, y, x, -y, x, x * y, y * y]
    return np.stack([np.array(across).T, np.array(down).T], axis=1)


def _update(parameters: NDArray[np.float64], centre: NDArray[np.float64], radius: float) -> NDArray[np.float64]:
    """The matrix (3, 3) of small parameters (8,), given in units of the radius."""
    tx, ty, s, r, a, b, p, q = parameters
    core = np.array([[1 + s + a, -r + b, tx], [r + b, 1 + s - a, ty], [-p, -q, 1]])
    to_unit = np.array([[1 / radius, 0, -centre[0] / radius], [0, 1 / radius, -centre[1] / radius], [0, 0, 1]])
    return np.linalg.inv(to_unit) @ core @ to_unit


@dataclass(frozen=True, eq=False)
class Adjustment:
    """Updates (n, 3, 3) of all fits, the error that remains (n,) in pixels of the working grid, and `own`, that where the frame is
    the sharper one (nan where it is nowhere).

    `tiles` (n,) agree of the `textured` (n,); `judged` (n,) is the part of the frame in which they lie; `turned` is the factor by which
    perspective goes with the shift.
    """

    updates: list[NDArray[np.float64]]
    residual: list[float]
    own: list[float]
    tiles: list[int]
    textured: list[int]
    judged: list[float]
    model: int
    turned: float = 0.0


def _block(
    pair: Tiles, column: dict[int, int], own: int, shared: int, moved: NDArray[np.float64] | None, turned: float, centre: NDArray[np.float64], radius: float
) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """The unknowns that a pair's shifts depend on, and by how much (tiles, 2, unknowns)."""
    whole = _basis(pair.centres, centre, radius)
    if own == SIMILARITY:
        whole[:, :, :2] += turned * whole[:, :, 6:8]
    where: list[int] = []
    parts: list[NDArray[np.float64]] = []
    perspective = np.zeros((len(whole), 2, 1))
    for frame, sign in ((pair.first, 1.0), (pair.second, -1.0)):
        if frame in column:
            where += range(column[frame] * own, (column[frame] + 1) * own)
            parts.append(sign * whole[:, :, :own])
            if moved is not None:
                perspective[:, :, 0] += sign * whole[:, :, 6:8] @ moved[frame]
    if moved is not None:
        where.append(shared)
        parts.append(perspective)
    return np.array(where, np.int64), np.concatenate(parts, axis=2)


def adjust(frames: int, reference: int, pairs: list[Tiles], size: tuple[int, int], model: int, moved: NDArray[np.float64] | None = None, turned: float = 0.0) -> Adjustment:
    """One robust least-squares problem (Cauchy weights, re-weighted) over all frames but the reference.

    `model` is SIMILARITY; or ROTATION, a camera that was turned: then perspective goes with the shift, by one factor
    for all frames (radius over focal length, squared), and `moved` (frames, 2) are the frames' shifts so far; or
    HOMOGRAPHY. What goes beyond similarities is held by a small ridge. Where `turned`, the factor as far as it is known, is not 0,
    shifts of the first two take their perspective along.
    """
    centre = (np.array(size, np.float64) - 1) / 2
    radius = float(max(size)) / 2
    column = {k: i for i, k in enumerate(k for k in range(frames) if k != reference)}
    own = SIMILARITY if model == ROTATION else model
    shared = len(column) * own
    unknowns = shared + (model == ROTATION)
    tried = [sum(pair.tried for pair in pairs if k in (pair.first, pair.second)) for k in range(frames)]
    pairs = [pair for pair in pairs if len(pair.centres)]
    if not pairs or not column:
        unknown = [float("nan") if k != reference else 0.0 for k in range(frames)]
        return Adjustment([np.eye(3)] * frames, unknown, unknown, [0] * frames, tried, [0.0] * frames, model)
    blocks = [_block(pair, column, own, shared, moved if model == ROTATION else None, turned, centre, radius) for pair in pairs]
    target, sigma = np.concatenate([pair.shifts for pair in pairs]), np.concatenate([pair.sigma for pair in pairs])
    edges = np.cumsum([0, *(len(pair.sigma) for pair in pairs)])
    weight: NDArray[np.float64] = np.ones(len(target))
    ridge = np.tile(np.where(np.arange(own) < SIMILARITY, 1e-9, RIDGE * len(target)), len(column))
    if model == ROTATION:
        ridge = np.append(ridge, RIDGE * len(target))
    solution: NDArray[np.float64] = np.zeros(unknowns)
    error: NDArray[np.float64] = np.zeros(len(target))
    for _ in range(12):
        normal, right = np.asarray(np.diag(ridge), np.float64), np.zeros(unknowns)
        # a pair knows two frames: its part of the equations is small, however many frames there are
        for (where, block), first, last in zip(blocks, edges[:-1], edges[1:], strict=True):
            rows = block.reshape(-1, block.shape[2])
            weighted = rows * np.repeat(weight[first:last] / sigma[first:last] ** 2, 2)[:, None]
            normal[np.ix_(where, where)] += weighted.T @ rows
            right[where] += weighted.T @ target[first:last].ravel()
        solution = np.asarray(np.linalg.solve(normal, right), np.float64)
        for (where, block), first, last in zip(blocks, edges[:-1], edges[1:], strict=True):
            error[first:last] = np.linalg.norm(target[first:last] - block @ solution[where], axis=1)
        scale = max(1.48 * float(np.median(error / sigma)), 0.3)
        weight = np.asarray(1 / (1 + (error / sigma / (1.5 * scale)) ** 2), np.float64)
    firsts, seconds = (np.repeat([getattr(pair, side) for pair in pairs], np.diff(edges)) for side in ("first", "second"))
    sharper = np.concatenate([pair.sharper for pair in pairs])
    updates, residual, own_zone, tiles = [], [], [], []

    def left(which: NDArray[np.bool_]) -> float:
        return float(np.sqrt(np.average(error[which] ** 2, weights=weight[which] / sigma[which] ** 2))) if which.any() else float("nan")

    for k in range(frames):
        mine = (firsts == k) | (seconds == k)
        tiles.append(int(mine.sum()))
        residual.append(left(mine))
        own_zone.append(left(mine & np.where(firsts == k, sharper <= 0, sharper >= 0)))
        if k == reference:
            updates.append(np.eye(3))
            continue
        parameters = np.zeros(8)
        parameters[:own] = solution[column[k] * own : (column[k] + 1) * own] / radius
        if model != HOMOGRAPHY:
            parameters[6:8] = turned * parameters[:2]
        if moved is not None and model == ROTATION:
            parameters[6:8] += solution[shared] * moved[k] / radius
        updates.append(_update(parameters, centre, radius))
    found = turned + (float(solution[shared]) if model == ROTATION else 0.0)
    return Adjustment(updates, residual, own_zone, tiles, tried, [_judged(pairs, k) for k in range(frames)], model, found)


def _judged(pairs: list[Tiles], frame: int) -> float:
    """The part of a frame in which tiles agree with any other frame."""
    mine = [pair for pair in pairs if frame in (pair.first, pair.second)]
    if not mine:
        return 0.0
    return len(np.unique(np.concatenate([pair.centres for pair in mine]), axis=0)) / max(1, max(pair.places for pair in mine))


def working_inside(size: tuple[int, int], fits: list[NDArray[np.float64]]) -> list[NDArray[np.bool_]]:
    """Where each frame reaches on a working grid of `size` (w, h), a few pixels in from its border."""
    out = []
    for fit in fits:
        inside = coverage(size, fit, (0, 0, *size)).astype(np.uint8)
        out.append(cv2.erode(inside, np.ones((9, 9), np.uint8), borderType=cv2.BORDER_CONSTANT, borderValue=0) > 0)
    return out
