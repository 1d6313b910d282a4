"""What the page shows of a scene, for any box at any level: a frame, the weave, the share map, a mask, a difference."""

from __future__ import annotations

import hashlib
import threading
from collections.abc import Callable, Sequence
from dataclasses import dataclass, fields, is_dataclass
from typing import Any

import cv2
import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray

from ..core.even.areas import Site, mask_of
from ..core.even.capture import Capture, edge_mask, without
from ..core.even.develop import clipped, develop, for_screen, needs_guide, reaches
from ..core.even.drift import MOST_SIDE, Trim, apart_map
from ..core.even.look import Light, Look
from ..core.even.relief import LONGEST, Guide, guide_of
from ..core.finish.finish import Finish, sharpened
from ..core.weave.distance import distances_of
from ..core.weave.strokes import Stroke
from ..core.weave.weave import Laid, touched, weave_box
from ..imaging.colour import FloatArray
from ..imaging.lensdata import from_database
from ..imaging.levels import Box, Levels
from ..imaging.light import light_of, root_of
from ..recipe import Recipe
from . import steps
from .cache import Cache
from .depth import BLACK_LOST, WHITE_LOST, depth_colour, hatch
from .scene import Plan, registration_of

LEAST_RADIUS = 0.3
"""Sharpening with a smaller radius on screen is not seen there."""


class Kept:
    """The last things made, by key, as many as fit into `most` bytes; safe between threads, and made by one of them while the
    others wait for it."""

    def __init__(self, most: int) -> None:
        self._items: LRUCache[Any, Any] = LRUCache(most, getsizeof=size_of)
        self._lock = threading.Lock()
        self._making: dict[Any, threading.Lock] = {}

    def get(self, key: Any, make: Callable[[], Any]) -> Any:
        """What is kept under a key, made if it is not there."""
        with self._lock:
            if key in self._items:
                return self._items[key]
            making = self._making.setdefault(key, threading.Lock())
        with making:
            with self._lock:
                if key in self._items:
                    return self._items[key]
            try:
                made = make()
                with self._lock:
                    # what is larger than all there is room for is used and not kept
                    if size_of(made) <= self._items.maxsize:
                        self._items[key] = made
            finally:
                with self._lock:
                    self._making.pop(key, None)
        return made

    def clear(self) -> None:
        with self._lock:
            self._items.clear()


LEAST_SIZE = 4096


def size_of(thing: Any) -> int:
    """Bytes that a thing of ours holds on to: its arrays, however deep they lie in dataclasses, lists and dicts."""
    if isinstance(thing, np.ndarray):
        return LEAST_SIZE if isinstance(thing, np.memmap) else thing.nbytes + 128
    if isinstance(thing, list | tuple):
        return LEAST_SIZE + sum(size_of(part) for part in thing if not isinstance(part, int | float | str))
    if isinstance(thing, dict):
        return LEAST_SIZE + sum(size_of(part) for part in thing.values() if not isinstance(part, int | float | str))
    if is_dataclass(thing):
        return LEAST_SIZE + sum(size_of(getattr(thing, f.name)) for f in fields(thing) if isinstance(getattr(thing, f.name), np.ndarray | list | tuple | dict))
    return LEAST_SIZE


@dataclass(frozen=True)
class Shown:
    """What is asked for on top of the picture: the look, lost tones hatched, sharpening for output, of which `output` pixels stand for
    one of the picture."""

    look: Look
    clipping: bool = False
    finish: Finish | None = None
    output: float = 1.0


PLAIN = Capture()


@dataclass(frozen=True)
class Keys:
    """Keys by frame id of frames that are there: read plainly, read as the recipe asks (else plainly), and corrected as it asks."""

    plain: dict[str, str]
    read: dict[str, str]
    final: dict[str, str]


