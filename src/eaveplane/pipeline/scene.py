"""What a scene needs, in order: which steps, on what, and what the recipe makes of their results."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, Executor, Future, wait
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ..core.gather.order import near_to_far
from ..core.register.register import suggest_reference
from ..imaging.errors import PictureError
from ..recipe import FrameChoice, Reason, Recipe
from . import steps
from .cache import Cache
from .ticket import Cancelled, Ticket

LEAST_SHARE = 0.004
"""A frame that is sharpest in less than this part of the textured picture has no part of its own."""
WORST_FIT = 4.0


@dataclass(frozen=True)
class File:
    """An original: where it is, what it holds."""

    path: Path
    sha256: str
    name: str

    @property
    def id(self) -> str:
        """The name by which recipes know the frame."""
        return self.sha256[:12]


Call = tuple[Callable[..., Any], tuple[Any, ...]]
"""A step and its arguments but the last, which is a ticket's path."""


class Runner:
    """Submits steps to an executor, passes on how far they are, and calls them off when that is asked for."""

    def __init__(self, executor: Executor, tickets: Path, tell: Callable[[str, float], None], cancelled: Callable[[], bool] = lambda: False) -> None:
        self.executor, self.tickets, self.tell, self.cancelled = executor, tickets, tell, cancelled
        tickets.mkdir(parents=True, exist_ok=True)

    def run(self, what: str, span: tuple[float, float], calls: Sequence[Call], follow: Callable[[Any], Call | None] = lambda result: None) -> list[Any]:
        """Results, or the exceptions that were raised, of steps that take a ticket's path as their last argument.

        `follow` may name a second step for the result of a first one; it is submitted behind all first ones, and its
        result stands for both. Raises Cancelled.
        """
        tickets = [Ticket(str(self.tickets / f"{id(self)}-{i}")) for i in range(len(calls))]
        for ticket in tickets:
            ticket.clear()
        futures: list[Future[Any]] = [self.executor.submit(step, *args, str(ticket.path)) for (step, args), ticket in zip(calls, tickets, strict=True)]
        first, asked = [True] * len(calls), False
        try:
            while True:
                wait([f for f in futures if not f.done()], timeout=0.2, return_when=FIRST_COMPLETED)
                for k, future in enumerate(futures):
                    if first[k] and future.done() and not asked:
                        first[k] = False
                        second = None if future.exception() else follow(future.result())
                        if second:
                            tickets[k].clear()
                            futures[k] = self.executor.submit(second[0], *second[1], str(tickets[k].path))
                parts = [1.0 if f.done() else t.read() if now else 0.5 + t.read() / 2 for f, t, now in zip(futures, tickets, first, strict=True)]
                self.tell(what, span[0] + (span[1] - span[0]) * sum(parts) / max(1, len(parts)))
                if all(f.done() for f in futures):
                    break
                if not asked and self.cancelled():
                    asked = True
                    for future, ticket in zip(futures, tickets, strict=True):
                        future.cancel()
                        ticket.cancel()
        finally:
            for ticket in tickets:
                ticket.clear()
        if asked:
            raise Cancelled
        outcome = []
        for future in futures:
            error = future.exception()
            if isinstance(error, Cancelled):
                raise error
            outcome.append(error if error is not None else future.result())
        return outcome

    def one(self, what: str, span: tuple[float, float], step: Callable[..., Any], *args: Any) -> Any:
        """The result of a single step; raises what it raised."""
        (result,) = self.run(what, span, [(step, args)])
        if isinstance(result, BaseException):
            raise result
        return result


@dataclass(frozen=True)
class Analysed:
    """Decode keys by frame id, and what was wrong with the files that could not be decoded."""

    keys: dict[str, str]
    problems: dict[str, PictureError]


def analyse(cache: Cache, files: Sequence[File], runner: Runner, span: tuple[float, float], full_only: bool) -> Analysed:
    """Decode and measure frames, each by itself; measuring waits until all are being read, so that no core is idle."""
    calls: list[Call] = [(steps.decode, (str(cache.root), str(f.path), f.sha256, full_only)) for f in files]
    keys: dict[str, str] = {}
    problems: dict[str, PictureError] = {}

    def measure(decoded: str | None) -> Call | None:
        return (steps.analyse, (str(cache.root), decoded)) if decoded else None

    results = runner.run("Reading frames", span, [*calls, (steps.warm, ())], measure)
    for file, result in zip(files, results, strict=False):
        if isinstance(result, PictureError):
            problems[file.id] = result
        elif isinstance(result, BaseException):
            raise result
        else:
            keys[file.id] = result
    return Analysed(keys, problems)


def in_order(cache: Cache, keys: Sequence[str]) -> list[int]:
    """Indices of frames (decode keys) from near to far: by focus distance where all have one, else from the pictures."""
    frames = [steps.open_decoded(cache, key) for key in keys]
    distances = [frame.meta.focus_m for frame in frames]
    if all(d is not None for d in distances) and len(set(distances)) == len(distances):
        return sorted(range(len(keys)), key=lambda i: distances[i] or 0.0)
    return near_to_far([frame.detail() for frame in frames])


