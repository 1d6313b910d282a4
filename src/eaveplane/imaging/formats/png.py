"""PNG, at 8 and 16 bits."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator
from pathlib import Path

import imagecodecs
import numpy as np
from numpy.typing import NDArray

from ..exif import Metadata, exif_block
from ..xmp import PNG_KEYWORD
from .format import Format, Saving, eight_bits
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


def png_bytes(codes: NDArray[np.uint16] | NDArray[np.uint8], profile: bytes | None, chunks: list[tuple[bytes, bytes]] | None = None) -> Iterator[bytes]:
    """A PNG of codes (h, w, 1..4), part by part, with a profile and chunks of a kind before its pixels."""
    data = bytes(imagecodecs.png_encode(np.ascontiguousarray(codes), level=4))
    header = 8 + 25
    yield data[:header]
    for kind, told in [*([(b"iCCP", b"profile\0\0" + zlib.compress(profile))] if profile else []), *(chunks or [])]:
        yield struct.pack(">I", len(told)) + kind + told + struct.pack(">I", zlib.crc32(kind + told))
    yield data[header:]


def _write(path: Path, codes: NDArray[np.uint16], profile: bytes | None, meta: Metadata, saving: Saving) -> None:
    chunks = [(b"pHYs", struct.pack(">IIB", *[round(saving.density / 0.0254)] * 2, 1)), (b"eXIf", exif_block(meta, saving.density, saving.carried))]
    if saving.carried.xmp:
        chunks.append((b"iTXt", PNG_KEYWORD + b"\0\0\0\0\0" + saving.carried.xmp))
    with path.open("wb") as file:
        for part in png_bytes(codes if saving.bits == 16 else eight_bits(codes), profile, chunks):
            file.write(part)


PNG = Format("png", (".png",), lambda head: head[:8] == b"\x89PNG\r\n\x1a\n", size_of, _read, _write)
