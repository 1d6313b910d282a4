"""Picture quality against truth and speed against the floor: `make bench` prints all of it and writes docs/quality.md; `python bench/run.py speed ways`
only these parts of it.

Sets are shot by the field camera into .bench/ once; delete that folder to shoot them anew.
"""

from __future__ import annotations

import json
import re
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

from bench import choosing, gather, look, mosaic, textbook  # noqa: E402
from bench.score import corner_error, depth_edges, fitted, gradient_kept, psnr, ssim  # noqa: E402
from eaveplane.fieldcam.order import Order  # noqa: E402
from eaveplane.fieldcam.outing import carry_out  # noqa: E402
from eaveplane.imaging.colour import SRGB_FROM_WORK, WORK_FROM_SRGB, decode_srgb, encode_srgb  # noqa: E402
from eaveplane.imaging.difference import ciede2000  # noqa: E402
from eaveplane.imaging.formats.registry import read_picture  # noqa: E402
from eaveplane.imaging.light import to_light  # noqa: E402
from eaveplane.imaging.resample import warp  # noqa: E402

HERE = ROOT / ".bench"
RUNS = 3
BEGIN = datetime(2026, 4, 11, 6, 14)
HEAD = "# Measured quality and speed\n\n"
NOTES = "## What each part contributes, and where it falls short"
"""Where what is written by hand begins, from docs/quality.notes.md."""
SMALL = {"long_side_px": 1800, "f_number": 4.0, "count": 5, "nearest_m": 0.62, "preview": False}
UNROUND = {"blades": 7, "cats_eye": 0.5, "rim": 0.3}
SETS: dict[str, Order] = {
    "tripod": Order(landscape="saltpan", seed=1, **SMALL),
    "breathing 3 %": Order(landscape="saltpan", breathing=3, seed=2, **SMALL, **UNROUND),
    "by hand": Order(landscape="larch", by_hand=True, seed=3, **SMALL),
    "by hand with parallax": Order(landscape="thistle", by_hand=True, parallax_cm=0.6, seed=4, **SMALL, blades=5, cats_eye=0.4),
    "wind": Order(landscape="thistle", wind=0.3, seed=5, **SMALL),
    "thin stems": Order(landscape="thistle", seed=6, curvature=0.15, **SMALL, **UNROUND),
    "overshoot": Order(landscape="saltpan", overshoot=2, seed=7, **SMALL),
    "a missing step": Order(landscape="larch", gap=True, seed=8, **SMALL, blades=6, rim=-0.3),
    "drift": Order(landscape="saltpan", drift_ev=0.25, seed=9, **SMALL),
    "exposure bracket": Order(landscape="lava", brackets=3, bracket_ev=2.5, ev=0.5, seed=10, **(SMALL | {"count": 4}), **UNROUND),
    "low texture, ISO 1600": Order(landscape="larch", iso=1600, seed=11, **SMALL),
    "deep shadow": Order(landscape="lava", seed=12, ev=1.5, **SMALL, blades=9, cats_eye=0.3),
}
LARGE: dict[str, Order] = {
    "6 MP, 5 frames": Order(landscape="saltpan", long_side_px=3000, nearest_m=0.6, count=5, preview=False, seed=21),
    "24 MP, 3 frames": Order(landscape="saltpan", long_side_px=6000, nearest_m=0.6, count=3, preview=False, seed=22),
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


def shot(name: str) -> tuple[list[Path], Path]:
    """Frames and the folder of the truth of a set, shot if they are not there."""
    folder = HERE / name.replace(", ", "-").replace(" ", "_").replace("%", "pc")
    if not (folder / "truth" / "truth.json").exists():
        print(f"shooting {name} …", flush=True)
        shutil.rmtree(folder, ignore_errors=True)
        carry_out((SETS | LARGE)[name], folder / "card", 1, BEGIN, folder / "truth")
    return sorted((folder / "card").glob("*.dng")), folder / "truth"


def timed(command: list[str]) -> float:
    """Seconds of a whole process, which must succeed, perhaps with a warning."""
    begin = time.perf_counter()
    doubtful(command)
    return time.perf_counter() - begin


def doubtful(command: list[str]) -> bool:
    """Run a command that must succeed, perhaps with a warning (exit 4): whether it warned."""
    code = subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False).returncode
    if code not in (0, 4):
        raise subprocess.CalledProcessError(code, command)
    return code == 4


