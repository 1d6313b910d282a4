"""Fronts: near things before farther ground, found as detail that lies in the plane of one frame, and how far they cover the ground.

If every frame had a plane of its own and blurs added up, the pictures in these planes would follow from the frames by one linear
inverse, frequency by frequency. That near things hide the ground spoils it little: a stem stands in its plane's picture, clean of the
ground, wherever that plane is some pixels of blur away from the ground's. Its difference to what lies around it there is what it adds.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numba import njit
from numpy.typing import NDArray

from ...imaging.colour import LUMA, FloatArray
from ...imaging.soft import soft
from ...imaging.waves import Waves
from ..weave.places import Places
from ..weave.planes import blurred_by, layer_of, seen_from
from ..weave.ways.joint_light import FADE, Lengthened
from .found import disc_of

APART = 2.0
"""Pixels of blur by which a front must be nearer than the farthest frame's focus."""
FINE, WINDOW = 1.2, 0.9
"""Pixels (sigma): what is coarser is no detail, and the window in which its energy is summed."""
BRIGHT, DARKEST = 3.0, 1e-3
"""Pixels (sigma) around which brightness is taken, and the least of it, since noise grows with its square root."""
AGREED = 0.5
"""Correlation between distances and places from which distances tell which end is near."""
QUIET = 20
"""Percentile of detail that stands for places without a front."""
COLOUR_WINDOW = 7
"""Pixels over which a front is taken to be of one colour."""
STANDS_OUT = 4e-4
"""A front as bright as its ground has no known coverage: its difference must stand out against this part of the ground's brightness squared."""
FAINTEST = 0.002
"""Coverage below which a veil is nothing."""
THROUGH = 0.05
"""Less of the ground than this seen through a veil is as good as none."""
SHOWN_AROUND = 9
"""Pixels of the square in which frames show about what may lie behind a veil."""
TRUST = 0.1
"""Square of what is seen through a veil at which what was lifted and what merely adds up count alike."""


@dataclass(frozen=True, eq=False)
class Sheaf:
    """Frames of a piece in linear light (n, h, w, 3), near to far, or their luminance (n, h, w, 1), where they are focused, and how the piece is
    lengthened for its waves."""

    light: FloatArray
    places: Places
    around: Lengthened

    def away(self, j: int, k: int) -> float:
        """Radius in pixels of the disc by which frame j blurs what lies where frame k is focused."""
        return abs(self.places.at[j] - self.places.at[k])

    def cropped(self, rows: slice, columns: slice) -> Sheaf:
        """A part of the piece, a copy even where it is the whole."""
        light = self.light[:, rows, columns].copy()
        return Sheaf(light, self.places, Lengthened(light.shape[1:3], (FADE, FADE), (2 * FADE, 2 * FADE)))

    def grey(self) -> Sheaf:
        """The same in luminance."""
        return Sheaf(np.ascontiguousarray(self.light @ LUMA)[..., None], self.places, self.around)

    def before_ground(self) -> list[int]:
        """Frames that may show fronts."""
        return [k for k in range(len(self.light) - 1) if self.away(k, -1) >= APART]


@dataclass(frozen=True, eq=False)
class Lift:
    """Frames as they are without a front: their `ground` (n, h, w, 3); what the front adds to each (n, h, w, 3), so that all adds up; how far each
    is covered by the front's veil (n, h, w), and where the front is (h, w)."""

    front: int
    ground: FloatArray
    adds: FloatArray
    veils: FloatArray
    where: NDArray[np.bool_]


def near_to_far(places: Sequence[float], metres: Sequence[float | None]) -> list[list[int]]:
    """The orders in which frames may lie from near to far by the places of their focus, likelier first. Blur does not tell which end is near:
    distances do where they are known and agree; else the order in which frames stand is likelier, and either is possible."""
    order = [int(k) for k in np.argsort(places)]
    known = [(place, 1 / m) for place, m in zip(places, metres, strict=True) if m]
    sure = len({nearness for _, nearness in known}) > 1
    agreement = _agreement(known) if sure else 0.0
    if abs(agreement) < AGREED:
        sure, agreement = False, _agreement([(place, -float(k)) for k, place in enumerate(places)])
    likelier = order[::-1] if agreement >= 0 else order
    return [likelier] if sure else [likelier, likelier[::-1]]


