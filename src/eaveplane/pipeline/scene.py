"""What a scene needs, in order: which steps, on what, and what the recipe makes of their results."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path

from ..core.deliver.sheet import Sheet, written
from ..core.gather.coverage import LEAST_LOST, newly_soft
from ..core.gather.inspect import Inspection
from ..core.mend.veil import MOST_LIFTED
from ..core.register.nudge import STILL
from ..core.register.register import suggest_reference
from ..core.weave.places import Places
from ..imaging.errors import PictureError
from ..imaging.pyramid import Box
from ..recipe import FrameChoice, Reason, Recipe
from .cache import Cache
from .canvas import canvas_of
from .runner import Runner
from .steps import (
    UNREADABLE,
    Flaws,
    FrameStep,
    GivenMask,
    Inspect,
    Label,
    Lift,
    Locate,
    Nudged,
    Register,
    Registration,
    Step,
    Weave,
    Written,
    deliver,
    frames_out,
    make,
    open_inspection,
    open_registration,
    shares_of,
    zone_shares,
)
from .steps import write_masks as masks_out
from .ticket import Ticket


@dataclass(frozen=True)
class Plan:
    """The weave that a recipe asks for, and with it all steps it is made of. `ids` are the frames kept, near to far; `result` is the weave with
    veils lifted where that is asked for, by `strength` (%); `masks` were brought in and are laid over it, as is what is drawn from `beside` it, by id."""

    ids: list[str]
    woven: Weave
    result: Weave | Lift
    strength: float = 100
    masks: tuple[GivenMask, ...] = ()
    beside: Mapping[str, Register] = field(default_factory=dict)

    @property
    def labelled(self) -> Label:
        return self.woven.labelled

    @property
    def flaws(self) -> Flaws:
        """What may be wrong with the result."""
        return Flaws(self.result)

    @property
    def seen(self) -> tuple[Step, ...]:
        """What the picture is read from: the weave as well, where veils are lifted in part."""
        return (self.woven, self.result) if self.result is not self.woven and self.strength < 100 else (self.result,)

    @property
    def registered(self) -> Register | Nudged:
        return self.woven.labelled.registered

    def steps(self) -> tuple[Step, ...]:
        """In the order in which they are made."""
        located = (self.labelled.located,) if self.labelled.located else ()
        lifted = (self.result,) if self.result is not self.woven else ()
        laid = (self.registered.registered, self.registered) if isinstance(self.registered, Nudged) else (self.registered,)
        return *laid, *self.beside.values(), *located, self.labelled, self.woven, *lifted, *self.masks

    @property
    def frames(self) -> tuple[FrameStep, ...]:
        return self.registered.frames

    @property
    def reference(self) -> int:
        """Which of the frames is the reference."""
        return self.registered.reference

    def noise_times(self, places: Places | None) -> list[float]:
        """How many times the noise of the quieter frames each has, once it is as bright as the reference; 1 where that is not told."""
        told = [1.0] * len(self.ids)
        if self.labelled.located and places:
            for k, variance in zip(self.labelled.located.found, places.noisier, strict=True):
                told[k] = math.sqrt(variance)
        return told


def plan(recipe: Recipe, frames: Mapping[str, FrameStep], masks: Mapping[str, Path]) -> Plan | None:
    """What a recipe asks for, of frames by id; None while a kept frame has not been decoded or no frame is kept. `masks` are the files of
    those that were brought in, by digest."""
    kept = recipe.kept()
    if not kept or any(f.id not in frames for f in kept):
        return None
    fitted = Register(tuple(frames[f.id] for f in kept), reference_in(recipe), recipe.camera_moved)
    nudges = tuple(STILL if k == fitted.reference else f.nudge for k, f in enumerate(kept))
    registered = Nudged(fitted, nudges) if any(nudge != STILL for nudge in nudges) else fitted
    found = recipe.found()
    located = Locate(registered, found) if len(found) > 1 else None
    woven = Weave(Label(registered, located, recipe.weaving.quiet, found), recipe.weaving, recipe.even_out, tuple(f.trim for f in kept))
    given = tuple(GivenMask(f.mask_file, masks.get(f.mask_file, Path(f"{f.mask_file}.tif"))) for f in kept if f.mask == "given")
    lifted = located and recipe.veil == "lift" and not why_veils_stay(recipe.weaving.way, len(found))
    return Plan([f.id for f in kept], woven, Lift(woven) if lifted else woven, recipe.veil_strength, given, beside(recipe, frames, recipe.drawn_beside()))


def beside(recipe: Recipe, frames: Mapping[str, FrameStep], wanted: Sequence[FrameChoice]) -> dict[str, Register]:
    """How what has no part in the weave is laid on its reference, by id, as far as `frames` are there."""
    kept = recipe.kept()
    middle = frames.get(kept[reference_in(recipe)].id) if kept else None
    return {f.id: Register((middle, frames[f.id]), 0, "no") for f in wanted if middle and f.id in frames}


def why_veils_stay(way: str, count: int) -> str:
    """Why veils stay in what is woven by a way of so many frames, even where they are to be lifted; empty where they can be."""
    if way != "joint-light":
        return "Only what joint light weaves can have its veils lifted."
    return f"Veils are lifted of {MOST_LIFTED} frames at most; these are {count}. Leave out frames without which nothing is softer." if count > MOST_LIFTED else ""


def take_masks(cache: Cache, planned: Plan) -> None:
    """Make masks that were brought in readable, at once: nothing else may have to be computed for one that takes another's place. One whose file
    is gone is told by the job that needs it; until then its frame is hidden."""
    for mask in planned.masks:
        if not mask.is_there(cache):
            with suppress(PictureError):
                cache.make(mask.key, partial(mask.build, cache, ticket=Ticket("")))


def reference_in(recipe: Recipe) -> int:
    """Which of the frames kept is the reference: the one chosen, else the one suggested."""
    ids = [f.id for f in recipe.kept()]
    return ids.index(recipe.reference) if recipe.reference in ids else suggest_reference(len(ids))


def register(cache: Cache, planned: Plan, runner: Runner) -> Registration:
    steps = [step for step in planned.steps() if isinstance(step, Register | Nudged)]

    def registration() -> Registration:
        for step in steps:
            runner.one("Registering", make, str(cache.root), step)
        return open_registration(cache, planned.registered.key)

    try:
        return registration()
    except UNREADABLE:
        # damaged since: it is made once more
        for step in steps:
            cache.drop(step.key)
        return registration()


def common(recipe: Recipe, planned: Plan, laid: Registration) -> Box:
    """The part (x, y, w, h) of the reference grid that all frames that count cover, at the ratio of the frame unless any will do; zeros where there is none."""
    area = recipe if recipe.canvas != "reference" else recipe.model_copy(update={"canvas": "common"})
    try:
        return canvas_of(area, {id: placement.corners() for id, placement in zip(planned.ids, laid.placements, strict=True)}, laid.size)
    except ValueError:
        return 0, 0, 0, 0


def sheet_for(recipe: Recipe, planned: Plan, laid: Registration) -> Sheet:
    """How large the first ticked output becomes. Raises ValueError where frames have nothing in common."""
    canvas = canvas_of(recipe, {id: placement.corners() for id, placement in zip(planned.ids, laid.placements, strict=True)}, laid.size)
    return written(recipe.finish, recipe.delivery, canvas)[1]


def label(cache: Cache, planned: Plan, runner: Runner) -> list[float]:
    """Find the sharp zones; each frame's share of the textured picture."""
    located, finding = runner.parts(1, 2)
    if planned.labelled.located:
        located.one("Finding sharp zones", make, str(cache.root), planned.labelled.located)
    needed: list[Step] = [planned.labelled, *planned.masks]
    finding.all("Finding sharp zones", [(make, (str(cache.root), step)) for step in needed])
    return zone_shares(cache, planned.labelled.key)


