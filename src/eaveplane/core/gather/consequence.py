"""What a picture would lose without some of its frames, proven on the frames themselves.

A frame is spared only if all its fine detail is in the frames that stay: where one of them, as it is or blurred by a
disc, looks the same. Strength of detail alone would not do: a thin stem before sharp grass is no stronger than the grass.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.placement import Placement
from ...imaging.pyramid import Box
from ...imaging.rows import side_by_side
from ...optics.disc import disc_kernel
from .detail import POOL, Detail, covered, lay_on, pooled_shape, signal

BANDS = 2
"""Octaves of detail that are compared, from the finest."""
CELL = 8
"""Side of the square of pixels over which detail is compared."""
TILE, MARGIN = 512, 24
RADII = (0.0, 0.6, 0.9, 1.4, 2.1, 3.2, 4.8)
NEIGHBOURS = 2
"""Frames that stay, on either side, by which a frame's detail may be explained."""
FAINT = 0.08
"""Part of the strongest detail nearby below which a frame's own does not tell."""
CLEAR = 1.5
"""Energy in multiples of the noise's from which detail can be told."""
LEAST = 1.5e-5
"""Energy, in the square root of light, that nobody sees."""
PLACE = 3
"""Cells that must touch for a loss to be believed."""
OVERALL = 2e-6
"""Mean energy that may be lost over the whole picture, in places too small to tell: a tenth of a decibel at 43 dB."""


@dataclass(frozen=True, eq=False)
class Closely:
    """Frames laid on the reference, to be looked at closely. `signal(k)`: energy (3, h/4, w/4) of detail above noise, `noise` (n, 3)
    of each frame's octaves, `luma(k, box)` the square root of luminance (h, w) at full size; `size` (w, h), `reach(k)`
    (h/4, w/4) where a frame shows something."""

    size: tuple[int, int]
    noise: FloatArray
    signal: Callable[[int], FloatArray]
    luma: Callable[[int, Box], FloatArray]
    reach: Callable[[int], NDArray[np.bool_]]


def laid_closely(
    details: Callable[[int], Detail], placements: Sequence[Placement], gains: Sequence[float], luma: Callable[[int, Box], FloatArray]
) -> Closely:
    """Frames as they are laid on the reference and made as bright by `gains`; `details(k)` are what was measured
    in each, `luma(k, box)` as in Closely."""
    size = placements[0].size
    shape = pooled_shape(size[1], size[0])
    noise = np.stack([details(k).noise * gain for k, gain in enumerate(gains)]).astype(np.float32)
    return Closely(size, noise, lambda k: lay_on(signal(details(k)) * np.float32(gains[k]), placements[k], shape), luma, lambda k: covered(placements[k], shape))


@dataclass(frozen=True)
class Loss:
    """Where a frame has detail of its own: the box (x, y, w, h) of the largest place in pixels of the reference, the part of the picture
    all places take, and the mean energy lost over the picture."""

    box: Box
    part: float
    energy: float


def losses(
    frames: Closely, dropped: Sequence[int], kept: Sequence[int], ignored: Mapping[int, Box], swept: Mapping[int, FloatArray], heard: Callable[[float], None] = lambda share: None
) -> dict[int, Loss]:
    """What would be lost with all of `dropped` left out, by the frame that has it; frames without which nothing is lost
    are not in it. `kept` are the frames that stay, near to far. Nothing that only a dropped frame covers counts as covered;
    nobody minds what is in the box of `ignored` of a frame.
    `swept` are the strokes, as kernels, that frames were shaken by: what a stroke makes of another frame is no detail of their own."""
    if not dropped:
        return {}
    if not kept:
        return {k: Loss((0, 0, *frames.size), 1.0, 1.0) for k in dropped}
    strongest = _strongest(frames, [*kept, *dropped])
    found: dict[int, Loss] = {}
    for done, k in enumerate(dropped):
        loss = _loss(frames, k, _beside(k, kept), strongest, ignored.get(k), swept.get(k))
        if loss is not None:
            found[k] = loss
        heard((done + 1) / len(dropped))
    return found


def _beside(k: int, kept: Sequence[int]) -> list[int]:
    """The frames that stay next to one in order, the nearest first."""
    nearer, farther = [j for j in kept if j < k][::-1], [j for j in kept if j > k]
    take = max(NEIGHBOURS, 2 * NEIGHBOURS - min(len(nearer), len(farther), NEIGHBOURS))
    return sorted([*nearer[:take], *farther[:take]], key=lambda j: abs(j - k))[: 2 * NEIGHBOURS]


def _windowed(maps: FloatArray) -> FloatArray:
    """Energies (c, h, w) over cells and a little around them."""
    return np.stack([cv2.blur(m, (3, 3)) for m in maps])


def _strongest(frames: Closely, numbers: Sequence[int]) -> FloatArray:
    """The strongest energy (BANDS, h/4, w/4) of any frame at or near each place."""
    most: FloatArray | None = None
    for k in numbers:
        here = _windowed(frames.signal(k)[:BANDS])
        most = here if most is None else np.maximum(most, here)
    assert most is not None
    return np.stack([cv2.dilate(m, np.ones((7, 7), np.uint8)) for m in most])


