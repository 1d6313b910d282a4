"""The frames of one scene, looked at before anything is blended."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from ...imaging.placement import Placement
from ...imaging.pyramid import Box
from ...recipe import Recipe
from .. import scene
from ..cache import Cache
from ..runner import Runner
from ..steps import open_registration
from .read import read_frames


def inspect(paths: Sequence[Path], cache: Cache, runner: Runner) -> dict[str, Any]:
    """Look at the frames of one scene. Raises PictureError."""
    reading, looking = runner.parts(7, 3)
    read = read_frames(paths, cache, reading, True, Recipe())
    there = [f for f in read.frames if f.reason != "marker"]
    frames = [read.steps[f.id] for f in there]
    found = scene.inspect(cache, frames, looking) if len(frames) > 1 else None
    place = {i: k for k, f in enumerate(there) for i in f.all_files()}
    listed = []
    for path, file in zip(paths, read.file_of, strict=True):
        k = place.get(file.id)
        entry: dict[str, Any] = {"file": str(path), "order": k if k is not None else len(there), "share": 0.0, "sharp_rows": [0.0, 0.0], "state": "leave_out", "reason": "marker", "blur_px": None}
        if k is not None:
            verdict = found.verdicts[k] if found else None
            entry |= {"state": "keep", "reason": None, "share": 1.0, "sharp_rows": [0.0, 1.0], "blur_px": 0.0}
            if verdict:
                spared = verdict.flaw and not verdict.needed
                entry |= {"state": "leave_out" if spared else "keep", "reason": verdict.flaw, "share": verdict.share, "sharp_rows": list(verdict.sharp_rows), "blur_px": verdict.blur_px}
                entry |= {"evidence": verdict.evidence, "needed": verdict.needed}
        listed.append(entry)
    registered = open_registration(cache, scene.inspection_of(frames).registered.key) if found else None
    gaps = []
    for band in found.bands if found and registered else []:
        sharpest = band.near if band.near is not None else band.far
        assert registered is not None
        box = _box_in(band.box, registered.placements[sharpest or 0])
        gaps.append({"box": list(box), "blur_px": band.blur_px, "between": [band.near, band.far], "metres": list(band.metres) if band.metres else None, "told": band.told()})
    return {"schema": 1, "frames": listed, "coverage": {"covered": found.covered if found else 1.0, "gaps": gaps}}


def _box_in(box: Box, placement: Placement) -> Box:
    """A box of the reference frame in pixels of a frame."""
    x, y, w, h = box
    at = placement.back(np.array([[x, y], [x + w, y], [x, y + h], [x + w, y + h]], np.float64))
    left, top = np.clip(np.floor(at.min(axis=0)), 0, np.array(placement.size) - 1)
    right, bottom = np.clip(np.ceil(at.max(axis=0)), 1, placement.size)
    return int(left), int(top), max(1, int(right - left)), max(1, int(bottom - top))
