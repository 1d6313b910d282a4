"""A camera that moved, plants that swayed: the weave against the best single frame, and against the same fits without a step.

`python -m bench.parallax` shoots its sets into .bench/ once and prints the table; a name or two make only those.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

import numpy as np
import tifffile

from bench import run
from bench.score import depth_edges, fitted, psnr
from eaveplane.fieldcam.order import Order
from eaveplane.imaging.formats.registry import read_picture
from eaveplane.imaging.light import to_light
from eaveplane.recipe import Recipe

UNROUND = {"blades": 7, "cats_eye": 0.4, "rim": 0.2}
SETS: dict[str, Order] = {
    f"step {name}": Order(**(run.SMALL | {"by_hand": True} | told))  # type: ignore[arg-type]
    for name, told in {
        "thistle 0.1 cm": {"landscape": "thistle", "parallax_cm": 0.1, "seed": 32},
        "thistle 0.3 cm": {"landscape": "thistle", "parallax_cm": 0.3, "seed": 31, "blades": 5, "cats_eye": 0.4},
        "thistle 0.6 cm": {"landscape": "thistle", "parallax_cm": 0.6, "seed": 39},
        "thistle 0.3 cm, wind": {"landscape": "thistle", "parallax_cm": 0.3, "wind": 0.3, "seed": 38},
        "larch 0.3 cm": {"landscape": "larch", "parallax_cm": 0.3, "seed": 33, **UNROUND},
        "larch 0.6 cm": {"landscape": "larch", "parallax_cm": 0.6, "seed": 40},
        "saltpan 0.1 cm": {"landscape": "saltpan", "parallax_cm": 0.1, "seed": 44},
        "saltpan 0.3 cm": {"landscape": "saltpan", "parallax_cm": 0.3, "seed": 34},
        "lava 0.3 cm": {"landscape": "lava", "parallax_cm": 0.3, "seed": 35},
        "thistle, wind": {"landscape": "thistle", "wind": 0.3, "seed": 36},
        "larch, wind": {"landscape": "larch", "wind": 0.4, "seed": 43},
        "larch": {"landscape": "larch", "seed": 37, **UNROUND},
        "saltpan": {"landscape": "saltpan", "seed": 41, **UNROUND},
        # fits are found in pictures halved until they are small: of this one once
        "larch 0.6 cm, 3600 px": {"landscape": "larch", "parallax_cm": 0.6, "seed": 72, "long_side_px": 3600},
    }.items()
}
run.SETS |= SETS


def _scores(paths: list[Path], reference: int, camera_moved: str, truth: np.ndarray, edge: np.ndarray) -> tuple[tuple[float, float], bool, list[tuple[float, float]]]:
    """PSNR (whole, edge band) of the weave, whether a step was believed, and the same of each frame alone."""
    recipe, out, told = run.HERE / "moved.json", run.HERE / "out.tif", run.HERE / "report.json"
    recipe.write_text(Recipe(camera_moved=camera_moved).to_json())
    run.doubtful([*run.stack(paths, out, told, reference), "--recipe", str(recipe)])
    report = json.loads(told.read_text())
    area, inside = report["area"], np.zeros(truth.shape[:2], bool)
    inside[area["y"] : area["y"] + area["h"], area["x"] : area["x"] + area["w"]] = True

    def scored(picture: np.ndarray) -> tuple[float, float]:
        seen = fitted(picture, truth, inside)
        return psnr(seen, truth, inside), psnr(seen, truth, edge & inside)

    singles = []
    for path, frame in zip(paths, report["frames"], strict=True):
        picture = read_picture(path)
        light = to_light(picture.codes, picture.encoding, tuple(frame["gain"]))
        fit = np.array(frame["homography"]) if frame["homography"] else np.eye(3)
        singles.append(scored(run.shown(run.warp(light, fit, (0, 0, truth.shape[1], truth.shape[0]), repeat_edge=True))))
    return scored(tifffile.imread(out) / 65535.0), bool(report["camera_moved"]), singles


def section(names: list[str] | None = None) -> list[str]:
    """The table, as lines."""
    lines = ["By hand, PSNR whole / edge band. The truth is that of the reference frame's moment and place.", ""]
    lines += ["| set | best single frame | fits alone | as measured | camera taken to have |", "|---|---|---|---|---|"]
    for name in names or SETS:
        paths, folder = run.shot(name)
        facts = json.loads((folder / "truth.json").read_text())
        truth, distance = tifffile.imread(folder / "sharp.tif") / 65535.0, np.load(folder / "distance.npy")
        largest = max(facts["blur_px_per_dioptre"]) / float(np.percentile(distance, 0.5))
        edge = depth_edges(distance, round(min(2 * largest, 60)))
        fits, _, singles = _scores(paths, facts["reference"], "no", truth, edge)
        ours, believed, _ = _scores(paths, facts["reference"], "auto", truth, edge)
        best = max(singles)
        lines.append(f"| {name.removeprefix('step ')} | {best[0]:.2f} / {best[1]:.2f} | {fits[0]:.2f} / {fits[1]:.2f} | {ours[0]:.2f} / {ours[1]:.2f} | {'moved' if believed else 'stood'} |")
        print(lines[-1], flush=True)
    return lines


if __name__ == "__main__":
    run.HERE.mkdir(exist_ok=True)
    section([f"step {name}" for name in sys.argv[1:]] or None)
