"""What is delivered: format, profile, size, name."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Literal

from pydantic import Field

from ...imaging.exif import Metadata
from ...imaging.formats.registry import FORMATS
from ...parameter import Parameters, parameter

Format = Literal["tiff", "png", "jpeg"]
Profile = Literal["input", "srgb", "rec2020"]
MOST_BYTES = 120
SUFFIX = {format.name: format.suffixes[0] for format in FORMATS if format.write}


class Delivery(Parameters):
    """How the finished picture is written."""

    format: Format = "tiff"
    profile: Profile = "input"
    long_edge: int = Field(0, ge=0, le=60000)
    quality: float = parameter(92, 40, 100, 1, "Quality", "Of a JPEG; higher is larger.", "", "File")
    name: str = Field("{scene} {frames}f {date}", max_length=120)
    folder: str = Field("", max_length=1000)


WORDS = ("outing", "scene", "frames", "date", "detail", "aperture", "focal", "first", "last", "sharpening")
"""What name templates can tell."""


def unknown_words(template: str) -> list[str]:
    """Words in braces that stand for nothing."""
    return [word for word in re.findall(r"\{([^{}]*)\}", template) if word not in WORDS]


def facts_of(outing: str, scene: str, frames: list[str], metas: list[Metadata], date: str, detail: float, sharpen: float) -> dict[str, str]:
    """What a name can tell of a scene whose kept frames have these file names and facts; empty where a file does not say."""

    def shared(values: list[float | None], told: str) -> str:
        known = sorted({v for v in values if v})
        return told.format(known[0]) if len(known) == 1 else f"{told.format(known[0])}-{told.format(known[-1])}" if known else ""

    first, last = (Path(frames[k]).stem if frames else "" for k in (0, -1))
    aperture, focal = shared([m.f_number for m in metas], "f{:g}"), shared([m.focal_mm for m in metas], "{:g}mm")
    sharpening = f"sharp{sharpen:g}" if sharpen else "unsharpened"
    values = (outing, scene, str(len(frames)), date, f"{detail:g}px", aperture, focal, first, last, sharpening)
    return dict(zip(WORDS, values, strict=True))


def file_name(template: str, facts: dict[str, str]) -> str:
    """A name from a template whose words in braces are replaced by facts; never a path, never empty, no longer than 120 bytes.

    Words that are no facts stay as they stand.

    >>> file_name("{scene}, {frames} frames", {"scene": "Dawn 1/2", "frames": "5"})
    'Dawn 1-2, 5 frames'
    """
    name = re.sub(r"\{(\w+)\}", lambda m: facts.get(m.group(1), m.group(0)), template)
    name = re.sub(r'[\x00-\x1f/\\:*?"<>|]+', "-", name).strip(" .")
    return name.encode()[:MOST_BYTES].decode(errors="ignore").strip(" .") or "picture"


def beside(originals: list[Path], folder: str) -> Path:
    """The folder for a result: the one chosen, else that of the first original."""
    return Path(folder).expanduser() if folder.strip() else originals[0].parent
