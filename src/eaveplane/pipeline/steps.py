"""The steps of a scene. Each is a function of small values and keys, and keeps its result in the cache.

They run in whatever executor they are submitted to; `root` is the cache's folder and `ticket` a Ticket's path.
"""

from __future__ import annotations

import json
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from ..core.even.drift import measure_gains
from ..core.even.look import Light, develop
from ..core.finish.finish import finish
from ..core.gather.detail import POOL, Detail, measure_detail, pooled_shape, signal
from ..core.gather.octaves import Octaves
from ..core.register.area import common_area
from ..core.register.features import Features, find_features
from ..core.register.register import register
from ..core.weave.labels import aggregate, costs, covered, lay_on
from ..core.weave.strokes import Stroke
from ..core.weave.weave import Laid, Weaving, gates_from, touched, weave_box
from ..imaging.colour import FloatArray
from ..imaging.exif import Metadata
from ..imaging.icc import Encoding, linear_encoding, read_profile, standard_encoding
from ..imaging.levels import Box, Levels
from ..imaging.light import survey, to_codes, to_root
from ..imaging.read import read_picture
from ..imaging.resample import scaled_fit, source_box, warp
from ..imaging.rows import CORES
from ..imaging.write import write_picture
from ..recipe import Recipe
from .cache import Cache, key_of
from .ticket import Ticket
from .warm import warm_up

SMALL_SIDE = 800
TILE = 1024
POOL_LEVEL = POOL.bit_length() - 1


# ---- decode and analyse -------------------------------------------------------------------------------------


def decode_key(sha256: str, full_only: bool) -> str:
    return key_of("decode", 4, sha256, full_only)


def analysis_key(decoded: str) -> str:
    return key_of("analysis", 2, decoded)


def decode(root: str, path: str, sha256: str, full_only: bool, ticket: str) -> str:
    """Read a frame and keep its codes, at full size only or at halved sizes too."""
    key = decode_key(sha256, full_only)
    return Cache(Path(root)).make(key, lambda folder: _decode(folder, Path(path), full_only, Ticket(ticket)))


def _decode(folder: Path, path: Path, full_only: bool, ticket: Ticket) -> None:
    ticket.tell(0.01)
    picture = read_picture(path)
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
        "small_level": max(0, int(np.ceil(np.log2(max(width, height) / SMALL_SIDE)))),
        "meta": {**meta.__dict__, "taken": meta.taken.isoformat() if meta.taken else None},
    }
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


@dataclass(frozen=True, eq=False)
class Decoded:
    """A frame as the cache keeps it; `analysed` is the folder of what was measured."""

    folder: Path
    analysed: Path
    codes: Levels
    encoding: Encoding
    meta: Metadata
    raw: bool
    size: tuple[int, int]
    shot: Light
    small_level: int

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
    encoding = linear_encoding(np.array(facts["to_work"])) if facts["raw"] else _known_encoding(profile) if profile else standard_encoding("srgb")
    meta = dict(facts["meta"])
    meta["taken"] = datetime.fromisoformat(meta["taken"]) if meta["taken"] else None
    shot = Light(*facts["shot"])
    return Decoded(folder, cache.path(analysis_key(key)), Levels(folder / "codes"), encoding, Metadata(**meta), facts["raw"], tuple(facts["size"]), shot, facts["small_level"])


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
    return key_of("register", 2, frames, reference)


def registration(root: str, frames: list[str], reference: int, ticket: str) -> str:
    """Lay frames (decode keys, near to far) on the reference, then measure what differs in brightness and colour."""
    cache = Cache(Path(root))
    return cache.make(registration_key(frames, reference), lambda folder: _register(cache, folder, frames, reference, Ticket(ticket)))


