"""PNG, at 8 and 16 bits."""

from __future__ import annotations

import struct
import zlib
from pathlib import Path
from typing import BinaryIO

import imagecodecs
import numpy as np
from numpy.typing import NDArray

from ..exif import DENSITY, Metadata, exif_block
from .format import Format
from .picture import Picture
from .shown import finished, opened, size_of

EIGHT_BIT_MODES = ("P", "1", "RGB", "L", "RGBA", "LA")


def _read(path: Path, meta: Metadata, demosaic: str, highlights: str) -> Picture:
    data = path.read_bytes()
    with opened(path, data) as image:
        profile = image.info.get("icc_profile")
        image.load()
        deep = image.mode not in EIGHT_BIT_MODES or data[24] == 16
        codes = np.asarray(imagecodecs.png_decode(data) if deep else image.convert("RGB") if image.mode not in ("RGB", "L") else image)
    return finished(path, codes, profile, meta)


def _chunk(file: BinaryIO, kind: bytes, data: bytes) -> None:
    file.write(struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data)))


def _write(path: Path, codes: NDArray[np.uint16], profile: bytes | None, meta: Metadata, quality: int) -> None:
    data = imagecodecs.png_encode(np.ascontiguousarray(codes), level=4)
    header = 8 + 25
    with path.open("wb") as file:
        file.write(data[:header])
        if profile:
            _chunk(file, b"iCCP", b"profile\0\0" + zlib.compress(profile))
        _chunk(file, b"pHYs", struct.pack(">IIB", *[round(DENSITY / 0.0254)] * 2, 1))
        _chunk(file, b"eXIf", exif_block(meta))
        file.write(data[header:])


PNG = Format("png", (".png",), lambda head: head[:8] == b"\x89PNG\r\n\x1a\n", size_of, _read, _write)
