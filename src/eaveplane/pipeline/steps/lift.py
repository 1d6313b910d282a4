"""The weave with veils lifted."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ...core.mend.found import Detail, Fronts, fronts_in, with_solid
from ...core.mend.fronts import near_to_far
from ...core.mend.veil import CELL, Cut, Energies, blocks_with, cut, detail_in, energies, left_of, lifted_block, quiet_details, quiet_in, standing, unexplained, veiled_block
from ...core.weave.laid import RegisteredFrames
from ...core.weave.ways.joint_light import blocks_of
from ...imaging.colour import FloatArray
from ...imaging.pyramid import Box, Pyramid
from ...imaging.rows import side_by_side
from ..cache import Cache
from ..ticket import Ticket
from .frame import open_frame
from .label import open_labels
from .step import Step
from .weave import Weave, found_frames, open_weave

SAMPLED = 9
"""Blocks from which it is told what quiet places look like."""


@dataclass(frozen=True)
class Lift(Step):
    """A weave by joint light with veils lifted where the frames bear it out."""

    name, version = "lift", 9
    woven: Weave

    def build(self, cache: Cache, folder: Path, ticket: Ticket) -> None:
        woven = self.woven
        labelled, registered = woven.labelled, woven.labelled.registered
        laid = found_frames(cache, woven).alone
        gates = open_labels(cache, labelled.key)[list(labelled.found)]
        focus = [open_frame(cache, registered.frames[k]).meta.focus_m for k in labelled.found]
        orders = near_to_far(laid.places.at, focus) if laid.places and laid.places.trusted else []
        from_weave, (width, height) = open_weave(cache, woven.key), laid.size
        levels = Pyramid.create(folder / "picture", width, height, 3, "float32", registered.frames[0].at_full_size_only())
        levels.begin_as(from_weave)
        blocks = blocks_of((0, 0, width, height), laid.size)
        refused, most = np.zeros((height, width), np.bool_), 0.0
        shown = np.zeros((height, width), np.uint8)
        best: tuple[_Lifting, Fronts] | None = None
        for number, order in enumerate(orders):
            lifting = _Lifting(laid, gates, woven, order, blocks, ticket.within(0.7 * number / len(orders), 0.7 * (number + 1) / len(orders)))
            stands, stays, explained = lifting.fronts()
            if best is None or explained > most:
                best, refused, most = (lifting, stands), stays, explained
        if best is not None:
            lifting, stands = best
            lifting.tell = ticket.within(0.7, 0.95)
            shown = lifting.into(levels, stands)
        levels.halve_into_levels()
        refused &= shown == 0
        of_veils = Pyramid.create(folder / "veils", width, height, 2, "uint8", registered.frames[0].at_full_size_only())
        of_veils.write(0, 0, 0, np.dstack([shown, np.where(refused, np.uint8(255), np.uint8(0))]))
        of_veils.halve_into_levels()
        told = json.loads((cache.path(woven.key) / "woven.json").read_text())
        (folder / "woven.json").write_text(json.dumps({**told, "lifted": float((shown > 127).mean()), "refused": float(refused.mean())}))


def open_veils(cache: Cache, key: str) -> Pyramid:
    """How far veils were lifted and where they were tried and left, 0 to 255, of a key."""
    return Pyramid(cache.path(key) / "veils")


@dataclass(frozen=True)
class Veils:
    """Parts of the picture, 0 to 1, where veils were lifted and where they were tried and left."""

    lifted: float
    refused: float


def veils_of(cache: Cache, key: str) -> Veils:
    """What became of the veils in a lifted weave that is there."""
    told = json.loads((cache.path(key) / "woven.json").read_text())
    return Veils(told["lifted"], told["refused"])


class _Lifting:
    """The blocks of a picture, gone through as often as it takes."""

    def __init__(self, laid: RegisteredFrames, gates: FloatArray, woven: Weave, order: list[int], blocks: list[Box], tell: Callable[[float], None]) -> None:
        self.laid, self.gates, self.woven, self.order, self.blocks, self.tell = laid, gates, woven, order, blocks, tell
        self.quiet: list[float] = []

    def cut(self, block: Box) -> Cut:
        return cut(self.laid, self.gates, self.woven.weaving, self.order, block)

    def fronts(self) -> tuple[Fronts, NDArray[np.bool_], float]:
        """Which fronts stand, where (h, w) others are, and how much energy is explained for it."""
        width, height = self.laid.size
        whole = [b for b in self.blocks if b[2] == max(b[2] for b in self.blocks)]
        sample = whole[:: -(-len(whole) // SAMPLED)]
        self.quiet = quiet_details(list(side_by_side(lambda block: quiet_in(self.cut(block)), sample)), len(self.laid.names))
        self.tell(0.1)
        detail, told, cells = Detail.empty((width, height)), dict[int, Energies](), (-(-height // CELL), -(-width // CELL))
        left, every = np.zeros(cells, np.float32), np.zeros(cells, np.float32)

        def tell_of(block: Box) -> None:
            part = self.cut(block)
            detail.put(detail_in(part, self.quiet), block[0], block[1])
            for whole, piece in zip((left, every), left_of(part), strict=True):
                y, x = block[1] // CELL, block[0] // CELL
                whole[y : y + piece.shape[0], x : x + piece.shape[1]] = piece

        self._over(tell_of, self.blocks, 0.1, 0.5)
        thin = fronts_in(detail)
        thin, tried = unexplained(thin, with_solid(thin, detail), left, every)

        def judge(block: Box) -> tuple[Box, dict[int, Energies]]:
            part = self.cut(block)
            x, y, w, h = part.piece.wide
            return block, energies(part, thin[y : y + h, x : x + w], tried.within(part.piece.wide), self.quiet)

        near = blocks_with(tried.number, self.blocks)
        for done, (block, found) in enumerate(side_by_side(judge, near), 1):
            for number, part in found.items():
                told.setdefault(number, Energies.none(cells)).put(part, block[0] // CELL, block[1] // CELL)
            self.tell(0.5 + 0.5 * done / len(near))
        return standing(thin, tried, told, len(self.laid.names))

    def into(self, levels: Pyramid, stand: Fronts) -> NDArray[np.uint8]:
        """Lay lifted blocks over the weave; how far (h, w), 0 to 255, it was changed."""
        shown = np.zeros(stand.number.shape, np.uint8)

        def lay(block: Box) -> None:
            x, y, w, h = block
            part = self.cut(block)
            picture, share = lifted_block(part, stand.within(part.piece.wide), self.quiet)
            before = levels.read(0, block)
            veiled = before if len(part.numbers) == len(self.laid.names) else veiled_block(part)
            levels.write(0, x, y, before + share[..., None] * (picture - veiled))
            shown[y : y + h, x : x + w] = np.round(255 * share)

        self._over(lay, blocks_with(stand.number, self.blocks), 0.0, 1.0)
        return shown

    def _over(self, work: Callable[[Box], None], blocks: list[Box], first: float, last: float) -> None:
        for done, _ in enumerate(side_by_side(work, blocks), 1):
            self.tell(first + (last - first) * done / len(blocks))

