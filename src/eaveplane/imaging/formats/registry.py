"""All formats: which file is which, and reading and writing any of them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray
from PIL import Image

from ..errors import PictureError
from ..exif import Metadata, read_metadata
from ..write import put_in_place
from .avif import AVIF
from .format import Format, Saving
from .jpeg import JPEG
from .picture import Picture, check_size
from .png import PNG
from .raw import RAW
from .tiff import TIFF

FORMATS = (JPEG, PNG, AVIF, RAW, TIFF)
"""In the order in which a file is held against them: many raw files begin as TIFF does, but none as JPEG, PNG or AVIF."""
PICTURE_SUFFIXES = frozenset(suffix for format in FORMATS for suffix in format.suffixes)
RAW_SUFFIXES = frozenset(RAW.suffixes)
WRITTEN = {suffix: format for format in FORMATS if format.write for suffix in format.suffixes}
"""What pictures are written as, by suffix."""
SUFFIXES_TOLD = ".tif, .png, .jpg or .avif"


@dataclass(frozen=True)
class Facts:
    """What is known of a file without decoding it: upright size, kind (the name of its format), metadata, which still say how the camera was held."""

    width: int
    height: int
    kind: str
    meta: Metadata


def format_of(path: Path) -> Format:
    """The format of a file, by content. Raises PictureError."""
    try:
        with path.open("rb") as file:
            head = file.read(16)
    except FileNotFoundError:
        raise PictureError(path, "is not there any more.", "Put it back or leave the frame out.") from None
    except (PermissionError, IsADirectoryError) as error:
        raise PictureError(path, f"cannot be opened ({error.strerror}).", "Check its permissions.") from error
    if not head:
        raise PictureError(path, "is empty.", "Copy it from the card again.")
    for format in FORMATS:
        if format.begins(head) if format.begins else path.suffix.lower() in format.suffixes:
            return format
    raise PictureError(path, "is not a picture, whatever its name says.", "Bring in raw, TIFF, PNG or JPEG files.")


def damaged(path: Path, error: Exception) -> PictureError:
    """What to say of a file that a decoder stumbled over."""
    if isinstance(error, Image.DecompressionBombError):
        return PictureError(path, "says it has more pixels than can be true.", "Export it again.")
    return PictureError(path, f"is damaged or cut off ({type(error).__name__}).", "Copy it from the card again.")


def facts(path: Path) -> Facts:
    """Look at a file without decoding its pixels. Raises PictureError."""
    format = format_of(path)
    meta = read_metadata(path)
    try:
        width, height = format.size(path, meta)
    except Exception as error:
        raise damaged(path, error) from error
    check_size(path, width, height)
    return Facts(width, height, format.name, meta)


def read_picture(path: Path, demosaic: str = "dht", highlights: str = "clip") -> Picture:
    """Decode a file; how raw files are demosaiced (`raw.DEMOSAIC`) and what becomes of their highlights (`raw.HIGHLIGHTS`).
    Raises PictureError naming the file, what is wrong and what to do."""
    format = format_of(path)
    meta = read_metadata(path)
    try:
        picture = format.read(path, meta, demosaic, highlights)
    except PictureError:
        raise
    except Exception as error:
        raise damaged(path, error) from error
    return replace(picture, meta=picture.meta.upright())


THUMBNAIL = 480


def write_thumbnail(path: Path, codes: NDArray[np.uint16], profile: bytes | None) -> None:
    """Write codes (h, w, 3) small, as JPEG in their own profile; one that is there is replaced."""
    height, width = codes.shape[:2]
    scale = min(1.0, THUMBNAIL / max(width, height))
    small = cv2.resize(codes, (max(1, round(width * scale)), max(1, round(height * scale))), interpolation=cv2.INTER_AREA)
    path.parent.mkdir(exist_ok=True)
    write_picture(path, np.asarray(small, np.uint16), profile, Metadata(), Saving(quality=85), replace=True)


def write_picture(path: Path, codes: NDArray[np.uint16], profile: bytes | None, meta: Metadata, saving: Saving = Saving(), replace: bool = False) -> None:
    """Write codes (h, w, 3) of 16 bits as TIFF, PNG, JPEG or AVIF, as the suffix of `path` says, saved as asked.

    Raises FileExistsError where the file stands and `replace` is false, PictureError where it cannot be written,
    ValueError for another suffix.
    """
    format = WRITTEN.get(path.suffix.lower())
    if format is None or format.write is None:
        raise ValueError(f"{path.name}: results are written as {SUFFIXES_TOLD}")
    if path.exists() and not replace:
        raise FileExistsError(path)
    write = format.write
    put_in_place(path, lambda part: write(part, codes, profile, meta, saving), replace)
