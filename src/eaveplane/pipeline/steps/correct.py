"""Capture corrections: put right in a frame for good, or as it is read."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np

from ...core.even.capture.correction import UNMOVED, Correction, Measured, correction
from ...core.even.capture.fringes import measure_fringes
from ...core.even.capture.noise import measure_noise
from ...core.even.capture.settings import Capture
from ...imaging.lensdata import from_database
from ...imaging.pyramid import Pyramid
from ..cache import Cache, key_of
from ..ticket import Ticket
from .decode import Decode
from .frame import Frame, FrameStep, open_frame
from .merge import Merge

STRIP = 512


@dataclass(frozen=True)
class Correct(FrameStep):
    """A frame with its corrections, kept like a decoded one."""

    name, version = "correct", 1
    base: Decode | Merge
    capture: Capture

    def at_full_size_only(self) -> bool:
        return self.base.at_full_size_only()

    def build(self, cache: Cache, folder: Path, ticket: Ticket) -> None:
        frame = corrected_as_read(cache, open_frame(cache, self.base), self.base.key, self.capture)
        correcting = frame.correct(True) if frame.correct else None
        assert correcting is not None
        width, height = frame.size
        peak = frame.peak * correcting.peak
        levels = Pyramid.create(folder / "codes", width, height, 3, "uint16", self.at_full_size_only())
        for y in range(0, height, STRIP):
            light = frame.channels(0, (0, y, width, min(STRIP, height - y)))
            levels.write(0, 0, y, np.rint(65535 * np.sqrt(np.clip(light / np.float32(peak), 0, 1))).astype(np.uint16))
            ticket.tell(0.05 + 0.85 * y / height)
        levels.halve_into_levels()
        facts = json.loads((frame.folder / "frame.json").read_text())
        facts |= {"to_work": frame.encoding.to_work.tolist(), "peak": peak, "linear": False}
        for beside in ("profile.icc", "carried.json"):
            (folder / beside).write_bytes((frame.folder / beside).read_bytes())
        (folder / "frame.json").write_text(json.dumps(facts))


def corrected_as_read(cache: Cache, frame: Frame, base: str, capture: Capture) -> Frame:
    """A frame (its key) that corrects itself whenever it is read; what has to be measured in it is measured when first needed."""
    if not capture.corrects():
        return frame

    @lru_cache(maxsize=2)
    def found(fine: bool) -> Correction | None:
        asked = capture if fine else capture.coarse()
        if not asked.corrects():
            return None
        red, blue = _measured(cache, "fringes", base, lambda: measure_fringes(frame.plain, frame.size)) if asked.fringes == "measured" else (UNMOVED, UNMOVED)
        noise = _measured(cache, "noise", base, lambda: measure_noise(frame.plain, frame.size).tolist()) if asked.needs_noise() else []
        return correction(asked, Measured(tuple(red), tuple(blue), noise), frame.lens or from_database(frame.meta, frame.size), frame.size)

    return replace(frame, capture=capture, correct=found)


def _measured(cache: Cache, what: str, base: str, measure: Callable[[], Any]) -> Any:
    """What is measured in a frame, kept as JSON."""

    def build(folder: Path) -> None:
        (folder / "measured.json").write_text(json.dumps(measure()))

    key = cache.make(key_of(what, 1, base), build)
    return json.loads((cache.path(key) / "measured.json").read_text())