@dataclass(frozen=True, eq=False)
class View:
    """A scene as far as it has been computed. Frames are named by id; `plan` is None until all are decoded.

    `uncorrected(id, capture)` is a frame on its own grid under other capture corrections than the recipe's.
    `laid` is the registration that the recipe asks for; until it is there frames are shown as the inspection laid them,
    `steadied`, so that the same stone stays under the eye.
    """

    recipe: Recipe
    size: tuple[int, int]
    shot: Light
    frames: dict[str, steps.Decoded]
    registered: steps.Registered | None
    laid: Laid | None
    steadied: tuple[str, Laid] | None
    plan: Plan | None
    gates: FloatArray | None
    woven: Levels | None
    pictures: Kept
    guides: Kept
    uncorrected: Callable[[str, Capture], steps.Decoded]

    def box_inside(self, level: int, box: Box) -> Box:
        """The part of a box that lies in the picture."""
        w, h = (-(-v >> level) for v in self.size)
        x, y = min(max(0, box[0]), w - 1), min(max(0, box[1]), h - 1)
        return x, y, max(1, min(box[0] + box[2], w) - x), max(1, min(box[1] + box[3], h) - y)

    def frame_version(self, id: str) -> str:
        """Changes whenever a frame's pixels under a neutral look do."""
        laid = self._lays(id)
        return _short(id, laid[0] if laid else "", self.recipe.even_out, self._trim(id), self.frames[id].folder.name, self.frames[id].capture)

    def _lays(self, id: str) -> tuple[str, Laid] | None:
        """By which registration a frame is shown."""
        if self.laid is not None and self.plan is not None and id in self.laid.names:
            return self.plan.registered, self.laid
        return self.steadied if self.steadied and id in self.steadied[1].names else None

    def weave_version(self) -> str:
        """Changes whenever the weave's pixels under a neutral look do."""
        return _short(*self._weave_parts(), [s.model_dump() for s in self.recipe.strokes])

    def _weave_parts(self) -> tuple[Any, ...]:
        planned = (self.plan.woven, self.plan.registered) if self.plan else ()
        if self.laid is None:
            return planned, self.frame_version(self._middle)
        return planned, self.laid is None, self.gates is None, self.woven is None

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
        return {f.id: f.trim for f in self.recipe.frames}[id]

    def _weave(self, level: int, box: Box, painted: bool = True) -> FloatArray:
        strokes: list[Stroke] = self.recipe.strokes if painted else []
        if self.laid is None or self.gates is None or self.plan is None:
            return self._frame(self._middle, level, box)
        if self.woven is None:
            return weave_box(self.laid, self.gates, self.recipe.weaving, strokes, box, level)[0]
        picture: FloatArray = self.woven.read(level, box)
        changed = touched(strokes, box, level)
        if changed is not None:
            x, y, w, h = changed
            part = np.s_[y - box[1] : y - box[1] + h, x - box[0] : x - box[0] + w]
            after = weave_box(self.laid, self.gates, self.recipe.weaving, strokes, changed, level)[0]
            # at smaller sizes the strokes' change is laid over the stored picture, so that nothing else moves
            before = weave_box(self.laid, self.gates, self.recipe.weaving, [], changed, level)[0] if level else picture[part]
            picture[part] += after - before
        return picture

    @property
    def _middle(self) -> str:
        """The frame that stands for the weave before there is one."""
        if self.plan:
            return self.plan.ids[self.plan.reference]
        ids = [f.id for f in self.recipe.kept() if f.id in self.frames] or list(self.frames)
        return self.recipe.reference if self.recipe.reference in ids else ids[len(ids) // 2]

    def whole(self, what: str, wide: int) -> FloatArray:
        """All of `weave` or `frame:ID` (h, w, 3) in the weaving encoding, about `wide` pixels across."""
        level, inside = _level_for(self, (0, 0, *self.size), wide)
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
        found = weave_box(self.laid, self.gates, self.recipe.weaving, self.recipe.strokes, box, level)[1]
        return {self.laid.names[k]: mask for k, mask in found.items()}

    def guide(self) -> Guide:
        """What relief, haze and areas by distance know of the scene: the weave's for every frame, so that frames stay alike."""
        made: Guide = self.guides.get(_short(self._weave_parts()), lambda: guide_of(self._whole_weave(), self.size, self._distances()))
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
        wide = _around(box, margin, (-(-self.size[0] >> level), -(-self.size[1] >> level))) if margin else box
        picture = self.weave(level, wide) if kind == "weave" else self.frame(id, level, wide)
        site = Site(self.size, level, wide, self.guide() if needs_guide(look) else None)
        return _cut(develop(picture, look, self.shot, "srgb", site), wide, box)

    def screen(self, what: str, level: int, box: Box, shown: Shown) -> NDArray[np.uint8]:
        """8-bit sRGB (h, w, 3) of `weave`, `share`, `frame:ID`, `mask:ID`, `difference:ID:ID`; `capture:NAME:ID`, a frame on its own
        grid without a correction (or with `all`), `edges:ID`, where capture sharpening acts; `drift:ID`, what is left
        between a frame and the reference; `area:N`.

        Raises KeyError for frames that are not there and ValueError for anything else.
        """
        kind, *ids = what.split(":")
        if kind == "capture":
            return for_screen(develop(self.captured(ids[0], ids[1], level, box), shown.look, self.shot, "srgb", Site(self.size, level, box)))
        if kind == "edges":
            return self._edges(ids[0], level, box)
        if kind == "drift":
            return self._drift_map(ids[0], level, box, shown.look)
        if kind == "area":
            return self._area_map(int(ids[0]), level, box, shown.look)
        if kind == "share":
            return self._share_map(for_screen(self.developed("weave", level, box, shown.look)), level, box)
        if kind == "mask":
            picture = for_screen(self.developed(f"frame:{ids[0]}", level, box, shown.look))
            mask = self.shares(level, box).get(ids[0], np.zeros(picture.shape[:2], np.float32))[..., None]
            return np.asarray(picture * mask + MASKED * (1 - mask), np.uint8)
        if kind == "difference":
            a, b = (self.developed(f"frame:{id}", level, box, shown.look) for id in ids)
            return np.asarray(np.clip(128 + 4 * 255 * (a - b), 0, 255), np.uint8)
        picture = self._sharpened(what, level, box, shown) if shown.finish else self.developed(what, level, box, shown.look)
        screen = for_screen(picture)
        return _hatched(screen, picture, box) if shown.clipping else screen

    def captured(self, name: str, id: str, level: int, box: Box) -> FloatArray:
        """A frame (h, w, 3) on its own grid, in the weaving encoding, without one correction or with `all`."""
        capture = self.recipe.capture if name == "all" else without(self.recipe.capture, name)
        return self._kept(("capture", f"{id}{capture}"), level, box, lambda: self.uncorrected(id, capture).root(level, box))

    def _edges(self, id: str, level: int, box: Box) -> NDArray[np.uint8]:
        """Where capture sharpening acts, white, over the frame's greys."""
        frame = self.uncorrected(id, self.recipe.capture.model_copy(update={"sharpen": 5}))
        measured = frame.correct(True) if frame.correct else None
        assert measured is not None
        plain = self.uncorrected(id, without(self.recipe.capture, "sharpening"))
        light = plain.channels(level, box)
        mask = edge_mask(light, np.array(measured.noise, np.float32), self.recipe.capture.edges)[..., None]
        grey = for_screen(root_of(light) @ np.full((3, 3), 1 / 3, np.float32)) * np.float32(0.45)
        return np.asarray(grey * (1 - mask) + 255 * mask, np.uint8)

    def _drift_map(self, id: str, level: int, box: Box, look: Look) -> NDArray[np.uint8]:
        """The frame in grey, rust where it is still unlike the reference: full strength at a CIEDE2000 of DIFFERENT."""
        picture = for_screen(self.developed(f"frame:{id}", level, box, look)).mean(axis=2, keepdims=True)

        def made() -> FloatArray:
            return apart_map(*(light_of(self.whole(f"frame:{i}", MOST_SIDE)) for i in (self._middle, id)))

        found = self.pictures.get(("drift", self.frame_version(id), self.frame_version(self._middle)), made)
        strength = np.clip(Site(self.size, level, box).spread(found) / DIFFERENT, 0, 1)[..., None]
        return np.asarray(picture * (1 - 0.8 * strength) + np.array(WHITE_LOST[1], np.float32) * 0.8 * strength, np.uint8)

    def _area_map(self, number: int, level: int, box: Box, look: Look) -> NDArray[np.uint8]:
        """The weave with an area hatched as far as it goes."""
        picture = for_screen(self.developed("weave", level, box, look)).astype(np.float32)
        area = look.areas[number]
        margin = reaches(look.model_copy(update={"areas": [area.model_copy(update={"on": True})]}), level)
        wide = _around(box, margin, (-(-self.size[0] >> level), -(-self.size[1] >> level)))
        mask = mask_of(area, Site(self.size, level, wide, self.guide()), light_of(self.weave(level, wide)))
        line = hatch(number % 6, box)[..., None]
        strength = _cut(mask, wide, box)[..., None] * (0.25 + 0.45 * line)
        return np.asarray(picture * (1 - strength) + np.array(AREA, np.float32) * strength, np.uint8)

    def _sharpened(self, what: str, level: int, box: Box, shown: Shown) -> FloatArray:
        assert shown.finish is not None
        radius = shown.finish.radius / shown.output * 0.5**level
        if radius < LEAST_RADIUS or shown.finish.sharpen == 0:
            return self.developed(what, level, box, shown.look)
        reach = int(np.ceil(8 * radius)) + 4
        wide = _around(box, reach, (-(-self.size[0] >> level), -(-self.size[1] >> level)))
        picture = sharpened(self.developed(what, level, wide, shown.look), shown.finish.sharpen, radius, shown.finish.spare)
        return _cut(picture, wide, box)

    def _share_map(self, picture: NDArray[np.uint8], level: int, box: Box) -> NDArray[np.uint8]:
        grey = picture.mean(axis=2, keepdims=True)
        out = np.repeat(grey, 3, axis=2)
        order = [f.id for f in self.recipe.in_depth()]
        for id, mask in self.shares(level, box).items():
            place = order.index(id)
            line = hatch(place, box)[..., None]
            tint = np.array(depth_colour(place, len(order)), np.float32)
            strength = mask[..., None] * (0.50 + 0.22 * line)
            out = out * (1 - strength) + tint * strength
        return np.asarray(np.clip(out, 0, 255), np.uint8)


DIFFERENT = 3.0
AREA = (31, 110, 90)
MASKED = np.float32(118)
"""Grey of what a mask hides."""


def _short(*parts: Any) -> str:
    return hashlib.sha256(repr(parts).encode()).hexdigest()[:12]


def _around(box: Box, reach: int, size: tuple[int, int]) -> Box:
    x, y, w, h = box
    x0, y0 = max(0, x - reach), max(0, y - reach)
    return x0, y0, min(size[0], x + w + reach) - x0, min(size[1], y + h + reach) - y0


def _cut(picture: FloatArray, wide: Box, box: Box) -> FloatArray:
    """The part of a picture of a wide box that lies in another."""
    x, y, w, h = box
    return np.ascontiguousarray(picture[y - wide[1] : y - wide[1] + h, x - wide[0] : x - wide[0] + w])


def _hatched(screen: NDArray[np.uint8], picture: FloatArray, box: Box) -> NDArray[np.uint8]:
    """Lines over what is lost in black and in white; the picture stays readable between them."""
    screen = screen.copy()
    for lost, (place, colour) in zip(clipped(picture), (BLACK_LOST, WHITE_LOST), strict=True):
        screen[lost & (hatch(place, box) > 0)] = colour
    return screen


def open_view(cache: Cache, recipe: Recipe, keys: Keys, planned: Plan | None, kept: Kept, pictures: Kept, guides: Kept, inspected: Sequence[str] = ()) -> View | None:
    """What there is of a scene; None before any frame has been decoded.

    Where a frame has not been corrected yet, it is corrected as it is looked at.
    `inspected` the frames that were looked at, near to far; `kept` keeps what many views of a scene have in common, `pictures` the
    last boxes looked at, `guides` what relief and haze know of the last pictures.
    """
    def corrected(id: str, capture: Capture) -> steps.Decoded:
        read = keys.plain if (capture.demosaic, capture.highlights) == (PLAIN.demosaic, PLAIN.highlights) and id in keys.plain else keys.read
        plain = kept.get(read[id], lambda: steps.open_decoded(cache, read[id]))
        found: steps.Decoded = kept.get((read[id], capture), lambda: steps.pending(cache, plain, read[id], capture))
        return found

    def opened(id: str) -> steps.Decoded:
        if id not in keys.final:
            return corrected(id, recipe.capture)
        found: steps.Decoded = kept.get(keys.final[id], lambda: steps.open_decoded(cache, keys.final[id]))
        return found

    frames = {f.id: opened(f.id) for f in recipe.frames if f.id in keys.read or f.id in keys.final}
    if not frames:
        return None
    first = next(iter(frames.values()))
    trims = {f.id: f.trim for f in recipe.frames}
    registered, laid, steadied, gates, woven = None, None, None, None, None
    if inspected and all(id in frames for id in inspected):
        key = next((k for k in (registration_of([by[id] for id in inspected]) for by in (keys.final, keys.read, keys.plain) if all(id in by for id in inspected)) if cache.has(k)), "")
        if key and not (planned and cache.has(planned.registered)):
            found = kept.get(key, lambda: steps.open_registration(cache, key))
            steadied = key, steps.laid_frames([frames[id] for id in inspected], list(inspected), found, recipe.even_out, [trims[id] for id in inspected])
    if planned and cache.has(planned.registered):
        registered = kept.get(planned.registered, lambda: steps.open_registration(cache, planned.registered))
        laid = steps.laid_frames([frames[i] for i in planned.ids], planned.ids, registered, recipe.even_out, [trims[id] for id in planned.ids])
        if cache.has(planned.labelled):
            gates = kept.get(planned.labelled, lambda: np.load(cache.path(planned.labelled) / "gates.npy").astype(np.float32))
        if cache.has(planned.woven):
            woven = Levels(cache.path(planned.woven) / "picture")
    shot = frames[planned.ids[planned.reference]].shot if planned else first.shot
    return View(recipe, first.size, shot, frames, registered, laid, steadied, planned, gates, woven, pictures, guides, corrected)


def viewport(view: View, what: str, box: tuple[float, float, float, float], wide: int, shown: Shown) -> tuple[NDArray[np.uint8], Box]:
    """A box (x, y, w, h) of the full-size picture, about `wide` pixels across, and the box it turned out to be."""
    level, inside = _level_for(view, box, wide)
    picture = view.screen(what, level, inside, shown)
    if picture.shape[1] > wide:
        picture = np.asarray(cv2.resize(picture, (wide, max(1, round(picture.shape[0] * wide / picture.shape[1]))), interpolation=cv2.INTER_AREA), np.uint8)
    x, y, w, h = (v << level for v in inside)
    return picture, (x, y, w, h)


def _level_for(view: View, box: tuple[float, float, float, float], wide: int) -> tuple[int, Box]:
    """The smallest level that still has about `wide` pixels across a box of the full size, and the box there."""
    x, y, w, h = box
    level = 0
    while level < view.levels - 1 and w / 2 ** (level + 1) >= wide * 0.9:
        level += 1
    scale = 0.5**level
    return level, view.box_inside(level, (int(x * scale), int(y * scale), max(1, round(w * scale)), max(1, round(h * scale))))


def overview(view: View, what: str, wide: int, look: Look) -> FloatArray:
    """All of the picture, developed, about `wide` pixels across: what a histogram is made of."""
    level, inside = _level_for(view, (0, 0, *view.size), wide)
    return view.developed(what, level, inside, look)
