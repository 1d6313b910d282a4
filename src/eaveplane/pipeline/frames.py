"""From files to the frames of a scene: which are exposures of one, which stand nearer, and how they come to be."""

from __future__ import annotations

import hashlib
import math
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from ..core.even.capture.settings import Capture
from ..core.gather.composition import Glimpse, glimpse
from ..core.gather.exposures import brackets_of, exposure_step
from ..core.gather.octaves import Octaves
from ..core.gather.order import near_to_far
from ..imaging.errors import PictureError
from ..imaging.exif import Metadata
from ..imaging.formats.format import turned
from ..imaging.formats.picture import QUARTERS
from ..imaging.formats.registry import Facts
from ..imaging.pyramid import Size
from ..recipe import Exposure, FrameChoice, Reason
from .cache import Cache
from .glance import open_glance
from .runner import Call, Runner
from .steps import Correct, Decode, FrameStep, Measure, Merge, make, open_frame
from .warm import warm_up

SAME_FOCUS = 0.02


@dataclass(frozen=True)
class File:
    """An original: where it is, what it holds; its size upright, and how the camera said it was held, if that is known; by how many quarters it
    is turned to the left beyond that."""

    path: Path
    sha256: str
    name: str
    size: Size | None = None
    orientation: int = 1
    turned: int = 0

    @property
    def stored(self) -> Size | None:
        """Width and height before the picture is put upright."""
        return turned(self.size, self.orientation) if self.size else None

    @property
    def id(self) -> str:
        """The name by which recipes know the frame."""
        return self.sha256[:12]

    @classmethod
    def of(cls, path: Path, sha256: str, about: Facts) -> File:
        """A file of which no more is known than what it says."""
        return cls(path, sha256, str(path), (about.width, about.height), about.meta.orientation)

    def decode(self, full_only: bool, capture: Capture) -> Decode:
        """How the file is read as `capture` asks."""
        return Decode(self.sha256, full_only, capture.demosaic, capture.highlights, self.turned, self.path)


def held_alike(files: Sequence[File]) -> list[File]:
    """Files of one scene, all turned as most of them: a camera pointed at the ground may not know which way up it is. Where as many say one
    thing as the other, the first is believed; files of another size, or mirrored, are left as they are."""
    known = Counter((f.stored, f.orientation) for f in files if f.stored and f.orientation in QUARTERS)
    if not known:
        return list(files)
    stored, held = known.most_common(1)[0][0]
    return [replace(f, turned=(QUARTERS[held] - QUARTERS[f.orientation]) % 4) if (f.stored, f.orientation) in known and f.stored == stored else f for f in files]


@dataclass(frozen=True)
class Gathered:
    """Files by id as they were decoded, what was wrong with those that could not be, and frames by id, all of them measured."""

    decoded: dict[str, Decode]
    problems: dict[str, PictureError]
    frames: dict[str, FrameStep]


def gather(
    cache: Cache, files: Sequence[File], choose: Callable[[dict[str, Decode], dict[str, PictureError]], Sequence[FrameChoice]], runner: Runner, full_only: bool, capture: Capture
) -> Gathered:
    """Decode files, and make frames of them: exposures merged, corrected as `capture` asks.

    `choose` says which frames, once it is known which files are there and what was wrong with the others; it may raise.
    """
    reading, combining = runner.parts(9, 1)
    decoded, problems = _decoded(cache, files, reading, full_only, capture)
    return Gathered(decoded, problems, combine(cache, choose(decoded, problems), decoded, combining, capture))


