"""Putting files that were brought in into scenes."""

from __future__ import annotations

from ..core.develop.look import NEUTRAL, RAW_LOOK
from ..core.gather.split import Taken, split
from ..imaging.formats.registry import RAW_SUFFIXES
from ..pipeline.decisions import decide
from ..pipeline.frames import File, choice, exposure_groups, in_order_at_first
from ..pipeline.glance import open_glance
from ..pipeline.library import Library
from ..recipe import FrameChoice, Recipe
from ..store import scenes


def sort(library: Library, outing_id: int, files: dict[str, File]) -> list[int]:
    """Put files into scenes; those that have one keep it. Numbers of the scenes that are new or grew."""
    listed = list(files.values())
    metas = library.metadata(outing_id)
    about = [metas[f.id] for f in listed]
    seen = [open_glance(library.cache, f.sha256)[0] for f in listed]
    found = split(seen, [Taken(m.taken, file.stored, m.focal_mm, str(file.path.parent)) for (m, _), file in zip(about, listed, strict=True)])
    made = []
    for group, markers in zip(found.scenes, found.marked, strict=True):
        positions = exposure_groups([about[i][0] for i in group], [seen[i] for i in group])
        middle = [group[p[len(p) // 2]] for p in positions]
        order = in_order_at_first(library.cache, [listed[i] for i in middle], [about[i][0] for i in middle])
        frames = named([choice([listed[group[i]] for i in positions[k]]) for k in order])
        frames += [choice([listed[i]], reason="marker") for i in markers]
        raw = listed[group[0]].path.suffix.lower() in RAW_SUFFIXES
        number = _into_scene(library, outing_id, frames, raw, group[0] in found.doubts)
        made += [number] if number is not None else []
    return made


def _into_scene(library: Library, outing_id: int, frames: list[FrameChoice], raw: bool, doubtful: bool) -> int | None:
    """Make a scene of frames that belong together, or let those that are new join the one that has some of them
    already, where they belong from near to far; None where there is nothing new."""
    there = scenes.scenes_of(library.db, outing_id)
    taken = {row["id"]: {i for f in scenes.recipe_of(library.db, row["id"]).frames for i in f.all_files()} for row in there}
    fresh = [f for f in frames if not any(i in ids for ids in taken.values() for i in f.all_files())]
    if not fresh:
        return None
    own = {i for f in frames for i in f.all_files() if f.reason != "marker"}
    host = next((number for number, ids in taken.items() if ids & own), None)
    if host is None:
        return scenes.add_scene(library.db, outing_id, scenes.name_of_place(library.db, outing_id), Recipe(frames=frames, look=RAW_LOOK if raw else NEUTRAL), doubtful)
    decide(library, host, f"Brought in {len(fresh)} more", lambda recipe: joined(recipe, frames, fresh))
    return host


def named(frames: list[FrameChoice]) -> list[FrameChoice]:
    """Frames from near to far, the ends and the middle with names where they have none of their own."""
    kept = [f for f in frames if f.reason != "marker"]
    names = {0: "Near", len(kept) - 1: "Far"} if len(kept) > 1 else {}
    if len(kept) > 2:
        names[len(kept) // 2] = "Mid"
    offered = {f.id: names.get(i, "") for i, f in enumerate(kept)}
    return [f.model_copy(update={"name": offered.get(f.id, "")}) if f.name in ("", "Near", "Mid", "Far") else f for f in frames]


def joined(recipe: Recipe, ordered: list[FrameChoice], fresh: list[FrameChoice]) -> Recipe:
    """The recipe with new frames, each behind the nearest frame before it (in `ordered`) that the recipe has."""
    frames = list(recipe.frames)
    for frame in fresh:
        before = {f.id for f in ordered[: ordered.index(frame)]}
        at = max((i + 1 for i, f in enumerate(frames) if f.id in before), default=0)
        frames.insert(at if frame.reason != "marker" else len(frames), frame.model_copy(update={"name": ""}))
    return recipe.model_copy(update={"frames": frames})
