"""Draw the landscapes anew as they ship with the camera's page: `make scenes`. They come out the same on any machine."""

from __future__ import annotations

import math
from pathlib import Path

import cv2
import numpy as np
from PIL import Image

from eaveplane.fieldcam.camera import Camera, Shot, Stage
from eaveplane.fieldcam.landscapes import LANDSCAPES
from eaveplane.imaging.colour import SRGB_FROM_WORK, encode_srgb

PLACE = Path(__file__).parents[1] / "src" / "eaveplane" / "web" / "camera" / "static"
WIDTH = 640


def main() -> None:
    PLACE.mkdir(parents=True, exist_ok=True)
    for name, landscape in LANDSCAPES.items():
        light, _ = Stage(landscape, Camera(2 * WIDTH, 4 * WIDTH // 3)).picture(Shot(math.inf), sharp=True)
        if name == "lava":
            # as its exposure bracket is meant to be merged: shadows lifted, the sky held
            light *= 4 / (1 + 8 * cv2.GaussianBlur(light, (0, 0), 60)[..., 1:2])
        small = cv2.resize(light, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA) @ SRGB_FROM_WORK.T.astype(np.float32)
        codes = np.rint(np.clip(encode_srgb(small), 0, 1) * 255).astype(np.uint8)
        Image.fromarray(codes).save(PLACE / f"{name}.jpg", quality=86, optimize=True)
        print(PLACE / f"{name}.jpg")


if __name__ == "__main__":
    main()
