"""ICC profiles of the matrix kind, read exactly and written (ICC.1:2010)."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from .colour import D50_XYZ, D65_XY, PRIMARIES, WORK_FROM_XYZ, Matrix, adaptation, decode_srgb, rgb_to_xyz, white_xyz

STEPS = 65536
PCS_WHITE = (0xF6D6, 0x10000, 0xD32D)
"""D50 as every profile's head has to write it."""
_D50_TO_D65 = adaptation(D50_XYZ, white_xyz(D65_XY))


@dataclass(frozen=True, eq=False)
class Encoding:
    """How codes stand for light.

    `curves` (3, 65536) gives linear light for codes 0..65535 of each channel, rising; `to_work` (3, 3) takes
    that to linear Rec. 2020; `profile` are the ICC bytes that say so, None where nothing has to be said.
    """

    curves: NDArray[np.float64]
    to_work: Matrix
    profile: bytes | None


class NotAMatrixProfile(ValueError):
    """A profile that is damaged or of a kind that three curves and a matrix do not describe."""


def _curve(data: bytes) -> NDArray[np.float64]:
    x = np.linspace(0, 1, STEPS)
    kind = data[:4]
    if kind == b"curv":
        (count,) = struct.unpack_from(">I", data, 8)
        if count == 0:
            return x
        if count == 1:
            return np.asarray(x ** (struct.unpack_from(">H", data, 12)[0] / 256))
        if count > STEPS:
            raise NotAMatrixProfile("its curve is longer than any curve")
        table = np.frombuffer(data, ">u2", count, 12) / 65535
        return np.interp(x, np.linspace(0, 1, count), table)
    if kind == b"para":
        (form,) = struct.unpack_from(">H", data, 8)
        counts = {0: 1, 1: 3, 2: 4, 3: 5, 4: 7}
        if form not in counts:
            raise NotAMatrixProfile("it has a curve of an unknown kind")
        g, *rest = (v / 65536 for v in struct.unpack_from(f">{counts[form]}i", data, 12))
        if form == 0:
            return np.asarray(x**g)
        a, b, *more = rest
        if a == 0:
            raise NotAMatrixProfile("it has a curve that does not rise")
        base = np.maximum(a * x + b, 0) ** g
        if form in (1, 2):
            c = more[0] if more else 0.0
            return np.where(x >= -b / a, base + c, c)
        c, d, *offsets = more
        e, f = offsets if offsets else (0.0, 0.0)
        return np.where(x >= d, base + e, c * x + f)
    raise NotAMatrixProfile("it has a curve of an unknown kind")


@lru_cache(maxsize=16)
def read_profile(profile: bytes) -> Encoding:
    """The encoding that a profile describes, RGB or grey. Raises NotAMatrixProfile."""
    try:
        if profile[36:40] != b"acsp" or profile[16:20] not in (b"RGB ", b"GRAY") or profile[20:24] != b"XYZ ":
            raise NotAMatrixProfile("it is not an RGB profile of curves and a matrix")
        (count,) = struct.unpack_from(">I", profile, 128)
        tags = {}
        for i in range(min(count, 200)):
            name, start, size = struct.unpack_from(">4sII", profile, 132 + 12 * i)
            tags[name] = profile[start : start + size]
        if profile[16:20] == b"GRAY":
            curve = _rising(_curve(tags[b"kTRC"]))
            return Encoding(np.stack([curve] * 3), np.eye(3), None)
        if b"A2B0" in tags:
            raise NotAMatrixProfile("it works by tables")
        columns = [np.array(struct.unpack_from(">3i", tags[name], 8)) / 65536 for name in (b"rXYZ", b"gXYZ", b"bXYZ")]
        to_work = WORK_FROM_XYZ @ _D50_TO_D65 @ np.array(columns).T
        if abs(np.linalg.det(to_work)) < 1e-4:
            raise NotAMatrixProfile("its matrix cannot be turned round")
        curves = np.stack([_rising(_curve(tags[name])) for name in (b"rTRC", b"gTRC", b"bTRC")])
    except (struct.error, KeyError, ValueError, OverflowError) as error:
        raise NotAMatrixProfile(str(error)) from error
    return Encoding(curves, to_work, profile)


