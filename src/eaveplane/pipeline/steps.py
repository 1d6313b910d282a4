"""The steps of a scene. Each is a function of small values and keys, and keeps its result in the cache.

They run in whatever executor they are submitted to; `root` is the cache's folder and `ticket` a Ticket's path.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, replace
from datetime import datetime
from functools import lru_cache
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from ..core.even.areas import Site
from ..core.even.capture import UNMOVED, Capture, Correction, Measured, corrected, correction
from ..core.even.develop import develop, needs_guide
from ..core.even.drift import Drift, Trim, measure_drift, radius_squared
from ..core.even.fringes import measure_fringes
from ..core.even.look import Light
from ..core.even.noise import measure_noise
from ..core.even.relief import guide_of
from ..core.finish.finish import finish
from ..core.gather.consequence import laid_closely
from ..core.gather.coverage import SoftBand
from ..core.gather.defocus import Defocus
from ..core.gather.detail import Detail, covered, lay_on, measure_detail, pooled_shape, signal
from ..core.gather.inspect import Inspection, Seen, inspect
from ..core.gather.merge import base_of, exposure_times, merge, peak_of, steadiness
from ..core.gather.octaves import Octaves
from ..core.gather.verdicts import Verdict
from ..core.register.area import common_area
from ..core.register.features import Features, find_features
from ..core.register.register import register
from ..core.weave.distance import distances_of
from ..core.weave.labels import aggregate, costs
from ..core.weave.strokes import Stroke
from ..core.weave.weave import Laid, Weaving, gates_from, touched, weave_box
from ..imaging.colour import FloatArray
from ..imaging.errors import PictureError
from ..imaging.exif import Metadata
from ..imaging.icc import Encoding, linear_encoding, read_profile, standard_encoding, wide_encoding
from ..imaging.lensdata import LensData, from_database
from ..imaging.levels import Box, Levels
from ..imaging.light import channels, light_of, root_luma, root_of, survey, to_codes, to_root
from ..imaging.read import read_picture
from ..imaging.resample import scaled_fit, source_box, warp
from ..imaging.rows import side_by_side
from ..imaging.write import write_picture
from ..recipe import Recipe
from .cache import Cache, hash_file, key_of
from .ticket import Ticket
from .warm import warm_up

SMALL_SIDE = 800
WORST_FIT = 4.0
"""Remaining error in pixels above which a fit says that a frame does not belong."""
TILE = 1024
STRIP = 512
LEAST_MOVED = 0.35
"""Pixels at the corners below which exposures are not resampled."""


# ---- decode and analyse -------------------------------------------------------------------------------------


def decode_key(sha256: str, full_only: bool, capture: Capture) -> str:
    return key_of("decode", 6, sha256, full_only, capture.demosaic, capture.highlights)


def analysis_key(decoded: str) -> str:
    return key_of("analysis", 2, decoded)


def decode(root: str, path: str, sha256: str, full_only: bool, capture: Capture, ticket: str) -> str:
    """Read a frame and keep its codes, at full size only or at halved sizes too."""
    key = decode_key(sha256, full_only, capture)
    # the page may ask days after a file was brought in; the command line has only just read it
    if not full_only and not Cache(Path(root)).has(key) and hash_file(Path(path)) != sha256:
        raise PictureError(Path(path), "is not the picture that was brought in: its content has changed.", "Put the original back, or bring the folder in again to use the new one.")
    return Cache(Path(root)).make(key, lambda folder: _decode(folder, Path(path), full_only, capture, Ticket(ticket)))


def _decode(folder: Path, path: Path, full_only: bool, capture: Capture, ticket: Ticket) -> None:
    ticket.tell(0.01)
    picture = read_picture(path, capture.demosaic, capture.highlights)
    ticket.tell(0.8)
    codes, encoding = picture.codes, picture.encoding
    height, width = codes.shape[:2]
    levels = Levels.create(folder / "codes", width, height, 3, codes.dtype.name, full_only)
    levels.write(0, 0, 0, codes)
    if not full_only:
        levels.halve_into_levels()
    (folder / "profile.icc").write_bytes(encoding.profile or b"")
    meta = picture.meta
    facts = {
        "raw": picture.raw,
        "to_work": encoding.to_work.tolist(),
        "size": [width, height],
        "shot": picture.shot,
        "lens": asdict(picture.lens) if picture.lens else None,
        "small_level": max(0, int(np.ceil(np.log2(max(width, height) / SMALL_SIDE)))),
        "meta": {**meta.__dict__, "taken": meta.taken.isoformat() if meta.taken else None},
    }
    if picture.peak > 1:
        facts |= {"peak": picture.peak, "linear": True}
    (folder / "frame.json").write_text(json.dumps(facts))


def analyse(root: str, decoded: str, ticket: str) -> str:
    """Measure what a decoded frame shows, for everything that compares frames; returns the decode key."""
    cache = Cache(Path(root))
    cache.make(analysis_key(decoded), lambda folder: _analyse(folder, open_decoded(cache, decoded), Ticket(ticket)))
    return decoded


def _analyse(folder: Path, frame: Decoded, ticket: Ticket) -> None:
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


# ---- exposures ----------------------------------------------------------------------------------------------


def merged_key(exposures: list[str], full_only: bool) -> str:
    return key_of("merged", 1, exposures, full_only)


def merged(root: str, exposures: list[str], full_only: bool, ticket: str) -> str:
    """Merge the exposures (decode keys) of one focus position into a frame that is kept like a decoded one."""
    cache = Cache(Path(root))
    return cache.make(merged_key(exposures, full_only), lambda folder: _merged(cache, folder, exposures, full_only, Ticket(ticket)))


def _merged(cache: Cache, folder: Path, exposures: list[str], full_only: bool, ticket: Ticket) -> None:
    frames = [open_decoded(cache, key) for key in exposures]
    small = [frame.small() for frame in frames]
    times = exposure_times(small, [_exposure_of(frame.meta) for frame in frames])
    base = base_of(times)
    times = [t / times[base] for t in times]
    fits = _exposures_laid(frames, times, base)
    ticket.tell(0.2)
    level = frames[base].small_level
    steady = steadiness([s if fit is None else warp(s, scaled_fit(fit, level), (0, 0, s.shape[1], s.shape[0]), repeat_edge=True) for s, fit in zip(small, fits, strict=True)], times, base)
    own = frames[base].encoding
    width, height = frames[base].size

    def reader(k: int) -> Callable[[int, int], FloatArray]:
        frame, fit = frames[k], fits[k]

        def rows(first: int, last: int) -> FloatArray:
            box = (0, first, width, last - first)
            if fit is None:
                return channels(frame.codes.read(0, box), frame.encoding)
            part = source_box(box, fit, frame.size)
            root = root_of(channels(frame.codes.read(0, part), frame.encoding))
            return light_of(warp(root, fit @ np.array([[1, 0, part[0]], [0, 1, part[1]], [0, 0, 1.0]]), box, repeat_edge=True))

        return rows

    peak = peak_of(times)
    codes = merge([reader(k) for k in range(len(frames))], times, steady, (height, width), peak)
    ticket.tell(0.8)
    levels = Levels.create(folder / "codes", width, height, 3, codes.dtype.name, full_only)
    levels.write(0, 0, 0, codes)
    if not full_only:
        levels.halve_into_levels()
    facts = json.loads((frames[base].folder / "frame.json").read_text())
    facts |= {"to_work": own.to_work.tolist(), "peak": peak, "linear": False, "times": times}
    (folder / "profile.icc").write_bytes(b"")
    (folder / "frame.json").write_text(json.dumps(facts))


def _exposure_of(meta: Metadata) -> float | None:
    """How much light a frame was given, in arbitrary units; None where the file does not say."""
    if not meta.seconds:
        return None
    return meta.seconds * (meta.iso or 100) / (meta.f_number or 1.0) ** 2


def _exposures_laid(frames: list[Decoded], times: list[float], base: int) -> list[NDArray[np.float64] | None]:
    """Fits of exposures onto the base; None where they lie on it already, as from a tripod."""
    lumas = [np.minimum(frame.luma(), np.float32(0.97)) / np.float32(np.sqrt(t)) for frame, t in zip(frames, times, strict=True)]
    found = register(lambda k: lumas[k], [frame.features() for frame in frames], frames[base].detail().level, base)
    w, h = frames[base].size
    corners = np.array([[[0, 0], [w, 0], [0, h], [w, h]]], np.float64)
    fits: list[NDArray[np.float64] | None] = []
    for k, fit in enumerate(found.fits):
        moved = float(np.linalg.norm(cv2.perspectiveTransform(corners, fit) - corners, axis=-1).max())
        fits.append(None if k == base or found.warnings[k] or moved < LEAST_MOVED else fit)
    return fits


# ---- capture corrections ------------------------------------------------------------------------------------


def corrected_key(base: str, full_only: bool, capture: Capture) -> str:
    """The key of a frame with its corrections; its own where there are none."""
    # defaults are whole numbers until they have been through JSON; a key must not tell them apart
    return key_of("corrected", 1, base, full_only, Capture(**capture.model_dump()).model_dump()) if capture.corrects() else base


def corrections(root: str, base: str, full_only: bool, capture: Capture, ticket: str) -> str:
    """Correct a frame (its decode key, or that of merged exposures) into one that is kept like a decoded one."""
    cache = Cache(Path(root))
    return cache.make(corrected_key(base, full_only, capture), lambda folder: _correct(cache, folder, base, full_only, capture, Ticket(ticket)))


def _correct(cache: Cache, folder: Path, base: str, full_only: bool, capture: Capture, ticket: Ticket) -> None:
    frame = pending(cache, open_decoded(cache, base), base, capture)
    correcting = frame.correct(True) if frame.correct else None
    assert correcting is not None
    width, height = frame.size
    peak = frame.peak * correcting.peak
    levels = Levels.create(folder / "codes", width, height, 3, "uint16", full_only)

    def strip(y: int) -> None:
        light = frame.channels(0, (0, y, width, min(STRIP, height - y)))
        levels.write(0, 0, y, np.rint(65535 * np.sqrt(np.clip(light / np.float32(peak), 0, 1))).astype(np.uint16))

    for y in range(0, height, STRIP):
        strip(y)
        ticket.tell(0.05 + 0.85 * y / height)
    if not full_only:
        levels.halve_into_levels()
    facts = json.loads((frame.folder / "frame.json").read_text())
    facts |= {"to_work": frame.encoding.to_work.tolist(), "peak": peak, "linear": False}
    (folder / "profile.icc").write_bytes((frame.folder / "profile.icc").read_bytes())
    (folder / "frame.json").write_text(json.dumps(facts))


def pending(cache: Cache, frame: Decoded, base: str, capture: Capture) -> Decoded:
    """A frame that corrects itself whenever it is read; what has to be measured in it is measured when that is first needed."""
    if not capture.corrects():
        return frame

    @lru_cache(maxsize=2)
    def found(fine: bool) -> Correction | None:
        asked = capture if fine else capture.coarse()
        if not asked.corrects():
            return None
        red, blue = _kept(cache, "fringes", base, lambda: measure_fringes(frame.plain, frame.size)) if asked.fringes == "measured" else (UNMOVED, UNMOVED)
        noise = _kept(cache, "noise", base, lambda: measure_noise(frame.plain, frame.size).tolist()) if asked.needs_noise() else []
        return correction(asked, Measured(tuple(red), tuple(blue), noise), frame.lens or from_database(frame.meta, frame.size), frame.size)

    return replace(frame, capture=capture, correct=found)


def _kept(cache: Cache, what: str, base: str, make: Callable[[], Any]) -> Any:
    """What was measured in a frame, as JSON in the cache."""

    def build(folder: Path) -> None:
        (folder / "measured.json").write_text(json.dumps(make()))

    key = cache.make(key_of(what, 1, base), build)
    return json.loads((cache.path(key) / "measured.json").read_text())


@dataclass(frozen=True, eq=False)
class Decoded:
    """A frame as the cache keeps it; `analysed` is the folder of what was measured, `peak` the
    brightest light it can hold, `correct` what its codes still lack of `capture`, at full size (True)
    or at smaller ones."""

    folder: Path
    analysed: Path
    codes: Levels
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

    def small(self) -> FloatArray:
        """Linear light at a small size, (h, w, 3)."""
        return np.asarray(np.load(self.analysed / "small.npy"))

    def luma(self) -> FloatArray:
        """Square root of luminance for registration, (h, w)."""
        return np.asarray(np.load(self.analysed / "luma.npy"))

    def features(self) -> Features:
        """What the frame is matched by."""
        stored = np.load(self.analysed / "features.npz")
        return Features(stored["points"], stored["descriptors"])

    def fine_noise(self) -> float:
        return float(np.load(self.analysed / "detail.npz")["fine_noise"])

    def detail(self) -> Detail:
        stored = np.load(self.analysed / "detail.npz")
        return Detail(stored["energy"], stored["noise"], float(stored["fine_noise"]), np.empty((0, 0), np.float32), int(stored["level"]), self.octaves())

    def octaves(self) -> Octaves:
        stored = np.load(self.analysed / "octaves.npz")
        return Octaves(stored["energy"], stored["noise"], stored["slopes"])


def open_decoded(cache: Cache, key: str) -> Decoded:
    """The frame of a decode key."""
    folder = cache.path(key)
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
        encoding = _known_encoding(profile) if profile else standard_encoding("srgb")
    meta = dict(facts["meta"])
    meta["taken"] = datetime.fromisoformat(meta["taken"]) if meta["taken"] else None
    meta["position"] = tuple(meta["position"]) if meta.get("position") else None
    shot = Light(*facts["shot"])
    told = facts["lens"]
    lens = LensData(tuple(told["red"]), tuple(told["green"]), tuple(told["blue"]), tuple(told["gain"]), told["source"]) if told else None
    analysed, peak = cache.path(analysis_key(key)), facts.get("peak", 1.0)
    return Decoded(folder, analysed, Levels(folder / "codes"), encoding, Metadata(**meta), facts["raw"], tuple(facts["size"]), shot, facts["small_level"], peak, lens)


def _known_encoding(profile: bytes) -> Encoding:
    for primaries in ("srgb", "rec2020"):
        if profile == standard_encoding(primaries).profile:
            return standard_encoding(primaries)
    return read_profile(profile)


def warm(ticket: str) -> None:
    """Load what the next steps are compiled from, in a worker that has no frame left to read."""
    warm_up()


# ---- register -----------------------------------------------------------------------------------------------


def registration_key(frames: list[str], reference: int) -> str:
    return key_of("register", 5, [analysis_key(f) for f in frames], reference)


def registration(root: str, frames: list[str], reference: int, ticket: str) -> str:
    """Lay frames (decode keys, near to far) on the reference, then measure what differs in brightness and colour."""
    cache = Cache(Path(root))
    return cache.make(registration_key(frames, reference), lambda folder: _register(cache, folder, frames, reference, Ticket(ticket)))


def _register(cache: Cache, folder: Path, keys: list[str], reference: int, ticket: Ticket) -> None:
    frames = [open_decoded(cache, key) for key in keys]
    level = frames[0].detail().level
    found = register(lambda k: frames[k].luma(), [frame.features() for frame in frames], level, reference, lambda share: ticket.tell(0.95 * share))
    small = [frame.small() for frame in frames]
    drifts = measure_drift(small, [scaled_fit(fit, frames[0].small_level) for fit in found.fits], reference)
    area = common_area(found.fits, frames[0].size)
    facts = {
        "reference": reference,
        "fits": [fit.tolist() for fit in found.fits],
        "residual": [r if np.isfinite(r) else None for r in found.residual],
        "warnings": found.warnings,
        "model": found.model,
        "drifts": [asdict(drift) for drift in drifts],
        "area": area,
        "size": frames[0].size,
    }
    (folder / "registration.json").write_text(json.dumps(facts))


@dataclass(frozen=True, eq=False)
class Registered:
    """What `registration` keeps; lists run over the frames given to it."""

    reference: int
    fits: list[NDArray[np.float64]]
    residual: list[float | None]
    warnings: list[str | None]
    model: str
    drifts: list[Drift]
    area: Box
    size: tuple[int, int]


def open_registration(cache: Cache, key: str) -> Registered:
    facts = json.loads((cache.path(key) / "registration.json").read_text())
    fits = [np.array(fit) for fit in facts["fits"]]
    drifts = [Drift(**{**drift, "gain": tuple(drift["gain"])}) for drift in facts["drifts"]]
    return Registered(facts["reference"], fits, facts["residual"], facts["warnings"], facts["model"], drifts, tuple(facts["area"]), tuple(facts["size"]))


# ---- inspection ---------------------------------------------------------------------------------------------


def inspection_key(frames: list[str], registered: str) -> str:
    return key_of("inspection", 5, [analysis_key(f) for f in frames], registered)


def inspection(root: str, frames: list[str], registered: str, ticket: str) -> str:
    """Look for faults of registered frames (decode keys, near to far) and for places where none is sharp."""
    cache = Cache(Path(root))
    return cache.make(inspection_key(frames, registered), lambda folder: _inspect(cache, folder, frames, registered, Ticket(ticket)))


def _inspect(cache: Cache, folder: Path, keys: list[str], registered: str, ticket: Ticket) -> None:
    frames, laid = [open_decoded(cache, key) for key in keys], open_registration(cache, registered)
    ticket.tell(0.1)
    seen = [Seen(frame.octaves(), frame.small(), frame.meta, (frame.shot.kelvin, frame.shot.tint)) for frame in frames]
    fitting = [not (warning and (residual is None or residual > WORST_FIT)) for warning, residual in zip(laid.warnings, laid.residual, strict=True)]
    read = laid_frames(frames, keys, laid, True, [Trim()] * len(frames)).read
    closely = laid_closely(lambda k: frames[k].detail(), laid.fits, [drift.gain[1] for drift in laid.drifts], frames[0].size, lambda k, box: root_luma(read(k, 0, box)))
    found = inspect(seen, laid.fits, [drift.gain for drift in laid.drifts], frames[0].size, fitting, closely, lambda share: ticket.tell(0.3 + 0.7 * share))
    facts = {"verdicts": [asdict(v) for v in found.verdicts], "bands": [asdict(b) for b in found.bands], "covered": found.covered, "block": found.defocus.block}
    (folder / "inspection.json").write_text(json.dumps(facts))
    defocus = found.defocus
    np.savez(folder / "maps.npz", focus=defocus.focus, place=defocus.place, known=defocus.known, soft=found.soft)


def open_inspection(cache: Cache, key: str) -> Inspection:
    folder = cache.path(key)
    facts, maps = json.loads((folder / "inspection.json").read_text()), np.load(folder / "maps.npz")
    verdicts = [Verdict(**{**v, "sharp_rows": tuple(v["sharp_rows"]), "box": tuple(v["box"]) if v["box"] else None}) for v in facts["verdicts"]]
    bands = [SoftBand(**{**b, "box": tuple(b["box"]), "metres": tuple(b["metres"]) if b["metres"] else None}) for b in facts["bands"]]
    return Inspection(verdicts, bands, Defocus(maps["focus"], maps["place"], maps["known"], facts["block"]), maps["soft"], facts["covered"])


# ---- labels -------------------------------------------------------------------------------------------------


def labels_key(frames: list[str], registered: str, quiet: float) -> str:
    return key_of("labels", 3, [analysis_key(f) for f in frames], registered, quiet)


def labels(root: str, frames: list[str], registered: str, quiet: float, ticket: str) -> str:
    """Gates of the frames (all those that were registered) from their detail."""
    cache = Cache(Path(root))
    return cache.make(labels_key(frames, registered, quiet), lambda folder: _labels(cache, folder, frames, registered, quiet, Ticket(ticket)))


def _labels(cache: Cache, folder: Path, keys: list[str], registered: str, quiet: float, ticket: Ticket) -> None:
    frames, laid = [open_decoded(cache, key) for key in keys], open_registration(cache, registered)
    size = frames[0].size
    shape = pooled_shape(size[1], size[0])
    energies, noises, reach = [], [], []
    for k, (frame, fit) in enumerate(zip(frames, laid.fits, strict=True)):
        detail = frame.detail()
        energies.append(lay_on(signal(detail), fit, shape))
        noises.append(detail.noise)
        reach.append(covered(size, fit, shape))
        ticket.tell(0.5 * (k + 1) / len(frames))
    guide = cv2.resize(frames[laid.reference].luma(), shape[::-1], interpolation=cv2.INTER_AREA)
    gates = gates_from(aggregate(costs(energies, noises, reach), guide, quiet), reach)
    ticket.tell(0.95)
    np.save(folder / "gates.npy", gates.astype(np.float16))
    winner = gates.argmax(axis=0)
    texture = np.max([e[0] for e in energies], axis=0) > 4 * max(float(n[0]) for n in noises)
    counts = np.bincount(winner[texture], minlength=len(keys)) / max(1, int(texture.sum()))
    rows = [np.asarray(((winner == k) & texture).sum(axis=1)) / np.maximum(texture.sum(axis=1), 1) for k in range(len(keys))]
    np.savez(folder / "zones.npz", shares=counts, rows=np.array(rows, np.float32))


# ---- weave --------------------------------------------------------------------------------------------------


def laid_frames(frames: list[Decoded], names: list[str], laid: Registered, even_out: bool, trims: Sequence[Trim]) -> Laid:
    """Readers of registered frames from the cache, evened out and trimmed; see Laid."""

    def read(k: int, level: int, box: Box) -> FloatArray:
        frame, fit = frames[k], scaled_fit(laid.fits[k], level)
        drift, trim = laid.drifts[k] if even_out else Drift(), trims[k].gains()
        if k == laid.reference:
            return frame.root(level, box, trim)
        part = source_box(box, fit, frame.codes.sizes[level])
        root = frame.root(level, part, (drift.gain[0] * trim[0], drift.gain[1] * trim[1], drift.gain[2] * trim[2]))
        if drift.falloff:
            width, height = frame.codes.sizes[level]
            root *= np.sqrt(1 + np.float32(drift.falloff) * radius_squared(height, width, part))[..., None]
        return warp(root, fit @ np.array([[1, 0, part[0]], [0, 1, part[1]], [0, 0, 1.0]]), box, repeat_edge=True)

    return Laid(names, laid.reference, frames[0].size, laid.fits, float(np.median([frame.fine_noise() for frame in frames])), read)


def weave_key(frames: list[str], registered: str, labelled: str, weaving: Weaving, even_out: bool, trims: list[Trim], full_only: bool) -> str:
    return key_of("weave", 6, frames, registered, labelled, weaving.model_dump(), even_out, [trim.gains() for trim in trims], full_only)


def weave(root: str, frames: list[str], registered: str, labelled: str, weaving: Weaving, even_out: bool, trims: list[Trim], full_only: bool, ticket: str) -> str:
    """The weave without strokes, at full size (and halved ones), and each frame's share."""
    cache = Cache(Path(root))
    key = weave_key(frames, registered, labelled, weaving, even_out, trims, full_only)

    def build(folder: Path) -> None:
        decoded = [open_decoded(cache, k) for k in frames]
        laid = laid_frames(decoded, frames, open_registration(cache, registered), even_out, trims)
        gates = np.load(cache.path(labelled) / "gates.npy").astype(np.float32)
        _weave(folder, laid, gates, weaving, full_only, Ticket(ticket))

    return cache.make(key, build)


