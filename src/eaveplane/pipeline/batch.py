"""Many scenes with one recipe: each done whole in one place, resumable, on processes of this machine or on those of a cluster.

Everything a scene needs to know of the world is a path below one shared folder, which may be mounted elsewhere on another machine.
"""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import tempfile
import time
from collections.abc import Callable, Sequence
from concurrent.futures import Executor, ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from ..core.deliver.delivery import Delivery
from ..imaging.errors import PictureError
from ..imaging.rows import CORES
from ..imaging.write import free_name, put_in_place, writes
from ..recipe import Recipe
from .cache import Cache, hash_file
from .headless import Stack, sets, stack
from .pictures import list_pictures, recipe_beside
from .runner import Runner
from .ticket import Ticket

STATE = ".eaveplane-batch"
"""Folder beside the results that remembers what was done."""
SHARED = "EAVEPLANE_SHARED"
"""Where a worker finds the shared folder, if elsewhere than those that ask."""


@dataclass(frozen=True)
class Scene:
    """A scene to be done: its name, its frames, and the folder of the results, as paths below `shared`; a digest of frames, recipe and outputs."""

    name: str
    frames: tuple[str, ...]
    out: str
    shared: str
    recipe: str
    outputs: tuple[str, ...]
    digest: str = ""

    def root(self) -> Path:
        """The shared folder as it is mounted here."""
        return Path(os.environ.get(SHARED) or self.shared)

    def state(self) -> Path:
        """What is remembered of it."""
        return self.root() / self.out / STATE / f"{self.name}.json"


def scenes_in(folders: Sequence[Path], cache: Cache, runner: Runner, split: bool) -> list[tuple[str, list[Path]]]:
    """Names and frames of scenes: each folder with pictures in it is one, and so is each folder below; or as many as `split` finds in it. Raises
    ValueError for a folder that has none."""
    found: list[tuple[str, list[Path]]] = []
    for folder in folders:
        paths, _ = list_pictures(folder)
        if not paths:
            raise ValueError(f"{folder} holds no pictures.")
        if split:
            parts = [[Path(name) for name in scene["frames"]] for scene in sets(folder, cache, runner)["scenes"]]
            found += [(folder.resolve().name if len(parts) == 1 else f"{folder.resolve().name} {k}", part) for k, part in enumerate(parts, 1)]
            continue
        for place in sorted({path.parent for path in paths}):
            told = folder.resolve().name if place == folder else " ".join((folder.resolve().name, *place.relative_to(folder).parts))
            found.append((told, [path for path in paths if path.parent == place]))
    names = [name for name, _ in found]
    return [(name if names.count(name) == 1 else f"{name} ({k})", frames) for k, (name, frames) in enumerate(found, 1)]


def scenes_of(found: Sequence[tuple[str, list[Path]]], out: Path, shared: Path, recipe: Recipe, outputs: Sequence[Delivery]) -> list[Scene]:
    """Scenes with their digests. Raises ValueError for files outside the shared folder."""

    def below(path: Path) -> str:
        try:
            return str(path.resolve().relative_to(shared.resolve()))
        except ValueError:
            raise ValueError(f"{path} is not below {shared}. Name a shared folder that holds frames and results with --shared.") from None

    text, ways = recipe.to_json(), tuple(output.model_dump_json() for output in outputs)
    made = []
    for name, frames in found:
        scene = Scene(name, tuple(below(frame) for frame in frames), below(out), str(shared.resolve()), text, ways)
        hashes = [hash_file(frame) for frame in frames]
        made.append(replace(scene, digest=hashlib.sha256(json.dumps([hashes, text, ways]).encode()).hexdigest()))
    return made


def done_already(scene: Scene) -> dict[str, Any] | None:
    """What was told of a scene that was done before, by the same frames and recipe, and whose files are all there; None otherwise. Files that
    were made and not yet put in their places, as by a run that was killed, are put there."""
    try:
        told = json.loads(scene.state().read_text())
    except (OSError, ValueError):
        return None
    if told.get("digest") != scene.digest:
        return None
    out, waiting = scene.root() / scene.out, scene.state().with_suffix("")
    for name in told["files"]:
        if not (out / name).exists() and (waiting / name).exists():
            shutil.move(waiting / name, out / name)
    if not all((out / name).exists() for name in told["files"]):
        return None
    shutil.rmtree(waiting, ignore_errors=True)
    return {**told["told"], "state": "kept"}


