"""A frame as the cache keeps it: decoded, merged of exposures or corrected, and what was measured in it."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import numpy as np

from ...core.develop.look import Light
from ...core.even.capture.correction import Correction, corrected
from ...core.even.capture.settings import Capture
from ...core.gather.detail import Detail, measure_detail
from ...core.gather.octaves import Octaves
from ...core.register.features import Features, find_features
from ...imaging.carried import from_json
from ...imaging.colour import PRIMARIES, FloatArray
from ...imaging.exif import Carried, Metadata
from ...imaging.icc import Encoding, linear_encoding, read_profile, standard_encoding, wide_encoding
from ...imaging.lensdata import LensData
from ...imaging.light import channels, root_of, survey, to_root
from ...imaging.pyramid import Box, Pyramid
from ..arrays import array, arrays
from ..cache import Cache
from ..ticket import Ticket
from .step import Step


class FrameStep(Step):
    """A step whose result is a frame."""

    def at_full_size_only(self) -> bool:
        """Whether no smaller sizes are kept."""
        raise NotImplementedError

    def is_usable(self, cache: Cache) -> bool:
        """Whether the frame and what was measured in it are kept."""
        return self.is_there(cache) and Measure(self).is_there(cache)


@dataclass(frozen=True)
class Measure(Step):
    """What a frame shows, measured for everything that compares frames."""

    name, version = "measure", 1
    frame: FrameStep

    def build(self, cache: Cache, folder: Path, ticket: Ticket) -> None:
        frame = open_frame(cache, self.frame)
        luma, small = survey(frame.codes.whole(0), frame.encoding, frame.small_level)
        ticket.tell(0.3)
        detail = measure_detail(luma)
        np.savez(folder / "detail.npz", energy=detail.energy, noise=detail.noise, fine_noise=detail.fine_noise, level=detail.level)
        np.savez(folder / "octaves.npz", energy=detail.octaves.energy, noise=detail.octaves.noise, slopes=detail.octaves.slopes)
        np.save(folder / "luma.npy", detail.luma)
        np.save(folder / "small.npy", small)
        ticket.tell(0.7)
        features = find_features(detail.luma)
        np.savez(folder / "features.npz", points=features.points, descriptors=features.descriptors)


@dataclass(frozen=True, eq=False)
class Frame:
    """A frame that is kept. `measured` is the folder of what was measured, `peak` the brightest light it can hold, `correct` what
    its codes still lack of `capture`, at full size (True) or at smaller ones."""

    folder: Path
    measured: Path
    codes: Pyramid
    encoding: Encoding
    meta: Metadata
    raw: bool
    size: tuple[int, int]
    shot: Light
    small_level: int
    peak: float = 1.0
    lens: LensData | None = None
    capture: Capture | None = None
    correct: Callable[[bool], Correction | None] | None = None

    def plain(self, box: Box, level: int = 0) -> FloatArray:
        """Linear light (h, w, 3) in the frame's own channels as its codes have it, for a box at a level."""
        return channels(self.codes.read(level, box), self.encoding)

    def _lacks(self, level: int) -> Correction | None:
        return self.correct(level == 0) if self.correct else None

    def channels(self, level: int, box: Box) -> FloatArray:
        """Linear light (h, w, 3) in the frame's own channels, for a box at a level."""
        lacking = self._lacks(level)
        return self.plain(box, level) if lacking is None else corrected(lambda part: self.plain(part, level), lacking, self.size, level, box)

    def root(self, level: int, box: Box, gain: tuple[float, float, float] = (1, 1, 1)) -> FloatArray:
        """The frame (h, w, 3) in the weaving encoding for a box at a level; `gain` multiplies its working channels."""
        if self._lacks(level) is None:
            return to_root(self.codes.read(level, box), self.encoding, gain)
        return root_of(self.channels(level, box) @ (np.asarray(gain)[:, None] * self.encoding.to_work).T.astype(np.float32))

    def carried(self) -> Carried:
        """What its file says of its taking."""
        return from_json((self.folder / "carried.json").read_text())

    def small(self) -> FloatArray:
        """Linear light at a small size, (h, w, 3)."""
        return array(self.measured / "small.npy")

    def luma(self) -> FloatArray:
        """Square root of luminance for registration, (h, w)."""
        return array(self.measured / "luma.npy")

    def features(self) -> Features:
        """What the frame is matched by."""
        stored = arrays(self.measured / "features.npz")
        return Features(stored["points"], stored["descriptors"])

    def fine_noise(self) -> float:
        return float(arrays(self.measured / "detail.npz", "fine_noise")["fine_noise"])

    def detail(self) -> Detail:
        stored = arrays(self.measured / "detail.npz")
        return Detail(stored["energy"], stored["noise"], float(stored["fine_noise"]), np.empty((0, 0), np.float32), int(stored["level"]), self.octaves())

    def octaves(self) -> Octaves:
        stored = arrays(self.measured / "octaves.npz")
        return Octaves(stored["energy"], stored["noise"], stored["slopes"])


def open_frame(cache: Cache, step: FrameStep) -> Frame:
    """The frame that a step has made."""
    folder = step.folder(cache)
    facts = json.loads((folder / "frame.json").read_text())
    profile = (folder / "profile.icc").read_bytes()
    to_work = np.array(facts["to_work"])
    if facts.get("linear"):
        encoding = linear_encoding(to_work, facts["peak"])
    elif "peak" in facts:
        encoding = wide_encoding(to_work, facts["peak"])
    elif facts["raw"]:
        encoding = linear_encoding(to_work)
    else:
        encoding = encoding_of(profile) if profile else standard_encoding("srgb")
    meta = dict(facts["meta"])
    meta["taken"] = datetime.fromisoformat(meta["taken"]) if meta["taken"] else None
    meta["position"] = tuple(meta["position"]) if meta.get("position") else None
    shot = Light(*facts["shot"])
    told = facts["lens"]
    lens = LensData(tuple(told["red"]), tuple(told["green"]), tuple(told["blue"]), tuple(told["gain"]), told["source"]) if told else None
    measured, peak = Measure(step).folder(cache), facts.get("peak", 1.0)
    return Frame(folder, measured, Pyramid(folder / "codes"), encoding, Metadata(**meta), facts["raw"], tuple(facts["size"]), shot, facts["small_level"], peak, lens)


def encoding_of(profile: bytes) -> Encoding:
    """The encoding that a file's profile describes."""
    for primaries in PRIMARIES:
        if profile == standard_encoding(primaries).profile:
            return standard_encoding(primaries)
    return read_profile(profile)
