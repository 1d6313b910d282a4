"""Loading what lifting and the finish are compiled of before anyone waits for it."""

from __future__ import annotations

import numpy as np

from ..core.depth.order import order_of
from ..core.develop.develop import for_screen
from ..core.finish import noise
from ..core.finish.finish import finish, known_of, lay_light, whole_of
from ..core.finish.settings import Air, AirAt, FineDetail, Finish, Glow, Grain, NoiseLeft, PaintedMap, Vignette
from ..core.masks.parts import BrushedLine, Site
from ..core.mend.fronts import unveiled
from ..imaging.colour import SRGB_FROM_WORK, FloatArray
from ..imaging.light import root_into


def warm_finish(root: FloatArray) -> None:
    """Run what lifts veils, and every part of the finish on a picture (64, 64, 3)."""
    light = np.ones((8, 8, 3), np.float32)
    # what is seen of a front lies in a wider picture, or is one of its own
    for seen in (np.zeros((7, 8, 8), np.float32), np.zeros((7, 8, 9), np.float32)[:, :, :8]):
        unveiled(light, seen, light.copy(), light.copy(), light[..., 0].copy())
    gates, site = np.full((2, 16, 16), 0.5, np.float32), Site((64, 64), 0, (0, 0, 64, 64))
    line = BrushedLine(width=20, softness=0.5, opacity=1, points=[(10, 10), (30, 30)])
    maps = [PaintedMap(kind=kind, lines=[line], low=0.2, near=0.1) for kind in ("lighter", "richer", "warmer", "glow")]
    of = Finish(
        noise=NoiseLeft(strength=50, colour=50), air=Air(far=AirAt(haze=40, saturation=-20, warmth=-20)), light=maps, glow=Glow(strength=40),
        detail=FineDetail(strength=40), vignette=Vignette(strength=-40, keep=50), sharpen=50, grain=Grain(strength=40),
    )  # fmt: skip
    picture = noise.denoised(root, of.noise, noise.measure(lambda box: root, [lambda box: root] * 2, (64, 64), gates), site)
    lit, canvas = picture.copy(), (0, 0, 64, 64)
    lay_light(lit, picture, of, site, known_of(of, whole_of(picture, picture, order_of(gates, picture), site)), canvas, SRGB_FROM_WORK)
    for_screen(root_into(finish(lit, of, canvas, (64, 64)), SRGB_FROM_WORK))
