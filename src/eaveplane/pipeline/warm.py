"""Loading what is compiled before anyone waits for it."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ..core.develop.develop import develop, for_screen
from ..core.develop.look import RAW_LOOK, Light
from ..core.gather.defocus import Blocks, line_up
from ..core.gather.octaves import OCTAVES
from ..core.masks.strokes import Stroke
from ..core.register.area import common_area
from ..core.register.refine import HOMOGRAPHY, adjust, banded, measure_pair
from ..core.weave.labels import aggregate
from ..core.weave.laid import RegisteredFrames, Weaving
from ..core.weave.weave import weave_box
from ..imaging.brush import draw_line
from ..imaging.icc import standard_encoding
from ..imaging.light import survey, to_codes, to_root
from ..imaging.placement import Placement, Shift
from ..imaging.waves import STEPS, Waves
from .warm_finish import warm_finish

KEPT = 3
"""States of the code whose kernels are kept beside those there are."""


def warm_up() -> None:
    """Run the kernels of registering, weaving and showing on a picture of a few pixels."""
    codes = np.zeros((64, 64, 3), np.uint16)
    encoding = standard_encoding("srgb")
    root = to_root(codes, encoding)
    to_codes(root, encoding)
    survey(codes, encoding, 1)
    still, shifted = (Placement(np.array([[1, 0, x], [0, 1, 0], [0, 0, 1.0]]), (64, 64)) for x in (0, 0.5))
    laid = RegisteredFrames(["a", "b"], 0, (64, 64), [still, shifted], 1e-6, lambda k, level, box: shifted.lay(root, box))
    Placement(np.eye(3), (64, 64), Shift(np.ones(3), np.ones((8, 8), np.float32), (64, 64))).lay(root, (0, 0, 64, 64))
    stroke = Stroke(action="in", frame="b", width=20, softness=0.5, opacity=1, points=[(10, 10), (30, 30)])
    heal = stroke.model_copy(update={"action": "heal", "source": (10.0, 0.0), "edges": True})
    weave_box(laid, np.full((2, 16, 16), 0.5, np.float32), Weaving(), [stroke, heal], (0, 0, 64, 64), 0)
    luma = np.random.default_rng(1).random((160, 160), np.float32)
    bands = banded(luma)
    tiles = measure_pair(0, 1, bands, bands, np.ones((160, 160), np.bool_), 1e-6)
    adjust(2, 0, [tiles], (160, 160), HOMOGRAPHY)
    common_area([shifted.corners()], (64, 64))
    aggregate(np.ones((2, 16, 16), np.float32), np.ones((16, 16), np.float32), 1.0)
    draw_line(stroke, (0, 0, 64, 64), 0)
    waves = Waves((64, 64), (8, 8))
    waves.picture(waves.of([luma[:64, :64]]), np.ones((1, STEPS), np.float32))
    blocks = Blocks(np.ones((2, 2, OCTAVES)), np.full((2, 2, OCTAVES), 0.01), np.ones((2, 2), np.bool_))
    line_up(blocks, np.arange(2.0), to_scale=True)
    for_screen(develop(root, RAW_LOOK, Light(), "srgb"))
    warm_finish(root)


def warm_camera() -> None:
    """Run the kernels of merging and of the field camera."""
    import math

    from ..core.gather.merge import merge, peak_of
    from ..fieldcam.camera import Camera, Shot, Stage, expose
    from ..fieldcam.landscapes import LANDSCAPES
    from ..fieldcam.lens import Lens

    light = np.full((64, 64, 3), 0.2, np.float32)
    times = [0.5, 1.0]
    merge([lambda a, b: light[a:b]] * 2, times, [np.ones((8, 8), np.float32)] * 2, (64, 64), peak_of(times))
    camera = Camera(96, 64, Lens(blades=7, cats_eye=0.3, rim=0.2, fringe_red=1e-3, fringe_blue=-1e-3, falloff_ev=1))
    for landscape in LANDSCAPES.values():
        shot = Shot(math.inf, gust=(0.1, 0.1))
        expose(Stage(landscape, camera, [shot]).picture(shot)[0], camera, shot, 1)


def compile_all() -> None:
    """Compile what the program is made of, the field camera included, so that nobody waits for it later; of earlier states of the code, or of
    copies of it elsewhere, the kernels of the last few are kept."""
    import os
    import shutil
    from concurrent.futures import ProcessPoolExecutor
    from multiprocessing import get_context

    # the compiler uses one core at a time
    with ProcessPoolExecutor(2, get_context("spawn")) as both:
        for done in [both.submit(warm_up), both.submit(warm_camera)]:
            done.result()
    for other in given_up(Path(os.environ["NUMBA_CACHE_DIR"])):
        shutil.rmtree(other, ignore_errors=True)


def given_up(here: Path) -> list[Path]:
    """Folders of kernels beside `here` but for the KEPT newest; none where `here` is a folder of somebody's own."""
    others = [other for other in here.parent.iterdir() if other != here] if here.parent.name == "kernels" else []
    return sorted(others, key=lambda folder: folder.stat().st_mtime)[:-KEPT]


if __name__ == "__main__":
    compile_all()
