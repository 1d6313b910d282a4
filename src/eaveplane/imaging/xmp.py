"""XMP packets (ISO 16684-1): carried whole, with what is told of the picture, and with the recipe inside."""

from __future__ import annotations

import base64
import io
import zlib
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import cast
from xml.etree import ElementTree as Xml

EMPTY = (Path(__file__).parent / "empty.xmp").read_bytes()
"""A packet with nothing in it, with the names of its parts as their standards have them, and of ours."""
PNG_KEYWORD = EMPTY.partition(b" -->")[0].split()[-1]
NAMES = dict(cast(tuple[str, str], named) for _, named in Xml.iterparse(io.BytesIO(EMPTY), events=["start-ns"]))
for prefix, space in NAMES.items():
    Xml.register_namespace(prefix, space)
RDF, DC, XMP, TIFF, OURS = (NAMES[prefix] for prefix in ("rdf", "dc", "xmp", "tiff", "eaveplane"))
XML = "http://www.w3.org/XML/1998/namespace"
MOST_RECIPE = 1 << 26
_OF_PLACES = ("GPS", "Location", "City", "Country", "State", "Sublocation", "CountryCode")
_OF_PIXELS = {f"{{{TIFF}}}{name}" for name in ("Orientation", "ImageWidth", "ImageLength", "XResolution", "YResolution", "ResolutionUnit", "BitsPerSample", "Compression")}


def packet(source: bytes, texts: Mapping[str, str], keywords: Sequence[str], facts: Mapping[str, str], keep_position: bool) -> bytes:
    """A packet of all that `source` says, texts (`title`, `description`, `creator`, `rights`) in place of those that are given, keywords
    and our own facts by name. A source that cannot be read counts as empty."""
    root = _opened(source)
    about = root.find(f"{{{RDF}}}RDF/{{{RDF}}}Description")
    assert about is not None
    for described in root.iter(f"{{{RDF}}}Description"):
        _without_pixels(described, keep_position)
    for name, text in texts.items():
        if text:
            _set(root, about, f"{{{DC}}}{name}", "Seq" if name == "creator" else "Alt", [text])
    if keywords:
        _set(root, about, f"{{{DC}}}subject", "Bag", keywords)
    about.set(f"{{{XMP}}}CreatorTool", "Eaveplane")
    for name, text in facts.items():
        about.set(f"{{{OURS}}}{name}", text)
    body = Xml.tostring(root, encoding="unicode")
    return f'<?xpacket begin="\ufeff" id="W5M0MpCehiHzreSzNTczkc9d"?>\n{body}\n<?xpacket end="w"?>'.encode()


def _opened(source: bytes) -> Xml.Element:
    """The tree of a packet, of which a description can be found; a new one where there is none, or one that declares entities."""
    text = source.strip(b"\0 \n\r\t")
    try:
        if text and b"<!DOCTYPE" not in text and b"<!ENTITY" not in text:
            found = Xml.fromstring(text.decode("utf-8", "replace"))
            if found.tag == f"{{{RDF}}}RDF":
                whole = Xml.fromstring(EMPTY)
                whole[:] = [found]
                found = whole
            if found.find(f"{{{RDF}}}RDF/{{{RDF}}}Description") is not None:
                return found
    except Xml.ParseError:
        pass
    return Xml.fromstring(EMPTY)


def _without_pixels(described: Xml.Element, keep_position: bool) -> None:
    """Without what tells of pixels as they were, of an earlier recipe, and of the position where that is not kept."""

    def gone(name: str) -> bool:
        return name in _OF_PIXELS or name.startswith(f"{{{OURS}}}") or (not keep_position and name.rpartition("}")[2].startswith(_OF_PLACES))

    for name in [n for n in described.attrib if gone(n)]:
        del described.attrib[name]
    for child in [c for c in described if gone(c.tag)]:
        described.remove(child)


def _set(root: Xml.Element, about: Xml.Element, name: str, kind: str, values: Sequence[str]) -> None:
    for described in root.iter(f"{{{RDF}}}Description"):
        described.attrib.pop(name, None)
        for old in described.findall(name):
            described.remove(old)
    listed = Xml.SubElement(Xml.SubElement(about, name), f"{{{RDF}}}{kind}")
    for value in values:
        Xml.SubElement(listed, f"{{{RDF}}}li", {f"{{{XML}}}lang": "x-default"} if kind == "Alt" else {}).text = value


def packed(text: str) -> str:
    """A long text, such as a recipe, as it stands in a packet."""
    return base64.b64encode(zlib.compress(text.encode(), 9)).decode()


def recipe_in(source: bytes) -> str | None:
    """The recipe that a packet holds, as text; None where it holds none that can be read."""
    for described in _opened(source).iter(f"{{{RDF}}}Description"):
        held = described.get(f"{{{OURS}}}Recipe")
        if held:
            try:
                opened = zlib.decompressobj()
                return opened.decompress(base64.b64decode(held), MOST_RECIPE).decode()
            except (ValueError, zlib.error):
                return None
    return None
