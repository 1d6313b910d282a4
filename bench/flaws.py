"""How many flaws are found that were put into weaves, and how many reports are true.

`python -m bench.flaws 400 401 …` makes layered stacks by seed in .bench/flaws/ once, weaves them, spoils what is woven in four ways, and
prints the table: sharp zones given to a wrong frame, a frame of wrong exposure, dust on a frame, and nothing (where every report is a false one).
What findings go by was looked at on other seeds (300 to 360).
"""

from __future__ import annotations

import sys
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path

import cv2
import numpy as np

from bench import run
from bench.layered import kept
from bench.ways import by_seed
from eaveplane.core.gather.detail import measure_detail, signal
from eaveplane.core.mend.flaws.examine import examined, flaws_in
from eaveplane.core.mend.flaws.finding import Finding
from eaveplane.core.weave.laid import RegisteredFrames, Weaving
from eaveplane.core.weave.weave import found_in
from eaveplane.imaging.colour import FloatArray
from eaveplane.imaging.light import root_luma
from eaveplane.imaging.pyramid import Box
from eaveplane.pipeline import headless, scene
from eaveplane.pipeline.cache import Cache
from eaveplane.pipeline.runner import Runner
from eaveplane.pipeline.steps import open_flaws, open_frame, open_labels, open_weave
from eaveplane.pipeline.steps.weave import found_frames
from eaveplane.recipe import Recipe

SEEDS = range(400, 412)
NEAR = 12
"""Pixels by which a report may lie beside a flaw."""
SEEN = 0.02
"""Root light by which a flaw must change what is seen to count."""


@dataclass(frozen=True, eq=False)
class Scene:
    """A stack, registered, with the label weights found for it and its registered frames (h, w, 3)."""

    laid: RegisteredFrames
    gates: FloatArray
    frames: list[FloatArray]

    def woven(self, gates: FloatArray, frames: list[FloatArray]) -> FloatArray:
        """The weave by crisp seams, in which choices show."""
        laid = replace(self.laid, read=lambda k, level, box: np.ascontiguousarray(frames[k][box[1] : box[1] + box[3], box[0] : box[0] + box[2]]))
        return found_in(laid, gates, Weaving(way="crisp-seams"), (0, 0, *laid.size), 0)[0]

    def found(self, picture: FloatArray, gates: FloatArray, frames: list[FloatArray]) -> list[Finding]:
        laid = replace(self.laid, read=lambda k, level, box: frames[k][box[1] : box[1] + box[3], box[0] : box[0] + box[2]])
        contrasts = np.stack([np.sqrt(signal(measure_detail(root_luma(frame)))) for frame in frames]).astype(np.float16)
        seen, luma = examined(laid, gates, contrasts, lambda box: picture[box[1] : box[1] + box[3], box[0] : box[0] + box[2]], only_full_size=True)
        return flaws_in(seen, luma, laid.placements)


def planned(seed: int, woven: bool) -> tuple[Cache, scene.Plan]:
    """A stack by seed, registered and labelled as `stack` does it, and `woven`."""
    home = run.HERE / "flaws"
    paths, true = kept(f"seed_{seed}", by_seed(seed), home / "sets")
    cache = Cache(home / "cache")
    with ThreadPoolExecutor(2) as pool:
        runner = Runner(pool, home / "tickets", lambda what, share: None)
        asked = headless.Stack(tuple(paths), Path("none.tif"), "auto", str(true["reference"]), False, Recipe(), False, False)
        read = headless.read_frames(asked.frames, cache, runner, False, asked.recipe)
        recipe, steps = headless.recipe_for(asked, read, open_frame(cache, next(iter(read.steps.values()))), cache, runner)
        plan = scene.plan(recipe, steps, {})
        assert plan is not None
        scene.register(cache, plan, runner)
        scene.label(cache, plan, runner)
        if woven:
            scene.weave(cache, plan, runner)
    return cache, plan


