"""Names and places of delivered files."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from ...imaging.exif import Metadata

MOST_BYTES = 120
WORDS = ("outing", "scene", "frames", "date", "detail", "aperture", "focal", "first", "last", "sharpening", "way", "seam", "output", "width", "height", "counter")
"""What name templates can tell."""


def unknown_words(template: str) -> list[str]:
    """Words in braces that stand for nothing."""
    return [word for word in re.findall(r"\{([^{}]*)\}", template) if word not in WORDS]


def of_frames(files: Sequence[str], metas: Sequence[Metadata]) -> dict[str, str]:
    """What kept frames of these file names and facts can tell a name; empty where a file does not say."""

    def shared(values: list[float | None], told: str) -> str:
        known = sorted({v for v in values if v})
        return told.format(known[0]) if len(known) == 1 else f"{told.format(known[0])}-{told.format(known[-1])}" if known else ""

    first, last = (Path(files[k]).stem if files else "" for k in (0, -1))
    aperture, focal = shared([m.f_number for m in metas], "f{:g}"), shared([m.focal_mm for m in metas], "{:g}mm")
    return {"frames": str(len(files)), "aperture": aperture, "focal": focal, "first": first, "last": last}


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
