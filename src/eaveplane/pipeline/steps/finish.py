"""A whole weave without its noise, developed, with all that is done to its light: what a delivery is cut from."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import numpy as np

from ...core.depth.order import DepthOrder
from ...core.develop.develop import develop
from ...core.develop.look import Light, Look
from ...core.develop.relief import Guide
from ...core.finish.finish import Known, changes_light, known_of, lay_light, needs_whole, rendition, whole_of
from ...core.finish.noise import changes, denoised, measure
from ...core.finish.settings import Finish
from ...core.masks.parts import Site
from ...core.weave.laid import RegisteredFrames
from ...imaging.colour import FloatArray, Matrix
from ...imaging.pyramid import Box, Size


@dataclass(frozen=True)
class Development:
    """The look of a picture of a size (w, h), and what makes the channels it is shown by of working light (3, 3)."""

    look: Look
    shot: Light
    size: Size
    guide: Guide | None
    shown: Matrix

    def of(self, root: FloatArray, site: Site) -> FloatArray:
        """A piece in the weaving encoding, developed, in working light."""
        return develop(root, self.look, self.shot, "rec2020", site, self.guide, self.shown)


def reduces_noise(finishing: Finish) -> bool:
    """Whether a finish does anything about noise."""
    return changes(finishing.noise)


def without_noise(picture: FloatArray, readers: RegisteredFrames, weights: FloatArray, finishing: Finish) -> FloatArray:
    """A weave (h, w, 3) without the noise that is measured in it and in its frames; `weights` (n, h, w) are their label weights."""

    def part(box: Box) -> FloatArray:
        x, y, w, h = box
        return picture[y : y + h, x : x + w]

    size = readers.size
    noise = measure(part, [partial(readers.read, k, 0) for k in range(len(weights))], size, weights)
    return denoised(picture, finishing.noise, noise, Site(size, 0, (0, 0, *size)))


def finished(picture: FloatArray, look: Development, finishing: Finish, canvas: Box, order: DepthOrder | None) -> FloatArray:
    """The canvas (x, y, w, h) of a weave (h, w, 3), developed, with all that is done to its light."""
    known = Known()
    if needs_whole(finishing):
        level, small = rendition(picture)
        site = Site(look.size, level, (0, 0, small.shape[1], small.shape[0]))
        known = known_of(finishing, whole_of(small, look.of(small, site), order, site))
    x, y, w, h = canvas
    woven, site = np.ascontiguousarray(picture[y : y + h, x : x + w]), Site(look.size, 0, canvas)
    developed = look.of(woven, site)
    if changes_light(finishing):
        developed = developed.copy() if developed is woven else developed
        lay_light(developed, woven, finishing, site, known, canvas, look.shown)
    return developed