def _weave(folder: Path, laid: Laid, gates: FloatArray, weaving: Weaving, full_only: bool, ticket: Ticket) -> None:
    width, height = laid.size
    levels = Levels.create(folder / "picture", width, height, 3, "float32", full_only)
    totals = np.zeros(len(laid.names))
    # from the bottom up: near to far, as one looks into the picture
    boxes = [(x, y, min(TILE, width - x), min(TILE, height - y)) for y in reversed(range(0, height, TILE)) for x in range(0, width, TILE)]

    def one(box: Box) -> dict[int, float]:
        picture, shares = weave_box(laid, gates, weaving, [], box, 0)
        levels.write(0, box[0], box[1], picture)
        return {k: float(mask.sum(dtype=np.float64)) for k, mask in shares.items()}

    for done, sums in enumerate(side_by_side(one, boxes), 1):
        for k, total in sums.items():
            totals[k] += total
        ticket.tell(0.9 * done / len(boxes))
    if not full_only:
        levels.halve_into_levels()
    (folder / "shares.json").write_text(json.dumps((totals / (width * height)).tolist()))


def apply_strokes(picture: FloatArray, laid: Laid, gates: FloatArray, weaving: Weaving, strokes: list[Stroke], ticket: Ticket) -> None:
    """Weave anew, in place, those tiles of a full-size weave that strokes touch."""
    height, width = picture.shape[:2]
    boxes = [(x, y, min(TILE, width - x), min(TILE, height - y)) for y in range(0, height, TILE) for x in range(0, width, TILE)]
    boxes = [part for part in (touched(strokes, box, 0) for box in boxes) if part]

    def one(box: Box) -> None:
        x, y, w, h = box
        picture[y : y + h, x : x + w] = weave_box(laid, gates, weaving, strokes, box, 0)[0]

    for done, _ in enumerate(side_by_side(one, boxes), 1):
        ticket.tell(0.4 * done / len(boxes))


