"""Noise that the weave has left, measured place by place and taken away evenly.

Where one frame gives the picture its noise stands as it was; where joint light sums many it is less. So it is measured in the
weave itself, by the frame that leads there and where none does, and each place is cleaned of as much as it has. Directional
wavelets over the square root of light (undecimated at the finest scale, B3 spline, Starck and Murtagh 1994) are shrunk by a
local Wiener filter (Mihçak, Kozintsev, Ramchandran and Moulin 1999).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import cv2
import numpy as np

from ...imaging.colour import FloatArray
from ...imaging.pyramid import Box, Size
from ...imaging.rows import side_by_side
from ..masks.parts import Site
from .settings import NoiseLeft
from .shrink import Variance, parted, rejoined, shrink

SCALES = 4
REACH = 2 * (2**SCALES - 1) + 3 * 2 ** (SCALES - 1)
"""Pixels around a box that have a part in it."""
SPLINE = np.array([1, 4, 6, 4, 1], np.float32) / 16
ALONE = np.ones(1, np.float32)
EVERYWHERE = np.ones((1, 1, 1), np.float32)
OPPONENT = np.array([[0.25, 0.5, 0.25], [1, -1, 0], [0, -1, 1]], np.float32)
BACK = np.linalg.inv(OPPONENT).astype(np.float32)
SIDE, BLOCK = 128, 16
"""Pixels of a sample, and of the blocks in it."""
MANY, SOME = (9, 6), (4, 3)
"""Samples across and down a weave, and a frame."""
STRIP = 320
"""Rows that are cleaned at a time by one core."""
QUIET = 0.2
"""Share of a zone's blocks that is taken to be without texture."""
FEWEST = 24
"""Blocks of a zone from which its noise is told by itself."""
LEADING, EVEN = 0.7, 0.45
"""Share from which a frame gives a place alone, and up to which none leads."""
BRIGHTNESS, COLOUR = 1.4, 2.0
"""Multiples of the variance that is measured which are taken for noise at full strength: quiet blocks tell less than all of it."""


@dataclass(frozen=True, eq=False)
class WovenNoise:
    """Deviation (n + 1, 3, SCALES, 4) of noise in the square root of light, by brightness and two differences of colour, by scale and by
    direction (across, down, both ways, all of them): where each of n frames stands alone, and where none leads. `shares` (n + 1, h, w) how much of the picture is each of those."""

    zones: FloatArray
    shares: FloatArray

    def at(self, site: Site, plane: int, scale: int, directions: slice) -> Variance:
        """How much there is of it in a piece."""
        variance = np.ascontiguousarray(self.zones[:, plane, min(scale, SCALES - 1), directions] ** 2)
        if np.allclose(variance, variance[0]):
            return Variance(variance[:1], EVERYWHERE, 0.0, 0.0, 0.0, 0.0)
        x, y, _, _ = site.box
        across, down = ((1 << site.level) * n / side for n, side in zip(self.shares.shape[:0:-1], site.size, strict=True))
        return Variance(variance, self.shares, (x + 0.5) * across - 0.5, across, (y + 0.5) * down - 0.5, down)


def shares_of(gates: FloatArray) -> FloatArray:
    """How much of each place (n + 1, h, w) is given by each of n frames alone, as label weights (n, h, w) have it, and by none of them."""
    part = gates / np.maximum(gates.sum(axis=0), 1e-6)
    alone = np.clip((part.max(axis=0) - EVEN) / (LEADING - EVEN), 0, 1)
    return np.concatenate([part * alone, (1 - alone)[None]]).astype(np.float32)


