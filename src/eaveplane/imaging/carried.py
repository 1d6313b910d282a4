"""What a file says of its taking, carried whole from the original into what is delivered."""

from __future__ import annotations

import base64
import io
import json
import struct
from pathlib import Path
from typing import BinaryIO

from PIL import Image

from .exif import Carried
from .tiffdir import ASCII, EXIF_POINTER, MOST_PACKET, POSITION_POINTER, XMP, Entry, begins_directories, read_directory

MAIN_TAGS = frozenset((0x010E, 0x010F, 0x0110, 0x0132, 0x013B, 0x8298, 0x4746, 0x4749, 0x83BB, *range(0x9C9B, 0x9CA0), 0xC62F))
"""Description, maker, model, time, author, rights, rating, press data, keywords and the like; what tells of the pixels' storage is ours."""
NOT_CARRIED = frozenset((0x927C, 0xA005, 0xA001, 0xA002, 0xA003, 0x9101, 0x9102))
"""Maker notes, whose places inside the file would no longer be right, and what tells of pixels as they were."""
DESCRIPTION, AUTHOR, RIGHTS = 0x010E, 0x013B, 0x8298


def read_carried(path: Path) -> Carried:
    """What a picture file says of its taking, and nothing, never an error, where it says nothing or is damaged. Maker notes and pictures
    inside the block stay behind."""
    try:
        with path.open("rb") as file:
            head = file.read(16)
            if begins_directories(head[:8]):
                return _of_directories(file)
        return _of_picture(path)
    except Exception:
        return Carried()


def _of_picture(path: Path) -> Carried:
    with Image.open(path) as image:
        block = image.info.get("exif", b"")
        packet = image.info.get("xmp", b"")
    xmp = packet.encode() if isinstance(packet, str) else bytes(packet)
    found = of_block(bytes(block).removeprefix(b"Exif\0\0"))
    return Carried(found.main, found.exif, found.position, xmp[:MOST_PACKET] if xmp else found.xmp)


def of_block(block: bytes) -> Carried:
    """The same from an EXIF block; empty where it cannot be read."""
    try:
        return _of_directories(io.BytesIO(block)) if block else Carried()
    except (ValueError, struct.error):
        return Carried()


def _of_directories(file: BinaryIO) -> Carried:
    file.seek(0)
    begun = begins_directories(file.read(8))
    if begun is None:
        raise ValueError("no directories")
    order, first = begun
    main = read_directory(file, first, order)
    told = {tag: value for tag, _, value in main}
    inner: dict[int, list[Entry]] = {EXIF_POINTER: [], POSITION_POINTER: []}
    for pointer in inner:
        value = told.get(pointer)
        if isinstance(value, bytes) and len(value) == 4:
            inner[pointer] = read_directory(file, struct.unpack("<I", value)[0], order)
    packet = told.get(XMP)
    return Carried(
        tuple(e for e in main if e[0] in MAIN_TAGS),
        tuple(e for e in inner[EXIF_POINTER] if e[0] not in NOT_CARRIED),
        tuple(inner[POSITION_POINTER]),
        packet if isinstance(packet, bytes) else b"",
    )


def to_json(carried: Carried) -> str:
    """As text, from which `from_json` reads the same again; entries as they were read."""

    def told(entries: tuple[Entry, ...]) -> list[tuple[int, int, str]]:
        return [(tag, kind, base64.b64encode(value).decode()) for tag, kind, value in entries if isinstance(value, bytes)]

    return json.dumps({"main": told(carried.main), "exif": told(carried.exif), "position": told(carried.position), "xmp": base64.b64encode(carried.xmp).decode()})


def from_json(text: str) -> Carried:
    """The inverse of `to_json`."""
    kept = json.loads(text)

    def read(entries: list[tuple[int, int, str]]) -> tuple[Entry, ...]:
        return tuple((tag, kind, base64.b64decode(value)) for tag, kind, value in entries)

    return Carried(read(kept["main"]), read(kept["exif"]), read(kept["position"]), base64.b64decode(kept["xmp"]))


def named(carried: Carried, description: str, author: str, rights: str) -> Carried:
    """The same with texts in place of those that are given, empty ones as they were."""
    told: list[Entry] = [(tag, ASCII, text) for tag, text in ((DESCRIPTION, description), (AUTHOR, author), (RIGHTS, rights)) if text]
    tags = {tag for tag, _, _ in told}
    return Carried((*told, *(e for e in carried.main if e[0] not in tags)), carried.exif, carried.position, carried.xmp)
