"""Masks that are made by hand: brought in as files, and all of a scene's written out."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from ...core.weave.laid import ByHand, HandMask
from ...core.weave.weave import masks_in
from ...imaging.colour import FloatArray
from ...imaging.grey import Codes, open_grey, read_grey, shared_codes
from ...imaging.pyramid import Box, Pyramid
from ...recipe import FrameChoice, Recipe
from ..cache import Cache
from ..ticket import Ticket
from .frame import open_frame
from .label import open_labels
from .register import open_registration, registered_frames
from .step import Step
from .weave import TILE, Weave, places_for

SUFFIX = ".mask.tif"


@dataclass(frozen=True)
class GivenMask(Step):
    """A frame's mask that was brought in: grey codes of a `digest`, kept in a `file`."""

    name, version = "mask", 1
    digest: str
    file: Path = field(compare=False)

    def build(self, cache: Cache, folder: Path, ticket: Ticket) -> None:
        codes = read_grey(self.file)
        levels = Pyramid.create(folder / "mask", codes.shape[1], codes.shape[0], 1, "uint16")
        levels.write(0, 0, 0, codes[..., None])
        levels.halve_into_levels()


def digest_of(codes: Codes) -> str:
    """What tells masks apart."""
    return hashlib.sha256(repr(codes.shape).encode() + codes.tobytes()).hexdigest()[:16]


def by_hand(cache: Cache, recipe: Recipe, size: tuple[int, int]) -> ByHand:
    """What a recipe decides by hand about its kept frames of a size (w, h); a mask that has not come in yet, or is of another size, hides its
    frame."""

    def reader(digest: str) -> HandMask:
        step = GivenMask(digest, Path())
        if not step.is_there(cache):
            return HandMask()
        levels = Pyramid(step.folder(cache) / "mask")
        if levels.sizes[0] != size:
            return HandMask()

        def read(level: int, box: Box) -> FloatArray:
            return np.asarray(levels.read(level, box)[..., 0] / np.float32(65535), np.float32)

        return HandMask(read=read)

    made = {"hidden": lambda f: HandMask(), "whole": lambda f: HandMask(1.0), "given": lambda f: reader(f.mask_file)}
    return ByHand({k: made[f.mask](f) for k, f in enumerate(recipe.kept()) if f.mask != "found"}, recipe.limits())


def mask_names(frames: Sequence[FrameChoice]) -> list[str]:
    """The names of the files of frames' masks: those of the frames, with their number before it where two would be the same."""
    stems = [Path(f.exposures[0].file if f.exposures else f.file).stem for f in frames]
    return [(stem if stems.count(stem) == 1 else f"{k}-{stem}") + SUFFIX for k, stem in enumerate(stems, 1)]


def write_masks(root: str, woven: Weave, recipe: Recipe, folder: str, ticket: str) -> list[str]:
    """Write the mask of each kept frame, strokes included, as a grey TIFF of 16 bits into a folder; their names, near to far. Together they are
    white everywhere. Frames are ids, in the order of `recipe.kept()`."""
    cache, tell, kept = Cache(Path(root)), Ticket(ticket), recipe.kept()
    registered = woven.labelled.registered
    frames, found = [open_frame(cache, frame) for frame in registered.frames], open_registration(cache, registered.key)
    laid = registered_frames(frames, [f.id for f in kept], found, recipe.even_out, [f.trim for f in kept], places_for(cache, woven), by_hand(cache, recipe, found.size))
    gates, (width, height) = open_labels(cache, woven.labelled.key), laid.size
    names = mask_names(kept)
    files = [open_grey(Path(folder) / name, laid.size) for name in names]
    boxes = [(x, y, min(TILE, width - x), min(TILE, height - y)) for y in range(0, height, TILE) for x in range(0, width, TILE)]
    for done, (x, y, w, h) in enumerate(boxes, 1):
        masks = masks_in(laid, gates, recipe.weaving, recipe.strokes, (x, y, w, h), 0)
        for k, codes in zip(masks, shared_codes(list(masks.values())), strict=True):
            files[k][y : y + h, x : x + w] = codes
        tell.tell(done / len(boxes))
    return names