def stack(paths: list[Path], out: Path, report: Path, reference: int | None = None) -> list[str]:
    return [
        str(Path(sys.executable).with_name("eaveplane")), "stack", *map(str, paths), "--out", str(out), "--report", str(report),
        "--develop", "none", "--canvas", "reference", "--force",
        *(["--reference", str(reference)] if reference is not None else []),
    ]  # fmt: skip


def shown(light: np.ndarray) -> np.ndarray:
    return encode_srgb(light @ SRGB_FROM_WORK.T.astype(np.float32)).astype(np.float64)


def least_blurred(facts: dict[str, Any], frames: list[int], distance: np.ndarray) -> np.ndarray:
    """Which of `frames` has the smallest blur disc at each pixel, from the true distances."""
    place = 1 / np.maximum(distance, 1e-6)
    blurs = [facts["blur_px_per_dioptre"][k] * np.abs((1 / facts["shots"][k]["focus_m"] if facts["shots"][k]["focus_m"] else 0.0) - place) for k in frames]
    return np.argmin(blurs, axis=0)


def quality(name: str) -> tuple[list[str], str]:
    """Rows of the table of a set, and a sentence on its registration and what else was measured."""
    paths, truth_folder = shot(name)
    out, told = HERE / "out.tif", HERE / "report.json"
    facts = json.loads((truth_folder / "truth.json").read_text())
    status = doubtful(stack(paths, out, told, facts["reference"]))
    report = json.loads(told.read_text())
    truth = tifffile.imread(truth_folder / "sharp.tif") / 65535.0
    distance = np.load(truth_folder / "distance.npy")
    height, width = truth.shape[:2]
    area, inside = report["area"], np.zeros((height, width), bool)
    inside[area["y"] : area["y"] + area["h"], area["x"] : area["x"] + area["w"]] = True
    # the textbook's methods know one exposure a focus position
    middle = [b[len(b) // 2] for b in facts["wrong"]["brackets"]]
    largest = max(facts["blur_px_per_dioptre"]) / float(np.percentile(distance, 0.5))
    edge = depth_edges(distance, round(min(2 * largest, 60))) & inside
    errors, frames = [], []
    for k in middle:
        entry, true = report["frames"][k], np.array(facts["fits"][k])
        fit = np.array(entry["homography"]) if entry["homography"] else true
        if entry["homography"]:
            errors.append(corner_error(fit, true, (width, height)))
        picture = read_picture(paths[k])
        frames.append(warp(to_light(picture.codes, picture.encoding, tuple(entry["gain"])), fit, (0, 0, width, height), repeat_edge=True))

    def row(label: str, picture: np.ndarray) -> str:
        seen = fitted(picture, truth, inside)
        colour = ciede2000(seen[::3, ::3], truth[::3, ::3])[inside[::3, ::3]]
        values = [psnr(seen, truth, inside), psnr(seen, truth, edge), psnr(seen, truth, inside & ~edge)]
        line = f"| {label} | {values[0]:.2f} | {values[1]:.2f} | {values[2]:.2f} | {ssim(seen, truth, inside):.4f} | "
        line += f"{gradient_kept(seen, truth, inside):.3f} | {np.median(colour):.2f} / {colour.mean():.2f} |"
        print(line, flush=True)
        summary.setdefault(label, []).append(values)
        return line

    singles = [shown(f) for f in frames]
    best = max(singles, key=lambda s: psnr(fitted(s, truth, inside), truth, inside))
    errors_of = [((s - truth) ** 2).mean(axis=2) for s in singles]
    patch, pixel = np.argmin([cv2.blur(e, (9, 9)) for e in errors_of], axis=0), np.argmin(errors_of, axis=0)
    # merged brackets are written darker, so that what their darkest exposure holds stays below white
    ours = encode_srgb(np.minimum(decode_srgb(tifffile.imread(out) / 65535.0) * 2.0 ** -report["scale_ev"], 1.0)).astype(np.float64)
    sharp = decode_srgb(truth.astype(np.float32)) @ WORK_FROM_SRGB.T.astype(np.float32)
    methods: dict[str, Callable[[], np.ndarray]] = {
        "**Eaveplane**": lambda: ours,
        "best single frame": lambda: best,
        "mean": lambda: shown(textbook.mean(frames)),
        "arg-max of squared Laplacian": lambda: shown(textbook.arg_max(frames, 4.0)),
        "Laplacian pyramid": lambda: shown(textbook.laplacian_pyramid(frames)),
        "exposure fusion by contrast": lambda: shown(textbook.exposure_fusion(frames)),
        "guided-filter fusion": lambda: shown(textbook.guided_filter_fusion(frames)),
        "smoothed labels, multi-band": lambda: shown(textbook.smoothed_labels(frames)),
        "bound: frame with the least true blur": lambda: np.choose(least_blurred(facts, middle, distance)[..., None], singles),
        "bound: best 9×9 patch": lambda: np.choose(patch[..., None], singles),
        "bound: best pixel": lambda: np.choose(pixel[..., None], singles),
        "floor: the sharp picture through mosaic, noise and decoding": lambda: shown(mosaic.through(sharp, int(SETS[name].iso), 0.0, "dht")),
    }
    rows = [row(label, make()) for label, make in methods.items()]
    left_out = [f"{Path(f['file']).name} ({f['reason']})" for f in report["frames"] if f["state"] == "left_out"]
    sentence = f"Registration error at the corners: {', '.join(f'{e:.3f}' for e in errors)} px ({report['model']})."
    if any(s["gust"][0] for s in facts["shots"]):
        near = np.minimum.reduce([np.abs(fitted(ours, truth, inside) - s).mean(axis=2) for s in singles])
        sentence += f" Doubling: in the edge band the result lies {1000 * float(near[edge].mean()):.1f} thousandths from the nearest single frame."
    if left_out:
        sentence += f" Left out: {', '.join(left_out)}."
    if status:
        sentence += " The result was marked as not to be trusted."
    print(sentence)
    return rows, sentence


summary: dict[str, list[list[float]]] = {}
"""Values by method, a set after the other, for the table of means."""


def speed(name: str) -> list[str]:
    """Whole processes in turn, so that a noisy machine is noisy for both."""
    paths, _ = shot(name)
    ours, floor = stack(paths, HERE / "out.tif", HERE / "report.json"), [sys.executable, "-c", FLOOR, str(HERE / "floor.tif"), *map(str, paths)]
    timed(ours)
    pairs = [(timed(floor), timed(ours)) for _ in range(RUNS)]
    ratios = sorted(o / f for f, o in pairs)
    pixels = LARGE[name].long_side_px ** 2 * 2 / 3
    # as the process itself tells it: seen from outside, a child starts out with its parent's memory
    peak = json.loads((HERE / "report.json").read_text())["peak_bytes"] / 2**20
    line = (
        f"| {name} | {np.median([f for f, _ in pairs]):.1f} s | {np.median([o for _, o in pairs]):.1f} s | "
        f"{ratios[len(ratios) // 2]:.2f} ({ratios[0]:.2f} to {ratios[-1]:.2f}) | {peak:.0f} MB | {peak * 2**20 / (pixels * 12):.1f} |"
    )
    print(line, flush=True)
    return [line]


TABLE = ["| method | PSNR | edge band | outside it | SSIM | gradient kept | ΔE |", "|---|---|---|---|---|---|---|"]


def described(order: Order) -> str:
    """What of an order departs from the plain case."""
    plain = Order(landscape=order.landscape, **SMALL, seed=order.seed).model_dump()
    changed = [f"{Order.model_fields[k].title.lower()} {v:g}" if not isinstance(v, bool) else str(Order.model_fields[k].title).lower() for k, v in order.model_dump().items() if v != plain[k]]
    return f"{order.landscape}{', ' if changed else ''}{', '.join(changed)}"


def shooting() -> list[str]:
    """How long the field camera takes for a frame, its landscape set up."""
    from eaveplane.fieldcam.camera import Camera, Shot, Stage, expose
    from eaveplane.fieldcam.landscapes import LANDSCAPES
    from eaveplane.fieldcam.lens import Lens

    lines = []
    for width in (3000, 6000):
        camera = Camera(width, width * 2 // 3, Lens(blades=7, cats_eye=0.3, rim=0.2))
        for name in ("saltpan", "thistle"):
            begin = time.perf_counter()
            stage = Stage(LANDSCAPES[name], camera)
            ready = time.perf_counter()
            expose(stage.picture(Shot(float("inf")))[0], camera, Shot(float("inf")), 1)
            lines.append(f"| {name} | {width * width * 2 / 3e6:.0f} MP | {ready - begin:.1f} s | {time.perf_counter() - ready:.1f} s |")
            print(lines[-1], flush=True)
    return lines


def pictures() -> list[str]:
    """Quality against truth, a set after the other, beside textbook methods and bounds."""
    sets: list[str] = []
    for name, order in SETS.items():
        print(f"\n{name}", flush=True)
        rows, sentence = quality(name)
        sets += ["", f"### {name}", "", f"{described(order).capitalize()}.", "", *TABLE, *rows, "", sentence]
    lines = [
        "Sets are shot by the field camera, 1800 × 1200 px; truth is its all-sharp picture.",
        "Scores are taken on the common area after one gain and offset a channel, on sRGB-encoded values.",
        "Every method gets the same fits and gains (but not the step of a camera that moved), and the middle exposure of a bracket.",
        "The edge band lies within twice the largest blur radius of a step in distance. ΔE is CIEDE2000, median / mean. Bounds know the truth.",
        "Where the wind blows, truth is the reference frame's moment; A camera that moved judges such sets by the nearest.",
        "",
        f"Mean of {len(SETS)} sets:",
        "",
        "| method | PSNR | edge band | outside it | sets in which it is ahead of Eaveplane |",
        "|---|---|---|---|---|",
    ]
    ours = np.array(summary["**Eaveplane**"])
    for label, values in summary.items():
        mean, ahead = np.nanmean(values, axis=0), int((np.array(values)[:, 0] > ours[:, 0] + 0.005).sum())
        lines.append(f"| {label} | {mean[0]:.2f} | {mean[1]:.2f} | {mean[2]:.2f} | {ahead} |")
    return [*lines, *sets]


def speeds() -> list[str]:
    """Whole processes against the floor, and the field camera's own."""
    lines = ["Floor: reading the same frames with LibRaw and writing the result with tifffile, all cores, nothing between. Whole processes, medians of three pairs.", ""]
    lines += ["| set | floor | `eaveplane stack` | ratio (range) | peak memory | in frames of float RGB |", "|---|---|---|---|---|---|"]
    for name in LARGE:
        lines += speed(name)
    return [*lines, "", "The field camera, discs not round:", "", "| landscape | frame | setting up, once | a frame |", "|---|---|---|---|", *shooting()]


def renewed(page: str, title: str, lines: list[str]) -> str:
    """A page with the section of a title written anew, at its place, or before the notes where there was none.

    >>> renewed("# Page\n\n## One\n\nold\n\n## Two\n\nkept\n", "One", ["new"])
    '# Page\n\n## One\n\nnew\n\n## Two\n\nkept\n'
    """
    head, *sections = re.split(r"^(?=## )", page, flags=re.MULTILINE)
    heading, titles = f"## {title}", [section.partition("\n")[0] for section in sections]
    text = f"{heading}\n\n" + "\n".join(lines).strip() + "\n\n"
    if heading in titles:
        sections[titles.index(heading)] = text
    else:
        sections.insert(titles.index(NOTES) if NOTES in titles else len(titles), text)
    return head + "".join(sections).rstrip() + "\n"


def main(wanted: list[str]) -> None:
    """Take the parts that are wanted, or all, and write each into docs/quality.md as soon as it is there."""
    from bench import deliver, finish, flaws, parallax, registering, remedies, veils, ways  # use this module

    parts: dict[str, tuple[str, Callable[[], list[str]]]] = {
        "pictures": ("Picture quality", pictures),
        "speed": ("Speed and memory", speeds),
        "choosing": ("Leaving out frames unasked", choosing.section),
        "mosaic": ("Reading raw files", mosaic.section),
        "gather": ("Gather", gather.section),
        "look": ("Even out", look.section),
        "ways": ("The ways of weaving", ways.section),
        "veils": ("Lifting the veil", veils.section),
        "flaws": ("Flaws", flaws.section),
        "remedies": ("Remedies", remedies.section),
        "finish": ("Finish", finish.section),
        "deliver": ("Deliver", deliver.section),
        "registering": ("Registering", registering.section),
        "parallax": ("A camera that moved", parallax.section),
    }
    if unknown := set(wanted) - set(parts):
        sys.exit(f"There is no part {', '.join(sorted(unknown))}; there are {', '.join(parts)}.")
    HERE.mkdir(exist_ok=True)
    path, notes = ROOT / "docs" / "quality.md", (ROOT / "docs" / "quality.notes.md").read_text()
    for name in wanted or parts:
        title, take = parts[name]
        commit = subprocess.run(["git", "-C", str(ROOT), "describe", "--always", "--dirty"], capture_output=True, text=True, check=False).stdout.strip()
        lines = [f"Taken by `python bench/run.py {name}` on {datetime.now():%Y-%m-%d} at commit {commit}, on two cores.", "", *take()]
        taken = renewed(path.read_text() if path.exists() else HEAD, title, lines)
        path.write_text(taken[: taken.index(NOTES)] + notes if NOTES in taken else f"{taken}\n{notes}")


if __name__ == "__main__":
    main(sys.argv[1:])