# ---- finish and deliver -------------------------------------------------------------------------------------


def deliver(root: str, frames: list[str], registered: str, labelled: str, woven: str, recipe: Recipe, out: str, replace: bool, ticket: str) -> str:
    """Strokes, look, finish; write the picture to `out`. Stroke frames are ids, in the order of `recipe.kept()`."""
    cache, tell = Cache(Path(root)), Ticket(ticket)
    tell.tell(0.01)
    decoded, laid = [open_decoded(cache, key) for key in frames], open_registration(cache, registered)
    picture = Levels(cache.path(woven) / "picture").whole(0)
    guided = needs_guide(recipe.look)
    gates = np.load(cache.path(labelled) / "gates.npy").astype(np.float32) if recipe.strokes or guided else np.empty(0, np.float32)
    size, box = (picture.shape[1], picture.shape[0]), (0, 0, picture.shape[1], picture.shape[0])
    guide = guide_of(picture, size, distances_of(gates, [frame.meta.focus_m for frame in decoded])) if guided else None
    if recipe.strokes:
        readers = laid_frames(decoded, [f.id for f in recipe.kept()], laid, recipe.even_out, [f.trim for f in recipe.kept()])
        apply_strokes(picture, readers, gates, recipe.weaving, recipe.strokes, tell)
    if recipe.canvas == "common":
        x, y, w, h = box = laid.area
        picture = np.ascontiguousarray(picture[y : y + h, x : x + w])
    tell.tell(0.5)
    source = decoded[laid.reference]
    target = output_encoding(source, recipe)
    # colours are drawn into what the target can hold, then carried in the widest primaries to be encoded
    picture = develop(picture, recipe.look, source.shot, "rec2020", Site(size, 0, box, guide), np.asarray(np.linalg.inv(target.to_work), np.float64))
    tell.tell(0.65)
    picture = finish(picture, recipe.finish, recipe.delivery.long_edge)
    codes = to_codes(picture, target)
    del picture
    tell.tell(0.8)
    write_picture(Path(out), codes, target.profile, source.meta, int(recipe.delivery.quality), replace)
    tell.tell(1.0)
    return out


def output_encoding(source: Decoded, recipe: Recipe) -> Encoding:
    """What the result is written in: the input's own encoding (sRGB for raw), or the one chosen."""
    if recipe.delivery.profile != "input":
        return standard_encoding(recipe.delivery.profile)
    # frames that were corrected or merged are kept in an encoding of our own: what the file said is kept beside it
    profile = (source.folder / "profile.icc").read_bytes()
    return standard_encoding("srgb") if source.raw or not profile else _known_encoding(profile)

