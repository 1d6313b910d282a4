"""TIFF directories as bytes, for the raw files of the field camera and for EXIF in what is delivered."""

from __future__ import annotations

import struct
from fractions import Fraction

import numpy as np

BYTE, ASCII, SHORT, LONG, RATIONAL, UNDEFINED, SRATIONAL = 1, 2, 3, 4, 5, 7, 10
Entry = tuple[int, int, object]
"""Tag, type, value: text, bytes, a number or a sequence of numbers."""


MOST_RATIONAL = 2_000_000_000
"""Above it a number stands for infinity, as EXIF writes it."""


def _rational(value: float, signed: bool) -> bytes:
    if value > MOST_RATIONAL:
        return struct.pack("<II", 0xFFFFFFFF, 1)
    # both halves have 32 bits, one of them a sign where it is signed
    ratio = Fraction(value).limit_denominator(max(1, min(1_000_000, int(MOST_RATIONAL / max(1.0, abs(value))))))
    return struct.pack("<ii" if signed else "<II", ratio.numerator, ratio.denominator)


def _payload(kind: int, value: object) -> tuple[int, bytes]:
    if kind == ASCII:
        text = str(value).encode("utf-8", "replace") + b"\0"
        return len(text), text
    if kind in (BYTE, UNDEFINED):
        raw = bytes(value)  # type: ignore[call-overload]
        return len(raw), raw
    values = np.atleast_1d(np.asarray(value))
    if kind in (RATIONAL, SRATIONAL):
        return len(values), b"".join(_rational(float(v), kind == SRATIONAL) for v in values)
    return len(values), struct.pack(f"<{len(values)}{'H' if kind == SHORT else 'I'}", *(int(v) for v in values))


def directory(entries: list[Entry], start: int) -> bytes:
    """A little-endian directory that will stand at byte `start`, its longer values right behind it."""
    entries = sorted(entries, key=lambda e: e[0])
    after = start + 2 + 12 * len(entries) + 4
    table, tail = struct.pack("<H", len(entries)), b""
    for tag, kind, value in entries:
        count, payload = _payload(kind, value)
        if len(payload) <= 4:
            table += struct.pack("<HHI", tag, kind, count) + payload.ljust(4, b"\0")
        else:
            table += struct.pack("<HHII", tag, kind, count, after + len(tail))
            tail += payload + b"\0" * (len(payload) % 2)
    return table + struct.pack("<I", 0) + tail


HEADER = struct.pack("<2sHI", b"II", 42, 8)
EXIF_POINTER, POSITION_POINTER = 0x8769, 0x8825
