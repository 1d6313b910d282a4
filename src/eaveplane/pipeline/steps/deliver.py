"""Writing the finished picture."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import tifffile

from ...core.deliver.delivery import LAYERED
from ...core.deliver.provenance import Origins, Provenance, legend
from ...core.deliver.sheet import mounted, written
from ...core.finish.finish import finish
from ...imaging.cms import to_profile
from ...imaging.formats.layered import write_layers, write_openraster
from ...imaging.formats.registry import write_picture, write_thumbnail
from ...imaging.light import to_codes
from ...imaging.write import put_in_place, writes
from ...recipe import Recipe
from ..cache import Cache
from ..ticket import Ticket
from .layers import layers_of, write_frames
from .origins import origins_of
from .register import Register
from .source import Source
from .target import given_profile, output_encoding, shown_by
from .told import saving_for
from .weave import Weave

ORIGINS, LEGEND = " origins.tif", " origins.json"


@dataclass(frozen=True)
class Written:
    """What was written: its size (w, h) in pixels, its density, whether it was enlarged, and where its pixels come from."""

    size: tuple[int, int]
    density: float
    enlarged: bool
    provenance: Provenance | None = None


def deliver(
    root: str, woven: Weave, result: str, beside: Mapping[str, Register], recipe: Recipe, out: str, replace: bool, profiles: Mapping[str, Path], thumbnail: Path | None, ticket: str
) -> Written:
    """Strokes, look, finish of a weave as it lies under the key `result`; write the picture to `out`, as the first ticked output of the recipe asks for;
    `beside` is what may be drawn from that has no part in it, `profiles` are the files of those that were brought in, by digest. A `thumbnail` is written
    where one is to be. Raises PictureError and FileExistsError."""
    tell, output = Ticket(ticket), recipe.delivery
    tell.tell(0.01)
    source = Source(Cache(Path(root)), woven, result, beside, recipe)
    target, given = output_encoding(source.reference, recipe), given_profile(output, profiles)
    finishing, sheet = written(recipe.finish.shown(), output, source.canvas)
    picture = source.picture(tell)
    tell.tell(0.4)
    # colours are drawn into what the target can hold, then carried in the widest primaries to be encoded
    look = source.development(picture, shown_by(target))
    layered = output.format in LAYERED or Path(out).suffix == ".ora"
    # the weave itself is held on to only where something is still to be told of it
    kept = picture if layered or output.provenance else None
    picture = source.clean(picture)
    picture = source.finished(picture, look)
    if kept is not None and np.may_share_memory(picture, kept):
        picture = picture.copy()
    picture = finish(picture, finishing, source.canvas, sheet.size)
    codes = to_codes(picture, target)
    del picture
    profile = target.profile
    if given is not None:
        codes, profile = to_profile(codes, given, output.intent, output.black_point), given
    origins, provenance = origins_of(source, kept, look, finishing, sheet.size) if output.provenance and kept is not None else (None, None)
    if not layered:
        codes = mounted(codes, sheet)
    if thumbnail is not None:
        write_thumbnail(thumbnail, codes, profile)
    tell.tell(0.75)
    meta, saving = saving_for(source, output, sheet)
    if layered and kept is not None:
        if Path(out).exists() and not replace:
            raise FileExistsError(out)
        layers = layers_of(source, kept, look, finishing, target, codes, origins, tell)
        if Path(out).suffix == ".ora":
            put_in_place(Path(out), lambda part: write_openraster(part, layers, codes, profile, saving), replace)
        else:
            count = len(recipe.kept()) + len(finishing.light) + 7
            put_in_place(Path(out), lambda part: write_layers(part, (layer for layer in layers if layer.codes is not codes), count, codes, profile, meta, saving), replace)
    else:
        write_picture(Path(out), codes, profile, meta, saving, replace)
    if origins is not None and provenance is not None:
        _write_origins(Path(out), origins, provenance, recipe, replace)
    tell.tell(1.0)
    return Written((codes.shape[1], codes.shape[0]), sheet.density, sheet.scale > 1, provenance)


def _write_origins(out: Path, origins: Origins, provenance: Provenance, recipe: Recipe, replace: bool) -> None:
    """The map beside a delivery, and what it means."""

    def write(part: Path) -> None:
        tifffile.imwrite(part, origins, photometric="minisblack", compression="zlib", predictor=True, metadata=None)

    told: dict[str, Any] = {"shares": provenance._asdict(), "told": provenance.told(), **legend([f.file for f in [*recipe.kept(), *recipe.drawn_beside()]])}
    put_in_place(out.with_name(out.stem + ORIGINS), write, replace)
    put_in_place(out.with_name(out.stem + LEGEND), writes(json.dumps(told, indent=1)), replace)


def frames_out(root: str, woven: Weave, result: str, beside: Mapping[str, Register], recipe: Recipe, folder: str, replace: bool, ticket: str) -> list[str]:
    """Write the registered frames, developed alike, on the canvas of the first ticked output, into a folder; their names, near to far. Raises
    FileExistsError where one stands and is not to be replaced."""
    source = Source(Cache(Path(root)), woven, result, beside, recipe)
    target = output_encoding(source.reference, recipe)
    finishing, sheet = written(recipe.finish.shown(), recipe.delivery, source.canvas)
    look = source.development(source.picture(Ticket(ticket)), shown_by(target))
    return write_frames(source, look, finishing, target, sheet.size, Path(folder), replace, Ticket(ticket))
