"""Laying all frames of a scene on the reference frame."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.placement import around, scaled, through
from ...imaging.resample import halve, warp
from ...imaging.rows import side_by_side
from .features import Features, first_fit
from .refine import HOMOGRAPHY, ROTATION, SIMILARITY, Adjustment, Tiles, adjust, banded, measure_pair, working_inside
from .trust import REFERENCE, Trust, trust

COARSE_SIDE = 800
MODELS = {SIMILARITY: "similarity", ROTATION: "rotation", HOMOGRAPHY: "homography"}
MOST_ROUNDS = 5
FEWER = 0.4
"""Part of the tiles of the small size that the full one must have to be the better one."""
MOST_TURNED = 6.0
"""Half the longer side over the focal length, squared, of the widest lens that is believed."""
TURNED, FREE = ((0.1, 0.02),), ((0.3, 0.02), (0.1, 0.04))
"""That the camera was turned, and a free model, is believed where it takes more than such a part of the misfit away, if that is more than so many pixels
of the picture measured."""
FEWEST_TILES = 60
"""Tiles of a frame from which on it has a say in that."""
LIGHT_CELLS, DARKEST = 24, 1e-3
"""Cells across, of which half tell by how much a frame is exposed otherwise, and the root light that none of them goes below."""
STILL = 0.6
"""Movement of the corners, in pixels of the picture measured, below which another round would find little."""


@dataclass(frozen=True, eq=False)
class Registration:
    """Fits (n) of (3, 3) from each frame's full-size pixels to the reference's, and how far each can be trusted; `model` is
    `similarity`, `rotation` (a camera turned in the hand) or `homography`, as the measured shifts support."""

    reference: int
    fits: list[NDArray[np.float64]]
    trusted: list[Trust]
    model: str


def suggest_reference(count: int) -> int:
    """The frame in the middle of the order: it shares most with all others."""
    return count // 2


def _chain(features: list[Features], tolerance: float, heard: Callable[[float], None]) -> tuple[list[NDArray[np.float64]], list[int]]:
    """First fits of each frame onto the first one, through neighbours, and by chains: frames of one number are linked by features."""
    fits, chains = [np.eye(3)], [0]
    links = side_by_side(lambda k: first_fit(features[k], features[k - 1], tolerance), list(range(1, len(features))))
    for k, (link, agree) in enumerate(links, 1):
        heard(k / len(features))
        if not agree and k > 1:
            # a bumped or empty neighbour is stepped over
            link, agree = first_fit(features[k], features[k - 2], tolerance)
            fits.append(fits[k - 2] @ link)
            chains.append(chains[k - 2] if agree else k)
        else:
            fits.append(fits[k - 1] @ link)
            chains.append(chains[k - 1] if agree else k)
    return fits, chains


@dataclass(frozen=True)
class _Camera:
    """What rounds have found of the camera: the freest model that they supported, and the factor by which perspective goes with the shift."""

    model: int = SIMILARITY
    turned: float = 0.0


def _refine(luma: Callable[[int], FloatArray], fits: list[NDArray[np.float64]], reference: int, state: _Camera, heard: Callable[[float], None]) -> Adjustment:
    """One round of measuring and adjusting on the grid of the lumas given; `heard` is told the part done, frame by frame."""
    count, shape = len(fits), luma(reference).shape
    size = shape[1], shape[0]
    inside = working_inside(size, fits)
    kept: dict[int, FloatArray] = {}
    pairs: list[Tiles] = []
    standard = _coarse(luma(reference))

    def seen(k: int) -> FloatArray:
        laid = warp(luma(k), fits[k], (0, 0, *size), repeat_edge=True, whole=size)
        # tiles mind a contrast that differs: what another exposure makes of it is no difference of things
        return banded(laid * np.float32(np.median(standard / _coarse(laid))))

    for k, bands in enumerate(side_by_side(seen, range(count))):
        heard(k / count)
        kept[k] = bands
        noise = _band_noise(bands[0])
        for other in (k - 1, k - 2):
            if other >= 0:
                pairs.append(measure_pair(other, k, kept[other], kept[k], inside[other] & inside[k], noise))
        kept.pop(k - 2, None)
    middle = (np.array(size, np.float64) - 1) / 2
    moved = np.array([through(middle[None], f)[0] - middle for f in fits])
    plain = adjust(count, reference, pairs, size, SIMILARITY, turned=state.turned)
    if state.model < HOMOGRAPHY:
        turning = adjust(count, reference, pairs, size, ROTATION, moved, state.turned)
        # once it is known that the camera was turned, by how much perspective goes with that is only told better
        closer = abs(turning.turned - state.turned) > 0.001 * state.turned if state.turned else _supported(plain, turning, TURNED)
        if closer and 0 < turning.turned < MOST_TURNED:
            return turning
    free = adjust(count, reference, pairs, size, HOMOGRAPHY)
    return free if state.model == HOMOGRAPHY or _supported(plain, free, FREE) else plain


def _coarse(luma: FloatArray) -> FloatArray:
    """Where a frame is dark and where it is bright, at a few pixels across."""
    return np.asarray(np.maximum(cv2.resize(luma, (LIGHT_CELLS, LIGHT_CELLS), interpolation=cv2.INTER_AREA), DARKEST), np.float32)


def _fewer(fine: Adjustment, halved: Adjustment) -> bool:
    """Whether a round at the full size found so many fewer tiles that agree than one at half of it, in any frame."""
    return any(n < FEWER * m for n, m in zip(fine.tiles, halved.tiles, strict=True))


def _turned(fit: NDArray[np.float64], factor: float, size: tuple[int, int]) -> NDArray[np.float64]:
    """What a camera sees that was turned and zoomed so that the middle of a frame of `size` (w, h) lies where a fit lays it, as large and as upright;
    `factor` is half the longer side over the focal length, squared."""
    middle, focal = (np.array(size, np.float64) - 1) / 2, max(size) / 2 / np.sqrt(factor)
    shift = through(middle[None], fit)[0] - middle
    axis = np.array([-shift[1], shift[0], 0]) / max(float(np.hypot(*shift)), 1e-12)
    rotation = cv2.Rodrigues(axis * np.arctan(np.hypot(*shift) / focal))[0]
    lens = np.array([[focal, 0, middle[0]], [0, focal, middle[1]], [0, 0, 1]])
    turning = lens @ rotation @ np.linalg.inv(lens)
    (wanted, upright), (large, askew) = (around((float(middle[0]), float(middle[1])), lambda points, m=m: through(points, m)) for m in (fit, turning))  # type: ignore[misc]
    scale, angle = wanted / large, np.radians(upright - askew)
    a, b = scale * np.cos(angle), scale * np.sin(angle)
    similar = np.array([[a, -b, middle[0] - a * middle[0] + b * middle[1]], [b, a, middle[1] - b * middle[0] - a * middle[1]], [0, 0, 1]])
    found: NDArray[np.float64] = turning @ similar
    return found / found[2, 2]


def _moved(adjustment: Adjustment, shape: tuple[int, ...], halved: bool) -> float:
    """How far the last round took the corners."""
    w, h = shape[1] / (1 + halved), shape[0] / (1 + halved)
    corners = np.array([[0, 0], [w, 0], [0, h], [w, h]], np.float64)
    return max(float(np.linalg.norm(through(corners, u) - corners, axis=-1).max()) for u in adjustment.updates)


def _band_noise(band: FloatArray) -> float:
    """Variance per pixel of the gradient of what a frame shows where it shows least."""
    squares = (band[::2, 1::2] - band[::2, :-1:2]) ** 2
    side = min(16, *squares.shape)
    if side == 0:
        return 0.0
    rows, cols = squares.shape[0] // side * side, squares.shape[1] // side * side
    blocks = squares[:rows, :cols].reshape(rows // side, side, -1, side).mean(axis=(1, 3))
    return float(np.percentile(blocks, 5)) / 4


def _supported(plain: Adjustment, full: Adjustment, least: Sequence[tuple[float, float]]) -> bool:
    """Whether a freer model explains the shifts by more than its further parameters would by chance, and a free one by more than what differs in blur
    across a tile seems to shift."""
    misfits = np.array([(p, p - f) for p, f, n in zip(plain.residual, full.residual, full.tiles, strict=True) if n > FEWEST_TILES and p > 0]).reshape(-1, 2)
    if not len(misfits):
        return False
    part, better = float(np.median(misfits[:, 1] / misfits[:, 0])), float(np.median(misfits[:, 1]))
    return any(part > least_part and better > pixels for least_part, pixels in least)


def register(
    luma: Callable[[int], FloatArray],
    features: list[Features],
    level: int,
    reference: int,
    progress: Callable[[float], None] = lambda share: None,
) -> Registration:
    """Fits of all frames to the reference frame.

    `luma(k)` gives the square root of luminance (h, w) of frame k, all of one size, in order from near to far,
    halved `level` times from the full size; `features` are those of the same pictures. Neighbours are matched by features and chained, then all frames are
    adjusted together at two sizes.
    """
    count = len(features)
    if count == 1:
        return Registration(0, [np.eye(3)], [REFERENCE], "similarity")
    shape = luma(reference).shape
    chained, chains = _chain(features, max(2.0, max(shape) / 700), lambda share: progress(0.2 * share))
    fits = [np.linalg.inv(chained[reference]) @ fit for fit in chained]
    coarse = max(shape) > COARSE_SIDE
    adjustment, state, unit = None, _Camera(), 1.0
    for round_number in range(MOST_ROUNDS + 1):
        # rounds at the small size until nothing moves any more, then one at the full one
        # what was found of the camera has to be followed by the shifts that go with it
        last = round_number == MOST_ROUNDS or (adjustment is not None and adjustment.model != ROTATION and _moved(adjustment, shape, coarse) < STILL)
        halvings = int(coarse and not last)
        begun = 0.2 + 0.7 * round_number / MOST_ROUNDS
        at = (lambda k: halve(luma(k))) if halvings else luma
        found = _refine(at, [scaled(f, 2.0**halvings) for f in fits], reference, state, lambda share, begun=begun: progress(begun + share * 0.7 / MOST_ROUNDS))  # type: ignore[misc]
        if last and coarse and adjustment is not None and _fewer(found, adjustment):
            # noise hides what is fine: what so many more tiles tell at the small size lies closer
            unit = 2.0
            break
        adjustment = found
        fits = [scaled(u, 2.0**-halvings) @ f for u, f in zip(adjustment.updates, fits, strict=True)]
        state = _Camera(max(state.model, adjustment.model), adjustment.turned)
        if adjustment.model == ROTATION:
            fits = [fit if k == reference else _turned(fit, state.turned, (shape[1], shape[0])) for k, fit in enumerate(fits)]
        progress(1.0 if last else 0.2 + 0.7 * (round_number + 1) / MOST_ROUNDS)
        if last:
            break
    assert adjustment is not None
    scale = unit * 2.0**level
    trusted = [
        REFERENCE
        if k == reference
        else trust(adjustment.residual[k] * scale, adjustment.own[k] * scale, adjustment.judged[k], adjustment.tiles[k], adjustment.textured[k], chains[k] == chains[reference])
        for k in range(count)
    ]
    final = [scaled(f, 2.0**-level) for f in fits]
    return Registration(reference, [f / f[2, 2] for f in final], trusted, MODELS[state.model])
