"""Whether the remedies that are offered for flaws make their places better, against truth.

`python -m bench.remedies 400 401 …` takes the stacks, and the flaws put into them, of `bench.flaws`, and the weave as `stack` makes it, lays the
first remedy that is offered for each finding over it, and prints the table: by how much its box comes nearer to truth. What is offered was
tuned on other seeds (300 to 309, moving ones to 571).
"""

from __future__ import annotations

import sys
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import cv2
import numpy as np

from bench import flaws, run
from bench.layered import kept
from bench.score import depth_edges, fitted, nearest_moment, psnr
from bench.ways import by_seed
from eaveplane.core.masks.strokes import Stroke
from eaveplane.core.mend.flaws.finding import Finding
from eaveplane.core.mend.flaws.judged import offered
from eaveplane.core.mend.flaws.remedies import OTHER_WAYS, Remedy, remedies, strokes_over
from eaveplane.core.mend.heal import around_spot, source_for
from eaveplane.core.mend.moment import moments_at
from eaveplane.core.weave.drawn import Below
from eaveplane.core.weave.laid import RegisteredFrames, Weaving
from eaveplane.core.weave.weave import found_in, repaint
from eaveplane.imaging.brush import draw_line
from eaveplane.imaging.colour import FloatArray
from eaveplane.imaging.pyramid import Box

SEEDS = (*range(400, 412), 416, 418, 425, 427, 438, 449)
"""Those of `bench.flaws`, and six in which things moved or the camera did."""
AROUND = 10
"""Pixels around a finding's box that are scored with it."""
MOVED = 0.05
"""Decibels by which a place must come nearer to truth to count as nearer."""
WORSE = -0.1
BORDER = 30
"""Pixels at the border by which exposure is not fitted: not all frames reach there."""


@dataclass(frozen=True, eq=False)
class Woven:
    """A weave with what was found in it and what it is woven from, `put` saying what was put in; over one that is `lifted` veils were lifted."""

    put: str
    picture: FloatArray
    found: list[Finding]
    laid: RegisteredFrames
    gates: FloatArray
    weaving: Weaving
    frames: list[FloatArray]
    lifted: bool = False

    def weave(self, level: int, box: Box) -> FloatArray:
        small = self.picture
        for _ in range(level):
            small = cv2.pyrDown(small)
        x, y, w, h = box
        return np.ascontiguousarray(small[y : y + h, x : x + w])

    def under(self, strokes: Sequence[Stroke]) -> Below:
        def read(level: int, box: Box) -> FloatArray:
            there = self.weave(level, box)
            repaint(there, self.laid, self.gates, self.weaving, strokes, box, level, self.weave)
            return there

        return read

    def first(self, finding: Finding) -> Remedy | None:
        """The remedy that the page offers first."""
        ids, lays = self.laid.names, self.laid
        if finding.kind == "ghost" and (moments := moments_at(lays, self.weave, finding.box)):
            tried = [Remedy(m.frame, tuple(strokes_over(m.outline, ids[m.frame]))) for m in moments]
        else:
            finding = replace(finding, kind="soft") if finding.kind == "ghost" else finding
            tried = remedies(finding, ids, lays.reference, [way for way in OTHER_WAYS if way != self.weaving.way or self.lifted])
        if finding.kind == "seam":
            return tried[0]
        found = offered(finding, tried, lays, self.weave, lambda remedy: self.under(remedy.strokes))
        return found[0][0] if found else None

    def with_it(self, remedy: Remedy, box: Box) -> FloatArray | None:
        """The box of the picture under a remedy."""
        if not remedy.strokes and remedy.frame is not None:
            gain = np.float32(2 ** (remedy.stops / 2))
            frames = [frame * gain if k == remedy.frame else frame for k, frame in enumerate(self.frames)]
            return found_in(reading(self.laid, frames), self.gates, self.weaving, box, 0)[0]
        strokes = list(remedy.strokes)
        if remedy.heals:
            there = around_spot(strokes[0].bounds(), self.laid.size)
            cover = draw_line(strokes[0], there, 0)
            assert cover is not None
            try:
                right, down = source_for(self.weave(0, there), cover)
            except ValueError:
                return None
            strokes = [strokes[0].model_copy(update={"source": (float(right), float(down))})]
        return self.under(strokes)(0, box)


