"""TIFF directories as bytes and back, for the raw files of the field camera, for what is delivered and for EXIF that is carried along."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from fractions import Fraction
from typing import BinaryIO

import numpy as np

BYTE, ASCII, SHORT, LONG, RATIONAL, UNDEFINED, SRATIONAL, LONG8 = 1, 2, 3, 4, 5, 7, 10, 16
WIDTHS = {BYTE: 1, ASCII: 1, SHORT: 2, LONG: 4, RATIONAL: 8, 6: 1, UNDEFINED: 1, 8: 2, 9: 4, SRATIONAL: 8, 11: 4, 12: 8, 13: 4, LONG8: 8}
"""Bytes of one value of a type."""
Entry = tuple[int, int, object]
"""Tag, type, value: text, a number, a sequence of numbers, or bytes as they are to stand in the file, little-endian."""


MOST_RATIONAL = 2_000_000_000
"""Above it a number stands for infinity, as EXIF writes it."""


def _rational(value: float, signed: bool) -> bytes:
    if value > MOST_RATIONAL:
        return struct.pack("<II", 0xFFFFFFFF, 1)
    # both halves have 32 bits, one of them a sign where it is signed
    ratio = Fraction(value).limit_denominator(max(1, min(1_000_000, int(MOST_RATIONAL / max(1.0, abs(value))))))
    return struct.pack("<ii" if signed else "<II", ratio.numerator, ratio.denominator)


def _payload(kind: int, value: object) -> tuple[int, bytes]:
    if isinstance(value, bytes):
        return len(value) // WIDTHS[kind], value
    if kind == ASCII:
        text = str(value).encode("utf-8", "replace") + b"\0"
        return len(text), text
    if kind in (BYTE, UNDEFINED):
        raw = bytes(value)  # type: ignore[call-overload]
        return len(raw), raw
    values = np.atleast_1d(np.asarray(value))
    if kind in (RATIONAL, SRATIONAL):
        return len(values), b"".join(_rational(float(v), kind == SRATIONAL) for v in values)
    return len(values), np.asarray(values).astype({SHORT: "<u2", LONG8: "<u8"}.get(kind, "<u4")).tobytes()


@dataclass(frozen=True)
class Layout:
    """How directories of a file are laid out: those of TIFF, or of BigTIFF, whose places have 64 bits."""

    header: bytes
    count: str
    entry: str
    place: str

    @property
    def inline(self) -> int:
        """Bytes of a value that stand in the entry itself."""
        return struct.calcsize(self.place)

    def length(self, entries: int) -> int:
        """Bytes of a directory without its longer values."""
        return struct.calcsize(self.count) + entries * (struct.calcsize(self.entry) + self.inline) + self.inline


CLASSIC = Layout(struct.pack("<2sHI", b"II", 42, 8), "<H", "<HHI", "<I")
BIG = Layout(struct.pack("<2sHHHQ", b"II", 43, 8, 0, 16), "<Q", "<HHQ", "<Q")
HEADER = CLASSIC.header


def directory(entries: list[Entry], start: int, layout: Layout = CLASSIC, following: int = 0) -> bytes:
    """A little-endian directory that will stand at byte `start`, its longer values right behind it; `following` is where the next one stands."""
    entries = sorted(entries, key=lambda e: e[0])
    after = start + layout.length(len(entries))
    table, tail = struct.pack(layout.count, len(entries)), b""
    for tag, kind, value in entries:
        count, payload = _payload(kind, value)
        table += struct.pack(layout.entry, tag, kind, count)
        if len(payload) <= layout.inline:
            table += payload.ljust(layout.inline, b"\0")
        else:
            table += struct.pack(layout.place, after + len(tail))
            tail += payload + b"\0" * (len(payload) % 2)
    return table + struct.pack(layout.place, following) + tail


XMP = 0x02BC
MOST_ENTRIES, MOST_VALUE, MOST_PACKET = 400, 1 << 16, 1 << 24
"""Entries of a directory, and bytes of a value; a packet, which may hold a recipe with all its strokes, may be longer."""
_ORDERS = {b"II": "<", b"MM": ">"}
_NUMBERS = {SHORT: "H", LONG: "I", RATIONAL: "I", 8: "h", 9: "i", SRATIONAL: "i", 11: "f", 12: "d", 13: "I"}


def read_directory(file: BinaryIO, place: int, order: str) -> list[Entry]:
    """The entries of a directory at a byte of a file, in the byte order `<` or `>`, with their values as little-endian bytes; longer
    ones than there is room for are passed over. Raises ValueError where there is none."""
    file.seek(place)
    head = file.read(2)
    if len(head) < 2:
        raise ValueError("a directory is cut off")
    (count,) = struct.unpack(order + "H", head)
    if not 0 < count <= MOST_ENTRIES:
        raise ValueError(f"a directory of {count} entries")
    table = file.read(12 * count)
    found: list[Entry] = []
    for k in range(len(table) // 12):
        tag, kind, number = struct.unpack_from(order + "HHI", table, 12 * k)
        size = WIDTHS.get(kind, 0) * number
        if not 0 < size <= (MOST_PACKET if tag == XMP else MOST_VALUE):
            continue
        data = table[12 * k + 8 : 12 * k + 8 + size]
        if size > 4:
            file.seek(struct.unpack_from(order + "I", table, 12 * k + 8)[0])
            data = file.read(size)
        if len(data) == size:
            found.append((tag, kind, data if order == "<" or kind not in _NUMBERS else np.frombuffer(data, ">" + _NUMBERS[kind]).astype("<" + _NUMBERS[kind]).tobytes()))
    return found


def begins_directories(head: bytes) -> tuple[str, int] | None:
    """The byte order of a file of directories that begins with these 8 bytes, as TIFF and most raw files do, and where the first one stands."""
    order = _ORDERS.get(head[:2])
    if order is None or len(head) < 8 or head[2:4] in (b"\x2b\0", b"\0\x2b"):
        return None
    return order, struct.unpack(order + "I", head[4:8])[0]


EXIF_POINTER, POSITION_POINTER = 0x8769, 0x8825
