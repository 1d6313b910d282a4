"""Does leaving out frames unasked ever lose anything? `--leave-out auto` against `none`, on stacks that are hard to choose from.

    python -m bench.choosing [tune|report] [name …]
"""

from __future__ import annotations

import json
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import tifffile

from bench import layered
from bench.layered import Order as Layered
from bench.score import depth_edges, fitted, nearest_moment, psnr
from eaveplane.fieldcam.order import Order as Shoot
from eaveplane.fieldcam.outing import carry_out

HERE = Path(__file__).parents[1] / ".bench"
BEGIN = datetime(2026, 4, 11, 6, 14)
ALLOWED = 0.1
"""dB that leaving out may cost."""
HARD: dict[str, Layered] = {
    "20 frames, dense": Layered(0, ("stems", "boulder"), 20, 0.8),
    "14 frames, dense, branch": Layered(1, ("branch",), 14, 0.5),
    "9 frames at f/22": Layered(2, ("boulder",), 9, 0.25),
    "8 frames, wires alone near": Layered(3, ("wire",), 8, 1.5),
    "30 frames, 3 past infinity": Layered(4, ("fence",), 30, 0.6, beyond=3, electrons=15000),
    "6 frames, 1 past infinity, stems at the border": Layered(5, ("few stems",), 6, 3.0, beyond=1),
    "8 frames, 2 past infinity, five blades": Layered(6, ("fence", "branch"), 8, 2.5, beyond=2, blades=5),
    "2 frames": Layered(7, ("stems",), 2, 7.0),
    "12 frames, 5 past infinity": Layered(8, ("boulder", "few stems"), 12, 1.2, beyond=5, cut=0.3),
    "6 frames in wind, 1 past infinity": Layered(9, ("stems",), 6, 3.0, beyond=1, wind_px=5),
    "6 frames by hand with parallax": Layered(10, ("fence",), 6, 2.5, by_hand=True, sway_px=6),
    "7 frames, one shaken": Layered(11, ("boulder", "branch"), 7, 2.0, shaken=3, by_hand=True),
    "4 frames, one shaken that is needed": Layered(12, ("stems",), 4, 5.0, shaken=1),
    "7 frames, 2 nearer than everything": Layered(13, ("wire", "boulder"), 7, 2.0, before=2),
    "10 frames, branch in wind": Layered(14, ("branch",), 10, 1.0, wind_px=6, electrons=4000),
    "5 frames, cut discs, rim": Layered(15, ("few stems", "boulder"), 5, 4.0, cut=0.4, rim=0.6),
    "9 frames, noisy, 2 past infinity": Layered(16, ("fence",), 9, 1.5, beyond=2, electrons=900),
    "3 frames, f/22": Layered(17, ("wire",), 3, 0.8),
    "5 frames, larches": Layered(18, ("few stems",), 5, 3.0, ground="larch"),
    "11 frames, lava, 1 past infinity": Layered(19, ("branch",), 11, 1.4, beyond=1, ground="lava"),
}
SMALL: dict[str, Any] = {"long_side_px": 1200, "preview": False, "nearest_m": 0.62}
SHOT: dict[str, Shoot] = {
    "saltpan, 20 frames, 2 past infinity": Shoot(landscape="saltpan", count=20, f_number=4, overshoot=2, seed=31, **SMALL),
    "thistle, 9 frames at f/22": Shoot(landscape="thistle", count=9, f_number=22, seed=32, **SMALL),
    "thistle, 8 frames in wind, 1 past infinity": Shoot(landscape="thistle", count=8, f_number=4, wind=0.3, overshoot=1, seed=33, **SMALL),
    "larch, 12 frames at f/8, by hand": Shoot(landscape="larch", count=12, f_number=8, by_hand=True, seed=34, **SMALL),
    "larch, 6 frames, 3 past infinity": Shoot(landscape="larch", count=6, f_number=4, overshoot=3, seed=35, blades=7, cats_eye=0.4, **SMALL),
    "lava, 10 frames by hand with parallax": Shoot(landscape="lava", count=10, f_number=5.6, by_hand=True, parallax_cm=0.3, seed=36, **SMALL),
    "saltpan, 7 frames, one bumped": Shoot(landscape="saltpan", count=7, f_number=4, bumped=True, seed=37, **SMALL),
    "saltpan, 30 frames at f/5.6, 3 past infinity": Shoot(landscape="saltpan", count=30, f_number=5.6, overshoot=3, seed=38, **SMALL),
}


