"""JPEG."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from ..errors import PictureError
from ..exif import Metadata, exif_block
from .format import Format, Saving, eight_bits, quality_within
from .picture import Picture
from .shown import finished, opened, size_of

MOST_SEGMENT = 65000
"""Bytes that one part of what stands before the pixels can have."""


def _read(path: Path, meta: Metadata, demosaic: str, highlights: str) -> Picture:
    with opened(path, path.read_bytes()) as image:
        profile = image.info.get("icc_profile")
        codes = np.asarray(image.convert("RGB") if image.mode not in ("RGB", "L") else image)
    return finished(path, codes, profile, meta)


def _write(path: Path, codes: NDArray[np.uint16], profile: bytes | None, meta: Metadata, saving: Saving) -> None:
    if max(codes.shape[:2]) > 65500:
        raise PictureError(path, "would be longer than a JPEG can be (65500 pixels).", "Choose TIFF or a smaller size.")
    image = Image.fromarray(eight_bits(codes), "RGB")
    block, packet = b"Exif\0\0" + exif_block(meta, saving.density, saving.carried), saving.carried.xmp
    if len(block) > MOST_SEGMENT:
        block = b"Exif\0\0" + exif_block(meta, saving.density)
    told: dict[str, Any] = {"icc_profile": profile, "dpi": (saving.density, saving.density), "exif": block}
    if 0 < len(packet) < MOST_SEGMENT:
        told["xmp"] = packet

    def encode(quality: int) -> bytes:
        held = io.BytesIO()
        image.save(held, "JPEG", quality=quality, subsampling=0 if quality >= 90 else 2, **told)
        return held.getvalue()

    path.write_bytes(quality_within(encode, saving, path))


JPEG = Format("jpeg", (".jpg", ".jpeg"), lambda head: head[:2] == b"\xff\xd8", size_of, _read, _write)