def weave(cache: Cache, planned: Plan, runner: Runner) -> list[float]:
    """Weave at full size, lift veils and look for flaws; each frame's share of the picture."""
    weaving, lifting, looking = runner.parts(1, 1 if planned.result is not planned.woven else 0, 0.2)
    weaving.one("Weaving", make, str(cache.root), planned.woven)
    if planned.result is not planned.woven:
        lifting.one("Lifting veils", make, str(cache.root), planned.result)
    looking.one("Looking for flaws", make, str(cache.root), planned.flaws)
    return shares_of(cache, planned.result.key)


def write_masks(cache: Cache, planned: Plan, recipe: Recipe, folder: Path, runner: Runner) -> list[str]:
    """Write each frame's mask, once sharp zones are found; the files' names, near to far."""
    names: list[str] = runner.one("Writing masks", masks_out, str(cache.root), planned.woven, recipe, str(folder))
    return names


def write_frames(cache: Cache, planned: Plan, recipe: Recipe, folder: Path, replace: bool, runner: Runner) -> list[str]:
    """Write the registered frames, once they are woven; the files' names, near to far."""
    names: list[str] = runner.one("Writing frames", frames_out, str(cache.root), planned.woven, planned.result.key, planned.beside, recipe, str(folder), replace)
    return names


def write(cache: Cache, planned: Plan, recipe: Recipe, out: Path, replace: bool, profiles: Mapping[str, Path], runner: Runner, thumbnail: Path | None = None) -> Written:
    """Write the finished picture as the first ticked output asks for; `profiles` are files by digest; where a
    `thumbnail` is to be, one is written. Raises FileExistsError and PictureError."""
    done: Written = runner.one("Writing", deliver, str(cache.root), planned.woven, planned.result.key, planned.beside, recipe, str(out), replace, profiles, thumbnail)
    return done


def inspection_of(frames: Sequence[FrameStep]) -> Inspect:
    """How frames in this order are inspected."""
    return Inspect(Register(tuple(frames), suggest_reference(len(frames))))


def inspect(cache: Cache, frames: Sequence[FrameStep], runner: Runner) -> Inspection:
    """Register frames, near to far, and look for their faults."""
    registering, looking = runner.parts(4, 1)
    step = inspection_of(frames)
    registering.one("Registering", make, str(cache.root), step.registered)
    looking.one("Looking for faults", make, str(cache.root), step)
    return open_inspection(cache, step.key)
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
