"""Writing raw pictures as DNG 1.4: one uncompressed Bayer plane with its colour data, lens profile and EXIF."""

from __future__ import annotations

import io
import os
import struct
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from ..imaging.exif import Metadata, exif_entries
from ..imaging.tiffdir import ASCII, BYTE, EXIF_POINTER, HEADER, LONG, RATIONAL, SHORT, SRATIONAL, UNDEFINED, Entry, directory
from .lens import Profile

SUB_DIRECTORIES, OFFSET, LENGTH = 0x014A, 0x0111, 0x0117


def opcodes(profile: Profile) -> bytes:
    """DNG's OpcodeList3 for a lens: WarpRectilinear by plane against fringes, FixVignetteRadial against falloff."""
    centre = profile["centre"]
    warp = struct.pack(">I", len(profile["warp"])) + b"".join(struct.pack(">6d", *plane) for plane in profile["warp"]) + struct.pack(">2d", *centre)
    gain = struct.pack(">5d", *profile["vignette"]) + struct.pack(">2d", *centre)
    # both from DNG 1.3 on; a reader that does not know them may go on without
    return struct.pack(">I", 2) + b"".join(struct.pack(">IIII", number, 0x01030000, 1, len(data)) + data for number, data in ((1, warp), (3, gain)))


def write_dng(
    path: Path,
    mosaic: NDArray[np.uint16],
    black: int,
    white: int,
    colour_matrix: NDArray[np.float64],
    neutral: NDArray[np.float64],
    exposure: Metadata,
    profile: Profile | None = None,
    preview: NDArray[np.uint8] | None = None,
) -> None:
    """Write an RGGB mosaic (height, width), even sizes, as DNG, whole or not at all.

    `colour_matrix` (3, 3) takes XYZ (D65) to camera channels; `neutral` (3,) is white as the camera saw it;
    `preview` (h, w, 3) is embedded as JPEG. Raises ValueError for odd sizes and OSError where the file cannot be
    written.
    """
    height, width = mosaic.shape
    if height % 2 or width % 2:
        raise ValueError("a Bayer mosaic has even width and height")
    about, exif = exif_entries(exposure)
    raw: list[Entry] = [
        (0x00FE, LONG, 0),
        (0x0100, LONG, width),
        (0x0101, LONG, height),
        (0x0102, SHORT, 16),
        (0x0103, SHORT, 1),
        (0x0106, SHORT, 32803),
        (OFFSET, LONG, 0),
        (0x0115, SHORT, 1),
        (0x0116, LONG, height),
        (LENGTH, LONG, mosaic.nbytes),
        (0x011C, SHORT, 1),
        (0x828D, SHORT, (2, 2)),
        (0x828E, BYTE, (0, 1, 1, 2)),
        (0xC61A, SHORT, black),
        (0xC61D, SHORT, white),
    ]
    if profile:
        raw.append((0xC74E, UNDEFINED, opcodes(profile)))
    shared: list[Entry] = [
        *about,
        *([] if exposure.make else [(0x010F, ASCII, "Eaveplane")]),
        (EXIF_POINTER, LONG, 0),
        (0xC612, BYTE, (1, 4, 0, 0)),
        (0xC613, BYTE, (1, 1, 0, 0)),
        (0xC614, ASCII, f"Eaveplane {exposure.camera}"),
        (0xC621, SRATIONAL, colour_matrix.ravel()),
        (0xC628, RATIONAL, neutral),
        (0xC65A, SHORT, 21),
    ]
    small, main = b"", [*shared, *raw]
    if preview is not None:
        buffer = io.BytesIO()
        Image.fromarray(preview).save(buffer, "JPEG", quality=85)
        small = buffer.getvalue()
        main = [
            *shared,
            (0x00FE, LONG, 1),
            (0x0100, LONG, preview.shape[1]),
            (0x0101, LONG, preview.shape[0]),
            (0x0102, SHORT, (8, 8, 8)),
            (0x0103, SHORT, 7),
            (0x0106, SHORT, 6),
            (OFFSET, LONG, 0),
            (0x0115, SHORT, 3),
            (0x0116, LONG, preview.shape[0]),
            (LENGTH, LONG, len(small)),
            (SUB_DIRECTORIES, LONG, 0),
        ]
    exif_at = len(HEADER) + len(directory(main, len(HEADER)))
    raw_at = exif_at + len(directory(exif, exif_at))
    raw_at += raw_at % 2
    small_at = raw_at + (len(directory(raw, raw_at)) if small else 0)
    pixels_at = (small_at + len(small) + 15) // 16 * 16
    main = _placed(main, {OFFSET: small_at if small else pixels_at, EXIF_POINTER: exif_at, SUB_DIRECTORIES: raw_at})
    head = (HEADER + directory(main, len(HEADER)) + directory(exif, exif_at)).ljust(raw_at, b"\0")
    if small:
        head += directory(_placed(raw, {OFFSET: pixels_at}), raw_at) + small
    part = path.with_name(path.name + ".part")
    with part.open("wb") as file:
        file.write(head.ljust(pixels_at, b"\0"))
        file.write(np.ascontiguousarray(mosaic, "<u2").tobytes())
    os.replace(part, path)


def _placed(entries: list[Entry], places: dict[int, int]) -> list[Entry]:
    return [(tag, kind, places.get(tag, value)) for tag, kind, value in entries]