def by_seed(seed: int) -> Layered:
    """A stack of any kind."""
    rng = np.random.default_rng([seed, 5])
    count = int(rng.choice([2, 3, 4, 5, 6, 8, 10, 14, 20]))
    inner = count - (beyond := int(rng.choice([0, 0, 1, 2, 4])) if count > 4 else 0)
    hand = bool(rng.random() < 0.4)
    return Layered(
        1000 + seed,
        tuple(str(t) for t in rng.choice(list(layered.THINGS), int(rng.integers(1, 3)), replace=False)),
        count,
        float(np.clip(rng.uniform(4, 26) / max(inner - 1, 1), 0.25, 8)),
        beyond,
        blades=int(rng.choice([0, 0, 5, 7, 9])),
        rim=float(rng.choice([0, 0, 0.5])),
        cut=float(rng.choice([0, 0, 0.3])),
        by_hand=hand,
        wind_px=float(rng.uniform(2, 8)) if rng.random() < 0.25 else 0.0,
        sway_px=float(rng.uniform(1, 7)) if hand and rng.random() < 0.4 else 0.0,
        shaken=int(rng.integers(1, inner - 1)) if inner > 3 and rng.random() < 0.2 else None,
        breathing=float(rng.uniform(0, 0.025)),
        electrons=float(np.exp(rng.uniform(np.log(1500), np.log(20000)))),
        ground=str(rng.choice(["leaves", "leaves", "leaves", "thistle", "larch", "lava", "saltpan"])),
    )


TUNED, REPORTED = range(0, 20), range(100, 124)


def sets(which: str) -> dict[str, Layered | Shoot]:
    """Sets to tune on, or to report."""
    if which == "tune":
        return {**HARD, **SHOT, **{f"seed {s}": by_seed(s) for s in TUNED}}
    hard = {name: replace(order, seed=order.seed + 500) for name, order in HARD.items()}
    shot = {name: order.model_copy(update={"seed": order.seed + 500}) for name, order in SHOT.items()}
    return {**hard, **shot, **{f"seed {s}": by_seed(s) for s in REPORTED}}


def frames_of(which: str, name: str, order: Layered | Shoot) -> tuple[list[Path], dict[str, Any]]:
    """Frames, and what is true of them: `sharp` (m, h, w, 3), `edge` (h, w), `overshot` and `shaken` (indices), `reference`."""
    folder = HERE / "choosing" / which / name.replace(" ", "_").replace(",", "").replace("/", "")
    if isinstance(order, Layered):
        paths, facts = layered.kept(folder.name, order, folder.parent)
        step = cv2.dilate(facts["dioptres"], np.ones((3, 3))) - cv2.erode(facts["dioptres"], np.ones((3, 3))) > 0.05 * max(facts["focus"])
        reach = 2 * round(min(2 * facts["largest_px"], 60)) + 1
        edge = cv2.dilate(step.astype(np.uint8), cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (reach, reach))) > 0
        return paths, {"sharp": facts["sharp"], "edge": edge, "overshot": facts["overshot"], "shaken": [] if order.shaken is None else [order.shaken], "reference": facts["reference"]}
    if not (folder / "truth" / "truth.json").exists():
        carry_out(order, folder / "card", 1, BEGIN, folder / "truth")
    facts = json.loads((folder / "truth" / "truth.json").read_text())
    distance = np.load(folder / "truth" / "distance.npy")
    largest = max(facts["blur_px_per_dioptre"]) / float(np.percentile(distance, 0.5))
    return sorted((folder / "card").glob("*.dng")), {
        "sharp": tifffile.imread(folder / "truth" / "sharp.tif")[None] / np.float32(65535),
        "edge": depth_edges(distance, round(min(2 * largest, 60))),
        "overshot": facts["wrong"]["overshot"],
        "shaken": facts["wrong"]["bumped"],
        "reference": facts["reference"],
    }