def _agreement(pairs: Sequence[tuple[float, float]]) -> float:
    table = np.array(pairs, np.float64).T
    return float(np.asarray(np.corrcoef(table))[0, 1]) if table.std(axis=1).all() else 0.0


def own_detail(sheaf: Sheaf, fronts: Sequence[int]) -> FloatArray:
    """Fine detail (f, h, w) in the planes of frames `fronts`, in a pixel's noise up to a factor."""
    waves = sheaf.around.whole()
    spectrum = waves.of(list(sheaf.light))
    out = np.empty((len(fronts), *sheaf.light.shape[1:3]), np.float32)
    for i, k in enumerate(fronts):
        layer = waves.picture(spectrum, layer_of(sheaf.places.at, k))
        energy = np.square([plane - soft(plane, FINE) for plane in layer]).sum(axis=0)
        out[i] = np.sqrt(soft(energy, WINDOW)) / _brightness(sheaf.light[k])
    return out


def lift(sheaf: Sheaf, k: int, mask: NDArray[np.bool_], solid: NDArray[np.bool_], quiet: float) -> Lift:
    """Take the front that frame k shows where `mask` (h, w) is, and where it is `solid` (h, w) for sure, out of all frames; `quiet` is the detail of
    quiet places in its plane.

    Twice by the inverse, since it takes blurs to add up: the second time it is given frames in which they do. Then by what farther frames,
    with the front out of them, tell of the ground that frame k shows: that leaves frame k's own detail to the front, without an inverse's noise."""
    waves = sheaf.around.whole()
    noise = np.square(2 * np.float32(quiet) * _brightness(sheaf.light[k]))
    where = (cv2.dilate(mask.astype(np.uint8), disc_of(1)) > 0) | solid

    def by_inverse(added_up: FloatArray, of: Sequence[int]) -> Lift:
        layer = np.ascontiguousarray(np.moveaxis(waves.picture(waves.of(list(added_up)), layer_of(sheaf.places.at, k)), 0, 2))
        return _lifted(sheaf, k, where, solid, noise, layer, waves, of)

    every = range(len(sheaf.light))
    first = by_inverse(sheaf.light, every)
    others = tuple(j for j in range(k + 1, len(sheaf.light)) if sheaf.away(j, k) >= APART)
    found = by_inverse(first.ground + first.adds, others)
    behind = np.moveaxis(waves.picture(waves.of([found.ground[j] for j in others]), seen_from(sheaf.places.at, k, others)), 0, 2)
    return _lifted(sheaf, k, where, solid, noise, sheaf.light[k] - behind, waves, every)


def shown_around(pictures: FloatArray) -> tuple[FloatArray, FloatArray]:
    """The least and the most (h, w, c) that frames (n, h, w, c) show around each place: what lies behind a veil passes neither."""
    square = np.ones((SHOWN_AROUND, SHOWN_AROUND), np.uint8)
    return _channels(cv2.erode(pictures.min(axis=0), square)), _channels(cv2.dilate(pictures.max(axis=0), square))


