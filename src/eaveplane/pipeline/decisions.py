"""Decisions on a scene: what was painted, drawn and cropped stays on the thing it was put on when the reference changes."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable
from dataclasses import dataclass

import cv2
import numpy as np

from ..core.register.movement import movement_of
from ..core.register.nudge import STILL, Nudge
from ..imaging.grey import keep_grey, read_grey
from ..imaging.placement import Placement
from ..imaging.pyramid import Box
from ..recipe import FrameChoice, Recipe
from ..store import scenes
from .canvas import canvas_of
from .library import Library
from .scene import reference_in
from .steps import digest_of, open_registration


@dataclass(frozen=True, eq=False)
class Placed:
    """Where frames (by id) lay when they were registered last, all on one grid, and their `size` (w, h)."""

    placements: dict[str, Placement]
    size: tuple[int, int]

    def canvas(self, recipe: Recipe, reference: str) -> Box:
        """The canvas (x, y, w, h) of a recipe in pixels of a reference frame."""
        try:
            return canvas_of(recipe, {id: self.placements[reference].back(placement.corners()) for id, placement in self.placements.items()}, self.size)
        except ValueError:
            return (0, 0, *self.size)


def placed(library: Library, number: int) -> Placed | None:
    """The newest registration of a scene, where it is still there."""
    row = scenes.scene(library.db, number)
    try:
        key, ids = json.loads(row["registered"]) if row and row["registered"] else (None, [])
        found = open_registration(library.cache, key) if key else None
    except (ValueError, OSError, KeyError):
        return None
    return Placed(dict(zip(ids, found.placements, strict=True)), found.size) if found else None


def reference_of(recipe: Recipe) -> str:
    """The id of the reference frame, empty where no frame is kept."""
    kept = recipe.kept()
    return kept[reference_in(recipe)].id if kept else ""


def carried(before: Recipe, after: Recipe, where: Placed | None) -> Recipe:
    """The changed recipe with everything put by hand carried from the old reference to the new one."""
    old, new = reference_of(before), reference_of(after)
    if old == new or where is None or not after.by_hand() or old not in where.placements or new not in where.placements:
        return after
    there, here = where.placements[old], where.placements[new]
    after = _nudged_on(after, new, where)
    return after.moved(lambda points: here.back(there.onto(points)), where.canvas(before, old), where.canvas(after, new))


def _nudged_on(recipe: Recipe, reference: str, where: Placed) -> Recipe:
    """The recipe with nudges as they are on a new reference, so that all frames lie on each other as they did."""
    nudges, there = {f.id: f.nudge for f in recipe.frames}, where.placements[reference].matrix
    back = nudges[reference].back().matrix(where.size) @ there

    def moved(nudge: Nudge) -> Nudge:
        told = movement_of(np.linalg.inv(there) @ nudge.matrix(where.size) @ back, where.size)
        return Nudge(x=told.right, y=told.down, scale=told.scale, turn=told.turn)

    if all(nudge == STILL for nudge in nudges.values()):
        return recipe
    frames = [f.model_copy(update={"nudge": STILL if f.id == reference or nudges[reference] == f.nudge else moved(f.nudge)}) for f in recipe.frames]
    return recipe.model_copy(update={"frames": frames})


def told(what: str, before: Recipe, after: Recipe, where: Placed | None) -> str:
    """What a decision was, and what came of it for the reference."""
    old, new = reference_of(before), reference_of(after)
    if new in ("", old) or not old:
        return what
    said = f"{what}; frame {[f.id for f in after.frames].index(new) + 1} is the reference now" if before.reference == after.reference else what
    if not before.by_hand():
        return said
    known = where is not None and old in where.placements and new in where.placements
    return f"{said}, and what was painted and drawn went along" if known else f"{said}; what was painted and drawn may lie aside"


def carrying(library: Library, numbers: Iterable[int]) -> Callable[[int, Recipe, Recipe], Recipe]:
    """`carried` for several scenes (by number) whose frames are dealt out anew at once."""
    where = {number: placed(library, number) for number in numbers}
    return lambda number, before, after: carried(before, after, where.get(number))


def decide(library: Library, number: int, what: str, change: Callable[[Recipe], Recipe]) -> Recipe:
    """Change the recipe in force; see `store.scenes.decide`."""
    where = placed(library, number)

    def changed(before: Recipe) -> Recipe:
        after = change(before)
        return _masks_on(library, before, carried(before, after, where), where)

    return scenes.decide(library.db, number, lambda before, after: told(what, before, after, where), changed)


STRIP = 256
"""Rows of a mask that are carried at a time."""


def _masks_on(library: Library, before: Recipe, after: Recipe, where: Placed | None) -> Recipe:
    """The recipe with masks that were brought in laid on a new reference's grid, as files of their own; the old ones stay for whoever goes back."""
    old, new = reference_of(before), reference_of(after)
    if old == new or where is None or old not in where.placements or new not in where.placements:
        return after
    there, here = where.placements[old], where.placements[new]
    width, height = where.size

    def laid(frame: FrameChoice) -> FrameChoice:
        if frame.mask != "given":
            return frame
        codes, out = read_grey(library.masks / f"{frame.mask_file}.tif", where.size), np.empty((height, width), np.uint16)
        for top in range(0, height, STRIP):
            rows = np.mgrid[top : min(top + STRIP, height), 0:width][::-1].reshape(2, -1).T.astype(np.float64)
            at = there.back(here.onto(rows)).reshape(-1, width, 2).astype(np.float32)
            out[top : top + STRIP] = cv2.remap(codes, at[..., 0], at[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        digest = digest_of(out)
        keep_grey(library.masks / f"{digest}.tif", out)
        return frame.model_copy(update={"mask_file": digest})

    return after.model_copy(update={"frames": [laid(frame) for frame in after.frames]})
