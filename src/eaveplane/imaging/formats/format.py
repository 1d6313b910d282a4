"""What the program has to know of a file format."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..errors import PictureError
from ..exif import DENSITY, Carried, Metadata
from ..pyramid import Size
from .picture import Picture

NOTHING = Carried()


@dataclass(frozen=True)
class Saving:
    """How a file is written, as far as its format knows of it: bits a channel (8 or 16), how TIFF is packed (`none`, `deflate`, `lzw`) and laid
    out, quality 1..100 or the largest size in bytes (0: any), pixels an inch, what else is said of the picture."""

    bits: int = 16
    packing: str = "none"
    tiled: bool = False
    quality: int = 92
    most_bytes: int = 0
    density: float = DENSITY
    carried: Carried = NOTHING


@dataclass(frozen=True)
class Format:
    """One kind of file. The first of `suffixes` is the one we give; `begins(head)` knows it by its first 16 bytes, or None
    where the suffix has to be believed. `size` tells width and height as stored or upright, `read` decodes (path, metadata,
    demosaic, highlights), both raising anything on damage; `write` fills a file with codes (h, w, 3) of 16 bits, a profile,
    metadata, as it is to be saved; None where we do not write it."""

    name: str
    suffixes: tuple[str, ...]
    begins: Callable[[bytes], bool] | None
    size: Callable[[Path, Metadata], Size]
    read: Callable[[Path, Metadata, str, str], Picture]
    write: Callable[[Path, NDArray[np.uint16], bytes | None, Metadata, Saving], None] | None = None


def turned(size: Size, orientation: int) -> Size:
    """A stored size as it is once the picture is upright."""
    return (size[1], size[0]) if orientation >= 5 else size


def eight_bits(codes: NDArray[np.uint16]) -> NDArray[np.uint8]:
    """Codes of 16 bits rounded to 8, any shape.

    >>> eight_bits(np.array([0, 128, 129, 65535], np.uint16)).tolist()
    [0, 0, 1, 255]
    """
    out = np.empty(codes.shape, np.uint8)
    for first in range(0, len(codes), 512):
        out[first : first + 512] = (codes[first : first + 512].astype(np.uint32) * 255 + 32895) >> 16
    return out


def quality_within(encode: Callable[[int], bytes], saving: Saving, path: Path) -> bytes:
    """What `encode` makes at the quality asked for, or at the best below it that is within the size asked for. Raises PictureError where none is."""
    data = encode(saving.quality)
    if not saving.most_bytes or len(data) <= saving.most_bytes:
        return data
    low, high, best = 1, saving.quality - 1, b""
    while low <= high:
        middle = (low + high) // 2
        data = encode(middle)
        if len(data) <= saving.most_bytes:
            low, best = middle + 1, data
        else:
            high = middle - 1
    if not best:
        raise PictureError(path, f"would be larger than {saving.most_bytes // 1000} kB at any quality.", "Allow more, or choose a smaller size.")
    return best