def _lifted(sheaf: Sheaf, k: int, where: NDArray[np.bool_], solid: NDArray[np.bool_], noise: FloatArray, layer: FloatArray, waves: Waves, of: Sequence[int]) -> Lift:
    """`lift` by a picture (h, w, 3) of what the front adds, but for what is coarse; nothing is told of frames other than it and those in `of`."""
    own = sheaf.light[k]
    adds = (layer - carried_in(layer, ~where)) * where[..., None]
    behind = np.maximum(own - adds, 0)
    cover = coverage(adds, behind, noise) * where
    if solid.any():
        hidden = np.maximum(carried_in(own, ~where), 0)
        behind, cover = np.where(solid[..., None], hidden, behind), np.where(solid, np.float32(1), cover)
        adds = np.where(solid[..., None], own - hidden, adds)
    light = np.maximum(adds + cover[..., None] * behind, 0) * where[..., None]
    front = waves.of([np.dstack([light, cover, adds]).astype(np.float32)])
    ground, added, veils = np.empty_like(sheaf.light), np.empty_like(sheaf.light), np.empty(sheaf.light.shape[:3], np.float32)
    ground[k], added[k], veils[k] = behind, adds, cover
    for j in of:
        if j != k:
            unveiled(sheaf.light[j], waves.picture(front, blurred_by(round(sheaf.away(j, k), 3))), ground[j], added[j], veils[j])
    return Lift(k, ground, added, veils, where)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def unveiled(frame: np.ndarray, seen: np.ndarray, ground: np.ndarray, adds: np.ndarray, veil: np.ndarray) -> None:
    """Of a `frame` (h, w, c) over which a front's light, coverage and what it adds are `seen` (2c + 1, h, w), its `ground` and what is added to it
    (h, w, c), and the `veil` (h, w). Division makes noise and errors of the veil grow: the thicker the veil, the more what merely adds
    up stands in."""
    count = frame.shape[2]
    for y in range(frame.shape[0]):
        for x in range(frame.shape[1]):
            part = min(max(seen[count, y, x], np.float32(0)), np.float32(1))
            veil[y, x] = part
            through = np.float32(1) - part
            trust = through * through
            trust = trust / (trust + np.float32(TRUST) * min(np.float32(4) * part, np.float32(1)))
            for c in range(count):
                adds[y, x, c] = seen[count + 1 + c, y, x]
                if part > np.float32(FAINTEST):
                    added_up = frame[y, x, c] - adds[y, x, c]
                    lifted = (frame[y, x, c] - seen[c, y, x]) / max(through, np.float32(THROUGH))
                    ground[y, x, c] = added_up + trust * (lifted - added_up)
                else:
                    ground[y, x, c] = frame[y, x, c]


def coverage(adds: FloatArray, behind: FloatArray, noise: FloatArray) -> FloatArray:
    """How far (h, w), 0 to 1, a front covers what lies `behind` (h, w, 3): the part of the difference usual around here that it adds
    (h, w, 3), where strong pixels tell what is usual; little where that is no more than `noise` (h, w)."""
    energy = np.square(adds).sum(axis=2)
    weight = energy * np.sqrt(energy) + np.float32(1e-14)
    size = (COLOUR_WINDOW, COLOUR_WINDOW)
    usual = _channels(cv2.blur(adds * weight[..., None], size)) / cv2.blur(weight, size)[..., None]
    faint = noise + STANDS_OUT * np.square(behind.mean(axis=2)) + np.float32(1e-9)
    return np.asarray(np.clip((adds * usual).sum(axis=2) / (np.square(usual).sum(axis=2) + faint), 0, 1), np.float32)


def carried_in(picture: FloatArray, known: NDArray[np.bool_]) -> FloatArray:
    """A picture (h, w, c) where it is known, elsewhere filled from around, from as near as there is any (pull and push)."""
    weight = known.astype(np.float32)
    levels: list[tuple[FloatArray, FloatArray]] = [(picture * weight[..., None], weight)]
    while min(levels[-1][1].shape) >= 4 and len(levels) < 7:
        levels.append((_channels(cv2.pyrDown(levels[-1][0])), np.asarray(cv2.pyrDown(levels[-1][1]), np.float32)))
    out = levels[-1][0] / (levels[-1][1][..., None] + np.float32(1e-4))
    for n, (sums, part) in reversed(list(enumerate(levels[:-1]))):
        out = _channels(cv2.pyrUp(out, dstsize=(part.shape[1], part.shape[0])))
        share = np.clip(part * (2 if n else 1), 0, 1)[..., None]
        out = share * (sums / (part[..., None] + np.float32(1e-4))) + (1 - share) * out
    return np.asarray(out, np.float32)


def _channels(picture: Any) -> FloatArray:
    """A picture (h, w, c) whose last axis was dropped where c is 1."""
    return np.asarray(picture if picture.ndim == 3 else picture[..., None], np.float32)


def _brightness(light: FloatArray) -> FloatArray:
    luma = np.ascontiguousarray(light @ LUMA) if light.shape[2] == 3 else light[..., 0]
    return np.sqrt(np.maximum(soft(luma, BRIGHT), np.float32(DARKEST)))