def _bands(plane: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Detail (3, h, w) across, down and both ways, and what is left smooth."""
    across = cv2.sepFilter2D(plane, -1, SPLINE, ALONE, borderType=cv2.BORDER_REFLECT)
    down = cv2.sepFilter2D(plane, -1, ALONE, SPLINE, borderType=cv2.BORDER_REFLECT)
    smooth = np.asarray(cv2.sepFilter2D(across, -1, ALONE, SPLINE, borderType=cv2.BORDER_REFLECT))
    return np.stack([down - smooth, across - smooth, plane - across - down + smooth]), smooth


def measure(woven: Callable[[Box], FloatArray], frames: Sequence[Callable[[Box], FloatArray]], size: Size, gates: FloatArray) -> WovenNoise:
    """Measure it in samples spread over a weave of a size (w, h) and its registered frames; each gives a box (h, w, 3) in the weaving encoding.
    `gates` (n, h, w) are the label weights of the frames. A zone has no more noise than its frame, which shows it best where it is blurred."""
    shares = shares_of(gates)
    own = np.stack([_zones(frame, size, np.ones((1, 1, 1), np.float32), SOME)[0] for frame in frames])
    zones = _zones(woven, size, shares, MANY)
    most = own.max(axis=0)
    return WovenNoise(np.concatenate([np.minimum(zones[:-1], own), np.minimum(zones[-1:], most)]), shares)


def _zones(read: Callable[[Box], FloatArray], size: Size, shares: FloatArray, samples: tuple[int, int]) -> FloatArray:
    width, height = size
    side = min(SIDE, width, height) // BLOCK * BLOCK
    down = np.linspace(0, height - side, max(1, min(samples[1], height // max(side, 1)))).astype(int) if side else ()
    across = np.linspace(0, width - side, max(1, min(samples[0], width // max(side, 1)))).astype(int)

    def told(box: Box) -> tuple[FloatArray, FloatArray] | None:
        planes = read(box) @ OPPONENT.T
        if planes[..., 0].max() > 0.985:
            return None
        here = np.stack([Site(size, 0, box).spread(np.ascontiguousarray(share)) for share in shares])
        own = here.reshape(len(shares), side // BLOCK, BLOCK, -1, BLOCK).mean(axis=(2, 4)).reshape(len(shares), -1)
        return np.stack([_by_block(np.ascontiguousarray(planes[..., c])) for c in range(3)], axis=1), own

    sampled = [both for both in side_by_side(told, [(int(x), int(y), side, side) for y in down for x in across]) if both is not None]
    if not sampled:
        return np.zeros((len(shares), 3, SCALES, 4), np.float32)
    found, belongs = zip(*sampled, strict=True)
    blocks, part = np.concatenate(found), np.concatenate(belongs, axis=1)
    whole = np.quantile(blocks, QUIET, axis=0)
    zones = np.stack([np.quantile(blocks[own > 0.8], QUIET, axis=0) if (own > 0.8).sum() >= FEWEST else whole for own in part])
    for scale in range(2, SCALES):
        # noise falls from scale to scale, demosaiced too; what does not is the picture
        zones[:, :, scale] = np.minimum(zones[:, :, scale], 0.65 * zones[:, :, scale - 1])
    return zones.astype(np.float32)


def _by_block(plane: FloatArray) -> FloatArray:
    """Deviation (blocks, SCALES, 4) of the detail in blocks of a plane, by its median."""
    found = []
    for scale in range(SCALES):
        parts, smooth = _bands(plane)
        bands = np.concatenate([parts, (plane - smooth)[None]])
        side = BLOCK >> scale
        rows, columns = plane.shape[0] // side, plane.shape[1] // side
        split = np.abs(bands[:, : rows * side, : columns * side]).reshape(4, rows, side, columns, side).transpose(0, 1, 3, 2, 4).reshape(4, rows * columns, side * side)
        half = side * side // 2
        # sorting is faster than taking medians of so few
        found.append(np.sort(split, axis=2)[..., half - 1 : half + 1].mean(axis=2).T / 0.6745)
        plane = np.ascontiguousarray(smooth[::2, ::2])
    return np.stack(found, axis=1).astype(np.float32)


def _cleaned(plane: FloatArray, noise: WovenNoise, site: Site, which: int, amount: float, scale: int) -> FloatArray:
    # differences of colour have hardly any fine lines: the finest of them is cleaned as one
    directions = np.s_[3:] if which and scale == 0 else np.s_[:3]
    kept, smooth = np.empty_like(plane), np.empty_like(plane)
    shrink(plane, noise.at(site, which, scale, directions), amount, kept, smooth)
    if scale + 1 < SCALES and min(plane.shape) >= 4:
        # every other pixel of the whole picture, not of the piece, so that pieces agree
        x, y, _, _ = site.box
        right, down = x & 1, y & 1
        coarse = np.ascontiguousarray(smooth[down::2, right::2])
        part = Site(site.size, site.level + 1, ((x + right) // 2, (y + down) // 2, coarse.shape[1], coarse.shape[0]))
        taken = cv2.subtract(_cleaned(coarse, noise, part, which, amount, scale + 1), coarse)
        h, w = plane.shape
        back = cv2.warpAffine(taken, np.array([[2.0, 0, right], [0, 2, down]]), (w, h), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        cv2.add(smooth, back, smooth)
    return np.asarray(cv2.add(kept, smooth, kept), np.float32)


def denoised(root: FloatArray, left: NoiseLeft, noise: WovenNoise, site: Site) -> FloatArray:
    """A piece (h, w, 3) of the weave, in the weaving encoding, without the noise that was measured. Within REACH of its edges it is only
    nearly right."""
    height = root.shape[0]
    out = np.empty(root.shape, np.float32)

    def strip(first: int) -> None:
        above, last = max(0, first - REACH), min(first + STRIP, height)
        below = min(height, last + REACH)
        planes = np.empty((3, below - above, root.shape[1]), np.float32)
        parted(root[above:below], OPPONENT, planes)
        for c in range(3):
            amount = (BRIGHTNESS * left.strength if c == 0 else COLOUR * left.colour) / 100
            if amount:
                planes[c] = _cleaned(planes[c], noise, site.rows(above, below), c, amount, site.level)
        rejoined(planes[:, first - above : last - above], BACK, root[first:last], left.mixed / 100, out[first:last])

    for _ in side_by_side(strip, range(0, height, STRIP)):
        pass
    return out


def changes(left: NoiseLeft) -> bool:
    """Whether it does anything."""
    return bool(left.strength or left.colour) and left.mixed < 100
