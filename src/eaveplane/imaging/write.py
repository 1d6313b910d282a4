"""Writing finished pictures with their profile and EXIF: whole or not at all, and never over a file unasked."""

from __future__ import annotations

import os
import struct
import uuid
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO

import imagecodecs
import numpy as np
from numpy.typing import NDArray
from PIL import Image

from .errors import PictureError
from .exif import DENSITY, Metadata, density_entries, exif_block, with_exif
from .tiffdir import HEADER, LONG, SHORT, UNDEFINED, Entry

TIFF_ROWS = 256
SUFFIXES = {".tif": "tiff", ".tiff": "tiff", ".png": "png", ".jpg": "jpeg", ".jpeg": "jpeg"}


def put_in_place(path: Path, write: Callable[[Path], None], replace: bool = False) -> None:
    """Let `write` fill a file beside `path` and move it there; FileExistsError if it stands and may not be replaced."""
    part = path.with_name(f".{path.name}.{uuid.uuid4().hex[:8]}.part")
    try:
        try:
            write(part)
            if replace:
                os.replace(part, path)
                return
            try:
                # a link fails where the name is taken, even if it was taken this moment
                os.link(part, path)
            except FileExistsError:
                raise
            except OSError:
                if path.exists():
                    raise FileExistsError(path) from None
                os.rename(part, path)
        except FileExistsError:
            raise
        except OSError as error:
            raise PictureError(path, f"cannot be written ({error.strerror or error}).", "Choose another folder or make room.") from error
    finally:
        part.unlink(missing_ok=True)


def writes(text: str) -> Callable[[Path], None]:
    """For `put_in_place`: a file of this text."""

    def write(part: Path) -> None:
        part.write_text(text, encoding="utf-8")

    return write


def free_name(path: Path) -> Path:
    """`path`, or the first of `name 2`, `name 3`, … beside it that is not taken."""
    number, candidate = 1, path
    while candidate.exists():
        number += 1
        candidate = path.with_name(f"{path.stem} {number}{path.suffix}")
    return candidate


def write_picture(path: Path, codes: NDArray[np.uint16], profile: bytes | None, meta: Metadata, quality: int = 92, replace: bool = False) -> None:
    """Write codes (h, w, 3) of 16 bits as TIFF, PNG (both 16 bits) or JPEG (8 bits), as the suffix of `path` says.

    Raises FileExistsError where the file stands and `replace` is false, PictureError where it cannot be written,
    ValueError for another suffix.
    """
    kind = SUFFIXES.get(path.suffix.lower())
    if kind is None:
        raise ValueError(f"{path.name}: results are written as .tif, .png or .jpg")
    if path.exists() and not replace:
        raise FileExistsError(path)
    writers: dict[str, Callable[[Path], None]] = {
        "tiff": lambda part: _write_tiff(part, codes, profile, meta),
        "png": lambda part: _write_png(part, codes, profile, meta),
        "jpeg": lambda part: _write_jpeg(part, codes, profile, meta, quality),
    }
    put_in_place(path, writers[kind], replace)


def _write_tiff(path: Path, codes: NDArray[np.uint16], profile: bytes | None, meta: Metadata) -> None:
    """Baseline TIFF, uncompressed. The library that reads TIFF here cannot write an EXIF directory into one."""
    height, width = codes.shape[:2]
    tops = range(0, height, TIFF_ROWS)
    counts = [min(TIFF_ROWS, height - top) * width * 6 for top in tops]

    def head(pixels: int) -> bytes:
        offsets = [pixels + top * width * 6 for top in tops]
        found: list[Entry] = [
            (0x0100, LONG, width),
            (0x0101, LONG, height),
            (0x0102, SHORT, (16, 16, 16)),
            (0x0103, SHORT, 1),
            (0x0106, SHORT, 2),
            (0x0111, LONG, offsets),
            (0x0115, SHORT, 3),
            (0x0116, LONG, TIFF_ROWS),
            (0x0117, LONG, counts),
            (0x011C, SHORT, 1),
            *density_entries(),
        ]
        return HEADER + with_exif([*found, (0x8773, UNDEFINED, profile)] if profile else found, meta, len(HEADER))

    pixels = (len(head(0)) + 15) // 16 * 16
    if pixels + sum(counts) >= 1 << 32:
        raise PictureError(path, "would be larger than a TIFF can be (4 GB).", "Choose a smaller size.")
    with path.open("wb") as file:
        file.write(head(pixels).ljust(pixels, b"\0"))
        np.ascontiguousarray(codes, "<u2").tofile(file)


def _chunk(file: BinaryIO, kind: bytes, data: bytes) -> None:
    file.write(struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data)))


def _write_png(path: Path, codes: NDArray[np.uint16], profile: bytes | None, meta: Metadata) -> None:
    data = imagecodecs.png_encode(np.ascontiguousarray(codes), level=4)
    header = 8 + 25
    with path.open("wb") as file:
        file.write(data[:header])
        if profile:
            _chunk(file, b"iCCP", b"profile\0\0" + zlib.compress(profile))
        _chunk(file, b"pHYs", struct.pack(">IIB", *[round(DENSITY / 0.0254)] * 2, 1))
        _chunk(file, b"eXIf", exif_block(meta))
        file.write(data[header:])


def _write_jpeg(path: Path, codes: NDArray[np.uint16], profile: bytes | None, meta: Metadata, quality: int) -> None:
    if max(codes.shape[:2]) > 65500:
        raise PictureError(path, "would be longer than a JPEG can be (65500 pixels).", "Choose TIFF or a smaller size.")
    eight = ((codes.astype(np.uint32) * 255 + 32895) >> 16).astype(np.uint8)
    image = Image.fromarray(eight, "RGB")
    image.save(path, "JPEG", quality=quality, subsampling=0 if quality >= 90 else 2, icc_profile=profile, dpi=(DENSITY, DENSITY), exif=b"Exif\0\0" + exif_block(meta))
