"""Picture quality against truth and speed against the floor: `make bench` prints both and writes docs/quality.md.

Sets are shot by the field camera into .bench/ once; delete that folder to shoot them anew.
"""

from __future__ import annotations

import json
import math
import shutil
import subprocess
import sys
import time
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import tifffile

ROOT = Path(__file__).parents[1]
sys.path.insert(0, str(ROOT))

from bench import textbook  # noqa: E402
from bench.score import ciede2000, corner_error, depth_edges, fitted, gradient_kept, psnr, ssim  # noqa: E402
from eaveplane.fieldcam.camera import Camera, Lens, Shot, Stage, shoot, truth_of, write_truth  # noqa: E402
from eaveplane.imaging.colour import SRGB_FROM_WORK, encode_srgb  # noqa: E402
from eaveplane.imaging.light import to_light  # noqa: E402
from eaveplane.imaging.read import read_picture  # noqa: E402
from eaveplane.imaging.resample import warp  # noqa: E402
from eaveplane.optics.thinlens import even_focus_steps  # noqa: E402

HERE = ROOT / ".bench"
RUNS = 3
SETS: dict[str, tuple[tuple[int, int], int, bool]] = {
    "tripod, 6 MP, 5 frames": ((3000, 2000), 5, False),
    "by hand, 6 MP, 5 frames": ((3000, 2000), 5, True),
    "tripod, 24 MP, 3 frames": ((6000, 4000), 3, False),
}
FLOOR = """
import sys
from concurrent.futures import ThreadPoolExecutor
import rawpy, tifffile
def read(path):
    with rawpy.imread(path) as raw:
        return raw.postprocess(use_camera_wb=True, no_auto_bright=True, adjust_maximum_thr=0.0, output_bps=16)
with ThreadPoolExecutor() as pool:
    frames = list(pool.map(read, sys.argv[2:]))
tifffile.imwrite(sys.argv[1], frames[0], photometric="rgb")
"""


def shots_of(count: int, by_hand: bool) -> list[Shot]:
    """Even focus steps; a tripod gives by a pixel, a hand by up to 30 px and 0.7° with exposure drifting by 0.2 EV."""
    rng = np.random.default_rng(11)
    shots = []
    for focus in even_focus_steps(0.6, math.inf, count):
        if by_hand:
            drift = np.exp(rng.uniform(-0.14, 0.14) + rng.normal(0, 0.02, 3))
            shots.append(Shot(focus, tuple(rng.uniform(-30, 30, 2)), float(rng.uniform(-0.7, 0.7)), tuple(drift)))
        else:
            shots.append(Shot(focus, tuple(rng.normal(0, 1.2, 2))))
    return shots


