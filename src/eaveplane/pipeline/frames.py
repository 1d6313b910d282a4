"""From files to the frames of a scene: which are exposures of one, which stand nearer, under which keys they are kept."""

from __future__ import annotations

import hashlib
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from ..core.even.capture import Capture
from ..core.gather.composition import Glimpse, exposure_between, glimpse
from ..core.gather.exposures import brackets_of
from ..core.gather.octaves import Octaves
from ..core.gather.order import near_to_far
from ..imaging.errors import PictureError
from ..imaging.exif import Metadata
from ..recipe import Exposure, FrameChoice, Reason
from . import steps
from .cache import Cache
from .runner import Call, Runner

SAME_FOCUS = 0.02


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


@dataclass(frozen=True)
class Analysed:
    """Decode keys by file id, and what was wrong with the files that could not be decoded."""

    keys: dict[str, str]
    problems: dict[str, PictureError]


def analyse(cache: Cache, files: Sequence[File], runner: Runner, span: tuple[float, float], full_only: bool, capture: Capture) -> Analysed:
    """Decode and measure frames, each by itself; measuring waits until all are being read, so that no core is idle."""
    calls: list[Call] = [(steps.decode, (str(cache.root), str(f.path), f.sha256, full_only, capture)) for f in files]
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


def merge(cache: Cache, frames: Sequence[FrameChoice], keys: Mapping[str, str], runner: Runner, span: tuple[float, float], full_only: bool) -> None:
    """Merge those frames that stand for brackets; `keys` are decode keys by file id."""
    wanted = [[keys[i] for i in f.sources()] for f in frames if len(f.sources()) > 1]
    if not wanted:
        return
    calls: list[Call] = [(steps.merged, (str(cache.root), exposures, full_only)) for exposures in wanted]
    for result in runner.run("Merging exposures", span, calls, lambda key: (steps.analyse, (str(cache.root), key))):
        if isinstance(result, BaseException):
            raise result


def correct(cache: Cache, frames: Sequence[FrameChoice], keys: Mapping[str, str], runner: Runner, span: tuple[float, float], full_only: bool, capture: Capture) -> None:
    """Correct frames that have been decoded and merged; `keys` are decode keys by file id."""
    if not capture.corrects():
        return
    calls: list[Call] = [(steps.corrections, (str(cache.root), base, full_only, capture)) for base in frame_keys(frames, keys, full_only, Capture()).values()]
    for result in runner.run("Correcting frames", span, calls, lambda key: (steps.analyse, (str(cache.root), key))):
        if isinstance(result, BaseException):
            raise result


def frame_keys(frames: Sequence[FrameChoice], keys: Mapping[str, str], full_only: bool, capture: Capture) -> dict[str, str]:
    """Keys by frame id, for frames all of whose files have one in `keys`, corrected as asked."""
    found = {}
    for frame in frames:
        sources = frame.sources()
        if all(i in keys for i in sources):
            base = keys[sources[0]] if len(sources) == 1 else steps.merged_key([keys[i] for i in sources], full_only)
            found[frame.id] = steps.corrected_key(base, full_only, capture)
    return found


# ---- grouping and order -------------------------------------------------------------------------------------


def light_taken(meta: Metadata) -> float | None:
    """Exposure in stops, on a scale of its own; None where the file does not say."""
    if not meta.seconds:
        return None
    return math.log2(meta.seconds * (meta.iso or 100) / (meta.f_number or 1.0) ** 2)


def exposure_groups(metas: Sequence[Metadata], glimpses: Sequence[Glimpse]) -> list[list[int]]:
    """Frames of a scene, in the order given or that of time, as one list a focus position, dark to bright."""
    order = list(range(len(metas)))
    if all(m.taken for m in metas):
        order.sort(key=lambda i: (metas[i].taken, i))
    stops = [light_taken(metas[i]) for i in order]
    told = all(s is not None for s in stops)

    def between(a: int, b: int) -> float:
        if told:
            return (stops[b] or 0.0) - (stops[a] or 0.0)
        return exposure_between(glimpses[order[a]], glimpses[order[b]])

    def same_focus(a: int, b: int) -> bool:
        near, far = metas[order[a]].focus_m, metas[order[b]].focus_m
        if near is None or far is None or near == far:
            return True
        return math.isfinite(near) and math.isfinite(far) and abs(math.log(near / far)) < SAME_FOCUS

    return [[order[i] for i in group] for group in brackets_of(len(order), between, same_focus)]


def ordered(metas: Sequence[Metadata], octaves: Sequence[Octaves]) -> list[int]:
    """Indices of frames from near to far: by focus distance where all have one, else from the pictures; frames at one
    distance stay as the pictures have them."""
    seen = near_to_far(octaves)
    distances = [m.focus_m for m in metas]
    if any(d is None for d in distances):
        return seen
    place = {i: k for k, i in enumerate(seen)}
    return sorted(range(len(metas)), key=lambda i: (distances[i] or 0.0, place[i]))


def choice(files: Sequence[File], name: str = "", reason: Reason | None = None) -> FrameChoice:
    """The entry of a recipe for a file, or for the exposures of a bracket, dark to bright."""
    if len(files) == 1:
        return FrameChoice(id=files[0].id, file=files[0].name, name=name, state="leave_out" if reason else "keep", reason=reason)
    id = hashlib.sha256("".join(f.id for f in files).encode()).hexdigest()[:12]
    return FrameChoice(id=id, file=files[len(files) // 2].name, name=name, exposures=[Exposure(id=f.id, file=f.name) for f in files])


def grouped(cache: Cache, files: Sequence[File], keys: Mapping[str, str]) -> list[FrameChoice]:
    """Frames for decoded files of one scene: brackets found, in the order given."""
    decoded = [steps.open_decoded(cache, keys[f.id]) for f in files]
    groups = exposure_groups([d.meta for d in decoded], [glimpse(d.small()) for d in decoded])
    return [choice([files[i] for i in group]) for group in groups]


def in_order(cache: Cache, keys: Sequence[str]) -> list[int]:
    """Indices of frames (their keys) from near to far."""
    frames = [steps.open_decoded(cache, key) for key in keys]
    return ordered([f.meta for f in frames], [f.octaves() for f in frames])


def same_size(cache: Cache, files: Sequence[File], keys: Mapping[str, str]) -> dict[str, PictureError]:
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
