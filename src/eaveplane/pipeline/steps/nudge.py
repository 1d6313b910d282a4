"""Frames moved by hand from where registration laid them."""

from __future__ import annotations

import json
import shutil
from dataclasses import asdict, dataclass
from pathlib import Path

import numpy as np

from ...core.register.nudge import STILL, Nudge
from ...core.register.trust import Trust
from ..cache import Cache
from ..ticket import Ticket
from .frame import FrameStep
from .register import Register
from .step import Step


@dataclass(frozen=True)
class Nudged(Step):
    """A registration whose frames were nudged, one nudge a frame; it is read as a registration is."""

    name, version = "nudge", 1
    registered: Register
    nudges: tuple[Nudge, ...]

    @property
    def frames(self) -> tuple[FrameStep, ...]:
        return self.registered.frames

    @property
    def reference(self) -> int:
        return self.registered.reference

    def build(self, cache: Cache, folder: Path, ticket: Ticket) -> None:
        source = self.registered.folder(cache)
        facts = json.loads((source / "registration.json").read_text())
        for k, nudge in enumerate(self.nudges):
            if nudge != STILL:
                facts["fits"][k] = (nudge.matrix(facts["size"]) @ np.array(facts["fits"][k])).tolist()
                # what was measured is of where it lay before; who moved it has looked
                facts["trusted"][k] = asdict(Trust(None, None, facts["trusted"][k]["judged"]))
        for beside in source.glob("*.npy"):
            shutil.copy(beside, folder / beside.name)
        (folder / "registration.json").write_text(json.dumps(facts))
