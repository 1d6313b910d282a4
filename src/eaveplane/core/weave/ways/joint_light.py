"""Joint light: every frequency of the picture is a sum over all frames, weighed by the planes that a place shows.

Choosing frames has a ceiling at depth edges, where one frame shows the ground blurred and the other the near thing's veil. Blur adds
up, so where it is known which planes a place shows the sharp picture of all of them is a weighted sum of the frames; see `planes`.
In a single plane all frames join according to their sharpness, and a plane between two frames comes out sharper than either. In the
finest octave sums amplify noise and feel that a near thing hides the ground: beside depth edges it is the more chosen the closer together
frames are focused, and the picture is bounded by what the frames show. Crisp seams stand in where things are elsewhere in some frame
and where frames end.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import product

import cv2
import numpy as np
from numpy.typing import NDArray

from ....imaging.colour import FloatArray
from ....imaging.light import light_of, root_luma, root_of
from ....imaging.pyramid import Box, meeting
from ....imaging.resample import halve
from ....imaging.soft import soft
from ....imaging.waves import Waves
from ...gather.detail import LAPLACIAN, POOL
from ..bands import mixed
from ..contradiction import WIDEST, contradicts
from ..finest import bounded, finest, finest_chosen
from ..laid import Piece, RegisteredFrames, Weaving, active, piece_of, wide_of
from ..places import Places, evened
from ..planes import Planes, explained_by, explanations, weights_of
from .crisp_seams import crisp_seams, weights_in

BY_FINEST = 0.1
"""A pixel of root light varies at least by this part of what the finest octave does: where much is clipped its own measure says nothing."""
SPECTRUM = 3e5
"""What noise of variance 1 counts for at most at one cycle a pixel, as part of the energy of a picture in root light."""
FAINTEST = 400.0
"""Energy of detail, in noise, at which noise counts for as much there as the picture does; for stronger detail it is less in the square."""
STEPS_AN_OCTAVE, LEAST_ERROR = 4, 1e-6
"""In such steps that is told, for tables are kept, and from so little on."""
BLOCK = 512
"""Sums are made in squares of this many pixels that lie fixed in the picture, so that a pixel is the same whatever is asked for."""
FADE = 64
"""Pixels around a block, read or mirrored, that waves need to be continued."""
MOST_SUMMED = 10
"""Frames that are summed at most; where more have a part, evenly chosen ones are summed and all are chosen from."""
WINDOW = 2.0
"""Cells of two pixels (sigma) over which the unexplained is summed up."""
PAIR_COST, ALL_COST = 1.8, 0.4
"""A pair must leave this many times less than a single plane, since it fits noise better too; all planes together explain anything
and are taken to leave this part of the energy."""
RELATIVE = 0.04
"""Part of the energy that may be unexplained: discs are never quite right."""
WHOLE_NOISE = 2.0
"""Noise of evened pictures, of what the quietest of their finest detail tells of it: a loud frame has all of it."""
USED, LEAST_USED = 0.1, 0.01
"""An explanation is worth its sum where its share exceeds the first in more than the second of the place."""
CLEAR = 4.0
"""Energy, in noise, at which the sum has half of its part in the finest octave."""
EDGE_FROM, EDGE_OVER, EDGE_LEAST, EDGE_MOST = 0.9, 2.0, 0.2, 0.7
"""The sum's part in the finest octave where several planes meet rises, over so many pixels, with the step between the foci of frames."""
ALONE, ALONE_MORE, ALONE_LARGE = 0.95, 0.2, 2.5
"""Its part in a single plane at a step of 1 px, and what each pixel of step adds, up to that many."""
SINGLE_FROM, SINGLE_TO = 0.7, 1.0
"""Share of single planes from which, and at which wholly, a place is taken for one plane."""
MOVED = (0.25, 0.5)
"""Part of the energy left unexplained from which, and at which wholly, things are elsewhere in some frame."""
CALM = 3.0
"""Cells of two pixels (sigma) over which coarse light is smoothed further before frames are compared in it."""
ELSEWHERE = 0.1
"""Part of its coarse light by which a frame differs that shows something else."""
CURVED = 0.25
"""How much of its curvature, times the squared radius of a disc, coarse light is changed by the disc at most: twice what theory says."""
AROUND = 6.0
"""Cells of two pixels (sigma) around a place whose unexplained energy counts for it, too: the quiet inside of a thing that moved shows nothing itself."""
BARELY = 0.01
"""Part of that below which nothing stands in."""
FRAMES_END = 24
"""Pixels from where a frame ends in which crisp seams stand."""


