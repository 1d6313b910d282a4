"""A scene as far as it has been computed, for any box at any level: its frames, its weave, masks, and all of it developed."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np

from ...core.depth.distance import distances_of
from ...core.develop.develop import develop, needs_guide, reaches
from ...core.develop.look import Light, Look
from ...core.develop.relief import LONGEST, Guide, guide_of
from ...core.even.capture.settings import Capture, without
from ...core.even.drift import Trim
from ...core.masks.parts import Site
from ...core.weave.laid import RegisteredFrames
from ...core.weave.ways.joint_light import blocks_of
from ...core.weave.weave import distances_in, found_in, masks_in, repaint, touched, woven_by
from ...imaging.colour import FloatArray
from ...imaging.lensdata import from_database
from ...imaging.pyramid import Box, Pyramid, meeting
from ...recipe import Recipe
from ..scene import Plan
from ..steps import Forming, Frame, Registration, WovenPicture
from .memory import Memory


@dataclass(frozen=True, eq=False)
class View:
    """A scene as far as it has been computed. Frames are named by id; `plan` is None until all are decoded.

    `uncorrected(id, capture)` is a frame on its own grid under other capture corrections than the recipe's.
    `laid` is the registration that the recipe asks for; until it is there frames are shown as the inspection laid them,
    `steadied`, so that the same stone stays under the eye. `forming` is what there is of a weave that is being made, seen over the reference frame.
    """

    recipe: Recipe
    size: tuple[int, int]
    shot: Light
    frames: dict[str, Frame]
    registered: Registration | None
    laid: RegisteredFrames | None
    steadied: tuple[str, RegisteredFrames] | None
    plan: Plan | None
    gates: FloatArray | None
    woven: WovenPicture | None
    veils: Pyramid | None
    forming: Forming | None
    pictures: Memory
    guides: Memory
    uncorrected: Callable[[str, Capture], Frame]

    def size_at(self, level: int) -> tuple[int, int]:
        """Size (w, h) of the picture at a level."""
        return -(-self.size[0] >> level), -(-self.size[1] >> level)

    def box_inside(self, level: int, box: Box) -> Box:
        """The part of a box that lies in the picture."""
        w, h = self.size_at(level)
        x, y = min(max(0, box[0]), w - 1), min(max(0, box[1]), h - 1)
        return x, y, max(1, min(box[0] + box[2], w) - x), max(1, min(box[1] + box[3], h) - y)

    def frame_version(self, id: str) -> str:
        """Changes whenever a frame's pixels under a neutral look do."""
        laid = self._lays(id)
        return short(id, laid[0] if laid else "", self.recipe.even_out, self._trim(id), self.frames[id].folder.name, self.frames[id].capture)

    def _lays(self, id: str) -> tuple[str, RegisteredFrames] | None:
        """By which registration a frame is shown."""
        lies = self.laid.drawn_from(id) if self.laid is not None else None
        if lies is not None and self.plan is not None:
            return self.plan.registered.key, lies[0]
        return self.steadied if self.steadied and id in self.steadied[1].names else None

    def weave_version(self, strokes: int | None = None) -> str:
        """Changes whenever the weave's pixels under a neutral look do; of all strokes or the first so many."""
        by_hand = [(f.id, f.mask, f.mask_file) for f in self.recipe.frames], [mask.hidden for mask in self.laid.by_hand.values()] if self.laid else None
        return short(*self._weave_parts(), [s.model_dump() for s in self.recipe.strokes[:strokes]], by_hand, self.recipe.limits())

    def _weave_parts(self) -> tuple[Any, ...]:
        planned = (self.plan.result.key, self.plan.registered.key) if self.plan else ()
        if self.laid is None:
            return planned, self.frame_version(self.middle)
        return planned, sorted(self.laid.beside), self.gates is None, self.woven.of if self.woven else len(self.forming.boxes) if self.forming else None

    def frame(self, id: str, level: int, box: Box) -> FloatArray:
        """A frame (h, w, 3) in the weaving encoding: registered if it has been, else as it came."""
        return self._kept(("frame", self.frame_version(id)), level, box, lambda: self._frame(id, level, box))

    def weave(self, level: int, box: Box) -> FloatArray:
        """The weave with its strokes; from what is stored, or woven now for this box; before there is any, a frame."""
        return self._kept(("weave", self.weave_version()), level, box, lambda: self._weave(level, box))

    def _kept(self, what: tuple[str, str], level: int, box: Box, make: Callable[[], FloatArray]) -> FloatArray:
        made: FloatArray = self.pictures.get((*what, level, box), make)
        return made

    def _frame(self, id: str, level: int, box: Box) -> FloatArray:
        shown = self._lays(id)
        if shown:
            return shown[1].read(list(shown[1].names).index(id), level, box)
        return self.frames[id].root(level, box, self._trim(id).gains())

    def _trim(self, id: str) -> Trim:
        return {f.id: f.trim for f in self.recipe.frames}.get(id, Trim())

    def _weave(self, level: int, box: Box, painted: bool = True) -> FloatArray:
        if self.laid is None or self.gates is None or self.plan is None:
            return self._frame(self.middle, level, box)
        before = self._before_the_last(level, box) if painted else None
        if before is not None:
            # a stroke changes what lies around it, and nothing else
            for part in touched(self.recipe.strokes[-1:], self.laid, box, level):
                before[meeting(box, part)[0]] = self._repainted(level, part)
            return before
        return self._repainted(level, box) if painted else self._unpainted(level, box)

    def _unpainted(self, level: int, box: Box) -> FloatArray:
        picture: FloatArray = self.woven.read(level, box) if self.woven else self._formed(self.forming, level, box) if self.forming else self._woven_now(level, box)
        return picture

    def _repainted(self, level: int, box: Box) -> FloatArray:
        assert self.laid is not None and self.gates is not None
        picture = self._unpainted(level, box)
        repaint(picture, self.laid, self.gates, self.recipe.weaving, self.recipe.strokes, box, level, self._unpainted, self._distances_in(level, box))
        return picture

    def _before_the_last(self, level: int, box: Box) -> FloatArray | None:
        """The box as it was before the last stroke, where that is still in memory."""
        count = len(self.recipe.strokes)
        kept: FloatArray | None = self.pictures.peek(("weave", self.weave_version(count - 1), level, box)) if count else None
        return kept.copy() if kept is not None else None

    def _formed(self, forming: Forming, level: int, box: Box) -> FloatArray:
        """The reference frame, and over it what has been woven so far."""
        picture = self._frame(self.middle, level, box)
        for x, y, w, h in forming.boxes:
            left, top = max(x >> level, box[0]), max(y >> level, box[1])
            right, bottom = min(x + w >> level, box[0] + box[2]), min(y + h >> level, box[1] + box[3])
            if right > left and bottom > top:
                try:
                    piece = forming.levels.read(level, (left, top, right - left, bottom - top))
                except FileNotFoundError:
                    # done or called off meanwhile; the page asks again
                    break
                picture[top - box[1] : bottom - box[1], left - box[0] : right - box[0]] = piece
        return picture

    def _distances_in(self, level: int, box: Box) -> FloatArray | None:
        """How far off what a box shows lies, where there is a sharp span; kept, since ends that are dragged ask for it again and again."""
        if self.laid is None or self.gates is None or self.plan is None or self.laid.limits is None:
            return None
        laid, gates, weaving, key = self.laid, self.gates, self.recipe.weaving, short(self.plan.labelled.key, self.recipe.weaving, self.laid.limits.at)

        def made() -> FloatArray:
            found = distances_in(laid, gates, weaving, box, level)
            assert found is not None
            return found

        return self._kept(("distances", key), level, box, made)

    def _woven_now(self, level: int, box: Box) -> FloatArray:
        """The weave of a box before all of it has been woven."""
        assert self.laid is not None and self.gates is not None
        version = short(*self._weave_parts())
        if woven_by(self.laid, self.recipe.weaving) != "joint-light":
            return self._kept(("found", version), level, box, partial(self._block, level, box)).copy()
        # blocks are dear and lie fixed in the picture: each is woven once for all boxes that meet it
        picture = np.empty((box[3], box[2], 3), np.float32)
        for block in blocks_of(box, self.size_at(level)):
            there, here = meeting(box, block)
            picture[there] = self._kept(("block", version), level, block, partial(self._block, level, block))[here]
        return picture

    def _block(self, level: int, block: Box) -> FloatArray:
        assert self.laid is not None and self.gates is not None
        return found_in(self.laid, self.gates, self.recipe.weaving, block, level)[0]

    @property
    def middle(self) -> str:
        """The frame that stands for the weave before there is one."""
        if self.plan:
            return self.plan.ids[self.plan.reference]
        ids = [f.id for f in self.recipe.kept() if f.id in self.frames] or list(self.frames)
        return self.recipe.reference if self.recipe.reference in ids else ids[len(ids) // 2]

    def whole(self, what: str, wide: int) -> FloatArray:
        """All of `weave` or `frame:ID` (h, w, 3) in the weaving encoding, about `wide` pixels across."""
        level, inside = level_for(self, (0, 0, *self.size), wide)
        return self.weave(level, inside) if what == "weave" else self.frame(what.partition(":")[2], level, inside)

    def lens_known(self) -> str:
        """Where something is known of the lens from; empty where nothing is."""
        frame = next(iter(self.frames.values()))
        lens = frame.lens or from_database(frame.meta, frame.size)
        return lens.source if lens else ""

    def shares(self, level: int, box: Box) -> dict[str, FloatArray]:
        """Masks (h, w) of the frames that have a part in a box, strokes included."""
        if self.laid is None or self.gates is None:
            return {}
        found = masks_in(self.laid, self.gates, self.recipe.weaving, self.recipe.strokes, box, level)
        return {self.laid.names[k]: mask for k, mask in found.items()}

    def guide(self) -> Guide:
        """What relief, haze and areas by distance know of the scene: the weave's for every frame, so that frames stay alike."""
        made: Guide = self.guides.get(short(self._weave_parts()), lambda: guide_of(self._whole_weave(), self.size, self._distances()))
        return made

    def _whole_weave(self) -> FloatArray:
        """All of the weave without strokes, at the smallest size that is not smaller than a guide."""
        level = 0
        while level < self.levels - 1 and max(self.size) >> (level + 1) >= LONGEST:
            level += 1
        return self._weave(level, self.box_inside(level, (0, 0, *self.size)), painted=False)

    @property
    def levels(self) -> int:
        """How many sizes there are."""
        return len(next(iter(self.frames.values())).codes.sizes)

    def _distances(self) -> FloatArray | None:
        if self.gates is None or self.plan is None:
            return None
        return distances_of(self.gates, [self.frames[id].meta.focus_m for id in self.plan.ids])

    def developed(self, what: str, level: int, box: Box, look: Look) -> FloatArray:
        """The signed square root (h, w, 3) of linear sRGB light of `weave` or `frame:ID` under a look. Raises KeyError, ValueError."""
        kind, _, id = what.partition(":")
        if kind not in ("weave", "frame"):
            raise ValueError(what)
        margin = reaches(look, level)
        wide = around(box, margin, self.size_at(level)) if margin else box
        picture = self.weave(level, wide) if kind == "weave" else self.frame(id, level, wide)
        guide = self.guide() if needs_guide(look) else None
        return cut_out(develop(picture, look, self.shot, "srgb", Site(self.size, level, wide), guide), wide, box)

    def captured(self, name: str, id: str, level: int, box: Box) -> FloatArray:
        """A frame (h, w, 3) on its own grid, in the weaving encoding, without one correction or with `all`."""
        capture = self.recipe.capture if name == "all" else without(self.recipe.capture, name)
        return self._kept(("capture", f"{id}{capture}"), level, box, lambda: self.uncorrected(id, capture).root(level, box))


def short(*parts: Any) -> str:
    """A short name for what some values stand for."""
    return hashlib.sha256(repr(parts).encode()).hexdigest()[:12]


def around(box: Box, reach: int, size: tuple[int, int]) -> Box:
    """A box and what lies within `reach` of it, inside a picture of a size (w, h)."""
    x, y, w, h = box
    x0, y0 = max(0, x - reach), max(0, y - reach)
    return x0, y0, min(size[0], x + w + reach) - x0, min(size[1], y + h + reach) - y0


def cut_out(picture: FloatArray, wide: Box, box: Box) -> FloatArray:
    """The part of a picture of a wide box that lies in another."""
    x, y, w, h = box
    return np.ascontiguousarray(picture[y - wide[1] : y - wide[1] + h, x - wide[0] : x - wide[0] + w])


def level_for(view: View, box: tuple[float, float, float, float], wide: int) -> tuple[int, Box]:
    """The smallest level that still has about `wide` pixels across a box of the full size, and the box there."""
    x, y, w, h = box
    level = 0
    while level < view.levels - 1 and w / 2 ** (level + 1) >= wide * 0.9:
        level += 1
    scale = 0.5**level
    return level, view.box_inside(level, (int(x * scale), int(y * scale), max(1, round(w * scale)), max(1, round(h * scale))))
