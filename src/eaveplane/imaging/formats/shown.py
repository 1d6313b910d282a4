"""What reading PNG and JPEG has in common."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from ..errors import PictureError
from ..exif import Metadata
from ..pyramid import Size
from .format import turned
from .picture import MOST_PIXELS, Picture, check_size, encoded, three_channels, upright

Image.MAX_IMAGE_PIXELS = MOST_PIXELS


def size_of(path: Path, meta: Metadata) -> Size:
    """Width and height, upright."""
    with Image.open(path) as image:
        return turned(image.size, meta.orientation)


def opened(path: Path, data: bytes) -> Image.Image:
    """A picture from a file's bytes. Raises PictureError where its size or colours cannot be used."""
    image = Image.open(io.BytesIO(data))
    check_size(path, *image.size)
    if image.mode == "CMYK":
        raise PictureError(path, "is in CMYK, the colours of a printing press.", "Save it as RGB.")
    return image


def finished(path: Path, codes: NDArray[np.uint16], profile: Any, meta: Metadata) -> Picture:
    """The picture that decoded codes are, upright, under the profile that came with them."""
    codes, encoding = encoded(path, profile, three_channels(path, codes))
    return Picture(upright(codes, meta.orientation), encoding, meta, raw=False)
