"""A file's picture at screen size, quickly: from the preview embedded in it where there is one."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import rawpy
from numpy.typing import NDArray
from PIL import Image, ImageOps

from .colour import encode_srgb
from .formats.registry import damaged, format_of, read_picture
from .light import to_light

SCREEN_SIDE = 1620
LEAST_SIDE = 480
"""A preview smaller than this tells too little."""


def read_preview(path: Path) -> NDArray[np.uint8]:
    """(h, w, 3) in sRGB, upright, at most 1620 pixels long. Raises PictureError."""
    kind = format_of(path).name
    try:
        if kind == "raw":
            return _of_raw(path)
        if kind == "jpeg":
            return _of_jpeg(path.read_bytes())
    except Exception as error:
        raise damaged(path, error) from error
    picture = read_picture(path)
    light = _shrunk(to_light(picture.codes, picture.encoding))
    return np.rint(255 * encode_srgb(np.clip(light, 0, 1))).astype(np.uint8)


def _of_jpeg(data: bytes) -> NDArray[np.uint8]:
    with Image.open(io.BytesIO(data)) as image:
        # the decoder leaves out what would be thrown away
        image.draft("RGB", (SCREEN_SIDE, SCREEN_SIDE))
        upright = ImageOps.exif_transpose(image)
        return _shrunk(np.asarray(upright.convert("RGB")))


def _of_raw(path: Path) -> NDArray[np.uint8]:
    with rawpy.imread(str(path)) as raw:
        flip = raw.sizes.flip
        try:
            data = raw.extract_thumb().data
            found = _upright(_shrunk(data), flip) if isinstance(data, np.ndarray) else _embedded(data, flip)
            if max(found.shape[:2]) >= LEAST_SIDE:
                return found
        except (rawpy.LibRawNoThumbnailError, rawpy.LibRawUnsupportedThumbnailError, OSError):
            pass
        return _shrunk(raw.postprocess(half_size=True, use_camera_wb=True, no_auto_bright=True, adjust_maximum_thr=0.0))


def _embedded(data: bytes, flip: int) -> NDArray[np.uint8]:
    """A JPEG that says itself how it is to be turned, or is turned as the raw file is."""
    return _of_jpeg(data) if _says_orientation(data) else _upright(_of_jpeg(data), flip)


def _says_orientation(data: bytes) -> bool:
    with Image.open(io.BytesIO(data)) as image:
        return image.getexif().get(0x0112, 1) != 1


def _upright(picture: NDArray[np.uint8], flip: int) -> NDArray[np.uint8]:
    """LibRaw's flip: 3 upside down, 5 and 6 a quarter turn."""
    turns = {3: 2, 5: 1, 6: 3}.get(flip, 0)
    return np.ascontiguousarray(np.rot90(picture, turns))


def _shrunk(picture: NDArray[Any]) -> NDArray[Any]:
    scale = SCREEN_SIDE / max(picture.shape[:2])
    if scale >= 1:
        return np.ascontiguousarray(picture)
    size = (max(1, round(picture.shape[1] * scale)), max(1, round(picture.shape[0] * scale)))
    return np.asarray(cv2.resize(picture, size, interpolation=cv2.INTER_AREA), picture.dtype)
