"""Where registered frames are focused, in pixels of blur."""

from __future__ import annotations

import json
import math
from dataclasses import asdict, dataclass, replace
from pathlib import Path

import numpy as np

from ...core.even.drift import Trim
from ...core.gather.detail import lay_on, pooled_shape, signal
from ...core.gather.focus import focus_of
from ...core.weave.locate import locate, noisier_by
from ...core.weave.places import Places
from ..cache import Cache
from ..ticket import Ticket
from .frame import open_frame
from .nudge import Nudged
from .register import Register, open_registration, registered_frames
from .step import Step

BAND = 1
"""The octave of detail, about 4 px, by which a sample of the picture is chosen."""


@dataclass(frozen=True)
class Locate(Step):
    """Places of the frames, two or more, that are woven by themselves."""

    name, version = "places", 10
    registered: Register | Nudged
    found: tuple[int, ...]

    def build(self, cache: Cache, folder: Path, ticket: Ticket) -> None:
        frames, laid = [open_frame(cache, frame) for frame in self.registered.frames], open_registration(cache, self.registered.key)
        readers = registered_frames(frames, [frame.key for frame in self.registered.frames], laid, True, [Trim()] * len(frames))
        frames, placements = [frames[k] for k in self.found], [laid.placements[k] for k in self.found]
        width, height = frames[0].size
        shape = pooled_shape(height, width)
        detail = np.max([laid.evened(k, lay_on(signal(frame.detail()), laid.placements[k], shape))[BAND] for k, frame in zip(self.found, frames, strict=True)], axis=0)
        ticket.tell(0.2)
        metres = np.array([math.nan if frame.meta.focus_m is None else frame.meta.focus_m for frame in frames])
        guess = focus_of([frame.octaves().lit(laid.gain(k)) for frame, k in zip(frames, self.found, strict=True)], placements, -1 / metres)
        ticket.tell(0.3)
        found = locate(lambda k, box: readers.read(self.found[k], 0, box), len(frames), frames[0].size, detail, guess)
        if found:
            # where noise was taken off other things differ: no frame is noisier than its own finest detail is
            own = np.array([[laid.gain(k) * frame.detail().noise[0] for k, frame in zip(self.found, frames, strict=True)]])
            found = replace(found, noisier=tuple(np.minimum(found.noisier, noisier_by(own)).tolist()))
        (folder / "places.json").write_text(json.dumps(asdict(found) if found else None))


def open_places(cache: Cache, key: str) -> Places | None:
    """The places of a key; None where the pictures do not tell them."""
    found = json.loads((cache.path(key) / "places.json").read_text())
    return Places(**{**found, "at": tuple(found["at"]), "noisier": tuple(found["noisier"])}) if found else None
