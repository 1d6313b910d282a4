"""JPEG."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from ..errors import PictureError
from ..exif import DENSITY, Metadata, exif_block
from .format import Format
from .picture import Picture
from .shown import finished, opened, size_of


def _read(path: Path, meta: Metadata, demosaic: str, highlights: str) -> Picture:
    with opened(path, path.read_bytes()) as image:
        profile = image.info.get("icc_profile")
        codes = np.asarray(image.convert("RGB") if image.mode not in ("RGB", "L") else image)
    return finished(path, codes, profile, meta)


def _write(path: Path, codes: NDArray[np.uint16], profile: bytes | None, meta: Metadata, quality: int) -> None:
    if max(codes.shape[:2]) > 65500:
        raise PictureError(path, "would be longer than a JPEG can be (65500 pixels).", "Choose TIFF or a smaller size.")
    eight = ((codes.astype(np.uint32) * 255 + 32895) >> 16).astype(np.uint8)
    image = Image.fromarray(eight, "RGB")
    image.save(path, "JPEG", quality=quality, subsampling=0 if quality >= 90 else 2, icc_profile=profile, dpi=(DENSITY, DENSITY), exif=b"Exif\0\0" + exif_block(meta))


JPEG = Format("jpeg", (".jpg", ".jpeg"), lambda head: head[:2] == b"\xff\xd8", size_of, _read, _write)
