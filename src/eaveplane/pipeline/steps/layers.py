"""The layers of a delivery: registered frames with their masks, what was painted, where pixels come from."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ...core.deliver.provenance import Origins
from ...core.finish.geometry import cut
from ...core.finish.maps import coverage_of
from ...core.finish.settings import Finish
from ...core.masks.parts import Site
from ...core.masks.strokes import Stroke
from ...core.weave.edges import cover_of
from ...imaging.colour import FloatArray
from ...imaging.formats.layered import Layer
from ...imaging.formats.registry import write_picture
from ...imaging.grey import read_grey
from ...imaging.icc import Encoding
from ...imaging.light import to_codes
from ..ticket import Ticket
from .finish import Development
from .mask import SUFFIX, mask_names, write_masks
from .source import Source

FRAME_SUFFIX = ".registered.tif"
WHITE, BLACK = 65535, 0
INK = {"lighter": (WHITE, WHITE, WHITE), "darker": (BLACK, BLACK, BLACK), "richer": (49000, 12000, 20000), "warmer": (WHITE, 36000, 6000), "glow": (WHITE, 60000, 40000)}
"""What maps are drawn in, on layers of their own."""
STROKE_INK = {"in": (10000, 40000, 20000), "out": (45000, 12000, 8000), "way": (12000, 20000, 50000), "draw": (10000, 40000, 40000), "heal": (50000, 30000, 5000)}


def registered_frame(source: Source, k: int, look: Development, finishing: Finish, target: Encoding, size: tuple[int, int]) -> NDArray[np.uint16]:
    """A frame as it lies in an output of a size (w, h), developed alike, in codes (h, w, 3)."""
    x, y, w, h = source.canvas
    site = Site(source.size, 0, source.canvas)
    root = look.of(np.ascontiguousarray(source.readers.read(k, 0, (x, y, w, h))), site)
    return to_codes(cut(root, finishing, source.canvas, size), target)


def _laid(map_: FloatArray, source: Source, finishing: Finish, size: tuple[int, int]) -> NDArray[np.uint16]:
    """A grey map (h, w) from 0 to 1 of the whole reference frame as it lies in an output, in codes (h, w)."""
    x, y, w, h = source.canvas
    part = np.repeat(np.ascontiguousarray(map_[y : y + h, x : x + w], np.float32)[..., None], 3, axis=2)
    return np.asarray(np.round(np.clip(cut(part, finishing, source.canvas, size)[..., 0], 0, 1) * 65535), np.uint16)


def _inked(ink: tuple[int, int, int], alpha: NDArray[np.uint16]) -> NDArray[np.uint16]:
    return np.dstack([np.full_like(alpha, v) for v in ink] + [alpha])


def layers_of(
    source: Source, picture: FloatArray, look: Development, finishing: Finish, target: Encoding, result: NDArray[np.uint16], origins: Origins | None, tell: Ticket
) -> Iterator[Layer]:
    """The layers of a result (h, w, 3), the topmost first: the result, what was painted and where pixels come from (hidden), and the
    registered frames, the nearest first, each with its mask as alpha."""
    size = (result.shape[1], result.shape[0])
    yield Layer("Result", result)
    yield from _painted(source, picture, look, finishing, size)
    if origins is not None:
        yield Layer("Where pixels come from", np.dstack([origins] * 3), hidden=True)
    kept = source.recipe.kept()
    with tempfile.TemporaryDirectory(prefix="eaveplane-") as folder:
        names = write_masks(str(source.cache.root), source.woven, source.recipe, folder, str(tell.path))
        for k, (frame, name) in enumerate(zip(kept, names, strict=True)):
            mask = read_grey(Path(folder) / name).astype(np.float32) / 65535
            codes = registered_frame(source, k, look, finishing, target, size)
            yield Layer(f"{k + 1} {frame.name or Path(frame.file).stem}", np.dstack([codes, _laid(mask, source, finishing, size)]))


def _painted(source: Source, picture: FloatArray, look: Development, finishing: Finish, size: tuple[int, int]) -> Iterator[Layer]:
    whole = (0, 0, *source.size)
    if any(map_.acts for map_ in finishing.light):
        light, order = source.light_and_order(picture, look)
        for number, map_ in enumerate(finishing.light, 1):
            if map_.acts:
                cover = coverage_of(map_, Site(source.size, 0, whole), light, order) * np.float32(map_.strength / 100)
                yield Layer(map_.name or f"{number} {map_.kind}", _inked(INK[map_.kind], _laid(cover, source, finishing, size)), hidden=True)
    for action, ink in STROKE_INK.items():
        strokes = [stroke for stroke in source.recipe.strokes if stroke.action == action]
        if strokes:
            yield Layer(f"Strokes: {action}", _inked(ink, _laid(_covered(source, strokes), source, finishing, size)), hidden=True)


def _covered(source: Source, strokes: Sequence[Stroke]) -> FloatArray:
    """How far strokes cover the whole reference frame (h, w), one after the other: there may be thousands."""
    width, height = source.size
    total = np.zeros((height, width), np.float32)
    for stroke in strokes:
        x, y, w, h = stroke.bounds()
        left, top, right, bottom = max(0, x), max(0, y), min(width, x + w), min(height, y + h)
        if right > left and bottom > top:
            cover = cover_of(stroke, source.readers, (left, top, right - left, bottom - top), 0)
            if cover is not None:
                np.maximum(total[top:bottom, left:right], cover, out=total[top:bottom, left:right])
    return total


def write_frames(source: Source, look: Development, finishing: Finish, target: Encoding, size: tuple[int, int], folder: Path, replace: bool, tell: Ticket) -> list[str]:
    """Write each registered frame as a TIFF of 16 bits on the canvas into a folder; their names, near to far."""
    names = [name.removesuffix(SUFFIX) + FRAME_SUFFIX for name in mask_names(source.recipe.kept())]
    for k, name in enumerate(names):
        write_picture(folder / name, registered_frame(source, k, look, finishing, target, size), target.profile, source.frames[k].meta, replace=replace)
        tell.tell((k + 1) / len(names))
    return names
