"""What is known of a lens: from the file itself (DNG opcodes) or from the lensfun database."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

import lensfunpy
import numpy as np
import tifffile

from .exif import Metadata

OPCODES = 0xC74E
WARP_RECTILINEAR, FIX_VIGNETTE = 1, 3
SAMPLED = 900
Radial = tuple[float, float, float, float]


@dataclass(frozen=True)
class LensData:
    """Radial polynomials; r is the distance from the middle, 1 in the corners.

    `red`, `green`, `blue`: what a lens without distortion would have drawn at r lies at r (k0 + k1 r² + k2 r⁴ + k3 r⁶).
    `gain`: light at r times 1 + g0 r² + g1 r⁴ + g2 r⁶ + g3 r⁸ + g4 r¹⁰ is even. `source` says where this is from.
    """

    red: Radial
    green: Radial
    blue: Radial
    gain: tuple[float, float, float, float, float]
    source: str


def read_opcodes(path: Path) -> LensData | None:
    """The lens profile in a DNG's OpcodeList3: WarpRectilinear and FixVignetteRadial about the middle (DNG 1.4); None
    where there is none that can be used."""
    try:
        with tifffile.TiffFile(path) as tif:
            pages: list[Any] = [page for top in tif.pages for page in (top, *(top.pages or []))]
            found = next((page.tags[OPCODES].value for page in pages if OPCODES in page.tags), None)
        return _parsed(bytes(found)) if found is not None else None
    except Exception:
        # whatever a file says of its lens, its picture can be read without
        return None


def _parsed(data: bytes) -> LensData | None:
    (count,) = struct.unpack_from(">I", data, 0)
    at, planes, gain = 4, [(1.0, 0.0, 0.0, 0.0)] * 3, (0.0,) * 5
    used = False
    for _ in range(min(count, 64)):
        number, _, _, size = struct.unpack_from(">IIII", data, at)
        body = data[at + 16 : at + 16 + size]
        at += 16 + size
        if number == WARP_RECTILINEAR:
            (number_of_planes,) = struct.unpack_from(">I", body, 0)
            rows = [struct.unpack_from(">6d", body, 4 + 48 * k) for k in range(number_of_planes)]
            planes, used = [(r[0], r[1], r[2], r[3]) for r in (rows if number_of_planes == 3 else [rows[0]] * 3)], True
        elif number == FIX_VIGNETTE:
            gain, used = struct.unpack_from(">5d", body, 0), True
    if not used or not np.isfinite([*np.ravel(planes), *gain]).all():
        return None
    return LensData(planes[0], planes[1], planes[2], (gain[0], gain[1], gain[2], gain[3], gain[4]), "the profile in the file")


@lru_cache(maxsize=1)
def _database() -> lensfunpy.Database:
    return lensfunpy.Database()


@lru_cache(maxsize=256)
def from_database(meta: Metadata, size: tuple[int, int], database: lensfunpy.Database | None = None) -> LensData | None:
    """What the lensfun database knows of the lens that a file names, at its focal length, aperture and distance, for
    pictures of a size (w, h); None where it does not know camera or lens."""
    if not meta.camera or not meta.lens or not meta.focal_mm:
        return None
    known = database or _database()
    cameras = known.find_cameras(None, meta.camera, False)
    lenses = known.find_lenses(cameras[0], None, meta.lens, False) if cameras else []
    if not lenses:
        return None
    # radii are told in shares of the half diagonal, so a small picture of that shape tells as much
    lens, shrunk = lenses[0], min(1.0, SAMPLED / max(size))
    width, height = (max(2, round(v * shrunk)) for v in size)
    distance = min(meta.focus_m or 1000.0, 1000.0)
    modifier = lensfunpy.Modifier(lens, cameras[0].crop_factor, width, height)
    modifier.initialize(meta.focal_mm, meta.f_number or 8.0, distance, pixel_format=np.float32)
    radius, middle = np.linspace(0.02, 1, 60), np.array([(width - 1) / 2, (height - 1) / 2])
    half = float(np.hypot(width, height)) / 2
    places = np.round(middle + radius[:, None] * middle / np.linalg.norm(middle) * half).astype(int)
    places = np.clip(places, 0, [width - 1, height - 1])
    true = np.linalg.norm(places - middle, axis=1) / half
    warped = modifier.apply_subpixel_geometry_distortion()
    radials = []
    for channel in range(3):
        ratio = np.ones(len(true))
        if warped is not None:
            ratio = np.linalg.norm(warped[places[:, 1], places[:, 0], channel] - middle, axis=1) / half / np.maximum(true, 1e-6)
        radials.append(_radial(true, ratio))
    ones = np.ones((height, width, 3), np.float32)
    changed = modifier.apply_color_modification(ones)
    gain = (0.0,) * 5
    if changed:
        powers = np.stack([true ** (2 * k) for k in range(1, 6)], axis=1)
        gain = tuple(np.linalg.lstsq(powers, ones[places[:, 1], places[:, 0], 1] - 1.0, rcond=None)[0].tolist())
    return LensData(radials[0], radials[1], radials[2], (gain[0], gain[1], gain[2], gain[3], gain[4]), "the lens database")


def _radial(radius: np.ndarray, ratio: np.ndarray) -> Radial:
    powers = np.stack([radius ** (2 * k) for k in range(4)], axis=1)
    k = np.linalg.lstsq(powers * radius[:, None], ratio * radius, rcond=None)[0]
    return float(k[0]), float(k[1]), float(k[2]), float(k[3])
