"""Laying frames on the reference."""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from ...core.even.drift import Drift, Trim, measure_drift, radius_squared
from ...core.even.passing import PassingLight, passing_light
from ...core.gather.detail import LAPLACIAN, POOL, signal
from ...core.gather.focus import focus_of
from ...core.register.moved import WORTH, CameraMoved, Moved, moved
from ...core.register.register import Registration as Found
from ...core.register.register import register
from ...core.register.sweep import blurred
from ...core.register.trust import Trust
from ...core.weave.laid import ByHand, RegisteredFrames
from ...core.weave.places import Places
from ...imaging.colour import FloatArray
from ...imaging.placement import Placement, Shift, scaled
from ...imaging.pyramid import Box
from ..arrays import array
from ..cache import Cache
from ..ticket import Ticket
from .frame import Frame, FrameStep, Measure, open_frame
from .step import Step

FOUND = ByHand()
"""Nothing by hand."""


@dataclass(frozen=True)
class Register(Step):
    """Frames, near to far, laid on one of them, and what then differs in brightness and colour."""

    name, version = "register", 14
    frames: tuple[FrameStep, ...]
    reference: int
    camera_moved: CameraMoved = "auto"

    def inputs(self) -> list[Any]:
        return [[Measure(frame).key for frame in self.frames], self.reference, self.camera_moved]

    def build(self, cache: Cache, folder: Path, ticket: Ticket) -> None:
        frames = [open_frame(cache, frame) for frame in self.frames]
        level = frames[0].detail().level
        found = register(lambda k: frames[k].luma(), [frame.features() for frame in frames], level, self.reference, lambda share: ticket.tell(0.6 * share))
        placements = [Placement(fit, frame.size) for fit, frame in zip(found.fits, frames, strict=True)]
        small = [frame.small() for frame in frames]

        def drifts_of(placements: list[Placement]) -> list[Drift]:
            return measure_drift(small, [placement.at(frames[0].small_level) for placement in placements], self.reference)

        stepped, drifts = None, drifts_of(placements)
        if self.camera_moved != "no" and len(frames) > 1:
            stepped = _moved(frames, found, placements, [drift.gain[1] for drift in drifts], lambda share: ticket.tell(0.6 + 0.35 * share))
        if stepped and (self.camera_moved == "yes" or stepped.believed()):
            placements = stepped.placements
            drifts = drifts_of(placements)
        else:
            stepped = None
        passing = passing_light(small, [placement.at(frames[0].small_level) for placement in placements], drifts, self.reference)
        facts = {
            "reference": self.reference,
            "fits": [placement.matrix.tolist() for placement in placements],
            "steps": [placement.shift.step.tolist() if placement.shift else None for placement in placements],
            # what remained was measured without the step; a frame that lies better for it is judged by what it gained
            "trusted": [asdict(replace(t, verdict="good", said=None) if stepped and stepped.gains[k] > WORTH and t.verdict == "look at it" else t) for k, t in enumerate(found.trusted)],
            "model": found.model,
            "focus": [place * 2.0**level for place in stepped.focus] if stepped else None,
            "drifts": [asdict(drift) for drift in drifts],
            "passing": [light.left if light else None for light in passing],
            "size": frames[0].size,
        }
        for k, placement in enumerate(placements):
            if placement.shift:
                np.save(folder / f"depth{k}.npy", placement.shift.depth.astype(np.float16))
        for k, light in enumerate(passing):
            if light:
                np.save(folder / f"light{k}.npy", light.gain)
        (folder / "registration.json").write_text(json.dumps(facts))


@dataclass(frozen=True, eq=False)
class Registration:
    """What `Register` makes; lists run over its frames."""

    reference: int
    placements: list[Placement]
    trusted: list[Trust]
    model: str
    focus: list[float] | None
    """Where frames are focused, as pixels of blur at full size, near largest; known where the camera moved."""
    drifts: list[Drift]
    passing: list[PassingLight | None]
    size: tuple[int, int]

    def gain(self, k: int) -> float:
        """What frame k's luminance is multiplied by to be as bright as the reference."""
        return self.drifts[k].gain[1]

    def evened(self, k: int, energy: FloatArray) -> FloatArray:
        """Fine energy (..., h, w) of frame k, laid on the reference, as the reference's light would show it."""
        light = self.passing[k]
        h, w = energy.shape[-2:]
        return energy * np.float32(self.gain(k)) * (light.on((0, 0, w, h), (w, h))[..., 1] if light else np.float32(1))

    @property
    def camera_moved(self) -> bool:
        """Whether frames are laid as taken by a camera that moved."""
        return self.focus is not None


