"""Writing raw pictures as DNG 1.4: one uncompressed Bayer plane with its colour data and EXIF."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..imaging.exif import Metadata, exif_entries
from ..imaging.tiffdir import ASCII, BYTE, EXIF_POINTER, HEADER, LONG, RATIONAL, SHORT, SRATIONAL, Entry, directory


def write_dng(
    path: Path,
    mosaic: NDArray[np.uint16],
    black: int,
    white: int,
    colour_matrix: NDArray[np.float64],
    neutral: NDArray[np.float64],
    exposure: Metadata,
) -> None:
    """Write an RGGB mosaic (height, width), even sizes, as DNG, whole or not at all.

    `colour_matrix` (3, 3) takes XYZ (D65) to camera channels; `neutral` (3,) is white as the camera saw it.
    Raises ValueError for odd sizes and OSError where the file cannot be written.
    """
    height, width = mosaic.shape
    if height % 2 or width % 2:
        raise ValueError("a Bayer mosaic has even width and height")
    about, exif = exif_entries(exposure)
    main: list[Entry] = [
        *about,
        (0x00FE, LONG, 0),
        (0x0100, LONG, width),
        (0x0101, LONG, height),
        (0x0102, SHORT, 16),
        (0x0103, SHORT, 1),
        (0x0106, SHORT, 32803),
        (0x010F, ASCII, "Eaveplane"),
        (0x0111, LONG, 0),
        (0x0115, SHORT, 1),
        (0x0116, LONG, height),
        (0x0117, LONG, mosaic.nbytes),
        (0x011C, SHORT, 1),
        (0x828D, SHORT, (2, 2)),
        (0x828E, BYTE, (0, 1, 1, 2)),
        (EXIF_POINTER, LONG, 0),
        (0xC612, BYTE, (1, 4, 0, 0)),
        (0xC613, BYTE, (1, 1, 0, 0)),
        (0xC614, ASCII, f"Eaveplane {exposure.camera}"),
        (0xC61A, SHORT, black),
        (0xC61D, SHORT, white),
        (0xC621, SRATIONAL, colour_matrix.ravel()),
        (0xC628, RATIONAL, neutral),
        (0xC65A, SHORT, 21),
    ]
    exif_at = 8 + len(directory(main, 8))
    pixels_at = (exif_at + len(directory(exif, exif_at)) + 15) // 16 * 16
    places = {0x0111: pixels_at, EXIF_POINTER: exif_at}
    main = [(tag, kind, places.get(tag, value)) for tag, kind, value in main]
    head = HEADER + directory(main, 8) + directory(exif, exif_at)
    part = path.with_name(path.name + ".part")
    with part.open("wb") as file:
        file.write(head.ljust(pixels_at, b"\0"))
        file.write(np.ascontiguousarray(mosaic, "<u2").tobytes())
    os.replace(part, path)
