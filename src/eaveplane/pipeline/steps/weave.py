"""Weaving at full size."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ...core.even.drift import Trim
from ...core.masks.strokes import Stroke
from ...core.weave.drawn import Below
from ...core.weave.laid import ByHand, HandMask, RegisteredFrames, Weaving
from ...core.weave.places import Places
from ...core.weave.ways.joint_light import BLOCK
from ...core.weave.weave import found_in, repaint, woven_by
from ...imaging.colour import FloatArray
from ...imaging.pyramid import Box, Pyramid
from ...imaging.rows import side_by_side
from ..cache import Cache
from ..ticket import Ticket
from .frame import open_frame
from .label import Label, open_labels
from .places import open_places
from .register import open_registration, registered_frames
from .step import Step

TILE = 1024
DONE = "done.txt"
"""Boxes of a weave that are there already, a line each."""


@dataclass(frozen=True)
class Weave(Step):
    """The weave without what is made by hand, at full size (and halved ones), and each frame's share."""

    name, version = "weave", 14
    labelled: Label
    weaving: Weaving
    even_out: bool
    trims: tuple[Trim, ...]

    def build(self, cache: Cache, folder: Path, ticket: Ticket) -> None:
        registered = self.labelled.registered
        laid = found_frames(cache, self)
        weights = open_labels(cache, self.labelled.key)
        width, height = laid.size
        levels = Pyramid.create(folder / "picture", width, height, 3, "float32", registered.frames[0].at_full_size_only())
        totals = np.zeros(len(laid.names))
        side = BLOCK if woven_by(laid, self.weaving) == "joint-light" else TILE
        # from the bottom up: near to far, as one looks into the picture
        boxes = [(x, y, min(side, width - x), min(side, height - y)) for y in reversed(range(0, height, side)) for x in range(0, width, side)]

        def one(box: Box) -> dict[int, float]:
            picture, shares = found_in(laid, weights, self.weaving, box, 0)
            levels.write(0, box[0], box[1], picture)
            levels.halve_into_levels(box)
            # a line at a time is whole for whoever looks meanwhile
            with (folder / DONE).open("a") as done:
                done.write(" ".join(map(str, box)) + "\n")
            return {k: float(mask.sum(dtype=np.float64)) for k, mask in shares.items()}

        for done, sums in enumerate(side_by_side(one, boxes), 1):
            for k, total in sums.items():
                totals[k] += total
            ticket.tell(0.99 * done / len(boxes))
        told = {"shares": (totals / (width * height)).tolist(), "way": woven_by(laid, self.weaving), "unexplained": laid.places.unexplained if laid.places else None}
        (folder / "woven.json").write_text(json.dumps(told))


def found_frames(cache: Cache, woven: Weave) -> RegisteredFrames:
    """The frames of a weave, those hidden whose masks are not found."""
    registered = woven.labelled.registered
    frames = [open_frame(cache, frame) for frame in registered.frames]
    hidden = {k: HandMask() for k in range(len(frames)) if k not in woven.labelled.found}
    return registered_frames(frames, [frame.key for frame in registered.frames], open_registration(cache, registered.key), woven.even_out, woven.trims, places_for(cache, woven), ByHand(hidden))


@dataclass(frozen=True, eq=False)
class Forming:
    """A weave that is being made: its `levels`, and the `boxes` of the full size that are there already."""

    levels: Pyramid
    boxes: list[Box]


def open_forming(cache: Cache, key: str) -> Forming | None:
    """What there is so far of a weave that is being made; None where there is nothing yet."""
    try:
        folder = cache.forming(key)
        lines = (folder / DONE).read_text().split("\n")[:-1] if folder else []
        boxes = [tuple(int(v) for v in line.split()) for line in lines]
        return Forming(Pyramid(folder / "picture"), boxes) if folder and boxes else None  # type: ignore[arg-type]
    except (OSError, ValueError):
        # it has just been finished, or given up
        return None


def open_weave(cache: Cache, key: str) -> Pyramid:
    """The woven picture of a key, in the weaving encoding."""
    return Pyramid(cache.path(key) / "picture")


@dataclass(frozen=True, eq=False)
class WovenPicture:
    """A weave as it was made, or with its veils lifted by a `share`, 0 to 1, of what was made: the rest as it is `below`. `of` tells it from any other."""

    of: str
    made: Pyramid
    below: Pyramid | None = None
    share: float = 1.0

    def read(self, level: int, box: Box) -> FloatArray:
        """A box (h, w, 3) of the picture halved `level` times, in the weaving encoding."""
        picture: FloatArray = self.made.read(level, box)
        if self.below is None:
            return picture
        below: FloatArray = self.below.read(level, box)
        return below + np.float32(self.share) * (picture - below)


def open_lifted(cache: Cache, woven: Weave, result: str, strength: float) -> WovenPicture:
    """What lies under the key `result`, that of `woven` or of what was lifted of it; its veils lifted by a strength of 0 to 100 %."""
    made = open_weave(cache, result)
    if result == woven.key or strength == 100:
        return WovenPicture(result, made)
    return WovenPicture(f"{result}{strength:g}", made, open_weave(cache, woven.key), strength / 100)


def shares_of(cache: Cache, key: str) -> list[float]:
    """Each frame's share of a weave that is there."""
    return [float(s) for s in json.loads((cache.path(key) / "woven.json").read_text())["shares"]]


def way_of(cache: Cache, key: str) -> str:
    """The way by which a weave that is there was woven; crisp seams where joint light did not know where frames are focused."""
    return str(json.loads((cache.path(key) / "woven.json").read_text())["way"])


def places_for(cache: Cache, woven: Weave) -> Places | None:
    """Where the frames of a weave are focused; None where that cannot be told."""
    located = woven.labelled.located
    return open_places(cache, located.key) if located else None


def apply_strokes(picture: FloatArray, laid: RegisteredFrames, weights: FloatArray, weaving: Weaving, strokes: list[Stroke], below: Below, ticket: Ticket) -> None:
    """Lay what a hand decided over a full-size weave, in place; `below` reads it without."""
    height, width = picture.shape[:2]
    boxes = [(x, y, min(TILE, width - x), min(TILE, height - y)) for y in range(0, height, TILE) for x in range(0, width, TILE)]

    def one(box: Box) -> None:
        x, y, w, h = box
        repaint(picture[y : y + h, x : x + w], laid, weights, weaving, strokes, box, 0, below)

    for done, _ in enumerate(side_by_side(one, boxes), 1):
        ticket.tell(0.4 * done / len(boxes))
