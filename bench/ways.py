"""The ways of weaving against truth and against the best of the textbooks, on layered stacks by seed.

`python -m bench.ways 300 301 …` makes those stacks in .bench/ways/ once and prints the table. The rules were tuned on other
stacks than these; of what is printed nothing was looked at while tuning.
"""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import tifffile

from bench import run, textbook
from bench.layered import Order, kept
from bench.score import depth_edges, fitted, nearest_moment, psnr
from eaveplane.imaging.formats.registry import read_picture
from eaveplane.imaging.light import to_light

SEEDS = range(300, 320)
WAYS = ("joint-light", "crisp-seams")
TEXTBOOK = {"arg-max": textbook.arg_max, "pyramid": textbook.laplacian_pyramid, "exposure fusion": textbook.exposure_fusion}
Scores = tuple[float, float, float]


def by_seed(seed: int) -> Order:
    """A stack of things, frames, discs, hand and wind chosen by a seed."""
    rng = np.random.default_rng([seed, 15])
    things = tuple(str(t) for t in rng.choice(["stems", "fence", "branch", "boulder", "wire", "few stems"], int(rng.integers(1, 3)), replace=False))
    unround = [{}, {"blades": int(rng.integers(5, 9))}, {"rim": 0.4}, {"cut": 0.3}][int(rng.integers(4))]
    by_hand = bool(rng.random() < 0.4)
    return Order(
        1000 + seed,
        things,
        count=int(rng.choice([2, 3, 3, 4, 5, 5, 6, 8, 12])),
        step_px=float(rng.uniform(0.8, 4.0)),
        by_hand=by_hand,
        wind_px=float(rng.uniform(2, 6)) if rng.random() < 0.2 else 0.0,
        sway_px=float(rng.uniform(1, 4)) if by_hand and rng.random() < 0.3 else 0.0,
        electrons=float(rng.uniform(3000, 20000)),
        width=1000,
        **unround,  # type: ignore[arg-type]
    )


class Truth:
    """What a stack by seed is scored against: PSNR whole, in the edge band and outside it."""

    def __init__(self, true: dict[str, Any]) -> None:
        self.true, self.moments = true, true["sharp"]
        self.edge = depth_edges(1 / np.maximum(true["dioptres"], 1e-3), round(min(2 * true["largest_px"], 60)))

    def scores(self, picture: np.ndarray, report: dict[str, Any]) -> Scores:
        area, inside = report["area"], np.zeros(self.edge.shape, bool)
        inside[area["y"] : area["y"] + area["h"], area["x"] : area["x"] + area["w"]] = True
        seen = fitted(picture, self.moments[self.true["reference"] if len(self.moments) > 1 else 0], inside)
        truth = nearest_moment(seen, self.moments) if len(self.moments) > 1 else self.moments[0]
        return psnr(seen, truth, inside), psnr(seen, truth, self.edge & inside), psnr(seen, truth, inside & ~self.edge)

    def woven(self, paths: list[Path], *how: str, reference: int | None = None) -> tuple[Scores, dict[str, Any]]:
        """Scores and report of what `stack` makes of the frames; `reference` is among the files, if that is not where it was made."""
        (run.HERE / "ways").mkdir(parents=True, exist_ok=True)
        told, out = run.HERE / "ways" / "report.json", run.HERE / "ways" / "out.tif"
        run.doubtful([*run.stack(paths, out, told, self.true["reference"] if reference is None else reference), *how])
        report = json.loads(told.read_text())
        return self.scores(tifffile.imread(out) / 65535.0, report), report


def of_textbooks(paths: list[Path], against: Truth, report: dict[str, Any]) -> dict[str, Scores]:
    """Scores of the textbook's methods on frames laid by the fits and gains that a report tells."""
    height, width = against.edge.shape
    frames = []
    for path, frame in zip(paths, report["frames"], strict=True):
        picture = read_picture(path)
        frames.append(run.warp(to_light(picture.codes, picture.encoding, tuple(frame["gain"])), np.array(frame["homography"]), (0, 0, width, height), repeat_edge=True))
    return {name: against.scores(run.shown(method(frames)), report) for name, method in TEXTBOOK.items()}


def told_of(order: Order) -> str:
    """What a stack shows, and how things and the camera moved."""
    motion = [(order.by_hand, "by hand"), (order.sway_px, f"sway {order.sway_px:.0f} px"), (order.wind_px, f"wind {order.wind_px:.0f} px")]
    return ", ".join([f"{' and '.join(order.things)}, {order.count} frames, {order.step_px:.1f} px apart", *(said for there, said in motion if there)])


def scores(seed: int) -> tuple[Order, dict[str, Scores], str]:
    """PSNR whole, in the edge band and outside it, of every way and textbook method, and the way that joint light took."""
    order = by_seed(seed)
    paths, true = kept(f"seed_{seed}", order, run.HERE / "ways")
    against = Truth(true)
    found: dict[str, Scores] = {}
    taken = ""
    for way in WAYS:
        found[way], report = against.woven(paths, "--way", way, "--veil", "leave", "--leave-out", "none")
        taken = taken or report["way"]
    found |= of_textbooks(paths, against, report)
    return order, found, taken


def section(seeds: list[int] | None = None) -> list[str]:
    """The table, as lines."""
    cv2.setNumThreads(2)
    lines = [
        "Layered stacks by seed (`python -m bench.ways`), PSNR whole / edge band / outside it, against the nearest moment where things moved;",
        "the textbook's best of each column on the same fits: arg-max, Laplacian pyramid, exposure fusion.",
        "",
    ]
    lines += ["| seed | what | best textbook | joint light | crisp seams | joint light ahead by |", "|---|---|---|---|---|---|"]
    gains = []
    for seed in seeds or SEEDS:
        try:
            order, found, taken = scores(seed)
        except subprocess.CalledProcessError as error:
            lines.append(f"| {seed} | could not be woven: exit {error.returncode} | | | | |")
            continue
        best = np.max([found[name] for name in TEXTBOOK], axis=0)
        gains.append(np.array(found["joint-light"]) - best)
        stands_in = "" if taken == "joint-light" else f", woven by {taken}"
        texts = [" / ".join(f"{v:.1f}" for v in row) for row in (best, found["joint-light"], found["crisp-seams"])]
        lines.append(f"| {seed} | {told_of(order)}{stands_in} | {' | '.join(texts)} | {' / '.join(f'{v:+.2f}' for v in gains[-1])} |")
        print(lines[-1], flush=True)
    lines.append(f"| mean of {len(gains)} | | | | | {' / '.join(f'{v:+.2f}' for v in np.mean(gains, axis=0))} |")
    print(lines[-1])
    return lines


if __name__ == "__main__":
    section([int(seed) for seed in sys.argv[1:]] or None)