def do_scene(scene: Scene, ticket: str) -> dict[str, Any]:
    """Do a scene from its frames to its files, here; what is told of it. Raises PictureError, Cancelled."""
    root, tell = scene.root(), Ticket(str(scene.state().parent / ticket))
    out, waiting = root / scene.out, scene.state().with_suffix("")
    shutil.rmtree(waiting, ignore_errors=True)
    waiting.mkdir(parents=True)
    begin, recipe = time.monotonic(), Recipe.model_validate_json(scene.recipe)
    frames = tuple(root / frame for frame in scene.frames)
    outputs = tuple(Delivery.model_validate_json(output) for output in scene.outputs)
    with tempfile.TemporaryDirectory(prefix="eaveplane-") as scratch, ThreadPoolExecutor(CORES) as pool:
        runner = Runner(pool, Path(scratch) / "tickets", lambda what, share: tell.tell(share))
        asked = Stack(frames, waiting, "auto", "auto", True, recipe, recipe != Recipe(), False, outputs=outputs, scene=scene.name)
        _, facts, warned = stack(asked, Cache(Path(scratch) / "cache"), runner)
    names = sorted(path.name for path in waiting.iterdir())
    # results of other runs or scenes keep their names
    places = {name: free_name(out / name).name for name in names if not name.endswith(".recipe.json")}
    places |= {recipe_beside(Path(name)).name: recipe_beside(Path(place)).name for name, place in places.items() if recipe_beside(waiting / name).exists()}
    for name, place in places.items():
        (waiting / name).rename(waiting / place)
    left_out = [{"file": str(Path(f["file"]).relative_to(root)), "reason": f["reason"], "evidence": f["evidence"]} for f in facts["frames"] if f["state"] == "left_out"]
    told = {
        "scene": scene.name,
        "state": "done",
        "frames": len(scene.frames),
        "files": [place for place in sorted(places.values()) if not place.endswith(".recipe.json")],
        "left_out": left_out,
        "look_at": warned,
        "flaws": facts["flaws"],
        "seconds": time.monotonic() - begin,
    }
    put_in_place(scene.state(), writes(json.dumps({"digest": scene.digest, "files": sorted(places.values()), "told": told})), replace=True)
    done_already(scene)
    return told


def do_all(scenes: Sequence[Scene], executor: Executor, tell: Callable[[str, float], None], unwanted: Callable[[], bool], renewed: Callable[[], Executor] | None = None) -> list[dict[str, Any]]:
    """Do scenes, as many at a time as the executor takes, but those that were done before; what is told of each, in order. One that fails
    stops no other; `renewed` makes another executor where one broke. Raises Cancelled as soon as they are `unwanted`."""
    kept = [done_already(scene) for scene in scenes]
    wanted = [scene for scene, told in zip(scenes, kept, strict=True) if told is None]
    results: dict[str, dict[str, Any]] = {}
    if wanted:
        root, tickets = wanted[0].root(), Path(wanted[0].out) / STATE / "tickets"
        runner = _Shared(executor, root / tickets, tell, unwanted, renewed)
        outcome = runner.run("Doing scenes", [(do_scene, (scene,)) for scene in wanted])
        results = {scene.name: result if isinstance(result, dict) else failed(scene, result) for scene, result in zip(wanted, outcome, strict=True)}
        shutil.rmtree(root / tickets, ignore_errors=True)
    return [told or results[scene.name] for scene, told in zip(scenes, kept, strict=True)]


class _Shared(Runner):
    """A runner whose tickets are told as paths below the folder that remembers what was done."""

    def named(self, ticket: Ticket) -> str:
        return str(Path(self.tickets.name) / ticket.path.name)


def failed(scene: Scene, error: BaseException) -> dict[str, Any]:
    """What is told of a scene that could not be done."""
    said = str(error) if isinstance(error, PictureError | ValueError | FileExistsError | OSError) else f"Something went wrong that should not ({type(error).__name__})."
    return {"scene": scene.name, "state": "failed", "frames": len(scene.frames), "files": [], "left_out": [], "look_at": [said], "flaws": [], "seconds": 0.0, "why": said}


def reported(told: Sequence[dict[str, Any]], found: Sequence[tuple[str, list[Path]]], out: Path, shared: Path, seconds: float) -> dict[str, Any]:
    """The report of a batch, with files named as they were given."""
    states = [scene["state"] for scene in told]
    given = {str(frame.resolve().relative_to(shared.resolve())): str(frame) for _, frames in found for frame in frames}
    for scene in told:
        scene["files"] = [str(out / name) for name in scene["files"]]
        for left in scene["left_out"]:
            left["file"] = given.get(left["file"], left["file"])
    return {"schema": 1, "done": states.count("done"), "kept": states.count("kept"), "failed": states.count("failed"), "scenes": list(told), "seconds": seconds}

