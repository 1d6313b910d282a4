"""A scene as the page needs it: its recipe, what of it has been computed, where on the route it is."""

from __future__ import annotations

import hashlib
import json
import sqlite3
from functools import cached_property

import numpy as np
from flask import abort
from numpy.typing import NDArray
from pydantic import ValidationError

from ...core.develop.look import NEUTRAL, RAW_LOOK
from ...core.even.capture.settings import Capture
from ...core.finish.settings import Finish
from ...core.gather.coverage import SoftBand
from ...core.gather.inspect import Inspection
from ...core.gather.verdicts import Verdict, zone_of
from ...core.register.area import costs
from ...imaging.placement import Points
from ...imaging.pyramid import Box
from ...pipeline.canvas import canvas_of
from ...pipeline.findings import Flaw, standing
from ...pipeline.frames import frame_steps
from ...pipeline.scene import Plan, beside, plan, take_masks
from ...pipeline.steps import UNREADABLE, FrameStep, Measure, Nudged, Register, open_flaws, open_forming, open_inspection
from ...pipeline.ticket import Ticket
from ...pipeline.view import Frames, View, open_view
from ...recipe import FrameChoice, Recipe
from ...store import jobs, scenes
from ..desk import Desk, desk
from .stages import ROUTE, STAGES, Stage


