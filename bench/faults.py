"""Scenes with faults put in on purpose, by the hundred: what `inspect` finds of them is counted against truth."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from functools import cache
from typing import Any

import cv2
import numpy as np

from bench.cards import noisy
from eaveplane.core.even.drift import measure_drift
from eaveplane.core.gather.consequence import laid_closely
from eaveplane.core.gather.detail import measure_detail
from eaveplane.core.gather.inspect import Inspection, Seen, inspect
from eaveplane.core.gather.order import near_to_far
from eaveplane.core.register.features import find_features
from eaveplane.core.register.register import register
from eaveplane.fieldcam.camera import Camera, Shot, Stage, fit_between
from eaveplane.fieldcam.landscapes import LANDSCAPES
from eaveplane.fieldcam.lens import Lens
from eaveplane.imaging.colour import FloatArray, luminance
from eaveplane.imaging.exif import Metadata
from eaveplane.imaging.placement import Placement
from eaveplane.imaging.resample import halve

SIZE = (960, 640)
POSITIONS, BEYOND = 6, 2
LENSES = (17.0, 30.0)
FAULTS = ("none", "shaken", "overshot", "redundant", "settings", "intruder", "gap")
NEAREST = 0.6


@dataclass(frozen=True)
class Scene:
    """A composition from near to far and past infinity, as the lens drew it, with what is true of it: place of every
    pixel of frame 0 on the line of blur radii, focus of the frames on it."""

    lights: list[FloatArray]
    shots: list[Shot]
    camera: Camera
    place: FloatArray
    focus: np.ndarray


@cache
def scene(landscape: str, focal_mm: float, blades: int, size: tuple[int, int] = SIZE) -> Scene:
    """A bracket of a landscape in frames of a size, as much blurred in pixels whatever it is."""
    camera = Camera(*size, Lens(focal_mm, 2.0 * (focal_mm / 24) ** 2 * size[0] / SIZE[0], breathing=0.02, blades=blades, cats_eye=0.3 if blades else 0.0, rim=0.2 if blades else 0.0))
    rng = np.random.default_rng(len(landscape) + int(focal_mm) + blades)
    dioptres = np.concatenate([np.linspace(1 / NEAREST, 0, POSITIONS), -np.arange(1, BEYOND + 1) * 0.35])
    shots = [Shot(1 / d if abs(d) > 1e-9 else math.inf, tuple(rng.normal(0, 0.8, 2)), float(rng.normal(0, 0.05)), gust=tuple(rng.normal(0, 0.15, 2))) for d in dioptres]
    stage = Stage(LANDSCAPES[landscape], camera, shots)
    drawn = [stage.picture(s) for s in shots]
    _, distance = stage.picture(shots[0], sharp=True)
    scale = camera.lens.radius_per_dioptre(0.0, camera.long_side)
    return Scene([light for light, _ in drawn], shots, camera, (-scale / np.maximum(distance, 1e-6)).astype(np.float32), -scale * dioptres)


@dataclass
class Case:
    """Frames with a fault: `truth` is the flaw of each, None for a good one; `gap` whether a step is missing."""

    frames: list[FloatArray]
    shots: list[Shot]
    kept: list[int]
    truth: list[str | None]
    camera: Camera
    fault: str
    source: Scene
    metas: list[Metadata] = field(default_factory=list)


def spoil(rng: np.random.Generator, source: Scene, fault: str, told: bool) -> Case:
    """A set from near to infinity with one fault; `told` writes distances into the metadata."""
    numbers = list(range(POSITIONS))
    if fault == "overshot":
        numbers += list(range(POSITIONS, POSITIONS + int(rng.integers(1, BEYOND + 1))))
    if fault == "gap":
        at = int(rng.integers(1, POSITIONS - 3))
        numbers = [k for k in numbers if not at <= k < at + 3]
    lights = [source.lights[k] for k in numbers]
    truth: list[str | None] = ["overshot" if k >= POSITIONS else None for k in numbers]
    evs = [float(rng.normal(0, 0.05)) for _ in numbers]
    victim = int(rng.integers(1, len(numbers) - 1))
    if fault == "shaken":
        angle, length = rng.uniform(0, np.pi), rng.uniform(4.5, 9)
        lights[victim] = shaken(lights[victim], length * math.cos(angle), length * math.sin(angle))
        truth[victim] = "shaken"
    if fault == "redundant":
        numbers.insert(victim, numbers[victim])
        lights.insert(victim, lights[victim])
        truth.insert(victim, "redundant")
        evs.insert(victim, 0.0)
    if fault == "settings":
        evs[victim] = float(rng.choice([-1, 1]) * rng.uniform(0.8, 1.5))
        truth[victim] = "settings"
    if fault == "intruder":
        lights[victim] = with_intruder(lights[victim], rng)
        truth[victim] = "intruder"
    frames = [noisy(light, ev - 0.3, rng) for light, ev in zip(lights, evs, strict=True)]
    metas = [Metadata(focus_m=max(source.shots[k].focus_m, 0) if k < POSITIONS and told else math.inf if told else None) for k in numbers]
    return Case(frames, [source.shots[k] for k in numbers], numbers, truth, source.camera, fault, source, metas)


def shaken(light: FloatArray, dx: float, dy: float) -> FloatArray:
    reach = math.ceil(max(abs(dx), abs(dy)) / 2) + 1
    kernel = np.zeros((2 * reach + 1, 2 * reach + 1), np.float32)
    for t in np.linspace(-0.5, 0.5, 200):
        kernel[round(reach + t * dy), round(reach + t * dx)] += 1
    return np.asarray(cv2.filter2D(light, -1, kernel / kernel.sum(), borderType=cv2.BORDER_REPLICATE), np.float32)


def with_intruder(light: FloatArray, rng: np.random.Generator) -> FloatArray:
    """A bird before the sky or a walker on the ground, dark or bright, a little soft."""
    height, width = light.shape[:2]
    mask = np.zeros((height, width), np.float32)
    size = rng.uniform(0.03, 0.08) * height
    x = rng.uniform(0.15, 0.85) * width
    if rng.uniform() < 0.5:
        y = rng.uniform(0.08, 0.25) * height
        for side in (-1, 1):
            wing = np.array([[x, y], [x + side * size, y - 0.5 * size], [x + side * 1.5 * size, y], [x + side * 0.8 * size, y - 0.1 * size]])
            cv2.fillPoly(mask, [wing.astype(np.int32)], 1.0)
        cv2.ellipse(mask, (int(x), int(y)), (max(2, int(0.25 * size)), max(2, int(0.4 * size))), 0, 0, 360, 1.0, -1)
    else:
        y = rng.uniform(0.45, 0.7) * height
        cv2.ellipse(mask, (int(x), int(y)), (max(3, int(0.5 * size)), max(4, int(1.4 * size))), 0, 0, 360, 1.0, -1)
        cv2.circle(mask, (int(x), int(y - 1.8 * size)), max(2, int(0.4 * size)), 1.0, -1)
    mask = cv2.GaussianBlur(mask, (0, 0), 1.2)[..., None]
    around = float(np.median(light))
    colour = np.array(around * np.array([0.12, 0.12, 0.16]) if rng.uniform() < 0.7 else around * np.array([3.2, 1.2, 0.5]), np.float32)
    return np.asarray(light * (1 - mask) + colour * mask, np.float32)


def look(case: Case) -> tuple[Inspection, list[int]]:
    """Register and inspect a case as the program does; also the order (indices of the case's frames, near to far)."""
    details = [measure_detail(np.sqrt(np.maximum(luminance(f), 0)).astype(np.float32)) for f in case.frames]
    order = near_to_far([d.octaves for d in details])
    if all(m.focus_m is not None for m in case.metas):
        order = sorted(range(len(order)), key=lambda i: (case.metas[i].focus_m or 0.0, order.index(i)))
    frames, details = [case.frames[i] for i in order], [details[i] for i in order]
    reference = len(frames) // 2
    found = register(lambda k: details[k].luma, [find_features(d.luma) for d in details], details[0].level, reference)
    small = [halve(np.ascontiguousarray(f)) for f in frames]
    placements = [Placement(fit, (frames[0].shape[1], frames[0].shape[0])) for fit in found.fits]
    gains = [d.gain for d in measure_drift(small, [placement.at(1) for placement in placements], reference)]
    seen = [Seen(d.octaves, s, case.metas[i], (6504.0, 0.0)) for d, s, i in zip(details, small, order, strict=True)]
    fitting = [not (told.said and (told.residual is None or told.residual > 4.0)) for told in found.trusted]
    roots = [np.sqrt(np.maximum(luminance(f), 0)).astype(np.float32) for f in frames]
    closely = laid_closely(lambda k: details[k], placements, [g[1] for g in gains], lambda k, box: placements[k].lay(roots[k] * np.float32(math.sqrt(gains[k][1])), box))
    return inspect(seen, placements, gains, fitting, closely), order


def idle(case: Case) -> set[int]:
    """Frames in which truly next to nothing is sharpest: to call them overshot is no accusation."""
    unique = sorted(set(case.kept))
    radius = np.abs(case.source.place[None] - case.source.focus[unique][:, None, None])
    counts = np.bincount(radius.argmin(axis=0).ravel(), minlength=len(unique)) / radius[0].size
    few = {unique[i] for i, share in enumerate(counts) if share < 0.02}
    return {i for i, k in enumerate(case.kept) if k in few}


def true_gap(case: Case) -> float:
    """Part of the height of the tallest band in which no frame is sharper than 2 px, and that is wide."""
    radius = np.abs(case.source.place[None] - case.source.focus[case.kept][:, None, None]).min(axis=0)
    rows = (radius > 2.0).mean(axis=1) > 0.3
    return float(rows.sum()) / len(rows)


def count(seeds: range, told: bool, places: list[tuple[str, float, int]]) -> dict[str, Any]:
    """What is found and who is accused, over many cases."""
    tally: dict[str, Any] = {"found": {}, "accused": 0, "good": 0, "order": [0, 0], "gaps": [0, 0], "false gaps": [0, 0], "blur": [0, 0], "cases": 0, "wrong": []}
    for seed in seeds:
        rng = np.random.default_rng(seed)
        case = spoil(rng, scene(*places[seed % len(places)]), FAULTS[seed % len(FAULTS)], told)
        found, order = look(case)
        excused = idle(case)
        tally["cases"] += 1
        twins = {k for k in case.kept if case.kept.count(k) > 1}
        flaws = {order[k]: v.flaw for k, v in enumerate(found.verdicts)}
        for i, truth in enumerate(case.truth):
            if truth == "redundant":
                continue
            if truth is None and case.kept[i] not in twins:
                if i in excused:
                    continue
                tally["good"] += 1
                if flaws[i]:
                    tally["accused"] += 1
                    tally["wrong"].append((seed, case.fault, i, flaws[i]))
            elif truth:
                right, of = tally["found"].get(truth, (0, 0))
                caught = flaws[i] == truth or (truth == "overshot" and flaws[i] in ("redundant", "shaken"))
                tally["found"][truth] = (right + caught, of + 1)
                if not caught:
                    tally["wrong"].append((seed, case.fault, i, f"missed, {flaws[i]}"))
        if twins and not all(i in excused for i, k in enumerate(case.kept) if k in twins):
            right, of = tally["found"].get("redundant", (0, 0))
            caught = any(flaws[i] == "redundant" for i, k in enumerate(case.kept) if k in twins)
            tally["found"]["redundant"] = (right + caught, of + 1)
            if not caught:
                tally["wrong"].append((seed, case.fault, "twins", flaws))
        if not told:
            inner = [i for i in order if case.truth[i] is None and i not in excused]
            true = sorted(inner, key=lambda i: case.source.focus[case.kept[i]])
            tally["order"][0] += sum(case.kept[a] == case.kept[b] for a, b in zip(inner, true, strict=True))
            tally["order"][1] += len(inner)
        height = true_gap(case)
        if height > 0.03:
            tally["gaps"][0] += bool(found.bands)
            tally["gaps"][1] += 1
            if not found.bands:
                tally["wrong"].append((seed, case.fault, "gap missed", round(height, 3)))
        elif case.fault not in ("gap", "shaken") and height < 0.01:
            tally["false gaps"][0] += bool(found.bands)
            tally["false gaps"][1] += 1
            if found.bands:
                tally["wrong"].append((seed, case.fault, "false gap", found.bands[0].told()))
        if case.fault in ("none", "gap"):
            within, of = blur_within(case, found, order)
            tally["blur"][0] += within
            tally["blur"][1] += of
    return tally


def blur_within(case: Case, found: Inspection, order: list[int]) -> tuple[int, int]:
    """Blocks of known blur, of discs up to 8 px, in all frames: how many are within a quarter or 0.4 px of truth."""
    defocus = found.defocus
    h, w = defocus.place.shape
    reference = order[len(order) // 2]
    # truth is told in frame 0's grid; a tripod gives by a pixel, blocks are sixteen
    fit = fit_between(case.camera, case.source.shots[0], case.shots[reference])
    place = cv2.warpPerspective(case.source.place, fit, case.source.place.shape[::-1], borderMode=cv2.BORDER_REPLICATE)
    blocks = cv2.resize(place, (w, h), interpolation=cv2.INTER_AREA)
    spread = cv2.dilate(blocks, np.ones((3, 3))) - cv2.erode(blocks, np.ones((3, 3)))
    use = defocus.known & (spread < 1.0)
    within = of = 0
    for k, i in enumerate(order):
        true = np.abs(blocks - case.source.focus[case.kept[i]])
        here = use & (true < 8)
        off = np.abs(defocus.radius(k) - true)
        within += int(((off < 0.4) | (off < 0.25 * true))[here].sum())
        of += int(here.sum())
    return within, of


def main() -> None:
    places = [(name, focal, blades) for name in LANDSCAPES for focal, blades in ((17.0, 0), (30.0, 7))]
    for told in (True, False):
        found = count(range(112), told, places)
        print("with distances" if told else "pictures alone", {k: v for k, v in found.items() if k != "wrong"}, flush=True)
        for line in found["wrong"]:
            print("   ", line)


if __name__ == "__main__":
    main()