def _rising(curve: NDArray[np.float64]) -> NDArray[np.float64]:
    if not np.isfinite(curve).all() or curve[-1] <= curve[0] or (np.diff(curve) < -1e-6).any():
        raise NotAMatrixProfile("it has a curve that does not rise")
    return np.maximum.accumulate(curve)


def _tag_xyz(values: NDArray[np.float64]) -> bytes:
    return b"XYZ \0\0\0\0" + struct.pack(">3i", *(round(v * 65536) for v in values))


@lru_cache(maxsize=4)
def make_profile(primaries: str) -> bytes:
    """A version 4 profile of the named primaries (`srgb`, `p3`, `rec2020`) with the sRGB curve."""
    names = {"srgb": "sRGB", "p3": "Display P3", "rec2020": "Rec. 2020 primaries, sRGB curve"}
    if primaries not in PRIMARIES:
        raise ValueError(f"no such primaries: {primaries}")
    to_d50 = adaptation(white_xyz(D65_XY), D50_XYZ)
    columns = to_d50 @ rgb_to_xyz(primaries)
    curve = b"para\0\0\0\0" + struct.pack(">HH5i", 3, 0, *(round(v * 65536) for v in (2.4, 1 / 1.055, 0.055 / 1.055, 1 / 12.92, 0.04045)))

    def text(words: str) -> bytes:
        body = words.encode("utf-16-be")
        return b"mluc\0\0\0\0" + struct.pack(">II2s2sII", 1, 12, b"en", b"US", len(body), 28) + body

    chad = b"sf32\0\0\0\0" + struct.pack(">9i", *(round(v * 65536) for v in to_d50.ravel()))
    tags = {
        b"desc": text(names[primaries]),
        b"cprt": text("No rights reserved"),
        b"wtpt": _tag_xyz(D50_XYZ),
        b"rXYZ": _tag_xyz(columns[:, 0]),
        b"gXYZ": _tag_xyz(columns[:, 1]),
        b"bXYZ": _tag_xyz(columns[:, 2]),
        b"rTRC": curve,
        b"gTRC": curve,
        b"bTRC": curve,
        b"chad": chad,
    }
    return assembled(b"mntr", b"XYZ ", 0x04300000, tags)


def assembled(device: bytes, connection: bytes, version: int, tags: dict[bytes, bytes]) -> bytes:
    """A profile of an RGB device of a class (`mntr`, `prtr`), whose colours connect as `XYZ ` or `Lab `, of its tags; equal ones stand once."""
    table, body, places = b"", b"", {}
    start = 128 + 4 + 12 * len(tags)
    for name, data in tags.items():
        if data not in places:
            places[data] = start + len(body)
            body += data + b"\0" * (-len(data) % 4)
        table += struct.pack(">4sII", name, places[data], len(data))
    head = struct.pack(">I4sI4s4s4s", start + len(body), b"\0\0\0\0", version, device, b"RGB ", connection)
    head += struct.pack(">6H4s", 2026, 4, 1, 0, 0, 0, b"acsp") + b"\0" * 28 + struct.pack(">3i", *PCS_WHITE)
    return head.ljust(128, b"\0") + struct.pack(">I", len(tags)) + table + body


@lru_cache(maxsize=4)
def standard_encoding(primaries: str) -> Encoding:
    """The encoding of a named set of primaries with the exact sRGB curve, and the profile that tells it."""
    curve = decode_srgb(np.linspace(0, 1, STEPS))
    return Encoding(np.stack([curve] * 3), WORK_FROM_XYZ @ rgb_to_xyz(primaries), make_profile(primaries))


def wide_encoding(to_work: Matrix, peak: float) -> Encoding:
    """Codes whose light, in channels that `to_work` takes to linear Rec. 2020, is `peak` times their square: a range
    beyond white, with noise taking as many codes everywhere."""
    return Encoding(np.stack([peak * np.linspace(0, 1, STEPS) ** 2] * 3), to_work, None)


def linear_encoding(to_work: Matrix, peak: float = 1.0) -> Encoding:
    """Codes in proportion to light up to `peak`, in channels that `to_work` takes to linear Rec. 2020."""
    return Encoding(np.stack([np.linspace(0, peak, STEPS)] * 3), to_work, None)
