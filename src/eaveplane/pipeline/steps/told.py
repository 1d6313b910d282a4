"""What a delivered file says of its picture: as the frames say, as it was edited, and how it was made."""

from __future__ import annotations

from dataclasses import replace

from ...core.deliver.delivery import LAYERED, Delivery
from ...core.deliver.sheet import Sheet
from ...imaging.carried import named
from ...imaging.exif import Metadata
from ...imaging.formats.format import Saving
from ...imaging.formats.jpeg import MOST_SEGMENT
from ...imaging.xmp import packed, packet
from ...recipe import Recipe
from .source import Source
from .weave import way_of


def saving_for(source: Source, output: Delivery, sheet: Sheet) -> tuple[Metadata, Saving]:
    """What is told in the tags, and how the file of an output is saved."""
    about, frame = source.recipe.about, source.reference
    carried = named(frame.carried(), about.caption or about.title, about.author, about.rights)
    meta = replace(frame.meta, author=about.author or frame.meta.author, rights=about.rights or frame.meta.rights)
    if not output.position:
        carried, meta = replace(carried, position=()), replace(meta, position=None)
    texts = {"title": about.title, "description": about.caption, "creator": about.author, "rights": about.rights}
    words = [word.strip() for word in about.keywords.split(",") if word.strip()]
    facts = facts_of(source, output)
    xmp = packet(carried.xmp, texts, words, facts, output.position)
    if output.format == "jpeg" and len(xmp) > MOST_SEGMENT:
        # a JPEG has no room for a long recipe, which lies beside it all the same
        xmp = packet(carried.xmp, texts, words, {k: v for k, v in facts.items() if k != "Recipe"}, output.position)
    return meta, Saving(
        bits=16 if output.deep else 8,
        packing="deflate" if output.format in LAYERED and output.packing == "none" else output.packing,
        tiled=output.tiled,
        quality=round(output.quality),
        most_bytes=round(output.most_kb * 1000),
        density=round(sheet.density, 3),
        carried=replace(carried, xmp=xmp),
    )


def facts_of(source: Source, output: Delivery) -> dict[str, str]:
    """How it was made: frames and distances near to far, way of weaving, and the recipe where it is to be inside."""
    kept = source.recipe.kept()
    metres = [frame.meta.focus_m for frame in source.frames]
    told = {"Frames": str(len(kept)), "Way": way_of(source.cache, source.result)}
    if any(m is not None for m in metres):
        told["Distances"] = ", ".join("?" if m is None else f"{m:.3g} m" for m in metres)
    if output.recipe_inside:
        told["Recipe"] = packed(alone(source, output).to_json())
    return told


def alone(source: Source, output: Delivery) -> Recipe:
    """The recipe that makes exactly the file of an output, as it is written inside it: it travels, so it does not tell of folders here."""
    return source.recipe.writing(output.model_copy(update={"folder": ""})).standing_alone(source.size)