def _loss(frames: Closely, k: int, others: list[int], strongest: FloatArray, ignored: Box | None, stroke: FloatArray | None) -> Loss | None:
    """What is lost without a frame, the `others` standing beside it."""
    width, height = frames.size
    own = _windowed(frames.signal(k)[:BANDS])
    noise = frames.noise[k, :BANDS, None, None]
    inside = cv2.erode(np.logical_and.reduce([frames.reach(j) for j in (k, *others)]).astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
    told = ((own > FAINT * strongest) & (own > np.maximum(CLEAR * noise, LEAST))).any(axis=0) & inside
    if ignored:
        x, y, w, h = (v // POOL for v in ignored)
        told[max(0, y - 2) : y + h + 3, max(0, x - 2) : x + w + 3] = False
    rows, columns = -(-height // CELL), -(-width // CELL)
    lost = np.zeros((rows, columns), np.float32)
    boxes = [(x, y, min(TILE, width - x), min(TILE, height - y)) for y in range(0, height, TILE) for x in range(0, width, TILE)]

    def one(box: Box) -> None:
        x, y, w, h = box
        if told[y // POOL : -(-(y + h) // POOL), x // POOL : -(-(x + w) // POOL)].any():
            cells = _unexplained(frames, k, others, box, told, strongest, stroke)
            lost[y // CELL : y // CELL + cells.shape[0], x // CELL : x // CELL + cells.shape[1]] = cells

    list(side_by_side(one, boxes))
    energy = float(lost.sum() / lost.size)
    count, _, stats, _ = cv2.connectedComponentsWithStats((lost > 0).astype(np.uint8), connectivity=8)
    places = [s for s in stats[1:count] if s[cv2.CC_STAT_AREA] >= PLACE]
    if not places and energy < OVERALL:
        return None
    x, y, w, h, _ = max(places, key=lambda s: s[cv2.CC_STAT_AREA]) if places else (0, 0, columns, rows, 0)
    box = (int(x) * CELL, int(y) * CELL, min(int(w) * CELL, width - int(x) * CELL), min(int(h) * CELL, height - int(y) * CELL))
    return Loss(box, float(sum(s[cv2.CC_STAT_AREA] for s in places)) / lost.size, energy)


def _bands(luma: FloatArray) -> list[FloatArray]:
    found = []
    for _ in range(BANDS):
        small = np.asarray(cv2.pyrDown(luma))
        found.append(luma - cv2.pyrUp(small, dstsize=luma.shape[::-1]))
        luma = small
    return found


def _in_cells(band: FloatArray, octave: int) -> FloatArray:
    """Mean squares of a band over cells."""
    side = CELL >> octave
    h, w = band.shape[0] // side, band.shape[1] // side
    return np.asarray(cv2.resize(cv2.blur(band * band, (3, 3))[: h * side, : w * side], (w, h), interpolation=cv2.INTER_AREA))


def _unexplained(frames: Closely, k: int, others: list[int], box: Box, told: NDArray[np.bool_], strongest: FloatArray, stroke: FloatArray | None) -> FloatArray:
    """Energy (h/8, w/8) of frame k's detail in a box that none of the others shows, 0 where it does not tell."""
    x, y, w, h = box
    left, top = max(0, x - MARGIN), max(0, y - MARGIN)
    wide = (left, top, min(frames.size[0], x + w + MARGIN) - left, min(frames.size[1], y + h + MARGIN) - top)
    rows, columns = -(-h // CELL), -(-w // CELL)
    inner = np.s_[(y - top) // CELL : (y - top) // CELL + rows, (x - left) // CELL : (x - left) // CELL + columns]

    def celled(band: FloatArray, octave: int) -> FloatArray:
        cells = _in_cells(_whole(band, CELL >> octave), octave)
        return cells[inner]

    mine = _bands(frames.luma(k, wide))
    rest = [celled(band, octave) for octave, band in enumerate(mine)]
    cells = np.s_[y // POOL : y // POOL + 2 * rows, x // POOL : x // POOL + 2 * columns]
    here = [np.asarray(cv2.resize(strongest[o][cells], (columns, rows), interpolation=cv2.INTER_AREA)) for o in range(BANDS)]
    use = np.asarray(cv2.resize(told[cells].astype(np.uint8), (columns, rows), interpolation=cv2.INTER_AREA)) > 0
    noise = frames.noise
    limits = [np.maximum(FAINT * here[o], max(LEAST, CLEAR * float(noise[k, o]))) for o in range(BANDS)]
    bare = [float(noise[k, o]) for o in range(BANDS)]
    rest = [r - b for r, b in zip(rest, bare, strict=True)]
    lumas = {j: frames.luma(j, wide) for j in others}
    kernels = [disc_kernel(radius) for radius in RADII]
    if stroke is not None:
        padded = np.asarray(cv2.copyMakeBorder(stroke, 5, 5, 5, 5, cv2.BORDER_CONSTANT), np.float32)
        kernels += [np.asarray(cv2.filter2D(padded, -1, disc, borderType=cv2.BORDER_CONSTANT), np.float32) for disc in kernels]
    for number, kernel in enumerate(kernels):
        for j in others:
            if not ((rest[0] > limits[0]) | (rest[1] > limits[1]))[use].any():
                break
            blurred = lumas[j] if number == 0 else cv2.filter2D(lumas[j], -1, kernel, borderType=cv2.BORDER_REFLECT_101)
            for octave, band in enumerate(_bands(blurred)):
                # what blur leaves of a frame's noise is little; counting none of it errs towards keeping
                left_of = bare[octave] + (float(noise[j, octave]) if number == 0 else 0.0)
                rest[octave] = np.minimum(rest[octave], celled(mine[octave] - band, octave) - left_of)
    lost = sum(np.where(use & (rest[o] > limits[o]), rest[o], 0) for o in range(BANDS))
    return np.asarray(lost, np.float32)


def _whole(band: FloatArray, side: int) -> FloatArray:
    """A band grown at its lower and right border to whole cells."""
    h, w = band.shape
    return np.asarray(cv2.copyMakeBorder(band, 0, -h % side, 0, -w % side, cv2.BORDER_REPLICATE))