def reading(laid: RegisteredFrames, frames: list[FloatArray]) -> RegisteredFrames:
    """The frames laid, of these pixels (h, w, 3); at smaller sizes halved."""

    def read(k: int, level: int, box: Box) -> FloatArray:
        small = frames[k]
        for _ in range(level):
            small = cv2.pyrDown(small)
        x, y, w, h = box
        return np.ascontiguousarray(cv2.copyMakeBorder(small, 64, 64, 64, 64, cv2.BORDER_REPLICATE)[y + 64 : y + h + 64, x + 64 : x + w + 64])

    return replace(laid, read=read)


class Truth:
    """What a box of a weave in root light is scored against, the exposure of the whole fitted."""

    def __init__(self, seed: int) -> None:
        _, self.true = kept(f"seed_{seed}", by_seed(seed), run.HERE / "flaws" / "sets")
        self.moments: FloatArray = self.true["sharp"]
        self.inside = np.zeros(self.moments.shape[1:3], np.bool_)
        self.inside[BORDER:-BORDER, BORDER:-BORDER] = True
        self.edge = depth_edges(1 / np.maximum(self.true["dioptres"], 1e-3), round(min(2 * self.true["largest_px"], 60))) & self.inside
        self.lines: list[np.ndarray] = []

    def fit(self, picture: FloatArray) -> None:
        """From here on see pictures as this one, whole, has its exposure."""
        shown = run.shown(np.square(picture))
        seen = fitted(shown, self.moments[self.true["reference"] if len(self.moments) > 1 else 0], self.inside)
        self.lines = [np.polyfit(shown[self.inside][::7, c], seen[self.inside][::7, c], 1) for c in range(3)]

    def seen(self, picture: FloatArray) -> FloatArray:
        shown = run.shown(np.square(picture))
        return np.stack([np.polyval(self.lines[c], shown[..., c]) for c in range(3)], axis=-1).astype(np.float32)

    def error(self, picture: FloatArray, box: Box) -> float:
        """Mean square error of a box (h, w, 3), against the nearest moment."""
        x, y, w, h = box
        seen, truth = self.seen(picture), self.moments[:, y : y + h, x : x + w]
        return float(np.square(seen - (nearest_moment(seen, truth) if len(truth) > 1 else truth[0])).mean())

    def in_edges(self, picture: FloatArray) -> float:
        seen = self.seen(picture)
        return psnr(seen, nearest_moment(seen, self.moments) if len(self.moments) > 1 else self.moments[0], self.edge)


def weaves(seed: int) -> Iterator[Woven]:
    """Weaves by crisp seams of a stack into which flaws were put, and the weave that `stack` makes."""
    of, rng = flaws.scene_of(seed), np.random.default_rng([seed, 17])
    plain = of.woven(of.gates, of.frames)
    already = of.found(plain, of.gates, of.frames)

    def crisp(put: str, picture: FloatArray, gates: FloatArray, frames: list[FloatArray], found: list[Finding]) -> Woven:
        # what was there before is no matter of what was put in
        found = [f for f in found if not any(flaws.meets(f.box, other.box) for other in already if other.kind == f.kind)]
        return Woven(put, picture, found, reading(of.laid, frames), gates, Weaving(way="crisp-seams"), frames)

    for found, _, _, picture, gates in flaws.wrong_labels(of, plain, rng):
        yield crisp("zones given to a wrong frame", picture, gates, of.frames, found)
    for found, _, picture, frames in flaws.wrong_light(of, rng):
        yield crisp("a frame of wrong exposure", picture, of.gates, frames, found)
    found, _, picture, frames = flaws.dust(of, plain, rng)
    yield crisp("dust on one frame", picture, of.gates, frames, found)
    picture, found = flaws.as_delivered(seed)
    yield Woven("nothing, as `stack` weaves", picture, found, reading(of.laid, of.frames), of.gates, Weaving(), of.frames, lifted=True)


