"""Laying frames on the reference."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np

from ...core.even.drift import Drift, Trim, measure_drift, radius_squared
from ...core.register.area import common_area
from ...core.register.register import register
from ...core.weave.weave import RegisteredFrames
from ...imaging.colour import FloatArray
from ...imaging.placement import Placement
from ...imaging.pyramid import Box
from ..cache import Cache
from ..ticket import Ticket
from .frame import Frame, FrameStep, Measure, open_frame
from .step import Step


@dataclass(frozen=True)
class Register(Step):
    """Frames, near to far, laid on one of them, and what then differs in brightness and colour."""

    name, version = "register", 5
    frames: tuple[FrameStep, ...]
    reference: int

    def inputs(self) -> list[Any]:
        return [[Measure(frame).key for frame in self.frames], self.reference]

    def build(self, cache: Cache, folder: Path, ticket: Ticket) -> None:
        frames = [open_frame(cache, frame) for frame in self.frames]
        level = frames[0].detail().level
        found = register(lambda k: frames[k].luma(), [frame.features() for frame in frames], level, self.reference, lambda share: ticket.tell(0.95 * share))
        small = [frame.small() for frame in frames]
        placements = [Placement(fit, frame.size) for fit, frame in zip(found.fits, frames, strict=True)]
        drifts = measure_drift(small, [placement.at(frames[0].small_level) for placement in placements], self.reference)
        facts = {
            "reference": self.reference,
            "fits": [fit.tolist() for fit in found.fits],
            "residual": [r if np.isfinite(r) else None for r in found.residual],
            "warnings": found.warnings,
            "model": found.model,
            "drifts": [asdict(drift) for drift in drifts],
            "area": common_area([placement.corners() for placement in placements], frames[0].size),
            "size": frames[0].size,
        }
        (folder / "registration.json").write_text(json.dumps(facts))


@dataclass(frozen=True, eq=False)
class Registration:
    """What `Register` makes; lists run over its frames."""

    reference: int
    placements: list[Placement]
    residual: list[float | None]
    warnings: list[str | None]
    model: str
    drifts: list[Drift]
    area: Box
    size: tuple[int, int]


def open_registration(cache: Cache, key: str) -> Registration:
    """The registration of a key."""
    facts = json.loads((cache.path(key) / "registration.json").read_text())
    size = tuple(facts["size"])
    placements = [Placement(np.array(fit), size) for fit in facts["fits"]]
    drifts = [Drift(**{**drift, "gain": tuple(drift["gain"])}) for drift in facts["drifts"]]
    return Registration(facts["reference"], placements, facts["residual"], facts["warnings"], facts["model"], drifts, tuple(facts["area"]), size)


def registered_frames(frames: list[Frame], names: list[str], laid: Registration, even_out: bool, trims: Sequence[Trim]) -> RegisteredFrames:
    """Readers of registered frames from the cache, evened out and trimmed; see RegisteredFrames."""

    def read(k: int, level: int, box: Box) -> FloatArray:
        frame, placement = frames[k], laid.placements[k].at(level)
        drift, trim = laid.drifts[k] if even_out else Drift(), trims[k].gains()
        if k == laid.reference:
            return frame.root(level, box, trim)
        part = placement.source_box(box)
        root = frame.root(level, part, (drift.gain[0] * trim[0], drift.gain[1] * trim[1], drift.gain[2] * trim[2]))
        if drift.falloff:
            width, height = frame.codes.sizes[level]
            root *= np.sqrt(1 + np.float32(drift.falloff) * radius_squared(height, width, part))[..., None]
        return placement.lay(root, box, part)

    return RegisteredFrames(names, laid.reference, frames[0].size, laid.placements, float(np.median([frame.fine_noise() for frame in frames])), read)
