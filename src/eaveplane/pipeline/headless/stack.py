"""Frames of one scene to a finished picture."""

from __future__ import annotations

import hashlib
import math
import time
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ...core.deliver.delivery import ALSO, SUFFIX, Delivery, Format
from ...core.deliver.names import file_name, of_frames
from ...core.develop.look import NEUTRAL, RAW_LOOK
from ...core.gather.verdicts import Verdict
from ...imaging.cms import NotForPictures, name_of
from ...imaging.errors import PictureError
from ...imaging.grey import read_grey
from ...imaging.pyramid import Box
from ...imaging.write import free_name, put_in_place, writes
from ...recipe import FrameChoice, Recipe
from .. import findings, scene
from ..cache import Cache
from ..frames import combine
from ..naming import recipe_facts
from ..pictures import recipe_beside
from ..runner import Runner
from ..steps import Frame, FrameStep, Registration, digest_of, mask_names, open_flaws, open_frame, places_for, way_of
from .read import Read, named, read_frames
from .told import of_veils, told_of, why_not, written_told


@dataclass(frozen=True)
class Stack:
    """What `stack` was asked for; `reference` is auto or a number that counts `frames`; masks are taken from a folder, or written into one. With
    `outputs`, `out` is a folder, and they are named by their templates for `scene`; recipes lie beside them, as each asks for."""

    frames: tuple[Path, ...]
    out: Path
    develop: str
    reference: str
    leave_out: bool
    recipe: Recipe
    from_file: bool
    force: bool
    masks: Path | None = None
    save_masks: Path | None = None
    save_frames: Path | None = None
    profile: Path | None = None
    outputs: tuple[Delivery, ...] = ()
    scene: str = ""


