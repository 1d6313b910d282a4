"""What the program has to know of a file format."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..exif import Metadata
from ..pyramid import Size
from .picture import Picture


@dataclass(frozen=True)
class Format:
    """One kind of file. The first of `suffixes` is the one we give; `begins(head)` knows it by its first 16 bytes, or None
    where the suffix has to be believed. `size` tells width and height as stored or upright, `read` decodes (path, metadata,
    demosaic, highlights), both raising anything on damage; `write` fills a file with codes (h, w, 3) of 16 bits, a profile,
    metadata and a quality 1..100, None where we do not write it."""

    name: str
    suffixes: tuple[str, ...]
    begins: Callable[[bytes], bool] | None
    size: Callable[[Path, Metadata], Size]
    read: Callable[[Path, Metadata, str, str], Picture]
    write: Callable[[Path, NDArray[np.uint16], bytes | None, Metadata, int], None] | None = None


def turned(size: Size, orientation: int) -> Size:
    """A stored size as it is once the picture is upright."""
    return (size[1], size[0]) if orientation >= 5 else size