def _decoded(cache: Cache, files: Sequence[File], runner: Runner, full_only: bool, capture: Capture) -> tuple[dict[str, Decode], dict[str, PictureError]]:
    """Decode and measure files, each by itself; measuring waits until all are being read, so that no core is idle."""
    wanted = [f.decode(full_only, capture) for f in files]
    calls: list[Call] = [(make, (str(cache.root), step)) for step in wanted]
    decoded: dict[str, Decode] = {}
    problems: dict[str, PictureError] = {}
    # a worker that has no frame left to read loads what the next steps are compiled from
    results = runner.run("Reading frames", [*calls, (_warm, ())], lambda step: _measured(cache, step) if step else None)
    for file, step, result in zip(files, wanted, results, strict=False):
        if isinstance(result, PictureError):
            problems[file.id] = result
        elif isinstance(result, BaseException):
            raise result
        else:
            decoded[file.id] = step
    return decoded, problems


def _warm(ticket: str) -> None:
    warm_up()


def _measured(cache: Cache, frame: FrameStep) -> Call:
    return make, (str(cache.root), Measure(frame))


def combine(cache: Cache, frames: Sequence[FrameChoice], decoded: Mapping[str, Decode], runner: Runner, capture: Capture) -> dict[str, FrameStep]:
    """Merge the exposures of frames and correct them, as far as that is needed; frames by id."""
    merging, correcting = runner.parts(1, 1)
    plain, final = frame_steps(frames, decoded, Capture()), frame_steps(frames, decoded, capture)
    for what, part, steps in (("Merging exposures", merging, plain), ("Correcting frames", correcting, final)):
        wanted = [step for step in steps.values() if isinstance(step, Merge if part is merging else Correct)]
        if wanted:
            part.all(what, [(make, (str(cache.root), step)) for step in wanted], lambda step: _measured(cache, step))
    return final


def frame_steps(frames: Sequence[FrameChoice], decoded: Mapping[str, Decode], capture: Capture) -> dict[str, FrameStep]:
    """Frames by id, corrected as asked, of those all of whose files are in `decoded`."""
    found: dict[str, FrameStep] = {}
    for frame in frames:
        sources = frame.sources()
        if all(i in decoded for i in sources):
            base = decoded[sources[0]] if len(sources) == 1 else Merge(tuple(decoded[i] for i in sources))
            found[frame.id] = Correct(base, capture) if capture.corrects() else base
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
        return exposure_step(glimpses[order[a]], glimpses[order[b]], (stops[b] or 0.0) - (stops[a] or 0.0) if told else None)

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


def grouped(cache: Cache, files: Sequence[File], decoded: Mapping[str, Decode]) -> list[FrameChoice]:
    """Frames for decoded files of one scene: brackets found, in the order given."""
    frames = [open_frame(cache, decoded[f.id]) for f in files]
    groups = exposure_groups([f.meta for f in frames], [glimpse(f.small()) for f in frames])
    return [choice([files[i] for i in group]) for group in groups]


def in_order(cache: Cache, steps: Sequence[FrameStep]) -> list[int]:
    """Indices of frames from near to far."""
    frames = [open_frame(cache, step) for step in steps]
    return ordered([f.meta for f in frames], [f.octaves() for f in frames])


def in_order_at_first(cache: Cache, files: Sequence[File], metas: Sequence[Metadata]) -> list[int]:
    """Indices of files from near to far, as far as a first look at them tells."""
    return ordered(metas, [open_glance(cache, f.sha256)[1].turned(f.turned) for f in held_alike(files)])


def same_size(cache: Cache, files: Sequence[File], decoded: Mapping[str, Decode]) -> dict[str, PictureError]:
    """What to say of frames whose size or orientation is not that of most."""
    sizes = {f.id: open_frame(cache, decoded[f.id]).size for f in files if f.id in decoded}
    if not sizes:
        return {}
    counted = sorted(set(sizes.values()), key=lambda s: (-list(sizes.values()).count(s), s))
    usual = counted[0]
    return {
        f.id: PictureError(f.path, f"is {sizes[f.id][0]} × {sizes[f.id][1]} pixels, the others are {usual[0]} × {usual[1]}.", "Frames of one scene have one size and orientation; leave it out.")
        for f in files
        if f.id in sizes and sizes[f.id] != usual
    }