def scene_of(seed: int) -> Scene:
    """A stack by seed, registered and labelled as `stack` does it."""
    cache, plan = planned(seed, False)
    laid = found_frames(cache, plan.woven)
    return Scene(laid, open_labels(cache, plan.labelled.key), [laid.read(k, 0, (0, 0, *laid.size)) for k in range(len(laid.names))])


def as_delivered(seed: int) -> tuple[FloatArray, list[Finding]]:
    """The weave of a stack by seed as `stack` makes it, veils lifted, and what is found in it."""
    cache, plan = planned(seed, True)
    picture = open_weave(cache, plan.result.key)
    return np.ascontiguousarray(picture.read(0, (0, 0, *picture.sizes[0]))), open_flaws(cache, plan.flaws.key)


def wrong_labels(of: Scene, plain: FloatArray, rng: np.random.Generator) -> Iterator[tuple[list[Finding], list[Box], list[Box], FloatArray, FloatArray]]:
    """Reports, flaws that are seen and all flaws, picture and labels, of weaves in which four places are given to a frame two steps away, or as far as there is one."""
    count, height, width = of.gates.shape
    for _ in range(3):
        gates, put = of.gates.copy(), []
        for _ in range(4):
            r = int(rng.integers(8, 22))
            x, y = int(rng.integers(r, width - r)), int(rng.integers(r, height - r))
            mask = np.zeros((height, width), np.uint8)
            cv2.ellipse(mask, (x, y), (r, int(r * rng.uniform(0.5, 1))), float(rng.uniform(0, 180)), 0, 360, 1, -1)
            owner = int(np.bincount(of.gates.argmax(axis=0)[mask > 0], minlength=count).argmax())
            away = np.abs(np.arange(count) - owner)
            wrong = int(rng.choice(np.flatnonzero(away >= min(2, away.max()))))
            gates[:, mask > 0] = 0
            gates[wrong, mask > 0] = 1
            put.append((mask, ((x - r) * 4, (y - r) * 4, 8 * r, 8 * r)))
        picture = of.woven(gates, of.frames)
        change = np.sqrt(cv2.GaussianBlur(np.square(root_luma(picture) - root_luma(plain)), (0, 0), 4))
        seen = [box for mask, box in put if np.percentile(change[cv2.resize(mask, change.shape[::-1], interpolation=cv2.INTER_NEAREST) > 0], 80) > SEEN]
        yield of.found(picture, gates, of.frames), seen, [box for _, box in put], picture, gates


def wrong_light(of: Scene, rng: np.random.Generator) -> Iterator[tuple[list[Finding], int, FloatArray, list[FloatArray]]]:
    """Reports of weaves in which one frame is 4 to 12 % too bright or too dark, which, picture and frames."""
    owner = of.gates.argmax(axis=0)
    for _ in range(2):
        k = int(rng.integers(len(of.frames)))
        gain = np.float32(1 + rng.choice([-1, 1]) * rng.uniform(0.02, 0.06))
        if (owner == k).mean() > 0.03:
            frames = [f * gain if i == k else f for i, f in enumerate(of.frames)]
            picture = of.woven(of.gates, frames)
            yield of.found(picture, of.gates, frames), k, picture, frames