def open_registration(cache: Cache, key: str) -> Registration:
    """The registration of a key."""
    folder = cache.path(key)
    facts = json.loads((folder / "registration.json").read_text())
    size = tuple(facts["size"])
    shifts = [Shift(np.array(step), array(folder / f"depth{k}.npy").astype(np.float32), size) if step else None for k, step in enumerate(facts["steps"])]
    placements = [Placement(np.array(fit), size, shift) for fit, shift in zip(facts["fits"], shifts, strict=True)]
    drifts = [Drift(**{**drift, "gain": tuple(drift["gain"])}) for drift in facts["drifts"]]
    passing = [PassingLight(array(folder / f"light{k}.npy"), left) if left is not None else None for k, left in enumerate(facts["passing"])]
    return Registration(facts["reference"], placements, [Trust(**told) for told in facts["trusted"]], facts["model"], facts["focus"], drifts, passing, size)


def registered_frames(frames: list[Frame], names: list[str], laid: Registration, even_out: bool, trims: Sequence[Trim], places: Places | None = None, hand: ByHand = FOUND) -> RegisteredFrames:
    """Readers of registered frames from the cache, evened out and trimmed; see RegisteredFrames."""

    sizes = frames[laid.reference].codes.sizes

    def read(k: int, level: int, box: Box) -> FloatArray:
        frame, placement = frames[k], laid.placements[k].at(level)
        drift, light, trim = (laid.drifts[k], laid.passing[k], trims[k].gains()) if even_out else (Drift(), None, trims[k].gains())
        if k == laid.reference:
            return frame.root(level, box, trim)
        part = placement.source_box(box)
        root = frame.root(level, part, (drift.gain[0] * trim[0], drift.gain[1] * trim[1], drift.gain[2] * trim[2]))
        if drift.falloff:
            width, height = sizes[level]
            root *= np.sqrt(1 + np.float32(drift.falloff) * radius_squared(height, width, part))[..., None]
        root = placement.lay(root, box, part)
        if light:
            root *= np.sqrt(light.on(box, sizes[level]))
        return root

    found = [k for k in range(len(frames)) if k not in hand.masks]
    quiet = [k for k, times in zip(found, places.noisier, strict=True) if times == 1] if places else range(len(frames))
    noise = float(np.median([frames[k].fine_noise() * (laid.gain(k) if even_out else 1) for k in quiet]))
    return RegisteredFrames(names, laid.reference, frames[0].size, laid.placements, noise, read, places, hand.masks, hand.limits)


def laid_beside(laid: RegisteredFrames, cache: Cache, beside: Mapping[str, Register], trim: Trim) -> RegisteredFrames:
    """Registered frames with what lies beside them, by name, as far as it is there: evened out to the reference, which has this trim."""
    there = {name: step for name, step in beside.items() if step.is_there(cache)}

    def opened(name: str, step: Register) -> RegisteredFrames:
        return registered_frames([open_frame(cache, frame) for frame in step.frames], [laid.names[laid.reference], name], open_registration(cache, step.key), True, [trim, trim])

    return replace(laid, beside={name: opened(name, step) for name, step in there.items()})


def _moved(frames: list[Frame], found: Found, placements: list[Placement], gains: list[float], progress: Callable[[float], None]) -> Moved | None:
    """Where frames lie if the camera moved between them; None where that cannot be told. `gains` make them as bright as the reference."""
    metres = np.array([math.nan if frame.meta.focus_m is None else frame.meta.focus_m for frame in frames])
    focus = -focus_of([frame.octaves().lit(gain) for frame, gain in zip(frames, gains, strict=True)], placements, -1 / metres)
    level = frames[0].detail().level
    scale = 2.0**level
    details = [blurred(np.sqrt(gain * signal(frame.detail())[0]), 1.5) for frame, gain in zip(frames, gains, strict=True)]
    noise = float(np.median([gain * frame.fine_noise() for frame, gain in zip(frames, gains, strict=True)])) / LAPLACIAN / scale**2
    fits = [scaled(fit, scale) for fit in found.fits]
    features = [frame.features() for frame in frames]
    return moved(lambda k: frames[k].luma() * np.float32(math.sqrt(gains[k])), features, details, POOL / scale, fits, focus / scale, found.reference, noise, frames[0].size, progress)
