"""Lifting the veil: what a defocused near thing lays over the farther frames is taken away, and the ground behind it is woven without it.

Where a front covers c of a pixel in the frame that shows it sharp, another frame has its light and its coverage blurred by a disc d:
frame = d * light + (1 - d * c) ground. Both known, the ground of every frame follows, and is woven by joint light; the picture is what
the front's own frame shows, with the ground's detail where the front lets it through. Only where the frames are the better explained
for it, front by front, it stands: frames without a front that is rightly taken away show one plane.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.light import light_of, root_of
from ...imaging.pyramid import Box
from ...imaging.resample import halve
from ...imaging.rows import side_by_side
from ...imaging.soft import soft
from ..weave.laid import MARGIN, Piece, RegisteredFrames, Weaving, piece_of, wide_of
from ..weave.places import evened_luma
from ..weave.planes import explanations
from ..weave.ways.joint_light import BLOCK, MOST_SUMMED, counted_of, left_by, lengthened, to_sum, woven_piece
from .found import Detail, Fronts, detail_of, disc_of, extended, in_pixels, octaves_of
from .fronts import QUIET, Lift, Sheaf, lift, own_detail, shown_around

CELL = 8
"""Pixels of the cells in which it is decided what stands."""
REACH = 8
"""Pixels around a front whose energy counts for it."""
UNEXPLAINED = 0.15
"""Part of the energy that single planes leave where a front that does not stand is told."""
WELL, PARTS = 0.03, 4
"""A front of which single planes leave less than this part is no veil that anyone sees: of it only places are looked into that are unexplained by
themselves, and so many cells around."""
BESIDE = 24
"""Pixels around a front's widest veil from which its ground is told."""
STANDS = 0.4
"""A front stands where what single planes leave of the frames falls below this part by lifting it."""
ENDS = 4
"""Pixels from where a frame ends in which nothing is looked for: resampling reaches so far."""
WORTH, ZONE = 0.9, 3
"""A thing is taken for solid where single planes then leave less than this part of what they leave with its outline alone lifted, in so many
cells around it."""
OF_TWO = 0.5
"""Two frames are explained by many a thing that is not so: these parts, then, are so much smaller."""
SOLID_STANDS = 0.7
"""And it stands where they leave less than this part: its own border, in which nothing is lifted, counts as well."""
AGAINST, LITTLE = 0.6, 0.002
"""Where it is not so much less, and more than this part of the energy, a part does not stand though the whole front does: scraps of the ground may
hang together with a stem."""
LOCAL = 3.0
"""Cells (sigma) over which that is judged where a whole front does not pass."""
MOST_TRIED = 16
"""Single planes that are tried at most: of dense stacks or large blurs evenly chosen ones."""
MOST_LIFTED = 2 * MOST_SUMMED
"""Frames of a picture of which veils are lifted. Those that are summed are parted; of more the frame that has a front sharp is mostly none of them, and
what is not so is explained by the others as well."""
SHOWN, WHOLE = 0.01, 0.05
"""Coverage by a veil from which, and at which wholly, the picture is the lifted one."""


@dataclass(frozen=True, eq=False)
class Cut:
    """A block of the picture, what is read around it, and the numbers of its frames from near to far."""

    piece: Piece
    numbers: list[int]
    sheaf: Sheaf

    @property
    def everywhere(self) -> NDArray[np.bool_]:
        """Where (h, w) no frame ends: what is beyond is made up."""
        inside = np.all([self.piece.reach[k] for k in self.numbers], axis=0)
        return np.asarray(cv2.erode(inside.astype(np.uint8), disc_of(ENDS), borderType=cv2.BORDER_CONSTANT, borderValue=1) > 0)


def cut(laid: RegisteredFrames, gates: FloatArray, weaving: Weaving, order: Sequence[int], block: Box) -> Cut:
    """Read a block at full size; `order` are all frames, near to far."""
    assert laid.places is not None
    among = to_sum(laid, gates, wide_of(laid, block, 0, weaving.octaves), 0)
    piece = piece_of(laid, gates, weaving, block, 0, among)
    piece = replace(piece, pictures={k: piece.pictures[k] for k in among}, gates={k: piece.gates[k] for k in among}, reach={k: piece.reach[k] for k in among})
    numbers = [k for k in order if k in among]
    return Cut(piece, numbers, Sheaf(np.stack([light_of(piece.pictures[k]) for k in numbers]), laid.places.of(numbers), lengthened(piece)))


def quiet_in(part: Cut) -> dict[int, float]:
    """By frame, the detail of quiet places of a block in its plane."""
    among = part.sheaf.before_ground()
    return {part.numbers[k]: float(np.percentile(detail[part.piece.inner], QUIET)) for k, detail in zip(among, own_detail(part.sheaf, among), strict=True)}