def woven(paths: list[Path], reference: int, leave_out: str, out: Path) -> tuple[np.ndarray, dict[str, Any], int]:
    """The picture, the report and the exit code."""
    report = out.with_suffix(".json")
    command = [str(Path(sys.executable).with_name("eaveplane")), "stack", *map(str, paths), "--out", str(out), "--report", str(report), "--develop", "none", "--canvas", "reference"]
    done = subprocess.run([*command, "--force", "--reference", str(reference), "--leave-out", leave_out], capture_output=True, text=True, check=False)
    if done.returncode not in (0, 4):
        raise RuntimeError(done.stderr)
    said = [line for line in done.stderr.splitlines() if "%" not in line[:60] and not line.startswith(("Reading", "Regis", "Weav", "Look", "Writ", "Find"))]
    if done.returncode == 4:
        print("      ", out.stem, leave_out, said[-3:], flush=True)
    return tifffile.imread(out) / np.float32(65535), json.loads(report.read_text()), done.returncode


def judged(which: str, name: str, order: Layered | Shoot) -> dict[str, Any]:
    """PSNR whole and in the edge band with frames left out as proposed and with all, and what was left out."""
    paths, true = frames_of(which, name, order)
    out = HERE / "choosing" / f"{name.replace(' ', '_').replace('/', '')}.tif"
    scores, reports = [], []
    inside: np.ndarray | None = None
    for leave_out in ("none", "auto"):
        picture, report, code = woven(paths, true["reference"], leave_out, out)
        if inside is None:
            a = report["area"]
            inside = np.zeros(true["edge"].shape, bool)
            inside[a["y"] + 8 : a["y"] + a["h"] - 8, a["x"] + 8 : a["x"] + a["w"] - 8] = True
        near = nearest_moment(fitted(picture, true["sharp"][min(true["reference"], len(true["sharp"]) - 1)], inside), true["sharp"])
        seen = fitted(picture, near, inside)
        scores.append((psnr(seen, near, inside), psnr(seen, near, inside & true["edge"])))
        reports.append((report, code))
        out.unlink()
    report, code = reports[1]
    reasons = {k: f["reason"] for k, f in enumerate(report["frames"]) if f["reason"]}
    left = [k for k, f in enumerate(report["frames"]) if f["state"] == "left_out"]
    return {"name": name, "frames": len(paths), "none": scores[0], "auto": scores[1], "left": left, "reasons": reasons, "overshot": true["overshot"], "shaken": true["shaken"], "code": code}


def row(found: dict[str, Any]) -> str:
    told = ", ".join(f"{k} {r}{'' if k in found['left'] else ' (kept)'}" for k, r in found["reasons"].items())
    change = [a - n for a, n in zip(found["auto"], found["none"], strict=True)]
    return f"| {found['name']} | {found['frames']} | {found['none'][0]:.2f} / {found['none'][1]:.2f} | {change[0]:+.2f} / {change[1]:+.2f} | {len(found['left'])} | {told} |"


def section(which: str = "report", only: tuple[str, ...] = ()) -> list[str]:
    """Lines for docs/quality.md."""
    wanted = {n: o for n, o in sets(which).items() if not only or any(part in n for part in only)}
    found = []
    with ThreadPoolExecutor(2) as pool:
        for one in pool.map(lambda item: judged(which, *item), wanted.items()):
            found.append(one)
            print(row(one), f"true: {one['overshot']} {one['shaken']} exit {one['code']}", flush=True)
    changes = np.array([[a - n for a, n in zip(f["auto"], f["none"], strict=True)] for f in found])
    lost = sum(1 for c in changes if np.nanmin(c) < -ALLOWED)
    lines = ["| set | frames | nothing left out, whole / edge | auto against it | left out | proposals |", "|---|---|---|---|---|---|", *(row(f) for f in found), ""]
    for flaw in ("overshot", "shaken"):
        told = [(k in f["left"], k in f["reasons"]) for f in found for k in f[flaw]]
        lines.append(f"- {flaw}: {sum(r for _, r in told)} of {len(told)} proposed, {sum(left for left, _ in told)} left out.")
    good = sum(len([k for k in f["left"] if k not in f["overshot"] and k not in f["shaken"]]) for f in found)
    lines.append(f"- Good frames left out: {good} of {sum(f['frames'] - len(f['overshot']) - len(f['shaken']) for f in found)}.")
    mean = np.nanmean(changes, axis=0)
    lines.append(f"- Sets in which auto is more than {ALLOWED} dB below none, whole or in the edge band: {lost} of {len(found)}; mean {mean[0]:+.2f} / {mean[1]:+.2f} dB.")
    print("\n".join(lines[-4:]), flush=True)
    return lines


if __name__ == "__main__":
    section(sys.argv[1] if len(sys.argv) > 1 else "report", tuple(sys.argv[2:]))
