"""Pictures of several layers: OpenRaster (its specification, version 0.0.6) and TIFF of several pages."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from xml.etree import ElementTree as Xml

import cv2
import numpy as np
from numpy.typing import NDArray
from PIL import Image

from ..exif import Metadata
from .format import Saving, eight_bits
from .png import png_bytes
from .tiffwrite import Page, write_pages

THUMBNAIL = 256


@dataclass(frozen=True, eq=False)
class Layer:
    """A picture of codes (h, w, 3 or 4) of 16 bits, the fourth alpha, that lies over those after it; `hidden` ones are there and not seen."""

    name: str
    codes: NDArray[np.uint16]
    hidden: bool = False


def write_openraster(path: Path, layers: Iterable[Layer], merged: NDArray[np.uint16], profile: bytes | None, saving: Saving) -> None:
    """Write layers, the topmost first, and the picture (h, w, 3) they make together. Each is kept without the empty rim around it, at 16 bits
    or 8 as `saving` says."""
    height, width = merged.shape[:2]
    resolution = str(round(saving.density))
    image = Xml.Element("image", {"version": "0.0.6", "w": str(width), "h": str(height), "xres": resolution, "yres": resolution})
    stack = Xml.SubElement(image, "stack")
    with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED) as file:
        file.writestr("mimetype", "image/openraster")
        for number, layer in enumerate(layers):
            codes, left, top = _trimmed(layer.codes)
            source = f"data/layer{number:02d}.png"
            _store(file, source, codes, profile, saving)
            told = {"name": layer.name, "src": source, "x": str(left), "y": str(top), "opacity": "1.0", "composite-op": "svg:src-over"}
            Xml.SubElement(stack, "layer", {**told, "visibility": "hidden" if layer.hidden else "visible"})
        file.writestr("stack.xml", b'<?xml version="1.0" encoding="UTF-8"?>\n' + Xml.tostring(image, encoding="utf-8"), zipfile.ZIP_DEFLATED)
        _store(file, "mergedimage.png", merged, profile, saving)
        scale = min(1.0, THUMBNAIL / max(width, height))
        small = cv2.resize(merged, (max(1, round(width * scale)), max(1, round(height * scale))), interpolation=cv2.INTER_AREA)
        held = io.BytesIO()
        Image.fromarray(eight_bits(np.asarray(small, np.uint16)), "RGB").save(held, "PNG", icc_profile=profile)
        file.writestr("Thumbnails/thumbnail.png", held.getvalue())


def _store(file: zipfile.ZipFile, name: str, codes: NDArray[np.uint16], profile: bytes | None, saving: Saving) -> None:
    with file.open(name, "w", force_zip64=True) as entry:
        for part in png_bytes(codes if saving.bits == 16 else eight_bits(codes), profile):
            entry.write(part)


def _trimmed(codes: NDArray[np.uint16]) -> tuple[NDArray[np.uint16], int, int]:
    """Codes without the rows and columns around them that are wholly transparent, and where what is left begins (x, y)."""
    if codes.shape[2] < 4 or codes[..., 3].all():
        return codes, 0, 0
    rows, columns = (np.flatnonzero(codes[..., 3].any(axis=axis)) for axis in (1, 0))
    if not len(rows):
        return np.zeros((1, 1, 4), np.uint16), 0, 0
    return codes[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1], int(columns[0]), int(rows[0])


def write_layers(path: Path, layers: Iterable[Layer], count: int, merged: NDArray[np.uint16], profile: bytes | None, meta: Metadata, saving: Saving) -> None:
    """Write the picture and up to `count` layers as pages of one TIFF, the picture first."""

    def codes_of(codes: NDArray[np.uint16]) -> NDArray[Any]:
        return codes if saving.bits == 16 else eight_bits(codes)

    def pages() -> Iterable[Page]:
        yield Page(codes_of(merged), profile, "Result", meta)
        for layer in layers:
            yield Page(codes_of(layer.codes), profile, layer.name)

    write_pages(path, pages(), saving, (count + 1) * merged[..., :1].nbytes * 4)
