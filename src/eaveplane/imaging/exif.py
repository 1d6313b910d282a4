"""What a file says about its taking: read from any format, written into what is delivered."""

from __future__ import annotations

import logging
import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path

import exifread

from .tiffdir import ASCII, BYTE, CLASSIC, EXIF_POINTER, HEADER, LONG, LONG8, POSITION_POINTER, RATIONAL, SHORT, UNDEFINED, Entry, Layout, directory

DENSITY = 300
"""Pixels an inch that delivered files tell."""
FIRST_YEAR = 1970
"""No camera wrote a date before it; a file that tells one tells none."""
logging.getLogger("exifread").setLevel(logging.CRITICAL)


@dataclass(frozen=True)
class Metadata:
    """None where the file does not say. Seconds, mm, metres (`inf` allowed); `orientation` is EXIF's 1..8; `position` is degrees
    north, degrees east and metres above the sea."""

    taken: datetime | None = None
    seconds: float | None = None
    f_number: float | None = None
    iso: int | None = None
    focal_mm: float | None = None
    focus_m: float | None = None
    camera: str | None = None
    lens: str | None = None
    orientation: int = 1
    make: str | None = None
    author: str | None = None
    rights: str | None = None
    position: tuple[float, float, float | None] | None = None

    def upright(self) -> Metadata:
        """The same for a picture that has been turned as `orientation` asks."""
        return replace(self, orientation=1)


def _number(tags: dict[str, object], *names: str) -> float | None:
    for name in names:
        try:
            value = tags[name].values[0]  # type: ignore[attr-defined]
            if hasattr(value, "num"):
                if value.num == 0xFFFFFFFF:
                    return math.inf
                return value.num / value.den if value.den else None
            return float(value)
        except (KeyError, IndexError, TypeError, ValueError, AttributeError):
            continue
    return None


def _text(tags: dict[str, object], *names: str) -> str | None:
    for name in names:
        if name in tags:
            text = "".join(c for c in str(tags[name]) if c.isprintable()).strip()
            if text:
                return text[:120]
    return None


def read_metadata(path: Path) -> Metadata:
    """Read what is there; a file without EXIF, or with a damaged one, gives an empty answer, never an error."""
    try:
        with path.open("rb") as file:
            tags = exifread.process_file(file, details=False, extract_thumbnail=False)
    except Exception:
        return Metadata()
    taken = None
    stamp = _text(tags, "EXIF DateTimeOriginal", "EXIF DateTimeDigitized", "Image DateTime")
    if stamp:
        try:
            taken = datetime.strptime(stamp[:19], "%Y:%m:%d %H:%M:%S")
            fraction = _text(tags, "EXIF SubSecTimeOriginal", "EXIF SubSecTime")
            if fraction and fraction.isascii() and fraction.isdecimal():
                taken += timedelta(seconds=float("0." + fraction))
        except ValueError:
            taken = None
        if taken and taken.year < FIRST_YEAR:
            taken = None
    iso = _number(tags, "EXIF ISOSpeedRatings", "EXIF PhotographicSensitivity")
    turned = _number(tags, "Image Orientation") or 1
    orientation = int(turned) if math.isfinite(turned) else 1
    distance = _number(tags, "EXIF SubjectDistance")
    return Metadata(
        taken=taken,
        seconds=_positive(_number(tags, "EXIF ExposureTime")),
        f_number=_positive(_number(tags, "EXIF FNumber")),
        iso=int(iso) if iso and 0 < iso < 1e7 else None,
        focal_mm=_positive(_number(tags, "EXIF FocalLength")),
        focus_m=distance if distance and distance > 0 else None,
        camera=_text(tags, "Image Model"),
        lens=_text(tags, "EXIF LensModel"),
        make=_text(tags, "Image Make"),
        author=_text(tags, "Image Artist"),
        rights=_text(tags, "Image Copyright"),
        position=_position(tags),
        orientation=orientation if 1 <= orientation <= 8 else 1,
    )


def _position(tags: dict[str, object]) -> tuple[float, float, float | None] | None:
    """Where the picture was taken, where the file says it whole."""
    north, east = (_degrees(tags, f"GPS GPS{axis}", away) for axis, away in (("Latitude", "S"), ("Longitude", "W")))
    if north is None or east is None or abs(north) > 90 or abs(east) > 180:
        return None
    height = _number(tags, "GPS GPSAltitude")
    if height is not None and not math.isfinite(height):
        height = None
    # 1: below the sea
    below = height is not None and _number(tags, "GPS GPSAltitudeRef") == 1
    return north, east, -height if below and height is not None else height