@dataclass(frozen=True)
class Lengthened:
    """How a piece of `shape` (h, w) is lengthened for its waves, `before` (rows, columns) in front and `pad` in all."""

    shape: tuple[int, int]
    before: tuple[int, int]
    pad: tuple[int, int]

    def whole(self) -> Waves:
        return Waves(self.shape, self.pad, self.before)

    def halved(self) -> Waves:
        """The same at half the size."""
        height, width = self.shape
        return Waves((-(-height // 2), -(-width // 2)), (self.pad[0] // 2, self.pad[1] // 2), (self.before[0] // 2, self.before[1] // 2))


@dataclass(frozen=True, eq=False)
class Told:
    """What frames tell of a place: explanations worth using with their shares (e, h/2, w/2) and how strong, in noise, the detail is of which they
    have most (e), the share of single planes (h/2, w/2), and what the best explanation leaves (h/2, w/2) as part of the energy: below a tenth where
    things stood still, about 1 where they did not."""

    used: list[Planes]
    share: FloatArray
    strength: list[float]
    single: FloatArray
    left: FloatArray


def explained(light: Sequence[FloatArray], places: Places, around: Lengthened) -> Told:
    """Try what single planes, pairs of planes and all together leave unexplained of frames (h, w, 3) in linear light."""
    bands, coarse = evened(light)
    noise = places.evened
    waves = around.halved()
    spectrum = waves.of(list(bands))
    counted = counted_of(bands, places)
    energy, of_all = counted.energy, counted.noise
    tried = explanations(places.at)
    around_it = soft(energy, AROUND) + 10 * noise
    costs, least = [], np.full(energy.shape, np.inf, np.float32)
    for planes in tried:
        if len(planes) > 2:
            costs.append(of_all + ALL_COST * energy)
            continue
        left = left_by(planes, places, waves, bands, spectrum, counted)
        least = np.minimum(least, left - of_all)
        costs.append((left + of_all + RELATIVE * energy) * (1 if len(planes) == 1 else PAIR_COST))
    cost = np.stack(costs)
    # the better explanation is preferred by the fourth power
    share = np.square(cost.min(axis=0) / cost)
    share *= share
    share /= share.sum(axis=0)
    # where all is quiet every explanation is as good as the others: the likeliest always has its part
    likeliest = int(share.mean(axis=(1, 2)).argmax())
    used = [i for i in range(len(tried)) if i == likeliest or (share[i] > USED).mean() > LEAST_USED]
    kept = share[used] / np.maximum(share[used].sum(axis=0), 1e-6)
    single = np.sum([part for i, part in zip(used, kept, strict=True) if len(tried[i]) == 1], axis=0, dtype=np.float32)
    apart = np.maximum(least / (energy + 10 * noise), soft(least, AROUND) / around_it)
    apart = np.maximum(apart, elsewhere(coarse, float(np.ptp(places.at)) / 2))
    strength = [float((part * energy * energy).sum() / max(float((part * energy).sum()), 1e-12)) / noise for part in kept]
    return Told([tried[i] for i in used], np.asarray(kept, np.float32), strength, np.broadcast_to(single, energy.shape), apart)


@dataclass(frozen=True, eq=False)
class Counted:
    """How much frames count where they are held against each other: the `energy` (h/2, w/2) of the sharpest and the `noise` of all so counted,
    and the `parts` (n) of (h/2, w/2); None where all have the same noise and count alike."""

    energy: FloatArray
    noise: FloatArray | float
    parts: list[FloatArray] | None


def counted_of(bands: FloatArray, places: Places) -> Counted:
    """Noisier ones of evened frames (n, h/2, w/2) count for less where detail is weak, and for as much as others where models err by more than noise."""
    own, noise = [soft(b * b, WINDOW) for b in bands], np.float32(places.evened)
    if max(places.noisier) == 1:
        return Counted(np.asarray(np.max(own, axis=0), np.float32), len(bands) * places.evened, None)
    noises = [np.float32(1 + WHOLE_NOISE * (times - 1)) * noise for times in places.noisier]
    above = np.max([np.maximum(energy - theirs, 0) for energy, theirs in zip(own, noises, strict=True)], axis=0)
    error = noise + np.float32(RELATIVE) * above
    parts = [error / (error + theirs - noise) for theirs in noises]
    of_all = np.sum([theirs * part for theirs, part in zip(noises, parts, strict=True)], axis=0)
    return Counted(np.max([energy * part for energy, part in zip(own, parts, strict=True)], axis=0), of_all, parts)


def left_by(planes: Planes, places: Places, waves: Waves, bands: FloatArray, spectrum: FloatArray, counted: Counted) -> FloatArray:
    """Energy (h/2, w/2), noise and all, that planes leave unexplained of evened frames, `bands` (n, h/2, w/2) of these waves, as they count."""
    left = np.zeros(waves.shape, np.float32)
    from_frames, to_frames = explained_by(places.at, planes, 2.0, places.noisier)
    parts = waves.sums(spectrum, from_frames)
    for k, band in enumerate(bands):
        rest = band - waves.picture(parts, to_frames[:, k])[0]
        cv2.accumulateProduct(rest, rest if counted.parts is None else rest * counted.parts[k], left)
    return soft(left, WINDOW)


def elsewhere(coarse: FloatArray, widest: float) -> FloatArray:
    """How far (h, w) the coarse light of frames (n, h, w) differs by more than what discs of up to `widest` pixels do to it: 0 for not at all,
    1 for something else. Where a plain thing moved nothing fine tells of it, but sums would show it twice."""
    calm = np.stack([soft(c, CALM) for c in coarse])
    mean = calm.mean(axis=0)
    curved = cv2.dilate(np.abs(cv2.Laplacian(mean, cv2.CV_32F)), np.ones((5, 5), np.uint8)) * np.float32(CURVED * widest**2)
    return np.asarray((np.abs(calm - mean).max(axis=0) - curved) / (ELSEWHERE * mean + np.float32(1e-3)), np.float32)


def _noise_in(strength: float, noise: float) -> float:
    """What noise of a variance counts for at one cycle a pixel among detail of a strength: where that is weak noise is kept down, where it is
    strong nothing of it is lost."""
    error = max(min(noise * SPECTRUM, (FAINTEST / max(strength, 1e-3)) ** 2), LEAST_ERROR)
    return float(2.0 ** (round(STEPS_AN_OCTAVE * np.log2(error)) / STEPS_AN_OCTAVE))


def summed(light: Sequence[FloatArray], told: Told, places: Places, noise: float, around: Lengthened) -> FloatArray:
    """The linear picture (h, w, 3) of frames (h, w, 3) in linear light; `noise` is the variance of a pixel in root light."""
    height, width = light[0].shape[:2]
    waves = around.whole()
    spectrum = waves.of(light)
    out = np.zeros((3, height, width), np.float32)
    for planes, part, strength in zip(told.used, told.share, told.strength, strict=True):
        picture = waves.picture(spectrum, weights_of(places.at, planes, _noise_in(strength, noise), places.noisier))
        wide = cv2.resize(part, (width, height), interpolation=cv2.INTER_LINEAR)
        for total, plane in zip(out, picture, strict=True):
            cv2.accumulateProduct(wide, plane, total)
    return np.asarray(cv2.merge(list(out)), np.float32)


def lengthened(piece: Piece) -> Lengthened:
    """So that there is FADE around the box on each side, read or mirrored."""
    (x, y, w, h), (left, top, width, height) = piece.box, piece.wide
    before = (FADE - (y - top), FADE - (x - left))
    after = (FADE - (top + height - y - h), FADE - (left + width - x - w))
    return Lengthened((height, width), before, (before[0] + after[0], before[1] + after[1]))


def joined(frames: Sequence[FloatArray], linear: FloatArray, told: Told, reach: Sequence[NDArray[np.bool_]], places: Places, noises: Sequence[float]) -> FloatArray:
    """The sharp picture (h, w, 3) in root light, of the linear one and of what is chosen of the finest octave of frames (h, w, 3), which have `noises`."""
    size = (linear.shape[1], linear.shape[0])
    step = float(np.median(np.diff(np.sort(places.at)))) if len(places.at) > 1 else 0.0
    beside = float(np.clip((step - EDGE_FROM) / EDGE_OVER, EDGE_LEAST, EDGE_MOST))
    alone = ALONE + ALONE_MORE * float(np.clip(step - 1, 0, ALONE_LARGE))
    single = np.clip((cv2.resize(told.single, size, interpolation=cv2.INTER_LINEAR) - SINGLE_FROM) / (SINGLE_TO - SINGLE_FROM), 0, 1)
    fine, rest = finest(root_of(np.maximum(linear, 0)))
    chosen, clear = finest_chosen(frames, reach, noises)
    part = (np.float32(beside) + np.float32(alone - beside) * single) * clear / (clear + np.float32(CLEAR))
    return bounded(rest + chosen + part[..., None] * (fine - chosen), frames)


def to_sum(laid: RegisteredFrames, gates: FloatArray, box: Box, level: int) -> list[int]:
    """The frames that are summed in a box: all, or of many those between which it is sharp, evenly chosen."""
    count = len(laid.names)
    if count <= MOST_SUMMED:
        return list(range(count))
    assert laid.places is not None
    there = np.array(laid.places.at)
    sharp = there[active(gates, box, level) or [laid.reference]]
    order = np.argsort(there)
    first, last = (int(np.searchsorted(there[order], edge)) for edge in (sharp.min(), sharp.max()))
    # one beyond either end tells what the ends themselves cannot
    first, last = max(0, first - 1), min(count - 1, last + 1)
    if last - first + 1 < MOST_SUMMED:
        first = max(0, min(first - (MOST_SUMMED - (last - first + 1)) // 2, count - MOST_SUMMED))
        last = min(count - 1, first + MOST_SUMMED - 1)
    wanted = np.linspace(there[order[first]], there[order[last]], MOST_SUMMED)
    return sorted({int(order[first + np.abs(there[order[first : last + 1]] - place).argmin()]) for place in wanted})


def _block(laid: RegisteredFrames, gates: FloatArray, weaving: Weaving, block: Box, level: int) -> tuple[FloatArray, dict[int, FloatArray]]:
    """Picture (h, w, 3) and masks (h, w) of a block."""
    summing = to_sum(laid, gates, wide_of(laid, block, level, weaving.octaves), level)
    piece = piece_of(laid, gates, weaving, block, level, summing)
    picture, masks = woven_piece(piece, summing)
    return np.ascontiguousarray(picture[piece.inner]), {k: mask[piece.inner] for k, mask in masks.items()}


def woven_piece(piece: Piece, summing: Sequence[int]) -> tuple[FloatArray, dict[int, FloatArray]]:
    """Picture (h, w, 3) and masks (h, w) of all that was read of a piece, of which the frames `summing` are summed."""
    assert piece.laid.places is not None
    masks = weights_in(piece)
    all_places, around = piece.laid.places.halved(piece.level), lengthened(piece)
    places = all_places.of(summing)
    light = [light_of(piece.pictures[k]) for k in summing]
    told = explained(light, places, around)
    linear = summed(light, told, places, max(piece.laid.noise * 0.25**piece.level / LAPLACIAN, BY_FINEST * places.finest), around)
    picture = joined(list(piece.pictures.values()), linear, told, list(piece.reach.values()), places, [all_places.finest * all_places.noisier[k] for k in piece.pictures])
    moved = soft(np.clip((told.left - MOVED[0]) / (MOVED[1] - MOVED[0]), 0, 1).astype(np.float32), 3)
    if moved.max() > BARELY:
        # masks go on telling where each frame is the sharpest
        one = crisp_seams(of_one_moment(piece))[0]
        picture += cv2.resize(moved, (picture.shape[1], picture.shape[0]), interpolation=cv2.INTER_LINEAR)[..., None] * (one - picture)
    everywhere = np.all([piece.reach[k] for k in summing], axis=0)
    if not everywhere.all():
        crisp = mixed(((frame, masks[k]) for k, frame in piece.pictures.items()), piece.weaving.octaves)
        away = np.asarray(cv2.distanceTransform(everywhere.astype(np.uint8), cv2.DIST_L2, 5), np.float32)
        picture = crisp + np.clip(away / FRAMES_END - 0.5, 0, 1)[..., None] * (picture - crisp)
    return picture, masks


def of_one_moment(piece: Piece) -> Piece:
    """The piece without those parts of frames that show something else than the reference does. Frames focused farther from it than can be
    judged as they are keep their part: what they show at a smaller size cost solid things their sharp frames."""
    assert piece.laid.places is not None
    places, standard, noisier = piece.laid.places.halved(piece.level).at, piece.laid.reference, piece.laid.places.noisier
    apart = {k: abs(places[k] - places[standard]) for k in piece.pictures if k != standard}
    judged = [k for k, pixels in apart.items() if pixels <= WIDEST]
    if standard not in piece.pictures or not judged:
        return piece
    height, width = piece.reach[standard].shape
    theirs, noise, cells = halve(root_luma(piece.pictures[standard])), piece.laid.noise * 0.25 ** (piece.level + 1) / LAPLACIAN, (-(-height // POOL), -(-width // POOL))
    gates = dict(piece.gates)
    for k in judged:
        elsewhere = contradicts(halve(root_luma(piece.pictures[k])), theirs, apart[k] / 2, noise * (noisier[k] + noisier[standard]) / 2, cells)
        shut = cv2.resize(elsewhere.astype(np.uint8), (width, height), interpolation=cv2.INTER_NEAREST) > 0
        gates[k] = np.where(shut & piece.reach[standard], np.float32(0), gates[k])
    return replace(piece, gates=gates)


def blocks_of(box: Box, size: tuple[int, int]) -> list[Box]:
    """The blocks that a box of a picture of `size` (w, h) touches, from the bottom up."""
    x, y, w, h = box
    columns, rows = range(x // BLOCK, -(-(x + w) // BLOCK)), range(y // BLOCK, -(-(y + h) // BLOCK))
    return [(c * BLOCK, r * BLOCK, min(BLOCK, size[0] - c * BLOCK), min(BLOCK, size[1] - r * BLOCK)) for r, c in product(reversed(rows), columns)]


def joint_light(laid: RegisteredFrames, gates: FloatArray, weaving: Weaving, box: Box, level: int) -> tuple[FloatArray, dict[int, FloatArray]]:
    """The picture (h, w, 3) in a box of the picture halved `level` times, and masks (h, w): where each frame is the sharpest."""
    out = np.empty((box[3], box[2], 3), np.float32)
    masks: dict[int, FloatArray] = {}
    for block in blocks_of(box, laid.size_at(level)):
        picture, shares = _block(laid, gates, weaving, block, level)
        there, here = meeting(box, block)
        out[there] = picture[here]
        for k, share in shares.items():
            masks.setdefault(k, np.zeros(out.shape[:2], np.float32))[there] = share[here]
    return out, masks
