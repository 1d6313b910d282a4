"""The frames of one scene, read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from ...core.gather.composition import glimpse
from ...core.gather.split import strangers
from ...core.register.composition import same_once_laid
from ...imaging.errors import PictureError
from ...imaging.formats.registry import facts
from ...recipe import FrameChoice, Recipe
from ..cache import Cache, hash_file
from ..frames import File, choice, gather, grouped, held_alike, in_order, same_size
from ..runner import Runner
from ..steps import Decode, Frame, FrameStep, open_frame


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


def markers_among(frames: Sequence[Frame]) -> list[int]:
    """Which frames of one scene show something else than the others. What lies on one of these once it is turned, shifted or scaled is none,
    however far a hand took the camera."""
    pictures = [frame.small() for frame in frames]
    apart = strangers([glimpse(picture) for picture in pictures])
    others = [k for k in range(len(frames)) if k not in apart]

    def lies_on(i: int, k: int) -> bool:
        return same_once_laid(pictures[i], pictures[k], frames[i].features(), frames[k].features(), frames[i].luma().shape[1])

    return [i for i in apart if not any(lies_on(i, k) for k in sorted(others, key=lambda k: abs(k - i)))]


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
            file = File.of(path, sha256, facts(path))
            files.append(file)
        file_of.append(file)
    files = held_alike(files)
    file_of = [next(f for f in files if f.sha256 == file.sha256) for file in file_of]
    wanted = markers and len(files) > 2 and not named(recipe, files)
    found: list[FrameChoice] = []
    strange: list[FrameChoice] = []

    def frames_of(decoded: dict[str, Decode], problems: dict[str, PictureError]) -> list[FrameChoice]:
        for problem in (problems | same_size(cache, files, decoded)).values():
            raise problem
        apart = markers_among([open_frame(cache, decoded[f.id]) for f in files]) if wanted else []
        strange.extend(choice([files[i]], reason="marker") for i in apart)
        found.extend(grouped(cache, [f for i, f in enumerate(files) if i not in apart], decoded))
        return found

    gathered = gather(cache, files, frames_of, runner, True, capture)
    steps = gathered.frames
    order = in_order(cache, [steps[f.id] for f in found])
    return Read(files, file_of, gathered.decoded, [*(found[i] for i in order), *strange], {**gathered.decoded, **steps})
