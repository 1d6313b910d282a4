"""AVIF, at 8 bits, by the picture library's codec."""

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


def _read(path: Path, meta: Metadata, demosaic: str, highlights: str) -> Picture:
    with opened(path, path.read_bytes()) as image:
        profile = image.info.get("icc_profile")
        # the codec turns pictures upright as it decodes them
        return finished(path, np.asarray(image.convert("RGB")), profile, meta.upright())


def _write(path: Path, codes: NDArray[np.uint16], profile: bytes | None, meta: Metadata, saving: Saving) -> None:
    if max(codes.shape[:2]) > 65535:
        raise PictureError(path, "would be longer than an AVIF can be (65535 pixels).", "Choose TIFF or a smaller size.")
    image = Image.fromarray(eight_bits(codes), "RGB")
    told: dict[str, Any] = {"icc_profile": profile, "exif": exif_block(meta, saving.density, saving.carried)}
    if saving.carried.xmp:
        told["xmp"] = saving.carried.xmp

    def encode(quality: int) -> bytes:
        held = io.BytesIO()
        image.save(held, "AVIF", quality=quality, subsampling="4:4:4" if quality >= 80 else "4:2:0", speed=6, **told)
        return held.getvalue()

    path.write_bytes(quality_within(encode, saving, path))


AVIF = Format("avif", (".avif",), lambda head: head[4:12] in (b"ftypavif", b"ftypavis"), size_of, _read, _write)