class ScenePage:
    """A scene opened for one request."""

    def __init__(self, number: int, desk: Desk) -> None:
        row = scenes.scene(desk.db, number)
        if row is None:
            abort(404)
        self.number, self.desk, self.row = number, desk, row
        self.recipe: Recipe = scenes.recipe_of(desk.db, number)
        self.files = desk.library.files_in(row["outing_id"], self.recipe)
        self.there = self._frames_there()
        self.plan = plan(self.recipe, self.there.final, desk.library.brought_masks())
        if self.plan:
            take_masks(desk.library.cache, self.plan)
        self._nudge()

    def _nudge(self) -> None:
        """Nudge what is registered, where a hand did: it is done in no time, and nobody should wait for a job."""
        step, cache = self.plan.registered if self.plan else None, self.desk.library.cache
        if self.plan and isinstance(step, Nudged) and not step.is_there(cache) and step.registered.is_there(cache):
            try:
                cache.make(step.key, lambda folder: step.build(cache, folder, Ticket("")))
            except UNREADABLE:
                # a damaged registration is made again
                cache.drop(step.registered.key)
                return
            scenes.note_made(self.desk.db, self.number, (step.key, self.plan.ids))

    def _frames_there(self) -> Frames:
        """Frames whose pixels are there, merged ones included, and single exposures of these."""
        cache, library = self.desk.library.cache, self.desk.library

        def there(steps: dict[str, FrameStep]) -> dict[str, FrameStep]:
            return {id: step for id, step in steps.items() if step.is_usable(cache)}

        frames, capture = [*self.recipe.frames, *self.recipe.beside()], self.recipe.capture
        plain = there(frame_steps(frames, library.decoded(self.files, Capture()), Capture()))
        if capture == Capture():
            return Frames(plain, plain, plain)
        read = library.decoded(self.files, capture)
        return Frames(plain, plain | there(frame_steps(frames, read, Capture())), there(frame_steps(frames, read, capture)))

    @cached_property
    def inspected(self) -> dict[str, Verdict]:
        """What was found about frames, by id."""
        return dict(zip(self.inspection[0], self.inspection[1].verdicts, strict=True)) if self.inspection else {}

    @property
    def bands(self) -> list[SoftBand]:
        """Soft bands as of the last inspection."""
        return self.inspection[1].bands if self.inspection else []

    @cached_property
    def inspection(self) -> tuple[list[str], Inspection] | None:
        if not self.row["inspected"]:
            return None
        try:
            key, ids = json.loads(self.row["inspected"])
        except ValueError:
            return None
        if not self.has(key):
            return None
        try:
            return ids, self.desk.kept.get(("inspection", key), lambda: open_inspection(self.desk.library.cache, key))
        except UNREADABLE:
            self.desk.library.cache.drop(key)
            return None

    def zones(self) -> dict[str, NDArray[np.bool_]]:
        """Where each inspected frame that is kept is the sharpest, (h, w) on the reference's blocks."""
        if self.inspection is None:
            return {}
        ids, found = self.inspection
        kept = {f.id for f in self.recipe.kept()}
        frames = [k for k, id in enumerate(ids) if id in kept]
        return {ids[k]: zone_of(found.defocus, k, frames) for k in frames}

    @property
    def block(self) -> int:
        """Pixels that a block of the zones stands for."""
        return self.inspection[1].defocus.block if self.inspection else 1

    def gaps(self) -> list[SoftBand]:
        """The largest soft band of each pair of frames that do not meet."""
        found: dict[tuple[int | None, int | None], SoftBand] = {}
        for band in self.bands:
            found.setdefault((band.near, band.far), band)
        return list(found.values())

    def proposals(self) -> list[str]:
        """Ids of kept frames that something speaks against."""
        return [f.id for f in self.recipe.kept() if f.id in self.inspected and self.inspected[f.id].flaw]

    def doubted(self) -> str:
        """How many frames something speaks against, in words."""
        spared, doubted = len(self.spared()), len(self.proposals())
        told = [f"{spared} better left out"] if spared else []
        return ", ".join([*told, f"{doubted - spared} doubtful but needed"] if doubted > spared else told)

    def spared(self) -> list[str]:
        """Those of them that can be left out without anything being lost."""
        return [id for id in self.proposals() if not self.inspected[id].needed]

    def band_side(self, band: SoftBand) -> str:
        """The frame beside a soft band."""
        side = band.near if band.near is not None else band.far
        return self.inspection[0][side] if self.inspection and side is not None else ""

    @cached_property
    def view(self) -> View | None:
        """What there is to see; kept between requests as long as nothing changed."""
        cache = self.desk.library.cache
        try:
            return self._opened(self.recipe, self.plan)
        except UNREADABLE:
            # what was computed cannot be read: it is given up and made again
            frames = {*self.there.plain.values(), *self.there.read.values(), *self.there.final.values()}
            for step in [*frames, *(Measure(frame) for frame in frames), *(self.plan.steps() if self.plan else ()), *self.beside.values()]:
                cache.drop(step.key)
            self.there = self._frames_there()
            return None

    def _opened(self, recipe: Recipe, planned: Plan | None, *version: str) -> View | None:
        inspected, desk = self.inspection[0] if self.inspection else (), self.desk
        made: View | None = desk.views.get(
            (self.number, self.version, *version), lambda: open_view(desk.library.cache, recipe, self.there, planned, desk.kept, desk.pictures, desk.guides, inspected, self.beside)
        )
        return made

    def trying(self, recipe: Recipe) -> View | None:
        """What there is to see under another weave, span or trim of the same frames: a variant, a remedy, or what a hand is just setting."""
        planned = plan(recipe, self.there.final, self.desk.library.brought_masks())
        there = planned and [self.has(step.key) for step in planned.seen]
        tried = hashlib.sha256(f"{recipe.weaving}{recipe.veil}{recipe.veil_strength}{recipe.span}{[f.trim for f in recipe.frames]}{there}".encode()).hexdigest()[:16]
        try:
            return self._opened(recipe, planned, tried)
        except UNREADABLE:
            # it is shown as it is, which makes anew what cannot be read
            return self.view

    def woven_whole(self, recipe: Recipe) -> bool:
        """Whether the weave of another recipe for these frames is there."""
        planned = plan(recipe, self.there.final, {})
        return planned is not None and all(self.has(step.key) for step in planned.seen)

    def has(self, key: str | None) -> bool:
        return key is not None and self.desk.library.cache.has(key)

    @cached_property
    def beside(self) -> dict[str, Register]:
        """What has no part in the weave and is registered, so that it can be drawn from, by id."""
        return {id: step for id, step in beside(self.recipe, self.there.final, self.recipe.beside()).items() if self.has(step.key)}

    @property
    def registered(self) -> bool:
        return self.plan is not None and self.has(self.plan.registered.key)

    @property
    def woven(self) -> bool:
        return self.plan is not None and all(self.has(step.key) for step in self.plan.seen)

    @cached_property
    def flaws(self) -> list[Flaw] | None:
        """What may be wrong with the weave and what became of it, worst first; None before it was looked for."""
        if not self.plan or not self.has(self.plan.flaws.key):
            return None
        cache, key = self.desk.library.cache, self.plan.flaws.key
        try:
            found = self.desk.kept.get(("flaws", key), lambda: open_flaws(cache, key))
        except UNREADABLE:
            cache.drop(key)
            return None
        return standing(found, self.recipe)

    @property
    def open_flaws(self) -> int:
        """How many flaws nobody has mended or accepted."""
        return sum(flaw.state == "open" for flaw in self.flaws or [])

    @cached_property
    def version(self) -> str:
        """Changes with every decision and with every result that comes in."""
        there = [self.has(step.key) for step in (*self.plan.steps(), self.plan.flaws)] if self.plan else []
        text = self.recipe.to_json() + repr(sorted(self.there.final)) + repr(sorted(self.there.read)) + repr(there) + repr(sorted(self.beside)) + str(self.row["inspected"]) + str(self.formed)
        return hashlib.sha256(text.encode()).hexdigest()[:16]

    @cached_property
    def formed(self) -> int:
        """How many boxes of a weave that is being made are there already."""
        if not self.plan or not self.computing_kind("weave") or self.has(self.plan.woven.key):
            return 0
        forming = open_forming(self.desk.library.cache, self.plan.woven.key)
        return len(forming.boxes) if forming else 0

    @cached_property
    def look_version(self) -> str:
        """Changes with the look."""
        return hashlib.sha256(self.recipe.look.model_dump_json().encode()).hexdigest()[:10]

    @cached_property
    def last_job(self) -> sqlite3.Row | None:
        return jobs.latest(self.desk.db, self.number)

    @property
    def busy(self) -> bool:
        """Whether something is being computed for this scene, or waits to be."""
        return self.last_job is not None and self.last_job["state"] in ("queued", "running")

    @property
    def computing(self) -> bool:
        """Whether a stage is being computed; frames that are still looked at do not keep anyone from going on."""
        return self.busy and self.last_job is not None and self.last_job["kind"] != "inspect"

    def computing_kind(self, kind: str) -> bool:
        """Whether a job of a kind is being done for this scene just now."""
        return self.last_job is not None and self.last_job["kind"] == kind and self.last_job["state"] == "running"

    @cached_property
    def results(self) -> list[sqlite3.Row]:
        return scenes.results_of(self.desk.db, self.number)

    @property
    def megapixels(self) -> float:
        """Millions of pixels in all kept frames."""
        if self.view is None:
            return 0.0
        return len(self.recipe.kept()) * self.view.size[0] * self.view.size[1] / 1e6

    def cost(self, kind: str) -> str:
        """What a step will cost, in words."""
        if not self.megapixels:
            return ""
        whole = jobs.expected_seconds(self.desk.db, kind, self.megapixels)
        count = len(self.recipe.kept())
        size = self.megapixels / count
        return f"about {max(1, round(whole))} s for {count} frame{'s' if count != 1 else ''} of {size:.{1 if size < 10 else 0}f} MP"

    @property
    def face(self) -> str:
        """The file that shows what the scene is of, before its frames are read."""
        kept = self.recipe.kept() or self.recipe.frames
        files = kept[len(kept) // 2].all_files()
        return files[len(files) // 2]

    @cached_property
    def canvas(self) -> Box:
        """The canvas (x, y, w, h) that is kept; the whole frame before frames are registered, or where they have no part in common."""
        size = self.view.size if self.view else (0, 0)
        try:
            return canvas_of(self.recipe, self.corners, size) if self.corners else (0, 0, *size)
        except ValueError:
            return (0, 0, *size)

    @cached_property
    def corners(self) -> dict[str, Points]:
        """Corners (4, 2) on the reference grid of registered frames, by id."""
        found = self.view.registered if self.view else None
        return {id: placement.corners() for id, placement in zip(self.plan.ids, found.placements, strict=True)} if self.plan and found else {}

    @cached_property
    def area_costs(self) -> dict[str, float]:
        """By which part (0..1) the common area would grow without each frame that counts, by id."""
        counted = [f.id for f in self.recipe.kept() if f.counts and f.id in self.corners]
        if not self.view or not self.plan or not counted:
            return {}
        corners, size = [self.corners[id] for id in counted], self.view.size
        found = self.desk.kept.get(("costs", self.plan.registered.key, *counted), lambda: costs(corners, size))
        return dict(zip(counted, found, strict=True))

    # ---- the route ------------------------------------------------------------------------------------------

    def route(self) -> list[tuple[Stage, str]]:
        """Stages with `done` where somebody or something did it, `stale` (out of date), `skipped` where later ones were done
        without it, or `open` (not yet)."""
        recipe, first = self.recipe, next(iter(self.view.frames.values()), None) if self.view else None
        # frames are laid on each other to be looked at, too: only what was asked for counts
        asked, delivered = bool(self.row["registered"]), self._delivered()
        even = recipe.look != (RAW_LOOK if first and first.raw else NEUTRAL) or recipe.capture != Capture() or not recipe.even_out or recipe.trimmed()
        states = {
            "gather": "done" if self.inspection or (self.there.read and len(recipe.in_depth()) < 2) else "open",
            "even": "done" if even else "skipped" if asked else "open",
            "register": ("done" if self.registered else "stale") if asked else "open",
            "weave": ("done" if self.woven else "stale") if self.row["woven"] else "open",
            "mend": "done" if any(s.mends for s in recipe.strokes) else "skipped" if delivered else "open",
            "finish": "done" if recipe.finish != Finish() else "skipped" if delivered else "open",
            "deliver": ("done" if self._stands(delivered) else "stale") if delivered else "open",
        }
        return [(STAGES[slug], states[slug]) for slug in ROUTE]

    def _stands(self, delivered: Recipe) -> bool:
        """Whether a recipe that was delivered is one of those that would be delivered now."""
        size, output = delivered.size, delivered.delivery
        return output in self.recipe.ticked() and size is not None and delivered == self.recipe.writing(output).standing_alone(size)

    def _delivered(self) -> Recipe | None:
        """The recipe of the newest delivery, where there is one that can be read."""
        try:
            return scenes.recipe_of_result(self.desk.db, self.results[0]) if self.results else None
        except ValidationError:
            return None

    def choice(self, id: str) -> FrameChoice:
        """A frame of the scene by id; 404 where there is none."""
        for frame in self.recipe.frames:
            if frame.id == id:
                return frame
        abort(404)


def opened(number: int) -> ScenePage:
    """The scene of a request, or 404."""
    return ScenePage(number, desk())