def _degrees(tags: dict[str, object], name: str, away: str) -> float | None:
    """Degrees of three numbers; negative on the side that `away` names."""
    try:
        parts = [float(v.num) / float(v.den) for v in tags[name].values[:3]]  # type: ignore[attr-defined]
    except (KeyError, AttributeError, TypeError, ZeroDivisionError):
        return None
    value = sum(part / 60.0**k for k, part in enumerate(parts))
    return -value if _text(tags, f"{name}Ref") == away else value


def _positive(value: float | None) -> float | None:
    return value if value is not None and 0 < value < math.inf else None


def exif_entries(meta: Metadata) -> tuple[list[Entry], list[Entry]]:
    """Entries for the main and for the EXIF directory."""
    main: list[Entry] = [(0x0112, SHORT, meta.orientation), (0x0131, ASCII, "Eaveplane")]
    exif: list[Entry] = [(0x9000, UNDEFINED, b"0230")]
    main += [(tag, ASCII, text) for tag, text in ((0x010F, meta.make), (0x0110, meta.camera), (0x013B, meta.author), (0x8298, meta.rights)) if text]
    if meta.taken:
        stamp = meta.taken.strftime("%Y:%m:%d %H:%M:%S")
        main.append((0x0132, ASCII, stamp))
        exif += [(0x9003, ASCII, stamp), (0x9291, ASCII, f"{meta.taken.microsecond // 1000:03d}")]
    if meta.seconds:
        exif.append((0x829A, RATIONAL, meta.seconds))
    if meta.f_number:
        exif.append((0x829D, RATIONAL, meta.f_number))
    if meta.iso:
        exif.append((0x8827, SHORT, min(meta.iso, 65535)))
    if meta.focus_m:
        exif.append((0x9206, RATIONAL, meta.focus_m))
    if meta.focal_mm:
        exif.append((0x920A, RATIONAL, meta.focal_mm))
    if meta.lens:
        exif.append((0xA434, ASCII, meta.lens))
    return main, exif


def position_entries(meta: Metadata) -> list[Entry]:
    """Entries for the directory of the position; none where there is no position."""
    if meta.position is None:
        return []
    north, east, height = meta.position

    def parts(value: float) -> list[float]:
        whole = abs(value)
        minutes = (whole - int(whole)) * 60
        return [int(whole), int(minutes), (minutes - int(minutes)) * 60]

    found: list[Entry] = [(0x0000, BYTE, b"\x02\x03\x00\x00"), (0x0001, ASCII, "N" if north >= 0 else "S"), (0x0002, RATIONAL, parts(north))]
    found += [(0x0003, ASCII, "E" if east >= 0 else "W"), (0x0004, RATIONAL, parts(east))]
    return found if height is None else [*found, (0x0005, BYTE, bytes([int(height < 0)])), (0x0006, RATIONAL, abs(height))]


@dataclass(frozen=True)
class Carried:
    """What a file says of its taking, as it stands there: entries of the main, the EXIF and the position directory, and its XMP packet."""

    main: tuple[Entry, ...] = ()
    exif: tuple[Entry, ...] = ()
    position: tuple[Entry, ...] = ()
    xmp: bytes = b""


def _joined(*sources: Sequence[Entry]) -> list[Entry]:
    """Entries of several sources; what an earlier one tells stands."""
    found: dict[int, Entry] = {}
    for source in sources:
        for entry in source:
            found.setdefault(entry[0], entry)
    return list(found.values())


def with_exif(main: list[Entry], meta: Metadata, start: int, carried: Carried = Carried(), layout: Layout = CLASSIC, following: int = 0) -> bytes:
    """A main directory that stands at byte `start` with what else belongs to it, and those of EXIF and position right behind it."""
    about, exif = exif_entries(meta)
    # orientation and software are ours whatever the source said
    whole, behind_it = _joined(main, about[:2], carried.main, about), _joined(carried.exif, exif)
    position = list(carried.position) or position_entries(meta)
    kind = LONG if layout is CLASSIC else LONG8

    def pointed(exif_at: int, position_at: int) -> bytes:
        pointers: list[Entry] = [(EXIF_POINTER, kind, exif_at), *([(POSITION_POINTER, kind, position_at)] if position else [])]
        return directory([*whole, *pointers], start, layout, following)

    exif_at = start + len(pointed(0, 0))
    behind = directory(behind_it, exif_at, layout)
    return pointed(exif_at, exif_at + len(behind)) + behind + (directory(position, exif_at + len(behind), layout) if position else b"")


def density_entries(density: float = DENSITY) -> list[Entry]:
    """How many pixels an inch has, the same in every file."""
    return [(0x011A, RATIONAL, density), (0x011B, RATIONAL, density), (0x0128, SHORT, 2)]


def exif_block(meta: Metadata, density: float = DENSITY, carried: Carried = Carried()) -> bytes:
    """A whole EXIF block (a small TIFF), as JPEG and PNG carry it."""
    return HEADER + with_exif(density_entries(density), meta, len(HEADER), carried)
