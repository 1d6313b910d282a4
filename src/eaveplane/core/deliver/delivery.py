"""What is delivered: format, profile, size, name."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Literal

from pydantic import Field

from ...parameter import Parameters, parameter

Format = Literal["tiff", "png", "jpeg"]
Profile = Literal["input", "srgb", "rec2020"]
SUFFIX: dict[Format, str] = {"tiff": ".tif", "png": ".png", "jpeg": ".jpg"}


class Delivery(Parameters):
    """How the finished picture is written."""

    format: Format = "tiff"
    profile: Profile = "input"
    long_edge: int = Field(0, ge=0, le=60000)
    quality: float = parameter(92, 40, 100, 1, "Quality", "Of a JPEG; higher is larger.", "", "File")
    name: str = Field("{scene} {frames}f {date}", max_length=120)
    folder: str = Field("", max_length=1000)


def file_name(template: str, facts: dict[str, str]) -> str:
    """A name from a template whose words in braces are replaced by facts; never a path, never empty.

    Words that are no facts stay as they stand.
    """
    name = re.sub(r"\{(\w+)\}", lambda m: facts.get(m.group(1), m.group(0)), template)
    name = re.sub(r'[\x00-\x1f/\\:*?"<>|]+', "-", name).strip(" .")
    return name[:120] or "picture"


def beside(originals: list[Path], folder: str) -> Path:
    """The folder for a result: the one chosen, else that of the first original."""
    return Path(folder).expanduser() if folder.strip() else originals[0].parent