def stack(asked: Stack, cache: Cache, runner: Runner) -> tuple[Recipe, dict[str, Any], list[str]]:
    """Do it; the recipe that was carried out, the report, and what should not be trusted. Raises PictureError and
    FileExistsError."""
    clock = [time.monotonic()]
    reading, combining, looking, registering, labelling, weaving, writing = runner.parts(43, 2, 13, 2, 4, 21, 15)
    read = read_frames(asked.frames, cache, reading, asked.leave_out, asked.recipe)
    choose = asked.leave_out and not named(asked.recipe, read.files)
    clock.append(time.monotonic())
    first = open_frame(cache, next(iter(read.steps.values())))
    recipe, frames = recipe_for(asked, read, first, cache, combining)
    verdicts: dict[str, Verdict] = {}
    warned = _unpainted(recipe)
    if choose and len(recipe.kept()) > 1:
        ids = [f.id for f in recipe.kept()]
        found = scene.inspect(cache, [frames[i] for i in ids], looking)
        verdicts = dict(zip(ids, found.verdicts, strict=True))
        reasons = scene.proposed(found, ids)
        if asked.reference != "auto":
            reasons.pop(recipe.reference, None)
        recipe = scene.settled(scene.leave_out(recipe, reasons), found, ids)
        warned += scene.doubts(found, ids, list(reasons))
    recipe, brought = _with_masks(recipe, asked.masks, first.size)
    profiles: dict[str, Path] = {}
    if asked.outputs:
        recipe = recipe.model_copy(update={"outputs": list(asked.outputs)})
    else:
        recipe, profiles = for_file(recipe, asked.out, asked.profile)
    planned = scene.plan(recipe, frames, brought)
    assert planned is not None
    registered = scene.register(cache, planned, registering)
    x, y, w, h = _common(recipe, planned, registered, asked.frames[0])
    scene.label(cache, planned, labelling)
    clock.append(time.monotonic())
    shares = scene.weave(cache, planned, weaving)
    way = way_of(cache, planned.result.key)
    clock.append(time.monotonic())
    if asked.save_masks:
        scene.write_masks(cache, planned, recipe, asked.save_masks, writing.parts(1, 3)[0])
    if asked.save_frames:
        scene.write_frames(cache, planned, recipe, asked.save_frames, asked.force, writing.parts(1, 3)[0])
    files = _written(asked, recipe.standing_alone(first.size), planned, registered, cache, profiles, writing)
    clock.append(time.monotonic())

    noise = planned.noise_times(places_for(cache, planned.woven))
    listed = [told_of(recipe, planned, registered, shares, verdicts, noise, path, file) for path, file in zip(asked.frames, read.file_of, strict=True)]
    frame_of = {i: f.id for f in recipe.frames for i in f.all_files()}
    paths_of: dict[str, list[Path]] = {}
    for path, file in zip(asked.frames, read.file_of, strict=True):
        paths_of.setdefault(frame_of[file.id], []).append(path)
    flaws, names = findings.standing(open_flaws(cache, planned.flaws.key), recipe), [paths_of[id][0].name for id in planned.ids]
    warned += findings.doubts(flaws, names)
    middle = paths_of[planned.ids[planned.reference]]
    facts = {
        "schema": 1,
        "reference": list(asked.frames).index(middle[len(middle) // 2]),
        "frames": listed,
        "area": {"x": x, "y": y, "w": w, "h": h},
        "model": registered.model,
        "way": way,
        "way_why": why_not(recipe.weaving.way, way, len(recipe.found())),
        **of_veils(recipe, planned, cache, way),
        "camera_moved": registered.camera_moved,
        "scale_ev": recipe.look.scale_ev,
        "flaws": findings.reported(flaws, names),
        **files[0],
        "files": files,
        "seconds": dict(zip(("read", "register", "weave", "write"), np.diff(clock), strict=True)),
    }
    warned += [f"{paths_of[planned.ids[k]][0].name}: {told.said}" for k, told in enumerate(registered.trusted) if told.said]
    return recipe.standing_alone(first.size), facts, warned


def recipe_for(asked: Stack, read: Read, first: Frame, cache: Cache, combining: Runner) -> tuple[Recipe, dict[str, FrameStep]]:
    """The recipe for the frames that were read, with the reference and the look that were asked for, and their steps by id."""
    recipe, frames = _with_frames(asked.recipe, read), dict(read.steps)
    recipe = recipe.onto(first.size)
    if asked.from_file:
        frames |= combine(cache, [*recipe.kept(), *recipe.drawn_beside()], read.decoded, combining, recipe.capture)
    if asked.reference != "auto":
        wanted = read.file_of[int(asked.reference)].id
        recipe = recipe.model_copy(update={"reference": next((f.id for f in recipe.frames if wanted in f.all_files()), "")})
    if asked.develop == "none":
        brightest = max(open_frame(cache, frames[f.id]).peak for f in recipe.kept())
        recipe = recipe.model_copy(update={"look": NEUTRAL.model_copy(update={"scale_ev": -math.log2(brightest) if brightest > 1 else 0.0})})
    elif not asked.from_file:
        recipe = recipe.model_copy(update={"look": RAW_LOOK if first.raw else NEUTRAL})
    return recipe, frames


def _with_masks(recipe: Recipe, folder: Path | None, size: tuple[int, int]) -> tuple[Recipe, dict[str, Path]]:
    """The recipe with the masks that lie in a folder, and their files by digest. Raises PictureError for a mask that cannot be used or is
    missing."""
    brought: dict[str, Path] = {}
    changed: dict[str, FrameChoice] = {}
    names = mask_names(recipe.kept())
    for frame, name in zip(recipe.kept(), names, strict=True):
        file = folder / name if folder else Path(name)
        if folder and file.exists():
            digest = digest_of(read_grey(file, size))
            brought[digest] = file
            changed[frame.id] = frame.model_copy(update={"mask": "given", "mask_file": digest})
        elif frame.mask == "given":
            raise PictureError(file, "is the mask that the recipe wants, and it is not there.", "Name its folder with --masks.")
    if folder and not brought:
        raise PictureError(folder, "holds no mask of these frames.", f"Their names would be {', '.join(names[:3])} …")
    return recipe.model_copy(update={"frames": [changed.get(f.id, f) for f in recipe.frames]}), brought


def _written(asked: Stack, recipe: Recipe, planned: scene.Plan, registered: Registration, cache: Cache, profiles: Mapping[str, Path], runner: Runner) -> list[dict[str, Any]]:
    """Write the outputs; what the report says of each."""
    told = []
    wanted = recipe.ticked()
    for k, (output, part) in enumerate(zip(wanted, runner.parts(*[1.0] * len(wanted)), strict=True), 1):
        writing, out = recipe.writing(output), asked.out
        if asked.outputs:
            sheet = scene.sheet_for(writing, planned, registered)
            metas = [open_frame(cache, frame).meta for frame in planned.frames]
            named_by = {"outing": asked.out.name, "scene": asked.scene, **of_frames([f.file for f in writing.kept()], metas)}
            named_by |= recipe_facts(writing, output, sheet.paper or sheet.size, sheet.density, k)
            out = free_name(asked.out / (file_name(output.name, named_by) + SUFFIX[output.format]))
        done = scene.write(cache, planned, writing, out, asked.force, profiles, part)
        if asked.outputs:
            put_in_place(recipe_beside(out), writes(writing.to_json()), replace=True)
        told.append({"out": str(out), **written_told(done)})
    return told


def _unpainted(recipe: Recipe) -> list[str]:
    """What to say of strokes whose frames were not given."""
    there = {f.id for f in [*recipe.frames, *recipe.beside()]}
    lost = sum(stroke.frame not in there for stroke in recipe.strokes if stroke.action in ("in", "out", "draw"))
    return [f"{lost} stroke{'s' if lost != 1 else ''} of the recipe paint{'' if lost != 1 else 's'} with frames that were not given: they have no effect. Give these frames, too."] if lost else []


def for_file(recipe: Recipe, out: Path, profile: Path | None) -> tuple[Recipe, dict[str, Path]]:
    """The recipe with one output, of the format that a file's name asks for, and the profile that was given by digest. Raises PictureError."""
    output = recipe.delivery
    if SUFFIX[output.format] != out.suffix.lower():
        output = output.model_copy(update={"format": format_for(out), "bits": 16})
    if profile is None:
        return recipe.writing(output), {}
    try:
        data = profile.read_bytes()
        name = name_of(data)
    except (OSError, NotForPictures) as error:
        raise PictureError(profile, "cannot be read as a profile." if isinstance(error, OSError) else str(error), "Name another file with --profile.") from error
    digest = hashlib.sha256(data).hexdigest()[:16]
    return recipe.writing(output.model_copy(update={"profile": "file", "profile_file": digest, "profile_name": name})), {digest: profile}


def format_for(out: Path) -> Format:
    """The format of a file of such a name."""
    return next(name for name, suffix in SUFFIX.items() if suffix == ALSO.get(out.suffix.lower(), out.suffix.lower()))


def _common(recipe: Recipe, planned: scene.Plan, registered: Registration, first: Path) -> Box:
    """What frames have in common. Raises PictureError where that is nothing and is to become the picture."""
    area = scene.common(recipe, planned, registered)
    if not area[2] and recipe.canvas != "reference":
        raise PictureError(first, "and the other frames have no part in common.", "Give frames of one composition, or keep the reference's grid with --canvas reference.")
    return area


def _with_frames(recipe: Recipe, read: Read) -> Recipe:
    """The recipe for these files: its own frames where it knows them, those found where it knows none."""
    names = {f.id: f.name for f in read.files}
    known = named(recipe, read.files)
    if not known:
        return recipe.model_copy(update={"frames": read.frames, "reference": recipe.reference if any(f.id == recipe.reference for f in read.frames) else "", "strokes": []})
    taken = {i for f in known for i in f.all_files()}
    frames = [f.model_copy(update={"file": names.get(f.id, f.file)}) for f in known]
    frames += [FrameChoice(id=f.id, file=f.name, state="leave_out", reason="by hand") for f in read.files if f.id not in taken]
    return recipe.model_copy(update={"frames": frames})
