"""Where a sheet of loupes looks: at the corners, the middle, and what is nearest and farthest."""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np

from ..scene.opened import ScenePage

SIDE = (232, 145)
"""Pixels that a loupe shows at 1:1."""


def loupes(scene: ScenePage) -> dict[str, Any]:
    """`side` in pixels, `places` with their names and middles (x, y) in pixels of the reference, and the `frames` that are shown there, near to far."""
    if scene.view is None:
        return {"side": SIDE, "places": [], "frames": []}
    x, y, w, h = scene.canvas
    across, down = min(SIDE[0], w) / 2, min(SIDE[1], h) / 2
    left, right, top, bottom = x + across, x + w - across, y + down, y + h - down
    places = [("upper left", left, top), ("upper right", right, top), ("middle", x + w / 2, y + h / 2)]
    zones, kept = scene.zones(), scene.recipe.kept()
    for name, frame in (("farthest", kept[-1]), ("nearest", kept[0])) if len(kept) > 1 else ():
        zone = zones.get(frame.id)
        if zone is not None and zone.any():
            # the place in it that is farthest from where another frame is the sharper one
            row, column = np.unravel_index(int(cv2.distanceTransform(np.pad(zone.astype(np.uint8), 1), cv2.DIST_L2, 3)[1:-1, 1:-1].argmax()), zone.shape)
            middle = (np.array([column, row]) + 0.5) * scene.block
            places.append((name, float(np.clip(middle[0], left, right)), float(np.clip(middle[1], top, bottom))))
    places[4:4] = [("lower left", left, bottom), ("lower right", right, bottom)]
    return {"side": SIDE, "places": [{"name": name, "x": x, "y": y} for name, x, y in places], "frames": [f.id for f in kept]}
