"""Looking at the frames of a scene before anything is blended: order, blur, faults, soft bands."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ...imaging.colour import FloatArray
from ...imaging.exif import Metadata
from ...imaging.placement import Placement
from ...imaging.resample import halve
from . import verdicts
from .consequence import Closely, losses
from .coverage import SHARP, SOFT, SoftBand, soft_bands, soft_map
from .defocus import CLEAR, Defocus, find_defocus
from .focus import coarser, first_guess, halvings_of, laid, reach_of
from .octaves import BLOCK, Octaves
from .shake import shake_of
from .verdicts import Verdict

MOST_ACROSS = 420


@dataclass(frozen=True, eq=False)
class Seen:
    """What is known of a frame: its octaves, a small linear rendition (h, w, 3), what its file says, light as shot."""

    octaves: Octaves
    small: FloatArray
    meta: Metadata
    shot: tuple[float, float]


@dataclass(frozen=True, eq=False)
class Inspection:
    """Lists run over the frames given, near to far. `soft` (h, w): radius of the smallest disc on the reference frame's
    blocks, nan where nothing can be told; `covered`: part of the textured picture in which that is small enough."""

    verdicts: list[Verdict]
    bands: list[SoftBand]
    defocus: Defocus
    soft: FloatArray
    covered: float


def _needed(defocus: Defocus, frame: int, good: list[int], zone: NDArray[np.bool_]) -> bool:
    """Whether places would be soft without a frame."""
    others = [k for k in good if k != frame]
    if frame not in good or not others or not zone.any():
        return False
    return float(np.percentile(defocus.least(others)[zone], 90)) > SOFT


def inspect(
    frames: Sequence[Seen],
    placements: Sequence[Placement],
    gains: Sequence[tuple[float, float, float]],
    fitting: Sequence[bool],
    closely: Closely,
    heard: Callable[[float], None] = lambda share: None,
) -> Inspection:
    """Look at frames in order from near to far, registered: `placements` and `gains` take them to the reference;
    `fitting` tells whose placement can be trusted. What blocks propose is proven `closely` before it is said."""
    count, size = len(frames), placements[0].size
    halvings = halvings_of(frames[0].octaves)
    block = BLOCK << halvings

    def on_reference(maps: Sequence[FloatArray]) -> list[FloatArray]:
        return [laid(coarser(m, halvings), placement, block) for m, placement in zip(maps, placements, strict=True)]

    # brightness must not pass for sharpness
    octaves = [f.octaves.lit(gain[1]) for f, gain in zip(frames, gains, strict=True)]
    energies, noises, slopes = (on_reference(maps) for maps in ([o.energy for o in octaves], [o.noise for o in octaves], [o.slopes for o in octaves]))
    shape = energies[0].shape[1:]
    reach = [reach_of(placement, shape, block) for placement in placements]
    clear = [(e[1] > 2 * CLEAR * n[1]) & r for e, n, r in zip(energies, noises, reach, strict=True)]
    sharpest = np.max([e[1] - CLEAR**2 * n[1] for e, n in zip(energies, noises, strict=True)], axis=0)
    known = (sharpest > 0) & np.all(reach, axis=0)
    leads = verdicts.Leads(energies, noises, known)
    trusted = [k for k in range(count) if fitting[k]]
    lean, best = verdicts.leans(slopes, clear), [leads.best(k, trusted) for k in range(count)]
    idle = verdicts.nowhere(best)
    shaky: dict[int, str] = {}
    swept: dict[int, FloatArray] = {}
    for k in trusted:
        if verdicts.suspect(lean[k]) or k in idle:
            shake = shake_of(k, sorted((j for j in trusted if j != k), key=lambda j, k=k: abs(j - k))[:4], closely.luma, size, float(closely.noise[k, 0]))  # type: ignore[misc]
            if shake is not None and shake.believed():
                shaky[k], swept[k] = verdicts.shaken(shake), shake.kernel()
    steady = [k for k in trusted if k not in shaky]
    steady = steady if len(steady) > 1 else list(range(count))
    beyond = verdicts.at_the_ends(leads, steady)
    dioptres = np.array([math.nan if f.meta.focus_m is None else 0.0 if math.isinf(f.meta.focus_m) else -1 / f.meta.focus_m for f in frames])
    start, to_scale = first_guess(dioptres, set(beyond), verdicts.unlike(energies, noises, known))
    defocus = find_defocus(energies, noises, reach, block, start, to_scale, steady)
    settings = verdicts.other_settings([f.meta for f in frames], [f.shot for f in frames], gains) if count > 2 else {}
    strange = _intruders(frames, placements, gains, defocus, steady)
    past = verdicts.outside(defocus, beyond)
    apart = set(settings) | set(strange)
    # a frame that may have to go makes no other one redundant
    spare = verdicts.redundant(defocus, [k for k in steady if k not in past and k not in apart], [leads.best(k, steady) for k in range(count)])
    spare = {k: verdicts.IDLE for k in steady if k in idle and k not in apart and k not in past} | spare
    # what blocks propose, the picture itself has to bear out, all of it together
    asked = [k for k in range(count) if fitting[k] and (k in shaky or k in past or k in apart or k in spare)]
    kept = [k for k in trusted if k not in asked]
    found = losses(closely, asked, kept, {k: box for k, (_, box) in strange.items()}, swept, heard)
    # once as bright as the others a frame of other settings does no harm: where it is a little sharper, it stays
    ahead = {k for k in asked if k in settings and leads.best(k, kept) > verdicts.OWN}
    past, spare = verdicts.borne_out(past, spare, steady, set(found))
    good = [k for k in steady if k not in past]
    bands = soft_bands(defocus, [k for k in good if k not in spare], size, dioptres)
    told_of_frames = []
    for k in range(count):
        zone = verdicts.zone_of(defocus, k, good if k in good else [*good, k])
        blur = float(np.median(defocus.radius(k)[zone])) if zone.any() else 0.0
        share = float(zone.sum()) / max(1, int(defocus.known.sum()))
        flaw: verdicts.Flaw | None = None
        told, box = "", None
        if k in shaky or k in past:
            blur, share = verdicts.blur_beside(leads.best(k, steady), 0.3), 0.0
        if k in shaky:
            flaw, told = "shaken", shaky[k]
        elif not fitting[k]:
            flaw, told = "shaken", "It cannot be laid on the other frames."
        elif k in past:
            flaw, told = "overshot", verdicts.OVERSHOT
        elif k in settings:
            flaw, told = "settings", settings[k]
        elif k in strange:
            flaw, (told, box) = "intruder", strange[k]
        elif k in spare:
            flaw, told = "redundant", spare[k]
        needed = k in found or k in ahead or (not fitting[k] and _needed(defocus, k, good, zone))
        rows = verdicts.rows_of(zone, block, size[1]) if share else (0.0, 0.0)
        told_of_frames.append(Verdict(flaw, verdicts.but(told, found.get(k)) if flaw and needed else told, round(share, 4), rows, round(blur, 2), needed, box))
    soft = soft_map(defocus, good)
    told_of = np.isfinite(soft)
    covered = 1.0
    if told_of.any():
        inside = np.zeros(soft.shape, bool)
        for band in bands:
            x, y, w, h = (v // block for v in band.box)
            inside[y : y + h + 1, x : x + w + 1] = True
        covered = 1.0 - float((inside & told_of & (np.nan_to_num(soft) > SHARP)).sum()) / float(told_of.sum())
    return Inspection(told_of_frames, bands, defocus, soft, round(covered, 4))


def _intruders(
    frames: Sequence[Seen], placements: Sequence[Placement], gains: Sequence[tuple[float, float, float]], defocus: Defocus, steady: list[int]
) -> dict[int, tuple[str, tuple[int, int, int, int]]]:
    """Things in one of the steady frames alone, by frame."""
    small = [f.small for f in frames]
    while small[0].shape[1] > MOST_ACROSS:
        small = [halve(np.ascontiguousarray(s)) for s in small]
    height, width = small[0].shape[:2]
    scale = placements[0].size[0] / width
    pictures, reach, blur = [], [], []
    for k in steady:
        placement = placements[k].in_cells(scale, (width, height))
        evened = small[k] * np.array(gains[k], np.float32)
        pictures.append(placement.lay_maps(evened, (height, width)))
        reach.append(placement.covers((0, 0, width, height)))
        radius = np.where(defocus.known, defocus.radius(k), np.nan) / np.float32(scale)
        blur.append(radius)
    found = verdicts.intruders(pictures, reach, blur, scale)
    return {steady[i]: told for i, told in found.items()}
