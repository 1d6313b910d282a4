"""Looking for where frames are focused, on a sample of the picture, so that it costs the same whatever its size."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import product

import cv2
import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.light import light_of
from ...imaging.pyramid import Box
from ...imaging.rows import side_by_side
from .bands import bands_of
from .places import AROUND, TILE, Line, Places, evened_luma, find_places, halved_luma, place_among, shared_energies

MOST_TILES, QUIET_TILES = 120, 20
DETAILED, CALM = 0.7, 0.3
"""Parts of the picture, with most and least detail, of which tiles are taken to tell focus and noise."""
MOST_TOGETHER, ADDED = 12, 4
"""Frames whose places are sought together, and of more those that are sought at a time among others that are known."""
CLIPPED = 1e-9
"""Energy below which a place was clipped or filled, and shows no noise at all."""
DARK = 0.05
"""Root light below which noise may be clipped."""
LEAST_NOISE = 1e-7
"""Variance of noise that even frames without any are taken to have: models are never quite right."""
NOT_NOISE = 2.0
"""Times by which the quietest that frames show may differ for other reasons than noise."""
QUIETEST = 10.0
"""Percent of quiet tiles that are taken for noise alone."""


def locate(read: Callable[[int, Box], FloatArray], count: int, size: tuple[int, int], detail: FloatArray, guess: Line) -> Places | None:
    """Where `count` frames are focused. `read` gives one (h, w, 3) in root light, registered, in a box of the picture of `size` (w, h);
    `detail` (h', w') tells how much detail there is over the picture; `guess` (n,) is where octaves have them. None where there is too little to go by."""
    side = 2 * TILE
    corners = list(product(range(TILE, size[1] - side - TILE + 1, TILE), range(TILE, size[0] - side - TILE + 1, TILE)))
    if len(corners) < 4 or count < 2:
        return None
    across = detail.shape[1] / size[0]
    cells = max(1, round(side * across))
    mean = cv2.blur(detail, (cells, cells), borderType=cv2.BORDER_REPLICATE)
    middles = np.clip(np.round((np.array(corners) + TILE) * across).astype(int), 0, np.array(mean.shape) - 1)
    order = np.argsort(-mean[middles[:, 0], middles[:, 1]], kind="stable")
    detailed = order[: max(4, int(DETAILED * len(order)))]
    detailed = detailed[:: max(1, len(detailed) // MOST_TILES)]
    # not only the quietest: those may be clipped
    calm = order[-max(QUIET_TILES, int(CALM * len(order))) :]
    quiet = calm[:: max(1, len(calm) // QUIET_TILES)]

    wanted = sorted({*detailed.tolist(), *quiet.tolist()})
    # a small picture is read whole: that is less than its tiles, which overlap
    margin = 2 * AROUND
    whole = size[0] * size[1] < len(wanted) * (side + 2 * margin) ** 2
    detail_in, noise_in = set(detailed.tolist()), set(quiet.tolist())
    seen = _Patch.read(read, count, (0, 0, *size), True) if whole else None

    def told(i: int) -> tuple[FloatArray | None, list[list[FloatArray]]]:
        """Of a tile the frames' bands, if they are to tell focus, and energies of their fine and finest detail and of colours in it, if it is to tell noise."""
        y, x = corners[i]
        tells_noise = i in noise_in
        patch = _Patch.read(read, count, (x - margin, y - margin, side + 2 * margin, side + 2 * margin), tells_noise) if seen is None else seen
        top, left = (y, x) if whole else (margin, margin)
        half = np.s_[top // 2 : top // 2 + TILE, left // 2 : left // 2 + TILE]
        full = np.s_[top : top + side, left : left + side]
        piece = patch.bands[:, *half] if i in detail_in else None
        if not tells_noise:
            return piece, []
        lit = patch.lit[full]
        fine = [_energy(b[half] - cv2.GaussianBlur(b[half], (0, 0), 0.8))[lit[::2, ::2]] for b in patch.bands]
        return piece, [fine, *([_energy(e[full])[lit] for e in every] for every in (patch.finest, patch.colours))]

    tiles = list(side_by_side(told, wanted))
    pieces = np.stack([piece for piece, _ in tiles if piece is not None])
    calm_tiles = [energies for _, energies in tiles if energies]
    floors = np.array([[max(LEAST_NOISE, _quietest([tile[of][k] for tile in calm_tiles])) for k in range(count)] for of in range(3)])
    times = noisier_by(floors)
    noise, noise_finest = (float(v) for v in np.median(floors[:2, times == 1], axis=1))
    found, left = _placed(pieces, noise, guess)
    return Places(tuple(float(u) for u in found), left, noise, noise_finest, tuple(float(v) for v in times))


def noisier_by(floors: NDArray[np.float64]) -> NDArray[np.float64]:
    """How many times the noise (n,) of the quieter frames each has, by the quietest (m, n) that they show of detail and of colours in it: where
    nothing is plain a sharp frame has more detail, but hardly of another colour in every pixel. 1 for those that do not clearly have more."""
    times = (floors / np.percentile(floors, 25, axis=1, method="lower", keepdims=True)).min(axis=0)
    return np.minimum(np.maximum(1, (times / NOT_NOISE) ** 2), np.maximum(1, times))


@dataclass(frozen=True, eq=False)
class _Patch:
    """What all frames show in a box: `bands` (n, h/2, w/2) of evened luminance; if it is to tell noise the `finest` octave (n, h, w) in root
    light, `colours` in it, and where it is not dark (h, w)."""

    bands: FloatArray
    finest: FloatArray
    colours: FloatArray
    lit: NDArray[np.bool_]

    @staticmethod
    def read(read: Callable[[int, Box], FloatArray], count: int, box: Box, quiet: bool) -> _Patch:
        def one(k: int) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
            root = read(k, box)
            luma = halved_luma(light_of(root))
            if not quiet:
                return luma, luma[:0], luma[:0], luma[:0]
            band = bands_of(root, 1)[0]
            colours = band[..., ::2] - band[..., 1:2]
            return luma, np.sqrt(np.square(band).sum(axis=2)), np.sqrt(np.square(colours).sum(axis=2)), root.mean(axis=2)

        lumas, finest, colours, light = zip(*side_by_side(one, list(range(count))), strict=True)
        return _Patch(evened_luma(np.stack(lumas))[0], np.stack(finest), np.stack(colours), sum(light) > DARK * count)


def _energy(band: FloatArray) -> FloatArray:
    return np.asarray(cv2.GaussianBlur(band * band, (0, 0), 2), np.float32)


def _quietest(energies: Sequence[FloatArray]) -> float:
    found = np.concatenate(energies)
    found = found[found > CLIPPED]
    return float(np.percentile(found, QUIETEST)) if found.size else 0.0


def _placed(tiles: FloatArray, noise: float, guess: Line) -> tuple[Line, float]:
    """Places (n,) of the frames of tiles (t, n, h, w), and what they leave unexplained. Of many, some from all along the row are placed first, for
    few neighbours that show little sharp tell neither where they are nor on which side; then those between them. What is unexplained is told of the first."""
    count = tiles.shape[1]
    if count <= MOST_TOGETHER:
        return find_places(shared_energies(tiles, noise), guess)
    first = np.round(np.linspace(0, count - 1, MOST_TOGETHER)).astype(int)
    found, left = find_places(shared_energies(np.ascontiguousarray(tiles[:, first]), noise), guess[first])
    places = np.interp(np.arange(count), first, found)
    others = np.setdiff1d(np.arange(count), first)
    for some in np.split(others, range(ADDED, len(others), ADDED)):
        beside = first[np.sort(np.argsort(np.abs(first - some.mean()), kind="stable")[: MOST_TOGETHER - ADDED])]
        together = np.concatenate([beside, some])
        sought = range(len(beside), len(together))
        places[some] = place_among(places[together], shared_energies(np.ascontiguousarray(tiles[:, together]), noise), sought)[len(beside) :]
    return places, left
