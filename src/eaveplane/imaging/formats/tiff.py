"""TIFF: read through its library, written here with EXIF."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import tifffile
from numpy.typing import NDArray

from ..errors import PictureError
from ..exif import Metadata, density_entries, with_exif
from ..pyramid import Size
from ..tiffdir import HEADER, LONG, SHORT, UNDEFINED, Entry
from .format import Format, turned
from .picture import Picture, check_size, encoded, three_channels, upright

ROWS = 256


def _size(path: Path, meta: Metadata) -> Size:
    with tifffile.TiffFile(path) as tif:
        page = tif.pages[0]
        assert isinstance(page, tifffile.TiffPage)
        return turned((page.imagewidth, page.imagelength), meta.orientation)


def _read(path: Path, meta: Metadata, demosaic: str, highlights: str) -> Picture:
    with tifffile.TiffFile(path) as tif:
        page = tif.pages[0]
        assert isinstance(page, tifffile.TiffPage)
        check_size(path, page.imagewidth, page.imagelength)
        if page.photometric not in (tifffile.PHOTOMETRIC.RGB, tifffile.PHOTOMETRIC.MINISBLACK):
            raise PictureError(path, f"is a {tifffile.PHOTOMETRIC(page.photometric).name} TIFF.", "Save it as RGB.")
        stored = page.dataoffsets[-1] + page.databytecounts[-1] if page.dataoffsets else 0
        if stored > path.stat().st_size:
            raise PictureError(path, "is cut off before its end.", "Copy it from the card again.")
        codes = np.asarray(page.asarray())
        if page.planarconfig == tifffile.PLANARCONFIG.SEPARATE and codes.ndim == 3:
            codes = np.moveaxis(codes, 0, -1)
        profile = page.tags["InterColorProfile"].value if "InterColorProfile" in page.tags else None
    codes, encoding = encoded(path, profile, three_channels(path, codes))
    return Picture(upright(codes, meta.orientation), encoding, meta, raw=False)


def _write(path: Path, codes: NDArray[np.uint16], profile: bytes | None, meta: Metadata, quality: int) -> None:
    """Baseline TIFF, uncompressed. The library that reads TIFF here cannot write an EXIF directory into one."""
    height, width = codes.shape[:2]
    tops = range(0, height, ROWS)
    counts = [min(ROWS, height - top) * width * 6 for top in tops]

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
            (0x0116, LONG, ROWS),
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


TIFF = Format("tiff", (".tif", ".tiff"), lambda head: head[:4] in (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+"), _size, _read, _write)