@dataclass(frozen=True)
class Plan:
    """Keys of all results that a recipe's weave is made of. Lists run over the frames kept, near to far."""

    ids: list[str]
    frames: list[str]
    reference: int
    registered: str
    labelled: str
    woven: str


def plan(recipe: Recipe, keys: dict[str, str], full_only: bool) -> Plan | None:
    """Which results a recipe needs; None while a kept frame has not been decoded or no frame is kept."""
    kept = recipe.kept()
    if not kept or any(f.id not in keys for f in kept):
        return None
    ids = [f.id for f in kept]
    frames = [keys[i] for i in ids]
    reference = ids.index(recipe.reference) if recipe.reference in ids else suggest_reference(len(ids))
    registered = steps.registration_key(frames, reference)
    labelled = steps.labels_key(frames, registered, recipe.weaving.quiet)
    woven = steps.weave_key(frames, registered, labelled, recipe.weaving, recipe.even_out, full_only)
    return Plan(ids, frames, reference, registered, labelled, woven)


def register(cache: Cache, planned: Plan, runner: Runner, span: tuple[float, float]) -> steps.Registered:
    runner.one("Registering", span, steps.registration, str(cache.root), planned.frames, planned.reference)
    return steps.open_registration(cache, planned.registered)


def label(cache: Cache, planned: Plan, quiet: float, runner: Runner, span: tuple[float, float]) -> list[float]:
    """Find the sharp zones; each frame's share of the textured picture."""
    runner.one("Finding sharp zones", span, steps.labels, str(cache.root), planned.frames, planned.registered, quiet)
    return zone_shares(cache, planned)


def zone_shares(cache: Cache, planned: Plan) -> list[float]:
    """In how much of the textured picture each frame is the sharpest, where sharp zones have been found."""
    return [float(s) for s in np.load(cache.path(planned.labelled) / "zones.npz")["shares"]]


def weave(cache: Cache, planned: Plan, recipe: Recipe, runner: Runner, span: tuple[float, float], full_only: bool) -> list[float]:
    """Weave at full size; each frame's share of the picture."""
    runner.one("Weaving", span, steps.weave, str(cache.root), planned.frames, planned.registered, planned.labelled, recipe.weaving, recipe.even_out, full_only)
    return shares(cache, planned)


def shares(cache: Cache, planned: Plan) -> list[float]:
    """Shares of a weave that is there."""
    return [float(s) for s in json.loads((cache.path(planned.woven) / "shares.json").read_text())]


def deliver(cache: Cache, planned: Plan, recipe: Recipe, out: Path, replace: bool, runner: Runner, span: tuple[float, float]) -> Path:
    """Write the finished picture. Raises FileExistsError and PictureError."""
    runner.one("Writing", span, steps.deliver, str(cache.root), planned.frames, planned.registered, planned.labelled, planned.woven, recipe, str(out), replace)
    return out


def same_size(cache: Cache, files: Sequence[File], keys: dict[str, str]) -> dict[str, PictureError]:
    """What to say of frames whose size or orientation is not that of most."""
    sizes = {f.id: steps.open_decoded(cache, keys[f.id]).size for f in files if f.id in keys}
    if not sizes:
        return {}
    counted = sorted(set(sizes.values()), key=lambda s: (-list(sizes.values()).count(s), s))
    usual = counted[0]
    return {
        f.id: PictureError(f.path, f"is {sizes[f.id][0]} × {sizes[f.id][1]} pixels, the others are {usual[0]} × {usual[1]}.", "Frames of one scene have one size and orientation; leave it out.")
        for f in files
        if f.id in sizes and sizes[f.id] != usual
    }


def without_part(found: list[float], registered: steps.Registered) -> dict[int, Reason]:
    """Frames (by index, near to far) that should be left out, and why: no part of their own, or no fit."""
    reasons: dict[int, Reason] = {}
    for k, share in enumerate(found):
        residual = registered.residual[k]
        if registered.warnings[k] and (residual is None or residual > WORST_FIT):
            reasons[k] = "shaken"
        elif share < LEAST_SHARE:
            before, after = sum(found[:k]), sum(found[k + 1 :])
            reasons[k] = "overshot" if min(before, after) < LEAST_SHARE else "redundant"
    if len(reasons) >= len(found):
        return {}
    return reasons


def leave_out(recipe: Recipe, reasons: dict[str, Reason]) -> Recipe:
    """The recipe with frames (by id) set aside."""
    frames = [FrameChoice(**{**f.model_dump(), "state": "leave_out", "reason": reasons[f.id]}) if f.id in reasons else f for f in recipe.frames]
    return recipe.model_copy(update={"frames": frames})
