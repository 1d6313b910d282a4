"""Colours of a paper or a printer, through its profile: brought there by the colour engine, and shown as they will look."""

from __future__ import annotations

import struct
from dataclasses import dataclass

import imagecodecs
import numpy as np
from numpy.typing import NDArray

from .colour import WORK_FROM_SRGB, decode_srgb
from .icc import make_profile
from .oklab import oklab
from .rows import by_rows

INTENTS = {"perceptual": 0, "relative": 1, "saturation": 2, "absolute": 3}
BLACK_POINT = 0x2000
NO_CACHE = 0x0040
OUT_OF_GAMUT = 0.03
"""Difference in Oklab by which a colour is lost: about two just seen."""


class NotForPictures(ValueError):
    """A profile that no picture of three colours can be written in, with a sentence that says why."""


def name_of(profile: bytes) -> str:
    """What a profile calls itself; raises NotForPictures for one that a picture cannot be written in."""
    if len(profile) < 132 or profile[36:40] != b"acsp":
        raise NotForPictures("is no colour profile. Choose an .icc or .icm file.")
    if profile[12:16] not in (b"prtr", b"mntr", b"spac", b"scnr"):
        raise NotForPictures("is a profile of another kind. Choose one of a paper, a printer or a screen.")
    if profile[16:20] != b"RGB ":
        raise NotForPictures("is not for RGB. Ask the printer for an RGB profile, or deliver with a standard one.")
    try:
        _converted(np.full((1, 1, 3), 30000, np.uint16), make_profile("rec2020"), profile, "relative", True)
    except Exception as error:
        raise NotForPictures("cannot be used to print with. Ask for another one.") from error
    return _description(profile) or "profile"


def _description(profile: bytes) -> str:
    (count,) = struct.unpack_from(">I", profile, 128)
    for k in range(min(count, 200)):
        tag, start, size = struct.unpack_from(">4sII", profile, 132 + 12 * k)
        if tag == b"desc":
            data = profile[start : start + size]
            if data[:4] == b"mluc" and len(data) >= 28:
                length, place = struct.unpack_from(">II", data, 20)
                text = data[place : place + length].decode("utf-16-be", "replace")
            else:
                (length,) = struct.unpack_from(">I", data, 8)
                text = data[12 : 12 + length].decode("ascii", "replace")
            return "".join(c for c in text if c.isprintable()).strip()[:120]
    return ""


def _converted(codes: NDArray[np.uint16], source: bytes, target: bytes, intent: str, black_point: bool) -> NDArray[np.uint16]:
    flags = NO_CACHE | (BLACK_POINT if black_point else 0)
    made = imagecodecs.cms_transform(np.ascontiguousarray(codes), source, target, colorspace="rgb", outcolorspace="rgb", outdtype="uint16", intent=INTENTS[intent], flags=flags)
    return np.asarray(made, np.uint16)


def to_profile(codes: NDArray[np.uint16], profile: bytes, intent: str, black_point: bool) -> NDArray[np.uint16]:
    """Codes (h, w, 3) of wide primaries (`rec2020`) as the codes of a profile, under a rendering intent."""
    out = np.empty_like(codes)

    def rows(first: int, last: int) -> None:
        out[first:last] = _converted(codes[first:last], make_profile("rec2020"), profile, intent, black_point)

    by_rows(rows, *codes.shape[:2])
    return out


@dataclass(frozen=True)
class Paper:
    """What a picture is printed with: a profile, a rendering intent, and whether black is brought to the paper's black."""

    profile: bytes
    intent: str
    black_point: bool


def proofed(codes: NDArray[np.uint16], paper: Paper) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
    """How sRGB codes (h, w, 3) of 16 bits look printed, as 8-bit sRGB (h, w, 3), and where (h, w) colours are lost because the paper does not
    have them."""
    screen, profile = make_profile("srgb"), paper.profile
    printed = _converted(codes, screen, profile, paper.intent, paper.black_point)
    # the white is the screen's, the black is the paper's own
    shown = _converted(printed, profile, screen, "relative", False)
    # lost is what does not come back though nothing but the paper's colours stands in its way
    there = _converted(_converted(codes, screen, profile, "relative", True), profile, screen, "relative", True)
    lost = np.linalg.norm(_lab(codes) - _lab(there), axis=-1) > OUT_OF_GAMUT
    return (shown >> 8).astype(np.uint8), lost


def _lab(codes: NDArray[np.uint16]) -> NDArray[np.float64]:
    return oklab(decode_srgb(codes / np.float64(65535)) @ WORK_FROM_SRGB.T)

