"""What a scene needs, in order: which steps, on what, and what the recipe makes of their results."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..core.gather.coverage import LEAST_LOST, newly_soft
from ..core.gather.inspect import Inspection
from ..core.register.register import suggest_reference
from ..recipe import FrameChoice, Reason, Recipe
from . import steps
from .cache import Cache
from .runner import Runner


@dataclass(frozen=True)
class Plan:
    """Keys of all results that a recipe's weave is made of. Lists run over the frames kept, near to far."""

    ids: list[str]
    frames: list[str]
    reference: int
    registered: str
    labelled: str
    woven: str


def plan(recipe: Recipe, keys: Mapping[str, str], full_only: bool) -> Plan | None:
    """Which results a recipe needs; None while a kept frame has not been decoded or no frame is kept."""
    kept = recipe.kept()
    if not kept or any(f.id not in keys for f in kept):
        return None
    ids = [f.id for f in kept]
    frames = [keys[i] for i in ids]
    reference = reference_in(recipe)
    registered = steps.registration_key(frames, reference)
    labelled = steps.labels_key(frames, registered, recipe.weaving.quiet)
    woven = steps.weave_key(frames, registered, labelled, recipe.weaving, recipe.even_out, [f.trim for f in kept], full_only)
    return Plan(ids, frames, reference, registered, labelled, woven)


def reference_in(recipe: Recipe) -> int:
    """Which of the frames kept is the reference: the one chosen, else the one suggested."""
    ids = [f.id for f in recipe.kept()]
    return ids.index(recipe.reference) if recipe.reference in ids else suggest_reference(len(ids))


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
    runner.one("Weaving", span, steps.weave, str(cache.root), planned.frames, planned.registered, planned.labelled, recipe.weaving, recipe.even_out, [f.trim for f in recipe.kept()], full_only)
    return shares(cache, planned)


def shares(cache: Cache, planned: Plan) -> list[float]:
    """Shares of a weave that is there."""
    return [float(s) for s in json.loads((cache.path(planned.woven) / "shares.json").read_text())]


def deliver(cache: Cache, planned: Plan, recipe: Recipe, out: Path, replace: bool, runner: Runner, span: tuple[float, float]) -> Path:
    """Write the finished picture. Raises FileExistsError and PictureError."""
    runner.one("Writing", span, steps.deliver, str(cache.root), planned.frames, planned.registered, planned.labelled, planned.woven, recipe, str(out), replace)
    return out


def look_at(cache: Cache, keys: Sequence[str], runner: Runner, span: tuple[float, float]) -> Inspection:
    """Register frames (their keys, near to far) and look for their faults."""
    reference = suggest_reference(len(keys))
    middle = span[0] + 0.8 * (span[1] - span[0])
    registered = runner.one("Registering", (span[0], middle), steps.registration, str(cache.root), list(keys), reference)
    runner.one("Looking for faults", (middle, span[1]), steps.inspection, str(cache.root), list(keys), registered)
    return steps.open_inspection(cache, inspection_of(keys))


def registration_of(keys: Sequence[str]) -> str:
    """The key of the registration with which frames in this order are inspected."""
    return steps.registration_key(list(keys), suggest_reference(len(keys)))


def inspection_of(keys: Sequence[str]) -> str:
    """The key of the inspection of frames in this order."""
    return steps.inspection_key(list(keys), registration_of(keys))


def proposed(found: Inspection, ids: Sequence[str]) -> dict[str, Reason]:
    """Frames (by id) to be left out where nobody is asked, and why: nothing is lost by it.

    Redundant ones stay: they cost time but average noise away.
    """
    reasons: dict[str, Reason] = {id: v.flaw for id, v in zip(ids, found.verdicts, strict=True) if v.flaw and v.flaw != "redundant" and not v.needed}
    return reasons if len(reasons) < len(ids) else {}


MOST_LEFT_OUT = 1 / 3
"""Part of the frames that may be left out unasked without a word."""


def doubts(found: Inspection, ids: Sequence[str], left_out: Sequence[str]) -> list[str]:
    """What should be looked at once frames (by id) have been left out unasked."""
    told = []
    if len(left_out) > MOST_LEFT_OUT * len(ids):
        told.append(f"{len(left_out)} of {len(ids)} frames were left out; the report says why. --leave-out none keeps them.")
    lost = newly_soft(found.defocus, [k for k, id in enumerate(ids) if id not in left_out])
    if lost > LEAST_LOST:
        told.append(f"{100 * lost:.1f} % of the picture may be softer for the frames left out. --leave-out none keeps them.")
    return told


def settled(recipe: Recipe, found: Inspection, ids: Sequence[str]) -> Recipe:
    """The recipe with a reference that nothing speaks against, where the one suggested would be a doubtful frame."""
    kept = [f.id for f in recipe.kept()]
    # one that others could stand in for is as sound as they are
    doubtful = {id for id, v in zip(ids, found.verdicts, strict=True) if v.flaw and v.flaw != "redundant"}
    if recipe.reference in kept or not kept or kept[suggest_reference(len(kept))] not in doubtful:
        return recipe
    middle = suggest_reference(len(kept))
    sound = sorted((abs(i - middle), i) for i, id in enumerate(kept) if id not in doubtful)
    return recipe.model_copy(update={"reference": kept[sound[0][1]]}) if sound else recipe


def leave_out(recipe: Recipe, reasons: dict[str, Reason]) -> Recipe:
    """The recipe with frames (by id) set aside."""
    frames = [FrameChoice(**{**f.model_dump(), "state": "leave_out", "reason": reasons[f.id]}) if f.id in reasons else f for f in recipe.frames]
    return recipe.model_copy(update={"frames": frames})
