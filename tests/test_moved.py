"""A camera that moved, through the command line: believed where it did, better for it, and nothing changed where it stood."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile

from bench.layered import Order, kept
from bench.score import fitted, psnr
from eaveplane.recipe import Recipe
from tests.test_cli import PLAIN, run

pytestmark = pytest.mark.slow


def _stacked(paths: list[Path], folder: Path, reference: int, camera_moved: str) -> tuple[np.ndarray, dict[str, Any]]:
    (folder / "recipe.json").write_text(Recipe(camera_moved=camera_moved).to_json())  # type: ignore[arg-type]
    asked = ["--report", folder / "r.json", "--recipe", folder / "recipe.json", "--reference", reference, "--leave-out", "none", "--develop", "none", "--canvas", "reference", *PLAIN]
    result = run("stack", *paths, "--out", folder / "o.tif", "--force", *asked)
    assert result.exit_code in (0, 4), result.output
    return tifffile.imread(folder / "o.tif"), json.loads((folder / "r.json").read_text())


def test_near_things_that_a_step_shifts_come_to_lie_on_each_other(tmp_path: Path) -> None:
    paths, true = kept("set", Order(57, ("boulder", "stems"), 3, 3.0, by_hand=True, sway_px=2, width=900), tmp_path)
    reference = int(true["reference"])
    sharp = true["sharp"][reference]
    (plain, alone), (ours, report) = (_stacked(paths, tmp_path, reference, how) for how in ("no", "auto"))
    assert report["camera_moved"] and not alone["camera_moved"] and max(f["near_px"] for f in report["frames"]) > 1
    area = report["area"]
    inside = np.zeros(sharp.shape[:2], bool)
    inside[area["y"] : area["y"] + area["h"], area["x"] : area["x"] + area["w"]] = True
    before, after = (psnr(fitted(p / 65535.0, sharp, inside), sharp, inside) for p in (plain, ours))
    print(f"fits alone {before:.2f} dB, with a step {after:.2f} dB")
    assert after > before + 0.4


def test_a_camera_that_turned_but_stood_changes_nothing(tmp_path: Path) -> None:
    paths, true = kept("set", Order(52, ("boulder",), 3, 4.0, by_hand=True, width=400), tmp_path)
    (plain, _), (ours, report) = (_stacked(paths, tmp_path, int(true["reference"]), how) for how in ("no", "auto"))
    assert not report["camera_moved"] and all(f["near_px"] == 0 for f in report["frames"])
    np.testing.assert_array_equal(ours, plain)
