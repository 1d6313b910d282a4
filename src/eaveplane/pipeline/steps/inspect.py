"""Looking for faults of frames."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass
from pathlib import Path

import numpy as np

from ...core.even.drift import Trim
from ...core.gather.consequence import laid_closely
from ...core.gather.coverage import SoftBand
from ...core.gather.defocus import Defocus
from ...core.gather.inspect import Inspection, Seen, inspect
from ...core.gather.verdicts import Verdict
from ...imaging.light import root_luma
from ..arrays import arrays
from ..cache import Cache
from ..ticket import Ticket
from .frame import open_frame
from .register import Register, open_registration, registered_frames
from .step import Step

WORST_FIT = 4.0
"""Remaining error in pixels above which a fit says that a frame does not belong."""


@dataclass(frozen=True)
class Inspect(Step):
    """Faults of registered frames, and places where none is sharp."""

    name, version = "inspect", 5
    registered: Register

    def build(self, cache: Cache, folder: Path, ticket: Ticket) -> None:
        frames, laid = [open_frame(cache, frame) for frame in self.registered.frames], open_registration(cache, self.registered.key)
        ticket.tell(0.1)
        seen = [Seen(frame.octaves(), frame.small(), frame.meta, (frame.shot.kelvin, frame.shot.tint)) for frame in frames]
        fitting = [not (told.said and (told.residual is None or told.residual > WORST_FIT)) for told in laid.trusted]
        read = registered_frames(frames, [frame.key for frame in self.registered.frames], laid, True, [Trim()] * len(frames)).read
        closely = laid_closely(lambda k: frames[k].detail(), laid.placements, [drift.gain[1] for drift in laid.drifts], lambda k, box: root_luma(read(k, 0, box)))
        found = inspect(seen, laid.placements, [drift.gain for drift in laid.drifts], fitting, closely, lambda share: ticket.tell(0.3 + 0.7 * share))
        facts = {"verdicts": [asdict(v) for v in found.verdicts], "bands": [asdict(b) for b in found.bands], "covered": found.covered, "block": found.defocus.block}
        (folder / "inspection.json").write_text(json.dumps(facts))
        defocus = found.defocus
        np.savez(folder / "maps.npz", focus=defocus.focus, place=defocus.place, known=defocus.known, soft=found.soft)


def open_inspection(cache: Cache, key: str) -> Inspection:
    """The inspection of a key."""
    folder = cache.path(key)
    facts, maps = json.loads((folder / "inspection.json").read_text()), arrays(folder / "maps.npz")
    verdicts = [Verdict(**{**v, "sharp_rows": tuple(v["sharp_rows"]), "box": tuple(v["box"]) if v["box"] else None}) for v in facts["verdicts"]]
    bands = [SoftBand(**{**b, "box": tuple(b["box"]), "metres": tuple(b["metres"]) if b["metres"] else None}) for b in facts["bands"]]
    return Inspection(verdicts, bands, Defocus(maps["focus"], maps["place"], maps["known"], facts["block"]), maps["soft"], facts["covered"])
