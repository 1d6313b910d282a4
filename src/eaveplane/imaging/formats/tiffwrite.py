"""Writing TIFF and BigTIFF: pages of 8 or 16 bits, packed by all cores, with profile, EXIF, position and XMP."""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, BinaryIO

import imagecodecs
import numpy as np
from numpy.typing import NDArray

from ..exif import Carried, Metadata, density_entries, with_exif
from ..rows import side_by_side
from ..tiffdir import ASCII, BIG, BYTE, CLASSIC, LONG, LONG8, SHORT, UNDEFINED, XMP, Entry, Layout
from .format import Saving

ROWS, TILE = 128, 256
PACKED = {"none": 1, "lzw": 5, "deflate": 8}
LEVEL = 1
"""Of packing: higher ones cost twice the time for a percent or two of pictures that have noise."""
FOUR_GB = 1 << 32
Codes = NDArray[Any]


NOTHING = Metadata()


@dataclass(frozen=True, eq=False)
class Page:
    """A picture of codes (h, w, 1..4) of 8 or 16 bits, the fourth alpha; `more` are entries of its own."""

    codes: Codes
    profile: bytes | None = None
    name: str = ""
    meta: Metadata = NOTHING
    more: list[Entry] = field(default_factory=list)


def write_pages(path: Path, pages: Iterable[Page], saving: Saving, most_bytes: int) -> None:
    """Write pages one after the other; `most_bytes` of pixels, before they are packed, decide whether it has to be a BigTIFF."""
    layout = CLASSIC if most_bytes + most_bytes // 50 + (1 << 24) < FOUR_GB else BIG
    with path.open("wb") as file:
        file.write(layout.header)
        link = len(layout.header) - layout.inline
        for number, page in enumerate(pages):
            entries = _pixels(file, page, saving, layout)
            file.seek(0, 2)
            start = file.tell() + file.tell() % 2
            file.write(b"\0" * (start - file.tell()))
            # what is said of the picture is said once
            carried = saving.carried if number == 0 else Carried()
            if carried.xmp:
                entries.append((XMP, BYTE, carried.xmp))
            directory = with_exif(entries, page.meta, start, carried, layout)
            file.write(directory)
            file.seek(link)
            file.write(struct.pack(layout.place, start))
            (count,) = struct.unpack_from(layout.count, directory)
            link = start + layout.length(count) - layout.inline


def _pixels(file: BinaryIO, page: Page, saving: Saving, layout: Layout) -> list[Entry]:
    """Write a page's pixels where the file ends; the entries that tell of them."""
    codes = page.codes if page.codes.ndim == 3 else page.codes[..., None]
    height, width, channels = codes.shape
    packing = saving.packing
    file.seek(0, 2)
    offsets, counts, at = [], [], file.tell()
    for part in _packed(codes, packing, saving.tiled):
        offsets.append(at)
        counts.append(len(part))
        file.write(part)
        at += len(part)
    place = LONG if layout is CLASSIC else LONG8
    entries: list[Entry] = [
        *[(0x0100, LONG, width), (0x0101, LONG, height), (0x0102, SHORT, [8 * codes.dtype.itemsize] * channels), (0x0103, SHORT, PACKED[packing])],
        *[(0x0106, SHORT, 2 if channels >= 3 else 1), (0x0115, SHORT, channels), (0x011C, SHORT, 1), *density_entries(saving.density)],
    ]
    if saving.tiled:
        entries += [(0x0142, LONG, TILE), (0x0143, LONG, TILE), (0x0144, place, offsets), (0x0145, LONG, counts)]
    else:
        entries += [(0x0111, place, offsets), (0x0116, LONG, ROWS), (0x0117, LONG, counts)]
    if packing != "none":
        entries.append((0x013D, SHORT, 2))
    if channels in (2, 4):
        entries.append((0x0152, SHORT, 2))
    if page.profile:
        entries.append((0x8773, UNDEFINED, page.profile))
    if page.name:
        entries.append((0x011D, ASCII, page.name))
    return [*entries, *page.more]


def _packed(codes: Codes, packing: str, tiled: bool) -> Iterator[bytes | memoryview]:
    """The strips or tiles of codes (h, w, c) as they stand in the file, in order."""
    height, width, _ = codes.shape
    tiles = [(y, x, TILE, TILE) for y in range(0, height, TILE) for x in range(0, width, TILE)]
    boxes = tiles if tiled else [(y, 0, min(ROWS, height - y), width) for y in range(0, height, ROWS)]
    return side_by_side(lambda box: _pack(codes, box, packing), boxes)


def _pack(codes: Codes, box: tuple[int, int, int, int], packing: str) -> bytes | memoryview:
    y, x, h, w = box
    part = codes[y : y + h, x : x + w]
    if part.shape[:2] != (h, w):
        # tiles at the edges are filled up with what stands there
        part = np.pad(part, ((0, h - part.shape[0]), (0, w - part.shape[1]), (0, 0)), mode="edge")
    part = np.ascontiguousarray(part, "<u2" if codes.dtype.itemsize == 2 else "u1")
    if packing == "none":
        return part.data.cast("B")
    # each pixel less the one before it, which packs better
    differences = part.copy()
    differences[:, 1:] -= part[:, :-1]
    data = differences.tobytes()
    return bytes(imagecodecs.deflate_encode(data, level=LEVEL) if packing == "deflate" else imagecodecs.lzw_encode(data))
