"""TIFF: read through its library, written here with EXIF."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import tifffile
from numpy.typing import NDArray

from ..errors import PictureError
from ..exif import Metadata
from ..pyramid import Size
from .format import Format, Saving, eight_bits, turned
from .picture import Picture, check_size, encoded, three_channels, upright
from .tiffwrite import Page, write_pages


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


def _write(path: Path, codes: NDArray[np.uint16], profile: bytes | None, meta: Metadata, saving: Saving) -> None:
    """The library that reads TIFF here cannot write an EXIF directory into one."""
    shown = codes if saving.bits == 16 else eight_bits(codes)
    write_pages(path, [Page(shown, profile, meta=meta)], saving, shown.nbytes)


TIFF = Format("tiff", (".tif", ".tiff"), lambda head: head[:4] in (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+"), _size, _read, _write)
