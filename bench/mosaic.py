"""What is lost before anything is woven: an all-sharp picture through mosaic, noise and demosaicing, back against itself.

    python -m bench.mosaic [FOLDER for crops at 1:1]
"""

from __future__ import annotations

import math
import sys
import tempfile
from pathlib import Path

import cv2
import numpy as np

from bench.layered import leaves
from bench.score import fitted, psnr
from eaveplane.fieldcam.camera import BLACK, COLOUR_MATRIX, WHITE, Camera, Shot, Stage, camera_neutral, expose
from eaveplane.fieldcam.dng import write_dng
from eaveplane.fieldcam.landscapes import LANDSCAPES
from eaveplane.fieldcam.lens import SHARP, Lens
from eaveplane.imaging.colour import SRGB_FROM_WORK, WORK_FROM_SRGB, FloatArray, encode_srgb
from eaveplane.imaging.exif import Metadata
from eaveplane.imaging.formats.raw import DEMOSAIC
from eaveplane.imaging.formats.registry import read_picture
from eaveplane.imaging.light import to_light

SIZE = (1200, 800)


def shown(light: FloatArray) -> np.ndarray:
    return encode_srgb(light @ SRGB_FROM_WORK.T.astype(np.float32)).astype(np.float64)


def through(light: FloatArray, iso: int, ev: float, demosaic: str) -> FloatArray:
    """Linear light (h, w, 3) after a sensor of that ISO and a reading with that demosaicing, as bright as it was."""
    height, width = light.shape[:2]
    camera = Camera(width, height, Lens(), iso)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.dng"
        write_dng(path, expose(light, camera, Shot(math.inf, ev=ev), 1), BLACK, WHITE, COLOUR_MATRIX, camera_neutral(), Metadata())
        picture = read_picture(path, demosaic)
    return to_light(picture.codes, picture.encoding) / np.float32(2.0**ev)


def rings() -> FloatArray:
    """Rings that get finer outwards, up to two pixels, grey and coloured: what makes mazes."""
    y, x = np.mgrid[: SIZE[1], : SIZE[0]].astype(np.float32)
    away = np.hypot(x - SIZE[0] / 2, y - SIZE[1] / 2)
    wave = 0.5 + 0.45 * np.cos(np.pi * away**2 / (2 * SIZE[0] / 2) * 0.9)
    tint = np.where(x[..., None] < SIZE[0] / 2, np.float32([1, 1, 1]), np.float32([1, 0.55, 0.25]))
    return np.asarray(0.05 + 0.4 * wave[..., None] * tint @ WORK_FROM_SRGB.T.astype(np.float32), np.float32)


def pictures() -> dict[str, tuple[FloatArray, int, float]]:
    """All-sharp pictures as a lens draws them, ISO, and exposure in EV."""
    found: dict[str, tuple[FloatArray, int, float]] = {}
    for name, iso, ev in (("thistle", 100, 0.0), ("larch", 100, 0.0), ("saltpan", 100, 0.0), ("lava", 100, 0.0), ("thistle", 1600, 0.0), ("saltpan", 6400, 0.0), ("saltpan", 100, 2.0)):
        stage = Stage(LANDSCAPES[name], Camera(*SIZE, Lens()))
        light, _ = stage.picture(Shot(math.inf), sharp=True)
        found[f"{name}, ISO {iso}{f', {ev:+g} EV, clipped' if ev else ''}"] = (cv2.GaussianBlur(light, (0, 0), SHARP), iso, ev)
    for seed, iso in ((1, 100), (2, 1600)):
        ground = leaves(np.random.default_rng(seed), SIZE[::-1], 0.4)
        found[f"leaves, ISO {iso}"] = (np.asarray(cv2.GaussianBlur(ground, (0, 0), 0.55), np.float32), iso, 0.0)
    found["rings, ISO 100"] = (rings(), 100, 0.0)
    return found


def section(crops: Path | None = None) -> list[str]:
    """Lines for docs/quality.md."""
    lines = ["| picture | " + " | ".join(DEMOSAIC) + " |", "|---|" + "---|" * len(DEMOSAIC)]
    for name, (light, iso, ev) in pictures().items():
        truth, inside = shown(np.minimum(light, 2.0**-ev)), np.zeros(light.shape[:2], bool)
        inside[8:-8, 8:-8] = True
        values, seen = [], []
        for demosaic in DEMOSAIC:
            picture = fitted(shown(through(light, iso, ev, demosaic)), truth, inside)
            values.append(f"{psnr(picture, truth, inside):.2f}")
            seen.append(picture)
        lines.append(f"| {name} | " + " | ".join(values) + " |")
        print(lines[-1], flush=True)
        if crops:
            row = np.hstack([p[440:640, 560:860] for p in (truth, *(seen[list(DEMOSAIC).index(d)] for d in ("ahd", "dht")))])
            cv2.imwrite(str(crops / f"{name.replace(', ', '-').replace(' ', '_')}.png"), np.rint(255 * np.clip(np.kron(row[..., ::-1], np.ones((2, 2, 1))), 0, 1)))
    return lines


if __name__ == "__main__":
    section(Path(sys.argv[1]) if len(sys.argv) > 1 else None)
