"""What a file says about its taking: read from any format, written into what is delivered."""

from __future__ import annotations

import logging
import math
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path

import exifread

from .tiffdir import ASCII, EXIF_POINTER, HEADER, LONG, RATIONAL, SHORT, UNDEFINED, Entry, directory

FIRST_YEAR = 1970
"""No camera wrote a date before it; a file that tells one tells none."""
logging.getLogger("exifread").setLevel(logging.CRITICAL)


@dataclass(frozen=True)
class Metadata:
    """None where the file does not say. Seconds, mm, metres (`inf` allowed); `orientation` is EXIF's 1..8."""

    taken: datetime | None = None
    seconds: float | None = None
    f_number: float | None = None
    iso: int | None = None
    focal_mm: float | None = None
    focus_m: float | None = None
    camera: str | None = None
    lens: str | None = None
    orientation: int = 1

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
            if fraction and fraction.isdigit():
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
        orientation=orientation if 1 <= orientation <= 8 else 1,
    )


def _positive(value: float | None) -> float | None:
    return value if value is not None and 0 < value < math.inf else None


def exif_entries(meta: Metadata) -> tuple[list[Entry], list[Entry]]:
    """Entries for the main and for the EXIF directory."""
    main: list[Entry] = [(0x0112, SHORT, meta.orientation), (0x0131, ASCII, "Eaveplane")]
    exif: list[Entry] = [(0x9000, UNDEFINED, b"0230")]
    if meta.camera:
        main.append((0x0110, ASCII, meta.camera))
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


def exif_block(meta: Metadata) -> bytes:
    """A whole EXIF block (a small TIFF), as JPEG and PNG carry it."""
    main, exif = exif_entries(meta)
    pointed: list[Entry] = [*main, (EXIF_POINTER, LONG, 0)]
    exif_at = len(HEADER) + len(directory(pointed, len(HEADER)))
    pointed[-1] = (EXIF_POINTER, LONG, exif_at)
    return HEADER + directory(pointed, len(HEADER)) + directory(exif, exif_at)