def _register(cache: Cache, folder: Path, keys: list[str], reference: int, ticket: Ticket) -> None:
    frames = [open_decoded(cache, key) for key in keys]
    level = frames[0].detail().level
    found = register(lambda k: frames[k].luma(), [frame.features() for frame in frames], level, reference, lambda share: ticket.tell(0.95 * share))
    small = [frame.small() for frame in frames]
    gains = measure_gains(small, [scaled_fit(fit, frames[0].small_level) for fit in found.fits], reference)
    area = common_area(found.fits, frames[0].size)
    facts = {
        "reference": reference,
        "fits": [fit.tolist() for fit in found.fits],
        "residual": [r if np.isfinite(r) else None for r in found.residual],
        "warnings": found.warnings,
        "model": found.model,
        "gains": gains,
        "area": area,
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
    gains: list[tuple[float, float, float]]
    area: Box


def open_registration(cache: Cache, key: str) -> Registered:
    facts = json.loads((cache.path(key) / "registration.json").read_text())
    fits = [np.array(fit) for fit in facts["fits"]]
    gains = [tuple(gain) for gain in facts["gains"]]
    return Registered(facts["reference"], fits, facts["residual"], facts["warnings"], facts["model"], gains, tuple(facts["area"]))


# ---- labels -------------------------------------------------------------------------------------------------


def labels_key(frames: list[str], registered: str, quiet: float) -> str:
    return key_of("labels", 2, frames, registered, quiet)


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
        energies.append(lay_on(signal(detail), fit, shape, POOL_LEVEL))
        noises.append(detail.noise)
        reach.append(covered(size, fit, shape, POOL_LEVEL))
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


def laid_frames(frames: list[Decoded], names: list[str], laid: Registered, even_out: bool) -> Laid:
    """Readers of registered frames from the cache; see Laid."""

    def read(k: int, level: int, box: Box) -> FloatArray:
        frame, fit = frames[k], scaled_fit(laid.fits[k], level)
        gain = laid.gains[k] if even_out else (1.0, 1.0, 1.0)
        if k == laid.reference:
            return to_root(frame.codes.read(level, box), frame.encoding, gain)
        part = source_box(box, fit, frame.codes.sizes[level])
        root = to_root(frame.codes.read(level, part), frame.encoding, gain)
        return warp(root, fit @ np.array([[1, 0, part[0]], [0, 1, part[1]], [0, 0, 1.0]]), box, repeat_edge=True)

    return Laid(names, laid.reference, frames[0].size, laid.fits, float(np.median([frame.fine_noise() for frame in frames])), read)


def weave_key(frames: list[str], registered: str, labelled: str, weaving: Weaving, even_out: bool, full_only: bool) -> str:
    return key_of("weave", 3, frames, registered, labelled, weaving.model_dump(), even_out, full_only)


def weave(root: str, frames: list[str], registered: str, labelled: str, weaving: Weaving, even_out: bool, full_only: bool, ticket: str) -> str:
    """The weave without strokes, at full size (and halved ones), with masks at a quarter of it and shares."""
    cache = Cache(Path(root))
    key = weave_key(frames, registered, labelled, weaving, even_out, full_only)

    def build(folder: Path) -> None:
        decoded = [open_decoded(cache, k) for k in frames]
        laid = laid_frames(decoded, frames, open_registration(cache, registered), even_out)
        gates = np.load(cache.path(labelled) / "gates.npy").astype(np.float32)
        _weave(folder, laid, gates, weaving, full_only, Ticket(ticket))

    return cache.make(key, build)


def _weave(folder: Path, laid: Laid, gates: FloatArray, weaving: Weaving, full_only: bool, ticket: Ticket) -> None:
    width, height = laid.size
    levels = Levels.create(folder / "picture", width, height, 3, "float32", full_only)
    masks = np.zeros((len(laid.names), -(-height // POOL), -(-width // POOL)), np.uint8)
    totals = np.zeros(len(laid.names))
    # from the bottom up: near to far, as one looks into the picture
    boxes = [(x, y, min(TILE, width - x), min(TILE, height - y)) for y in reversed(range(0, height, TILE)) for x in range(0, width, TILE)]

    def one(box: Box) -> None:
        picture, shares = weave_box(laid, gates, weaving, [], box, 0)
        levels.write(0, box[0], box[1], picture)
        for k, mask in shares.items():
            totals[k] += float(mask.sum(dtype=np.float64))
            quarter = mask[::POOL, ::POOL]
            masks[k, box[1] // POOL : box[1] // POOL + quarter.shape[0], box[0] // POOL : box[0] // POOL + quarter.shape[1]] = np.rint(255 * quarter)

    with ThreadPoolExecutor(CORES) as pool:
        for done, _ in enumerate(pool.map(one, boxes), 1):
            ticket.tell(0.9 * done / len(boxes))
    if not full_only:
        levels.halve_into_levels()
    np.save(folder / "masks.npy", masks)
    (folder / "shares.json").write_text(json.dumps((totals / (width * height)).tolist()))


def apply_strokes(picture: FloatArray, laid: Laid, gates: FloatArray, weaving: Weaving, strokes: list[Stroke], ticket: Ticket) -> None:
    """Weave anew, in place, those tiles of a full-size weave that strokes touch."""
    height, width = picture.shape[:2]
    boxes = [(x, y, min(TILE, width - x), min(TILE, height - y)) for y in range(0, height, TILE) for x in range(0, width, TILE)]
    boxes = [part for part in (touched(strokes, box, 0) for box in boxes) if part]

    def one(box: Box) -> None:
        x, y, w, h = box
        picture[y : y + h, x : x + w] = weave_box(laid, gates, weaving, strokes, box, 0)[0]

    with ThreadPoolExecutor(CORES) as pool:
        for done, _ in enumerate(pool.map(one, boxes), 1):
            ticket.tell(0.4 * done / len(boxes))


# ---- finish and deliver -------------------------------------------------------------------------------------


def deliver(root: str, frames: list[str], registered: str, labelled: str, woven: str, recipe: Recipe, out: str, replace: bool, ticket: str) -> str:
    """Strokes, look, finish; write the picture to `out`. Stroke frames are ids, in the order of `recipe.kept()`."""
    cache, tell = Cache(Path(root)), Ticket(ticket)
    tell.tell(0.01)
    decoded, laid = [open_decoded(cache, key) for key in frames], open_registration(cache, registered)
    picture = Levels(cache.path(woven) / "picture").whole(0)
    if recipe.strokes:
        gates = np.load(cache.path(labelled) / "gates.npy").astype(np.float32)
        readers = laid_frames(decoded, [f.id for f in recipe.kept()], laid, recipe.even_out)
        apply_strokes(picture, readers, gates, recipe.weaving, recipe.strokes, tell)
    if recipe.canvas == "common":
        x, y, w, h = laid.area
        picture = np.ascontiguousarray(picture[y : y + h, x : x + w])
    tell.tell(0.5)
    source = decoded[laid.reference]
    target = output_encoding(source, recipe)
    # developed in the primaries of the widest space in which everything stays, then encoded
    picture = develop(picture, recipe.look, source.shot, "rec2020")
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
    return standard_encoding("srgb") if source.raw else source.encoding