def shot(name: str) -> tuple[list[Path], Path]:
    """Frames and the folder of the truth of a set, shot if they are not there."""
    size, count, by_hand = SETS[name]
    folder = HERE / name.replace(", ", "-").replace(" ", "_")
    if not (folder / "truth" / "truth.json").exists():
        print(f"shooting {name} …", flush=True)
        shutil.rmtree(folder, ignore_errors=True)
        stage, shots = Stage(Camera(*size, Lens(breathing=0.02))), shots_of(count, by_hand)
        shoot(stage, shots, folder / "card")
        write_truth(truth_of(stage, shots, count // 2), shots, folder / "truth")
    return sorted((folder / "card").glob("*.dng")), folder / "truth"


def timed(command: list[str]) -> float:
    """Seconds of a whole process, which must succeed."""
    begin = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=True)
    return time.perf_counter() - begin


def stack(paths: list[Path], out: Path, report: Path) -> list[str]:
    return [
        str(Path(sys.executable).with_name("eaveplane")), "stack", *map(str, paths), "--out", str(out), "--report", str(report),
        "--develop", "none", "--canvas", "reference", "--force",
    ]  # fmt: skip


def shown(light: np.ndarray) -> np.ndarray:
    return encode_srgb(light @ SRGB_FROM_WORK.T.astype(np.float32)).astype(np.float64)


def quality(name: str) -> tuple[list[str], list[float]]:
    """Rows of the table of a set, and the registration error of its frames at the corners in pixels."""
    paths, truth_folder = shot(name)
    out, told = HERE / "out.tif", HERE / "report.json"
    timed(stack(paths, out, told))
    report, facts = json.loads(told.read_text()), json.loads((truth_folder / "truth.json").read_text())
    truth = tifffile.imread(truth_folder / "sharp.tif") / 65535.0
    height, width = truth.shape[:2]
    area, inside = report["area"], np.zeros((height, width), bool)
    inside[area["y"] : area["y"] + area["h"], area["x"] : area["x"] + area["w"]] = True
    edge = depth_edges(np.load(truth_folder / "distance.npy"), 20) & inside
    errors = [corner_error(np.array(f["homography"]), np.array(t), (width, height)) for f, t in zip(report["frames"], facts["fits"], strict=True)]
    frames = []
    for path, frame in zip(paths, report["frames"], strict=True):
        picture = read_picture(path)
        frames.append(warp(to_light(picture.codes, picture.encoding, tuple(frame["gain"])), np.array(frame["homography"]), (0, 0, width, height), repeat_edge=True))

    def row(label: str, picture: np.ndarray) -> str:
        seen = fitted(picture, truth, inside)
        colour = ciede2000(seen[::5, ::5], truth[::5, ::5])[inside[::5, ::5]]
        values = [psnr(seen, truth, inside), psnr(seen, truth, edge), psnr(seen, truth, inside & ~edge)]
        line = f"| {label} | {values[0]:.2f} | {values[1]:.2f} | {values[2]:.2f} | {ssim(seen, truth, inside):.4f} | "
        line += f"{gradient_kept(seen, truth, inside):.3f} | {np.median(colour):.2f} / {colour.mean():.2f} |"
        print(line, flush=True)
        return line

    singles = [shown(f) for f in frames]
    best = max(singles, key=lambda s: psnr(fitted(s, truth, inside), truth, inside))
    nearest = np.argmin([cv2.blur(((s - truth) ** 2).mean(axis=2), (9, 9)) for s in singles], axis=0)
    methods: dict[str, Callable[[], np.ndarray]] = {
        "**Eaveplane**": lambda: tifffile.imread(out) / 65535.0,
        "best single frame": lambda: best,
        "mean": lambda: shown(textbook.mean(frames)),
        "arg-max of squared Laplacian, σ 2": lambda: shown(textbook.arg_max(frames, 2.0)),
        "arg-max of squared Laplacian, σ 4": lambda: shown(textbook.arg_max(frames, 4.0)),
        "arg-max of squared Laplacian, σ 8": lambda: shown(textbook.arg_max(frames, 8.0)),
        "Laplacian pyramid": lambda: shown(textbook.laplacian_pyramid(frames)),
        "bound: best 9×9 patch": lambda: np.choose(nearest[..., None], singles),
    }
    return [row(label, make()) for label, make in methods.items()], errors


def speed(name: str) -> list[str]:
    """Whole processes in turn, so that a noisy machine is noisy for both."""
    paths, _ = shot(name)
    ours, floor = stack(paths, HERE / "out.tif", HERE / "report.json"), [sys.executable, "-c", FLOOR, str(HERE / "floor.tif"), *map(str, paths)]
    timed(ours)
    pairs = [(timed(floor), timed(ours)) for _ in range(RUNS)]
    ratios = sorted(o / f for f, o in pairs)
    size = SETS[name][0]
    # as the process itself tells it: seen from outside, a child starts out with its parent's memory
    peak = json.loads((HERE / "report.json").read_text())["peak_bytes"] / 2**20
    line = (
        f"| {name} | {np.median([f for f, _ in pairs]):.1f} s | {np.median([o for _, o in pairs]):.1f} s | "
        f"{ratios[len(ratios) // 2]:.2f} ({ratios[0]:.2f} to {ratios[-1]:.2f}) | {peak:.0f} MB | {peak * 2**20 / (size[0] * size[1] * 12):.1f} |"
    )
    print(line, flush=True)
    return [line]


def main() -> None:
    HERE.mkdir(exist_ok=True)
    commit = subprocess.run(["git", "-C", str(ROOT), "describe", "--always", "--dirty"], capture_output=True, text=True, check=False).stdout.strip()
    text: list[Any] = [
        "# Measured quality and speed",
        "",
        f"Written by `make bench` on {datetime.now():%Y-%m-%d} at commit {commit}, on two cores. Sets are the field camera's salt pan; truth is its all-sharp picture.",
        "Scores are taken on the common area after one gain and offset a channel, on sRGB-encoded values; every method gets the same fits and gains.",
        "The edge band lies within 20 px of a step in distance. ΔE is CIEDE2000, median / mean.",
    ]
    for name in SETS:
        print(f"\n{name}", flush=True)
        rows, errors = quality(name)
        text += ["", f"## {name}", "", "| method | PSNR | edge band | outside it | SSIM | gradient kept | ΔE |", "|---|---|---|---|---|---|---|", *rows, ""]
        text += [f"Registration error at the corners: {', '.join(f'{e:.3f}' for e in errors)} px."]
        print(text[-1])
    print("\nspeed", flush=True)
    text += ["", "## Speed and memory", "", "Floor: reading the same frames with LibRaw and writing the result with tifffile, all cores, nothing between. Whole processes, medians of three pairs.", ""]
    text += ["| set | floor | `eaveplane stack` | ratio (range) | peak memory | in frames of float RGB |", "|---|---|---|---|---|---|"]
    for name in list(SETS)[::2]:
        text += speed(name)
    notes = ROOT / "docs" / "quality.notes.md"
    text += ["", notes.read_text().rstrip()] if notes.exists() else []
    (ROOT / "docs" / "quality.md").write_text("\n".join(text) + "\n")


if __name__ == "__main__":
    main()
