"""Exposures of one focus position, merged into one frame."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ...core.gather.merge import base_of, exposure_times, merge, peak_of, steadiness
from ...core.register.register import register
from ...imaging.colour import FloatArray
from ...imaging.exif import Metadata
from ...imaging.light import channels, light_of, root_of
from ...imaging.placement import Placement
from ...imaging.pyramid import Pyramid
from ..cache import Cache
from ..ticket import Ticket
from .decode import Decode
from .frame import Frame, FrameStep, open_frame

LEAST_MOVED = 0.35
"""Pixels at the corners below which exposures are not resampled."""


@dataclass(frozen=True)
class Merge(FrameStep):
    """The exposures of a bracket as one frame, kept like a decoded one; all of them have been measured."""

    name, version = "merge", 1
    exposures: tuple[Decode, ...]

    def at_full_size_only(self) -> bool:
        return self.exposures[0].full_only

    def build(self, cache: Cache, folder: Path, ticket: Ticket) -> None:
        frames = [open_frame(cache, step) for step in self.exposures]
        small = [frame.small() for frame in frames]
        times = exposure_times(small, [_exposure_of(frame.meta) for frame in frames])
        base = base_of(times)
        times = [t / times[base] for t in times]
        placements = _exposures_laid(frames, times, base)
        ticket.tell(0.2)
        level = frames[base].small_level
        steady = steadiness([s if where is None else where.at(level).lay(s, (0, 0, s.shape[1], s.shape[0])) for s, where in zip(small, placements, strict=True)], times, base)
        width, height = frames[base].size
        peak = peak_of(times)
        codes = merge([_rows_of(frame, where, width) for frame, where in zip(frames, placements, strict=True)], times, steady, (height, width), peak)
        ticket.tell(0.8)
        levels = Pyramid.create(folder / "codes", width, height, 3, codes.dtype.name, self.at_full_size_only())
        levels.write(0, 0, 0, codes)
        levels.halve_into_levels()
        facts = json.loads((frames[base].folder / "frame.json").read_text())
        facts |= {"to_work": frames[base].encoding.to_work.tolist(), "peak": peak, "linear": False, "times": times}
        (folder / "profile.icc").write_bytes(b"")
        (folder / "carried.json").write_bytes((frames[base].folder / "carried.json").read_bytes())
        (folder / "frame.json").write_text(json.dumps(facts))


def _rows_of(frame: Frame, where: Placement | None, width: int) -> Callable[[int, int], FloatArray]:
    """Rows (first, last) of an exposure as it lies on the base."""

    def rows(first: int, last: int) -> FloatArray:
        box = (0, first, width, last - first)
        if where is None:
            return channels(frame.codes.read(0, box), frame.encoding)
        part = where.source_box(box)
        root = root_of(channels(frame.codes.read(0, part), frame.encoding))
        return light_of(where.lay(root, box, part))

    return rows


def _exposure_of(meta: Metadata) -> float | None:
    """How much light a frame was given, in arbitrary units; None where the file does not say."""
    if not meta.seconds:
        return None
    return meta.seconds * (meta.iso or 100) / (meta.f_number or 1.0) ** 2


def _exposures_laid(frames: list[Frame], times: list[float], base: int) -> list[Placement | None]:
    """Where exposures lie on the base; None where that is where they are, as from a tripod."""
    lumas = [np.minimum(frame.luma(), np.float32(0.97)) / np.float32(np.sqrt(t)) for frame, t in zip(frames, times, strict=True)]
    found = register(lambda k: lumas[k], [frame.features() for frame in frames], frames[base].detail().level, base)
    still = Placement(np.eye(3), frames[base].size).corners()
    placements: list[Placement | None] = []
    for k, fit in enumerate(found.fits):
        where = Placement(fit, frames[base].size)
        moved = float(np.linalg.norm(where.corners() - still, axis=-1).max())
        placements.append(None if k == base or found.trusted[k].said or moved < LEAST_MOVED else where)
    return placements