def quiet_details(blocks: Sequence[Mapping[int, float]], count: int) -> list[float]:
    """The same for each of all frames, from some blocks."""
    usual = float(np.median([v for block in blocks for v in block.values()] or [1.0]))
    return [float(np.median([block[k] for block in blocks if k in block] or [usual])) for k in range(count)]


def detail_in(part: Cut, quiet: Sequence[float]) -> Detail:
    """What detail tells of fronts in a block."""
    among = part.sheaf.before_ground()
    if not among:
        return Detail.empty((part.piece.box[2], part.piece.box[3]))
    every = list(range(len(part.numbers)))
    told = [octaves_of(detail, quiet[part.numbers[k]]) for k, detail in zip(every, own_detail(part.sheaf, every), strict=True)]
    found, (rows, columns) = detail_of(told, part.sheaf.places.at, part.numbers, among), part.piece.inner
    everywhere = part.everywhere
    # blocks and what is read around them begin at even places
    small = np.s_[rows.start // 2 : -(-rows.stop // 2), columns.start // 2 : -(-columns.stop // 2)]
    apart = np.where(everywhere[::2, ::2], found.hides, np.int8(-128))
    return Detail(found.owner[rows, columns], (found.strength * everywhere)[rows, columns], found.nearest[small], apart[small])


@dataclass(frozen=True, eq=False)
class Energies:
    """Around a front, in cells (h / CELL, w / CELL): what single planes leave of the frames `before` anything is lifted, with the front lifted where
    it is `thin`, and as a `whole` with what is solid, and all there is (`every`)."""

    before: FloatArray
    thin: FloatArray
    whole: FloatArray
    every: FloatArray

    @staticmethod
    def none(shape: tuple[int, int]) -> Energies:
        return Energies(*(np.zeros(shape, np.float32) for _ in range(4)))

    def put(self, part: Energies, x: int, y: int) -> None:
        """Lay those of a block at a cell."""
        for name in ("before", "thin", "whole", "every"):
            there = getattr(part, name)
            getattr(self, name)[y : y + there.shape[0], x : x + there.shape[1]] = there


def energies(part: Cut, thin: NDArray[np.uint16], fronts: Fronts, quiet: Sequence[float]) -> dict[int, Energies]:
    """Energies of a block by front; `thin` (h, w) and with what is solid, `fronts`, are where there may be some in all that was read."""
    out: dict[int, Energies] = {}
    # in luminance: a third of the transforms, and on four stacks the same gains
    grey, masks = part.sheaf.grey(), _masks(part, fronts.number)
    if not masks:
        return out
    before_all, every_all = _left_by_one(grey, grey.light)
    for k, mask in masks:
        box = _around(grey, k, mask)
        sheaf, whole, number = grey.cropped(*box), mask[box], part.numbers[k] + 1
        solid, outline = fronts.solid[box] & whole, thin[box] == number
        # inside of what is solid it proves nothing that nothing is seen behind it
        near = cv2.dilate(whole.astype(np.uint8), disc_of(REACH)) * (cv2.dilate(solid.astype(np.uint8), disc_of(1)) == 0)
        before, every = before_all[box], every_all[box]
        left = [_left_by_one(sheaf, lift(sheaf, k, m, s, quiet[part.numbers[k]]).ground)[0] if m.any() else before for m, s in ((outline, np.zeros_like(solid)), (whole, solid))[: 1 + solid.any()]]
        maps = []
        for energy in (before, left[0], left[-1], every):
            placed = np.zeros(mask.shape, np.float32)
            placed[box] = energy * near
            maps.append(_in_cells(placed, part.piece))
        out[number] = Energies(*maps)
    return out


def left_of(part: Cut) -> tuple[FloatArray, FloatArray]:
    """What single planes leave of the frames of a block, and the energy there is, in its cells."""
    grey = part.sheaf.grey()
    left, every = _left_by_one(grey, grey.light)
    return _in_cells(left, part.piece), _in_cells(every, part.piece)


def unexplained(thin: NDArray[np.uint16], fronts: Fronts, left: FloatArray, every: FloatArray) -> tuple[NDArray[np.uint16], Fronts]:
    """Fronts, thin ones and with what is solid, without those of which single planes `left` next to nothing of the energy (`every`), both in cells."""
    spots = soft(left, LOCAL) > UNEXPLAINED * soft(every, LOCAL)
    keep = np.zeros(thin.shape, np.bool_)

    def of(number: int) -> NDArray[np.bool_]:
        mask = fronts.number == number
        touched = _touched(mask.astype(np.uint8))
        count, labels = cv2.connectedComponents(cv2.dilate(touched, np.ones((3, 3), np.uint8)), connectivity=8)
        poorly = np.bincount(labels.ravel(), (left * touched).ravel(), count) > WELL * np.bincount(labels.ravel(), (every * touched).ravel(), count)
        near = cv2.dilate((spots & (touched > 0)).astype(np.uint8), disc_of(PARTS)) > 0
        return mask & (in_pixels(poorly[labels] | near, CELL, mask.shape) > 0)

    for kept in side_by_side(of, np.flatnonzero(np.bincount(fronts.number.ravel()))[1:].tolist()):
        keep |= kept
    return np.where(keep, thin, np.uint16(0)), Fronts(np.where(keep, fronts.number, np.uint16(0)), fronts.solid & keep)


def standing(thin: NDArray[np.uint16], fronts: Fronts, told: Mapping[int, Energies], frames: int) -> tuple[Fronts, NDArray[np.bool_], float]:
    """Which of the fronts (h, w) stand by what all blocks told of so many frames, `thin` ones or with what is solid: whole ones that pass, else the parts of them that
    do; where others are that no single plane explains; and how much energy is explained for those that stand."""
    out, left, explained = np.zeros_like(thin), np.zeros(thin.shape, np.bool_), 0.0
    stays = np.zeros(thin.shape, np.bool_)

    def of(number: int) -> tuple[NDArray[np.bool_], NDArray[np.bool_], NDArray[np.bool_], float]:
        energy = told[number]
        as_whole = _better_whole(fronts.solid & (fronts.number == number), energy)
        here = in_pixels(as_whole, CELL, thin.shape) > 0
        mask = np.where(here, fronts.number == number, thin == number).astype(np.uint8)
        before, after, every = energy.before, np.where(as_whole, energy.whole, energy.thin), energy.every
        count, labels = cv2.connectedComponents(cv2.dilate(_touched(mask), np.ones((3, 3), np.uint8)), connectivity=8)
        limit = before * np.where(as_whole, np.float32(SOLID_STANDS), np.float32(STANDS)) * np.float32(OF_TWO if frames == 2 else 1)
        passes = np.bincount(labels.ravel(), after.ravel(), count) < np.bincount(labels.ravel(), limit.ravel(), count)
        passes[0] = False
        around = [np.asarray(cv2.GaussianBlur(part, (0, 0), LOCAL), np.float32) for part in (before, after, every, limit)]
        accepted = passes[labels] & (around[1] <= AGAINST * around[0] + LITTLE * around[2])
        # of two frames a part is explained by what is not so: only whole things stand
        if frames > 2:
            accepted |= around[1] < around[3]
        kept = mask & in_pixels(accepted, CELL, mask.shape)
        stand = (kept & extended(np.asarray(cv2.dilate(kept, disc_of(1)), np.uint8))) > 0
        refused = (mask & in_pixels(around[0] > UNEXPLAINED * around[2], CELL, mask.shape)) > 0
        return stand, stand & here & fronts.solid, refused, float((before - after)[accepted].sum())

    numbers = list(told)
    for number, (stand, sure, others, part) in zip(numbers, side_by_side(of, numbers), strict=True):
        out[stand & (sure | ~stays)] = number
        stays |= sure
        left |= others
        explained += part
    return Fronts(out, stays), left & (out == 0), explained


def _better_whole(solid: NDArray[np.bool_], energy: Energies) -> NDArray[np.bool_]:
    """Cells (h / CELL, w / CELL) around solid things that explain more than their outlines alone."""
    count, labels = cv2.connectedComponents(cv2.dilate(_touched(solid.astype(np.uint8)), disc_of(ZONE)), connectivity=8)
    whole, thin = (np.bincount(labels.ravel(), part.ravel(), count) for part in (energy.whole, energy.thin))
    better = whole < WORTH * thin
    better[0] = False
    return np.asarray(better[labels], np.bool_)


def _touched(mask: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """Cells (h / CELL, w / CELL) in which there is something of a mask (h, w)."""
    height, width = (-(-n // CELL) for n in mask.shape)
    padded = np.zeros((height * CELL, width * CELL), np.uint8)
    padded[: mask.shape[0], : mask.shape[1]] = mask
    return np.asarray(padded.reshape(height, CELL, width, CELL).max(axis=(1, 3)), np.uint8)


def lifted_block(part: Cut, fronts: Fronts, quiet: Sequence[float]) -> tuple[FloatArray, FloatArray]:
    """The picture (h, w, 3) of a block with those `fronts` lifted that stand in what was read, and how far (h, w) it is to be taken."""
    lifts: list[tuple[tuple[slice, slice], FloatArray, Lift]] = []
    light = part.sheaf.light.copy()
    for k, mask in _masks(part, fronts.number):
        box = _around(part.sheaf, k, mask)
        sheaf = replace(part.sheaf, light=light).cropped(*box)
        found = lift(sheaf, k, mask[box], fronts.solid[box] & mask[box], quiet[part.numbers[k]])
        lifts.append((box, sheaf.light[k], found))
        light[:, box[0], box[1]] = found.ground
    roots = dict(zip(part.numbers, root_of(light), strict=True))
    ground = replace(part.piece, pictures={k: roots[k] for k in part.piece.pictures})
    picture = light_of(woven_piece(ground, list(part.piece.pictures))[0])
    shown = np.zeros(picture.shape[:2], np.float32)
    for box, own, found in reversed(lifts):
        k = found.front
        through = own + (1 - found.veils[k])[..., None] * (picture[box] - found.ground[k])
        picture[box] = np.where(found.where[..., None], through, picture[box])
        # where no frame sees past the border of a solid thing the weave has its light from all of them, and less noise
        reach = int(max(part.sheaf.away(j, k) for j in range(len(part.numbers)))) + 1
        deep = cv2.erode((fronts.solid[box] & found.where).astype(np.uint8), disc_of(reach), borderType=cv2.BORDER_CONSTANT, borderValue=1) > 0
        shown[box] = np.where(deep, 0, np.maximum(shown[box], np.maximum(found.where, found.veils.max(axis=0))))
    picture = np.clip(picture, *shown_around(part.sheaf.light))
    shown = cv2.GaussianBlur(np.clip((shown - SHOWN) / (WHOLE - SHOWN), 0, 1), (0, 0), 1.5)
    return root_of(picture[part.piece.inner]), np.asarray(shown[part.piece.inner], np.float32)


def veiled_block(part: Cut) -> FloatArray:
    """The picture (h, w, 3) of a block as its frames alone would be woven with their veils. Of many frames the weave chooses from more than are summed
    and lifted here: then only what lifting changes is to be laid over it."""
    return woven_piece(part.piece, list(part.piece.pictures))[0][part.piece.inner]


def blocks_with(fronts: NDArray[np.uint16], blocks: Sequence[Box]) -> list[Box]:
    """The blocks in which, or so near to which that their veils may reach in, there are fronts."""
    return [(x, y, w, h) for x, y, w, h in blocks if fronts[max(0, y - MARGIN) : y + h + MARGIN, max(0, x - MARGIN) : x + w + MARGIN].any()]


def _masks(part: Cut, fronts: NDArray[np.uint16]) -> list[tuple[int, NDArray[np.bool_]]]:
    """The fronts in what was read, near to far: places in the sheaf and where (h, w) they are."""
    there = set(np.flatnonzero(np.bincount(fronts.ravel())).tolist())
    return [(k, fronts == number + 1) for k, number in enumerate(part.numbers) if number + 1 in there and k in part.sheaf.before_ground()]


def _around(sheaf: Sheaf, k: int, mask: NDArray[np.bool_]) -> tuple[slice, slice]:
    """Rows and columns around a front that its veils can reach."""
    margin = int(max(sheaf.away(j, k) for j in range(len(sheaf.light)))) + BESIDE
    (top, bottom), (left, right) = ((int(found.min()), int(found.max())) for found in np.nonzero(mask))
    return np.s_[max(0, top - margin) : bottom + margin + 1, max(0, left - margin) : right + margin + 1]


def _left_by_one(sheaf: Sheaf, luma: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Energy (h, w) that the best single plane leaves unexplained of luminances (n, h, w, 1), above noise, and that of the sharpest of them."""
    bands, _ = evened_luma(np.stack([halve(frame[..., 0]) for frame in luma]))
    waves = sheaf.around.halved()
    spectrum = waves.of(list(bands))
    alone = [planes for planes in explanations(sheaf.places.at) if len(planes) == 1]
    some = np.unique(np.round(np.linspace(0, len(alone) - 1, min(len(alone), MOST_TRIED))).astype(int))
    counted = counted_of(bands, sheaf.places)
    left = np.min([left_by(alone[i], sheaf.places, waves, bands, spectrum, counted) for i in some], axis=0)
    left = np.maximum(left - counted.noise, 0).astype(np.float32)
    size = (luma.shape[2], luma.shape[1])
    return np.asarray(cv2.resize(left, size, interpolation=cv2.INTER_LINEAR), np.float32), np.asarray(cv2.resize(counted.energy, size, interpolation=cv2.INTER_LINEAR), np.float32)


def _in_cells(energy: FloatArray, piece: Piece) -> FloatArray:
    """Sums in the cells of a block of energy (h, w) in all that was read."""
    inner = energy[piece.inner]
    height, width = -(-inner.shape[0] // CELL), -(-inner.shape[1] // CELL)
    padded = np.zeros((height * CELL, width * CELL), np.float32)
    padded[: inner.shape[0], : inner.shape[1]] = inner
    return np.asarray(padded.reshape(height, CELL, width, CELL).sum(axis=(1, 3)), np.float32)


assert BLOCK % CELL == 0
