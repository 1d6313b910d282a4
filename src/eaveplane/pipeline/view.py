"""What the page shows of a scene, for any box at any level: a frame, the weave, the share map, a mask, a difference."""

from __future__ import annotations

import threading
from collections import OrderedDict
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ..core.even.look import Light, Look, develop, for_screen
from ..core.weave.strokes import Stroke
from ..core.weave.weave import Laid, touches, weave_box
from ..imaging.colour import FloatArray
from ..imaging.levels import Box, Levels
from ..imaging.light import to_root
from ..recipe import Recipe
from . import steps
from .cache import Cache
from .depth import depth_colour, hatch
from .scene import Plan


@dataclass(frozen=True, eq=False)
class View:
    """A scene as far as it has been computed. Frames are named by id; `plan` is None until all are decoded."""

    recipe: Recipe
    size: tuple[int, int]
    shot: Light
    frames: dict[str, steps.Decoded]
    laid: Laid | None
    plan: Plan | None
    gates: FloatArray | None
    woven: Levels | None

    def box_inside(self, level: int, box: Box) -> Box:
        """The part of a box that lies in the picture."""
        w, h = (-(-v >> level) for v in self.size)
        x, y = min(max(0, box[0]), w - 1), min(max(0, box[1]), h - 1)
        return x, y, max(1, min(box[0] + box[2], w) - x), max(1, min(box[1] + box[3], h) - y)

    def frame(self, id: str, level: int, box: Box) -> FloatArray:
        """A frame (h, w, 3) in the weaving encoding: registered if it has been, else as it came."""
        if self.laid is not None and id in self.laid.names:
            return self.laid.read(list(self.laid.names).index(id), level, box)
        decoded = self.frames[id]
        return to_root(decoded.codes.read(level, box), decoded.encoding)

    def weave(self, level: int, box: Box, strokes: list[Stroke] | None = None) -> FloatArray:
        """The weave with its strokes; from what is stored, or woven now for this box; before there is any, a frame."""
        strokes = self.recipe.strokes if strokes is None else strokes
        if self.laid is None or self.gates is None or self.plan is None:
            middle = self.plan.ids[self.plan.reference] if self.plan else next(iter(self.frames))
            return self.frame(middle, level, box)
        painted = bool(strokes) and touches(strokes, box, level)
        if self.woven is None:
            return weave_box(self.laid, self.gates, self.recipe.weaving, strokes if painted else [], box, level)[0]
        stored: FloatArray = self.woven.read(level, box)
        if not painted:
            return stored
        after = weave_box(self.laid, self.gates, self.recipe.weaving, strokes, box, level)[0]
        if level == 0:
            return after
        # at smaller sizes the strokes' change is laid over the stored picture, so that nothing else moves
        return stored + after - weave_box(self.laid, self.gates, self.recipe.weaving, [], box, level)[0]

    def shares(self, level: int, box: Box) -> dict[str, FloatArray]:
        """Masks (h, w) of the frames that have a part in a box, strokes included."""
        if self.laid is None or self.gates is None:
            return {}
        found = weave_box(self.laid, self.gates, self.recipe.weaving, self.recipe.strokes, box, level)[1]
        return {self.laid.names[k]: mask for k, mask in found.items()}

    def screen(self, what: str, level: int, box: Box, look: Look) -> NDArray[np.uint8]:
        """8-bit sRGB (h, w, 3) of `weave`, `share`, `frame:ID`, `mask:ID` or `difference:ID:ID`.

        Raises KeyError for frames that are not there and ValueError for anything else.
        """
        kind, *ids = what.split(":")
        if kind == "weave":
            return for_screen(develop(self.weave(level, box), look, self.shot, "srgb"))
        if kind == "frame":
            return for_screen(develop(self.frame(ids[0], level, box), look, self.shot, "srgb"))
        if kind == "share":
            picture = for_screen(develop(self.weave(level, box), look, self.shot, "srgb"))
            return self._share_map(picture, level, box)
        if kind == "mask":
            picture = for_screen(develop(self.frame(ids[0], level, box), look, self.shot, "srgb"))
            mask = self.shares(level, box).get(ids[0], np.zeros(picture.shape[:2], np.float32))[..., None]
            plain = np.float32(118)
            return (picture * mask + plain * (1 - mask)).astype(np.uint8)
        if kind == "difference":
            a, b = (develop(self.frame(id, level, box), look, self.shot, "srgb") for id in ids)
            return np.clip(128 + 4 * 255 * (a - b), 0, 255).astype(np.uint8)
        raise ValueError(what)

    def _share_map(self, picture: NDArray[np.uint8], level: int, box: Box) -> NDArray[np.uint8]:
        shares = self.shares(level, box)
        grey = picture.mean(axis=2, keepdims=True)
        out = np.repeat(grey, 3, axis=2)
        order = [f.id for f in self.recipe.frames]
        for id, mask in shares.items():
            place = order.index(id)
            line = hatch(place, box)[..., None]
            tint = np.array(depth_colour(place, len(order)), np.float32)
            strength = mask[..., None] * (0.50 + 0.22 * line)
            out = out * (1 - strength) + tint * strength
        return np.clip(out, 0, 255).astype(np.uint8)


def open_view(cache: Cache, recipe: Recipe, keys: dict[str, str], planned: Plan | None) -> View | None:
    """What there is of a scene; None before any frame has been decoded. `keys` are decode keys by frame id."""
    frames = {f.id: steps.open_decoded(cache, keys[f.id]) for f in recipe.frames if f.id in keys and cache.has(keys[f.id])}
    if not frames:
        return None
    first = next(iter(frames.values()))
    laid, gates, woven = None, None, None
    if planned and cache.has(planned.registered):
        registered = steps.open_registration(cache, planned.registered)
        laid = steps.laid_frames([frames[i] for i in planned.ids], planned.ids, registered, recipe.even_out)
        if cache.has(planned.labelled):
            gates = np.load(cache.path(planned.labelled) / "gates.npy").astype(np.float32)
        if cache.has(planned.woven):
            woven = Levels(cache.path(planned.woven) / "picture")
    shot = frames[planned.ids[planned.reference]].shot if planned else first.shot
    return View(recipe, first.size, shot, frames, laid, planned, gates, woven)


class Kept:
    """The last few things made, by key; safe between threads."""

    def __init__(self, most: int) -> None:
        self._most, self._items, self._lock = most, OrderedDict[Any, Any](), threading.Lock()

    def get(self, key: Any, make: Any) -> Any:
        """What is kept under a key, made if it is not there."""
        with self._lock:
            if key in self._items:
                self._items.move_to_end(key)
                return self._items[key]
        made = make()
        with self._lock:
            self._items[key] = made
            while len(self._items) > self._most:
                self._items.popitem(last=False)
        return made


def viewport(view: View, what: str, box: tuple[float, float, float, float], wide: int, look: Look) -> NDArray[np.uint8]:
    """A box (x, y, w, h) of the full-size picture as `wide` pixels across, from the level that just suffices."""
    x, y, w, h = box
    level = 0
    while level < len(next(iter(view.frames.values())).codes.sizes) - 1 and w / 2 ** (level + 1) >= wide * 0.9:
        level += 1
    scale = 0.5**level
    inside = view.box_inside(level, (int(x * scale), int(y * scale), max(1, round(w * scale)), max(1, round(h * scale))))
    picture = view.screen(what, level, inside, look)
    if picture.shape[1] > wide:
        picture = cv2.resize(picture, (wide, max(1, round(picture.shape[0] * wide / picture.shape[1]))), interpolation=cv2.INTER_AREA).astype(np.uint8)
    return picture