def dust(of: Scene, plain: FloatArray, rng: np.random.Generator) -> tuple[list[Finding], list[Box], FloatArray, list[FloatArray]]:
    """Reports of a weave of which one frame has spots, where, picture and frames."""
    luma = root_luma(plain)
    height, width = luma.shape
    busy = np.sqrt(cv2.GaussianBlur(np.square(luma - cv2.GaussianBlur(luma, (0, 0), 8)), (0, 0), 10))
    k = int(np.bincount(of.gates.argmax(axis=0).ravel()).argmax())
    own = cv2.erode(cv2.resize((of.gates.argmax(axis=0) == k).astype(np.uint8), (width, height), interpolation=cv2.INTER_NEAREST), np.ones((41, 41), np.uint8))
    own[:40], own[-40:], own[:, :40], own[:, -40:] = 0, 0, 0, 0
    ys, xs = np.nonzero(own)
    frames, put = [f.copy() for f in of.frames], []
    down, across = np.mgrid[:height, :width].astype(np.float32)
    for i in rng.permutation(len(ys))[:2000]:
        x, y, r = int(xs[i]), int(ys[i]), float(rng.uniform(2, 5))
        dark = float(rng.uniform(0.15, 0.5)) * luma[y, x]
        # on busy ground nobody sees a spot
        if len(put) < 6 and dark > 5 * busy[y, x] and all(np.hypot(x - b[0], y - b[1]) > 80 for b in put):
            frames[k] -= (dark * np.exp(-((across - x) ** 2 + (down - y) ** 2) / (2 * r * r)))[..., None]
            put.append((x - 3, y - 3, 6, 6))
    picture = of.woven(of.gates, frames)
    return of.found(picture, of.gates, frames), put, picture, frames


def meets(one: Box, other: Box) -> bool:
    return one[0] - NEAR < other[0] + other[2] and other[0] - NEAR < one[0] + one[2] and one[1] - NEAR < other[1] + other[3] and other[1] - NEAR < one[1] + one[3]


def section(seeds: list[int] | None = None) -> list[str]:
    """The table, as lines."""
    cv2.setNumThreads(2)
    put, hit, reports, true, pixels = Counter[str](), Counter[str](), Counter[str](), Counter[str](), 0
    unprovoked: list[str] = []
    for seed in seeds or SEEDS:
        of, rng = scene_of(seed), np.random.default_rng([seed, 17])
        plain = of.woven(of.gates, of.frames)
        already = of.found(plain, of.gates, of.frames)
        pixels += plain.shape[0] * plain.shape[1]
        unprovoked += [f"{seed}: {f.kind} at {f.box}, severity {f.severity:.2f}" for f in already]

        def tally(what: str, found: list[Finding], wanted: list[Box], all_put: list[Box], old: list[Finding] = already) -> None:
            put[what] += len(wanted)
            hit[what] += sum(any(meets(box, f.box) for f in found) for box in wanted)
            new = [f for f in found if not any(meets(f.box, o.box) for o in old)]
            reports[what] += len(new)
            true[what] += sum(any(meets(box, f.box) for box in all_put) for f in new)

        for found, seen, every, _, _ in wrong_labels(of, plain, rng):
            tally("zones given to a wrong frame", found, seen, every)
        for found, k, _, _ in wrong_light(of, rng):
            steps = [f.box for f in found if f.kind == "seam" and k in f.frames]
            put["a frame of wrong exposure"] += 1
            hit["a frame of wrong exposure"] += bool(steps)
            tally("a frame of wrong exposure", found, [], steps)
        found, spots, _, _ = dust(of, plain, rng)
        tally("dust on one frame", found, spots, spots)
        print(seed, by_seed(seed).things, dict(put), dict(hit), dict(reports), dict(true), len(unprovoked), flush=True)
    lines = ["Flaws put into layered stacks by seed (`python -m bench.flaws`), woven by crisp seams:", "", "| what was put in | flaws | found | reports | true |", "|---|---|---|---|---|"]
    for what in put:
        lines.append(f"| {what} | {put[what]} | {hit[what]} ({100 * hit[what] / max(1, put[what]):.0f} %) | {reports[what]} | {true[what]} ({100 * true[what] / max(1, reports[what]):.0f} %) |")
    return [*lines, "", f"Nothing put in: {len(unprovoked)} reports in {pixels / 1e6:.1f} megapixels. {'; '.join(unprovoked)}"]


if __name__ == "__main__":
    print("\n".join(section([int(s) for s in sys.argv[1:]])))
