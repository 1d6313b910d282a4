"""What a decoded file is, and what readers of all formats do alike."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import imagecodecs
import numpy as np
from numpy.typing import NDArray

from ..errors import PictureError
from ..exif import Metadata
from ..icc import Encoding, NotAMatrixProfile, read_profile, standard_encoding
from ..lensdata import LensData

MOST_PIXELS = 400_000_000
LONGEST_SIDE = 60_000
DAYLIGHT = (6504.0, 0.0)
QUARTERS = {1: 0, 3: 2, 6: 3, 8: 1}
"""Quarter turns, to the left, that put what a camera stored upright, by EXIF's orientation."""


@dataclass(frozen=True, eq=False)
class Picture:
    """`codes` (height, width, 3), uint8 or uint16, upright; `encoding` says what light they are.

    `raw` tells that the codes are scene-linear camera channels under the as-shot white balance, `shot` of which
    light that is: temperature in kelvin and tint. `peak` is the brightest light they hold, `lens` the profile in the file.
    """

    codes: NDArray[np.uint8] | NDArray[np.uint16]
    encoding: Encoding
    meta: Metadata
    raw: bool
    shot: tuple[float, float] = DAYLIGHT
    peak: float = 1.0
    lens: LensData | None = None


def check_size(path: Path, width: int, height: int) -> None:
    """Raises PictureError where no frame can be of that size."""
    if width < 16 or height < 16:
        raise PictureError(path, f"is only {width} × {height} pixels.", "Frames need at least 16 pixels a side.")
    if width > LONGEST_SIDE or height > LONGEST_SIDE or width * height > MOST_PIXELS:
        raise PictureError(path, f"says it has {width} × {height} pixels, more than can be true.", "Export it again.")


def upright(codes: NDArray[np.uint16], orientation: int) -> NDArray[np.uint16]:
    """Codes turned and mirrored as EXIF's orientation (1..8) says."""
    if orientation in (2, 5, 7):
        codes = codes[:, ::-1]
    if orientation == 4:
        codes = codes[::-1]
    turns = {**QUARTERS, 5: 1, 7: 3}.get(orientation, 0)
    return np.ascontiguousarray(np.rot90(codes, turns))


def encoded(path: Path, profile: bytes | None, codes: NDArray[np.uint16]) -> tuple[NDArray[np.uint16], Encoding]:
    """Codes and what they mean under a profile; where it works by tables, codes of wide standard primaries."""
    if not profile:
        return codes, standard_encoding("srgb")
    try:
        return codes, read_profile(bytes(profile))
    except NotAMatrixProfile as error:
        # profiles that work by tables: the colour engine brings the codes to wide standard primaries once
        try:
            target = standard_encoding("rec2020")
            assert target.profile is not None
            converted = imagecodecs.cms_transform(codes, bytes(profile), target.profile, colorspace="rgb", outcolorspace="rgb", outdtype=codes.dtype)
        except Exception:
            raise PictureError(path, f"carries a colour profile that cannot be used: {error}.", "Convert it to sRGB or embed another profile.") from error
        return np.asarray(converted), target


def three_channels(path: Path, codes: NDArray[np.uint16]) -> NDArray[np.uint16]:
    """Codes (h, w, 3) of a picture of one to four channels of 8 or 16 bits. Raises PictureError."""
    if codes.ndim == 2:
        codes = codes[..., None]
    if codes.ndim != 3 or codes.shape[2] not in (1, 2, 3, 4):
        raise PictureError(path, f"has an unusual layout {codes.shape}.", "Save it as an RGB picture of one layer.")
    if codes.dtype not in (np.uint8, np.uint16):
        raise PictureError(path, f"stores {codes.dtype} values.", "Save it with 8 or 16 bits a channel.")
    if codes.shape[2] <= 2:
        codes = np.repeat(codes[..., :1], 3, axis=2)
    return np.ascontiguousarray(codes[..., :3])
