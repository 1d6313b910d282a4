"""What the command line does: from files to scenes, to an inspection, to a finished picture, each with its report."""

from __future__ import annotations

import math
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ..core.develop.look import NEUTRAL, RAW_LOOK
from ..core.gather.composition import glimpse
from ..core.gather.split import Taken, split, strangers
from ..core.gather.verdicts import Verdict
from ..core.register.movement import movement_of
from ..core.register.nudge import STILL
from ..core.register.trust import Trust
from ..imaging.errors import PictureError
from ..imaging.grey import read_grey
from ..imaging.placement import Placement
from ..imaging.pyramid import Box
from ..recipe import FrameChoice, Recipe
from . import findings, scene
from .cache import Cache, hash_file
from .frames import File, choice, combine, exposure_groups, gather, grouped, in_order, ordered, same_size
from .glance import Glance, glance_at, open_glance
from .pictures import list_pictures
from .runner import Runner
from .steps import Decode, Frame, FrameStep, Registration, digest_of, mask_names, open_flaws, open_frame, open_registration, veils_of, way_of


def sets(folder: Path, cache: Cache, runner: Runner) -> dict[str, Any]:
    """The scenes of a folder; names are paths as they would be given from where the folder was named."""
    paths, skipped = list_pictures(folder)
    results: list[Glance | BaseException] = runner.parts(9, 1)[0].run("Looking at files", [(glance_at, (str(cache.root), str(p))) for p in paths])
    seen: list[tuple[Path, Glance]] = []
    left_over = [str(p) for p in skipped]
    known: set[str | None] = set()
    for path, result in zip(paths, results, strict=True):
        if isinstance(result, BaseException):
            raise result
        if result.problem is not None or result.sha256 in known:
            left_over.append(str(path))
        else:
            known.add(result.sha256)
            seen.append((path, result))
    metas = [found.facts.meta for _, found in seen if found.facts]
    sizes = [(found.facts.width, found.facts.height) for _, found in seen if found.facts]
    glances = [open_glance(cache, found.sha256 or "") for _, found in seen]
    runner.tell("Sorting into scenes", 0.95)
    found = split([g for g, _ in glances], [Taken(m.taken, size, m.focal_mm, str(path.parent)) for m, size, (path, _) in zip(metas, sizes, seen, strict=True)])
    scenes = []
    for group in found.scenes:
        positions = [[group[i] for i in p] for p in exposure_groups([metas[i] for i in group], [glances[i][0] for i in group])]
        middle = [p[len(p) // 2] for p in positions]
        order = ordered([metas[i] for i in middle], [glances[i][1] for i in middle])
        brackets = [[str(seen[i][0]) for i in positions[k]] for k in order]
        bracketed = any(len(b) > 1 for b in brackets)
        kind = "single" if len(brackets) == 1 else "focus+exposure" if bracketed else "focus"
        frames = [str(seen[i][0]) for k in order for i in positions[k]]
        scenes.append({"frames": frames, "brackets": brackets if bracketed else [], "kind": kind, "uncertain": group[0] in found.doubts})
    runner.tell("Sorted", 1.0)
    return {"schema": 1, "scenes": scenes, "markers": [str(seen[i][0]) for i in found.markers()], "left_over": left_over}


@dataclass(frozen=True)
class Read:
    """Files given, read: unique originals, the file of each path given, files decoded by id, frames near to far, with markers, and
    what they are by id."""

    files: list[File]
    file_of: list[File]
    decoded: dict[str, Decode]
    frames: list[FrameChoice]
    steps: dict[str, FrameStep]


def named(recipe: Recipe, files: Sequence[File]) -> list[FrameChoice]:
    """The frames of a recipe that are made of these files."""
    ids = {f.id for f in files}
    return [f for f in recipe.frames if ids.issuperset(f.all_files())]


def read_frames(paths: Sequence[Path], cache: Cache, runner: Runner, markers: bool, recipe: Recipe) -> Read:
    """Decode and measure the frames of one scene; markers are told apart where asked and where the recipe does not name
    these very frames. Raises PictureError."""
    capture = recipe.capture
    for path in paths:
        if not path.is_file():
            raise PictureError(path, "is not there.", "Check the name.")
    files: list[File] = []
    file_of = []
    for path, sha256 in zip(paths, runner.executor.map(hash_file, paths), strict=True):
        file = next((f for f in files if f.sha256 == sha256), None)
        if file is None:
            file = File(path, sha256, str(path))
            files.append(file)
        file_of.append(file)
    wanted = markers and len(files) > 2 and not named(recipe, files)
    found: list[FrameChoice] = []
    strange: list[FrameChoice] = []

    def frames_of(decoded: dict[str, Decode], problems: dict[str, PictureError]) -> list[FrameChoice]:
        for problem in (problems | same_size(cache, files, decoded)).values():
            raise problem
        apart = strangers([glimpse(open_frame(cache, decoded[f.id]).small()) for f in files]) if wanted else []
        strange.extend(choice([files[i]], reason="marker") for i in apart)
        found.extend(grouped(cache, [f for i, f in enumerate(files) if i not in apart], decoded))
        return found

    gathered = gather(cache, files, frames_of, runner, True, capture)
    steps = gathered.frames
    order = in_order(cache, [steps[f.id] for f in found])
    return Read(files, file_of, gathered.decoded, [*(found[i] for i in order), *strange], {**gathered.decoded, **steps})


def inspect(paths: Sequence[Path], cache: Cache, runner: Runner) -> dict[str, Any]:
    """Look at the frames of one scene. Raises PictureError."""
    reading, looking = runner.parts(7, 3)
    read = read_frames(paths, cache, reading, True, Recipe())
    there = [f for f in read.frames if f.reason != "marker"]
    frames = [read.steps[f.id] for f in there]
    found = scene.inspect(cache, frames, looking) if len(frames) > 1 else None
    place = {i: k for k, f in enumerate(there) for i in f.all_files()}
    listed = []
    for path, file in zip(paths, read.file_of, strict=True):
        k = place.get(file.id)
        entry: dict[str, Any] = {"file": str(path), "order": k if k is not None else len(there), "share": 0.0, "sharp_rows": [0.0, 0.0], "state": "leave_out", "reason": "marker", "blur_px": None}
        if k is not None:
            verdict = found.verdicts[k] if found else None
            entry |= {"state": "keep", "reason": None, "share": 1.0, "sharp_rows": [0.0, 1.0], "blur_px": 0.0}
            if verdict:
                spared = verdict.flaw and not verdict.needed
                entry |= {"state": "leave_out" if spared else "keep", "reason": verdict.flaw, "share": verdict.share, "sharp_rows": list(verdict.sharp_rows), "blur_px": verdict.blur_px}
                entry |= {"evidence": verdict.evidence, "needed": verdict.needed}
        listed.append(entry)
    registered = open_registration(cache, scene.inspection_of(frames).registered.key) if found else None
    gaps = []
    for band in found.bands if found and registered else []:
        sharpest = band.near if band.near is not None else band.far
        assert registered is not None
        box = _box_in(band.box, registered.placements[sharpest or 0])
        gaps.append({"box": list(box), "blur_px": band.blur_px, "between": [band.near, band.far], "metres": list(band.metres) if band.metres else None, "told": band.told()})
    return {"schema": 1, "frames": listed, "coverage": {"covered": found.covered if found else 1.0, "gaps": gaps}}


def _box_in(box: Box, placement: Placement) -> Box:
    """A box of the reference frame in pixels of a frame."""
    x, y, w, h = box
    at = placement.back(np.array([[x, y], [x + w, y], [x, y + h], [x + w, y + h]], np.float64))
    left, top = np.clip(np.floor(at.min(axis=0)), 0, np.array(placement.size) - 1)
    right, bottom = np.clip(np.ceil(at.max(axis=0)), 1, placement.size)
    return int(left), int(top), max(1, int(right - left)), max(1, int(bottom - top))


@dataclass(frozen=True)
class Stack:
    """What `stack` was asked for; `reference` is auto or a number that counts `frames`; masks are taken from a folder, or written into one."""

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
    warned: list[str] = []
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
    scene.write(cache, planned, recipe, asked.out, asked.force, writing)
    clock.append(time.monotonic())

    listed = [_told(recipe, planned, registered, shares, verdicts, path, file) for path, file in zip(asked.frames, read.file_of, strict=True)]
    frame_of = {i: f.id for f in recipe.frames for i in f.all_files()}
    paths_of: dict[str, list[Path]] = {}
    for path, file in zip(asked.frames, read.file_of, strict=True):
        paths_of.setdefault(frame_of[file.id], []).append(path)
    spent = np.diff(clock)
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
        "way_why": _why_not(recipe.weaving.way, way, len(recipe.found())),
        **_of_veils(recipe, planned, cache, way),
        "camera_moved": registered.camera_moved,
        "scale_ev": recipe.look.scale_ev,
        "flaws": findings.reported(flaws, names),
        "seconds": {"read": spent[0], "register": spent[1], "weave": spent[2], "write": spent[3]},
    }
    warned += [f"{paths_of[planned.ids[k]][0].name}: {told.said}" for k, told in enumerate(registered.trusted) if told.said]
    return recipe.standing_alone(first.size), facts, warned


def recipe_for(asked: Stack, read: Read, first: Frame, cache: Cache, combining: Runner) -> tuple[Recipe, dict[str, FrameStep]]:
    """The recipe for the frames that were read, with the reference and the look that were asked for, and their steps by id."""
    recipe, frames = _with_frames(asked.recipe, read), dict(read.steps)
    recipe = recipe.model_copy(update={"look": recipe.look.onto(first.size)})
    if asked.from_file:
        frames |= combine(cache, recipe.kept(), read.decoded, combining, recipe.capture)
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


def _common(recipe: Recipe, planned: scene.Plan, registered: Registration, first: Path) -> Box:
    """What frames have in common. Raises PictureError where that is nothing and is to become the picture."""
    area = scene.common(recipe, planned, registered)
    if not area[2] and recipe.canvas != "reference":
        raise PictureError(first, "and the other frames have no part in common.", "Give frames of one composition, or keep the reference's grid with --canvas reference.")
    return area


def _why_not(wanted: str, way: str, count: int) -> str:
    """Why frames, `count` of which are not masked by hand, were not woven by the way that was wanted; empty where they were."""
    if way == wanted:
        return ""
    return f"{wanted} needs to know where the frames are focused, and they do not tell." if count > 1 else "One frame has nothing to be joined with." if count else "All masks are made by hand."


def _of_veils(recipe: Recipe, planned: scene.Plan, cache: Cache, way: str) -> dict[str, Any]:
    """What the report says of veils: what was wanted, the shares of the picture where they were lifted, and where near things stay as
    woven, and why none was looked for; empty where one was, or where none was to be."""
    veils = veils_of(cache, planned.result.key) if planned.result is not planned.woven else None
    looked = recipe.veil == "leave" or len(recipe.found()) < 2 or way == "joint-light"
    why = "" if looked else "Veils are lifted from what joint light weaves."
    return {"veil": recipe.veil, "veil_lifted": veils.lifted if veils else 0.0, "veil_refused": veils.refused if veils else 0.0, "veil_why": why}


def _told(recipe: Recipe, planned: scene.Plan, registered: Registration, shares: Sequence[float], verdicts: dict[str, Verdict], path: Path, file: File) -> dict[str, Any]:
    """What the report says of a file that was given."""
    frame = next(f for f in recipe.frames if file.id in f.all_files())
    k = planned.ids.index(frame.id) if frame.id in planned.ids else None
    used = k is not None and file.id in frame.sources()
    evened = k is not None and recipe.even_out
    placement = registered.placements[k] if k is not None else None
    verdict = verdicts.get(frame.id)
    return {
        "file": str(path),
        "homography": placement.matrix.tolist() if placement else None,
        "near_px": placement.shift.reach() if placement and placement.shift else 0.0,
        "gain": list(registered.drifts[k].gain) if k is not None and evened else [1.0, 1.0, 1.0],
        "falloff": registered.drifts[k].falloff if k is not None and evened else 0.0,
        **(_of_fit(placement, registered.trusted[k], frame) if placement and k is not None else {"residual_px": None}),
        "share": shares[k] if k is not None and used else 0.0,
        "state": "used" if used else "left_out",
        "reason": frame.reason or (verdict.flaw if verdict else None),
        "evidence": verdict.evidence if verdict else "",
    }


def _of_fit(placement: Placement, fit: Trust, frame: FrameChoice) -> dict[str, Any]:
    """What the report says of how a frame lies."""
    movement = movement_of(placement.matrix, placement.size)
    return {
        "residual_px": fit.residual,
        "own_residual_px": fit.own,
        "judged": fit.judged,
        "fit": fit.verdict,
        "fit_why": fit.said or "",
        "shift_px": [movement.right, movement.down],
        "scale_percent": movement.scale,
        "turn_degrees": movement.turn,
        "perspective_px": movement.perspective,
        "nudged": frame.nudge != STILL,
    }


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
