"""A made-up matt paper in a made-up printer, as the profile that a printer would hand out (ICC.1:2001, tables of 16 bits)."""

from __future__ import annotations

import struct

import numpy as np
from numpy.typing import NDArray

from ..imaging.colour import D50_XYZ, D65_XY, adaptation, decode_srgb, encode_srgb, rgb_to_xyz, white_xyz
from ..imaging.icc import assembled

NAME = "Made-up matt paper"
BLACK, WHITE, STRENGTH, TINT = 14.0, 95.0, 0.72, 2.0
"""Lightness of its ink, seen beside the paper, and of the paper, how strong its colours are, and how yellow the paper is."""
GRID = 25
_TO_D50 = adaptation(white_xyz(D65_XY), D50_XYZ) @ rgb_to_xyz("srgb")
Floats = NDArray[np.float64]


def _lab_of(xyz: Floats) -> Floats:
    t = xyz / D50_XYZ
    f = np.where(t > 0.008856, np.cbrt(np.maximum(t, 0)), 7.787 * t + 16 / 116)
    return np.stack([116 * f[..., 1] - 16, 500 * (f[..., 0] - f[..., 1]), 200 * (f[..., 1] - f[..., 2])], axis=-1)


def _xyz_of(lab: Floats) -> Floats:
    fy = (lab[..., 0] + 16) / 116
    f = np.stack([fy + lab[..., 1] / 500, fy, fy - lab[..., 2] / 200], axis=-1)
    return np.asarray(np.where(f > 0.206893, f**3, (f - 16 / 116) / 7.787) * D50_XYZ)


def printed(rgb: Floats) -> Floats:
    """CIE L*a*b* (..., 3, D50), beside the paper's own white, of what the paper shows for codes (..., 3) from 0 to 1."""
    lab = _lab_of(decode_srgb(rgb) @ _TO_D50.T)
    return np.stack([BLACK + lab[..., 0] * (100 - BLACK) / 100, STRENGTH * lab[..., 1], STRENGTH * lab[..., 2]], axis=-1)


def _codes_for(lab: Floats) -> Floats:
    """The codes that come nearest to a colour; what the ink cannot do is cut off."""
    plain = np.stack([np.clip((lab[..., 0] - BLACK) / (100 - BLACK), 0, 1) * 100, lab[..., 1] / STRENGTH, lab[..., 2] / STRENGTH], axis=-1)
    light = _xyz_of(plain) @ np.linalg.inv(_TO_D50).T
    return np.asarray(encode_srgb(light.astype(np.float32)), np.float64)


def _table(codes: NDArray[np.uint16]) -> bytes:
    """A table of 16 bits from three channels to three, between straight lines; the first channel changes slowest."""
    line = struct.pack(">2H", 0, 65535) * 3
    identity = struct.pack(">9i", *(65536 * int(i == j) for i in range(3) for j in range(3)))
    return b"mft2\0\0\0\0" + struct.pack(">4B", 3, 3, GRID, 0) + identity + struct.pack(">2H", 2, 2) + line + codes.astype(">u2").tobytes() + line


def paper_profile() -> bytes:
    """The profile: colours of codes, and codes for colours under every intent."""
    steps = np.linspace(0, 1, GRID)
    grid = np.stack(np.meshgrid(steps, steps, steps, indexing="ij"), axis=-1)
    shown = printed(grid)
    encoded = np.stack([shown[..., 0] * 652.8, (shown[..., 1] + 128) * 256, (shown[..., 2] + 128) * 256], axis=-1)
    asked = np.stack([grid[..., 0] * 65535 / 652.8, grid[..., 1] * 65535 / 256 - 128, grid[..., 2] * 65535 / 256 - 128], axis=-1)
    to_colour = _table(np.clip(np.round(encoded), 0, 65535).astype(np.uint16))
    to_codes = _table(np.clip(np.round(_codes_for(asked) * 65535), 0, 65535).astype(np.uint16))
    white = np.array([WHITE, 0.0, TINT])
    name = NAME.encode()
    described = b"desc\0\0\0\0" + struct.pack(">I", len(name) + 1) + name + b"\0" + b"\0" * (4 + 4 + 2 + 1 + 67)
    tags = {
        **{b"desc": described, b"cprt": b"text\0\0\0\0No rights reserved\0"},
        b"wtpt": b"XYZ \0\0\0\0" + struct.pack(">3i", *(round(float(v) * 65536) for v in _xyz_of(white))),
        **{b"A2B0": to_colour, b"A2B1": to_colour, b"A2B2": to_colour, b"B2A0": to_codes, b"B2A1": to_codes, b"B2A2": to_codes},
    }
    return assembled(b"prtr", b"Lab ", 0x02400000, tags)