@dataclass
class Tally:
    """Of findings of one kind: by how much, in decibels, the first remedy brought each box nearer to truth; and for how many none was offered."""

    gains: list[float]
    none: int = 0

    def row(self, name: str) -> str:
        told = np.array(self.gains)
        if not len(told):
            return f"| {name} | {self.none} | {self.none} | | | |"
        nearer, worse = int((told > MOVED).sum()), int((told < WORSE).sum())
        return f"| {name} | {len(told) + self.none} | {self.none} | {nearer} ({100 * nearer / len(told):.0f} %) | {worse} | {told.mean():+.2f} / {told.min():+.2f} |"


def section(seeds: list[int] | None = None) -> list[str]:
    """The table, as lines."""
    cv2.setNumThreads(2)
    tallies: dict[tuple[str, str], Tally] = {}
    edges: dict[str, list[float]] = {}
    for seed in seeds or SEEDS:
        truth = Truth(seed)
        for woven in weaves(seed):
            after, taken = woven.picture.copy(), 0
            truth.fit(woven.picture)
            for finding in woven.found:
                tally = tallies.setdefault((woven.put, finding.kind), Tally([]))
                x, y, w, h = finding.box
                left, top = max(0, x - AROUND), max(0, y - AROUND)
                box = left, top, min(woven.laid.size[0], x + w + AROUND) - left, min(woven.laid.size[1], y + h + AROUND) - top
                remedy = woven.first(finding)
                whole = (0, 0, *woven.laid.size)
                mended = woven.with_it(remedy, box if remedy.strokes else whole) if remedy else None
                if remedy is None or mended is None:
                    tally.none += 1
                    continue
                before = truth.error(woven.weave(0, box), box)
                if not remedy.strokes:
                    truth.fit(mended)
                    mended = np.ascontiguousarray(mended[box[1] : box[1] + box[3], box[0] : box[0] + box[2]])
                gain = 10 * float(np.log10(before / max(truth.error(mended, box), 1e-12)))
                truth.fit(woven.picture)
                tally.gains.append(gain)
                print(seed, woven.put, finding.kind, finding.box, remedy.way or ("heal" if remedy.heals else f"frame {remedy.frame}"), f"{gain:+.2f}", flush=True)
                if remedy.strokes:
                    after[box[1] : box[1] + box[3], box[0] : box[0] + box[2]] = mended
                    taken += 1
            if taken:
                edges.setdefault(woven.put, []).append(truth.in_edges(after) - truth.in_edges(woven.picture))
    lines = [
        "The first remedy offered for each finding, against truth in its box (`python -m bench.remedies`); nearer by more than 0.05 dB, worse by more",
        "than 0.1 dB, mean / least in dB:",
        "",
        "| what was put in | kind | findings | none offered | nearer | worse | gain |",
        "|---|---|---|---|---|---|---|",
    ]
    lines += [f"| {put} {tally.row(kind)}" for (put, kind), tally in tallies.items()]
    every = [gain for tally in tallies.values() for gain in tally.gains]
    lines += [Tally(every, sum(tally.none for tally in tallies.values())).row("all | ").replace("|  |", "|")]
    told = "; ".join(f"{put} {np.mean(gains):+.2f} (least {min(gains):+.2f}, of {len(gains)})" for put, gains in edges.items())
    return [*lines, "", f"All first remedies with strokes taken at once, edge band, dB: {told}."]


if __name__ == "__main__":
    print("\n".join(section([int(s) for s in sys.argv[1:]])))
