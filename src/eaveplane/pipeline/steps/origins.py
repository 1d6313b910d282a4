"""The map of where each pixel of a delivery comes from."""

from __future__ import annotations

import numpy as np

from ...core.deliver.provenance import Origins, Provenance, brought_to, mark_light, origins_in, shares_in
from ...core.finish.settings import Finish
from ...imaging.colour import FloatArray
from ...imaging.pyramid import Box
from ...imaging.rows import side_by_side
from .finish import Development
from .lift import open_veils
from .source import Source
from .weave import TILE


def origins_of(source: Source, picture: FloatArray, look: Development, finishing: Finish, size: tuple[int, int]) -> tuple[Origins, Provenance]:
    """Codes (h, w) for an output of a size (w, h), and their shares; `picture` is the whole weave, developed by `look`."""
    width, height = source.size
    whole = np.empty((height, width), np.uint16)
    veils = open_veils(source.cache, source.result) if source.result != source.woven.key else None
    most = np.float32(source.recipe.veil_strength / 100 / 255)
    lifted = None if veils is None else lambda box: most * veils.read(0, box)[..., 0]

    def one(box: Box) -> None:
        x, y, w, h = box
        whole[y : y + h, x : x + w] = origins_in(source.readers, source.weights, source.recipe.weaving, source.recipe.strokes, lifted, box)

    for _ in side_by_side(one, [(x, y, min(TILE, width - x), min(TILE, height - y)) for y in range(0, height, TILE) for x in range(0, width, TILE)]):
        pass
    if any(map_.acts for map_ in finishing.light):
        mark_light(whole, finishing, source.size, *source.light_and_order(picture, look))
    codes = brought_to(whole, finishing, source.canvas, size)
    return codes, shares_in(codes)
