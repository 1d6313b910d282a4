"""How long pages take with a full shelf: an outing of 600 files in 60 scenes, none of them computed."""

from __future__ import annotations

import re
import sys
import tempfile
import time
from datetime import datetime
from pathlib import Path

from eaveplane.imaging.exif import Metadata
from eaveplane.imaging.formats.registry import Facts
from eaveplane.jobs.worker import Worker
from eaveplane.pipeline.library import Library
from eaveplane.pipeline.pictures import stamp_of
from eaveplane.recipe import FrameChoice, Recipe
from eaveplane.store import outings, scenes
from eaveplane.web.app import create_app

SCENES, FRAMES = 60, 10
STAGES = ("gather", "even", "register", "weave", "mend", "finish", "deliver")
PAGES = ("/", "/outing/1", "/outing/1?stage=all", "/outing/1/many", "/planner/", "/camera/", "/queue/", *(f"/scene/30/{stage}" for stage in STAGES))


def full(home: Path, count: int) -> Library:
    """A library with `count` scenes in one outing."""
    library = Library(home / "library")
    folder = home / "card"
    folder.mkdir()
    outing = outings.add_outing(library.db, "A long day", folder)
    for n in range(count * FRAMES):
        path = folder / f"F{n:04d}.tif"
        path.write_bytes(b"made up")
        facts = Facts(1800, 1200, "tiff", Metadata(taken=datetime(2026, 5, 1, 6, n // 60 % 60, n % 60)))
        outings.add_file(library.db, outing, path, path.name, f"{n:064x}", facts, None, stamp=stamp_of(path))
    ids = [r["id"] for r in outings.files_of(library.db, outing)]
    names = [r["name"] for r in outings.files_of(library.db, outing)]
    for k in range(count):
        part = slice(k * FRAMES, (k + 1) * FRAMES)
        frames = [FrameChoice(id=str(i), file=name) for i, name in zip(ids[part], names[part], strict=True)]
        scenes.add_scene(library.db, outing, f"A long day {k + 1}", Recipe(frames=frames))
    return library


def report() -> list[tuple[str, float]]:
    """Milliseconds of each page, the better of three."""
    with tempfile.TemporaryDirectory() as home:
        library = full(Path(home), SCENES)
        client = create_app(library, Worker(library)).test_client()
        found = []
        for url in PAGES:
            taken = []
            for _ in range(3):
                begin = time.perf_counter()
                answer = client.get(url)
                taken.append(1000 * (time.perf_counter() - begin))
            assert answer.status_code == 200, (url, answer.status_code)
            found.append((re.sub(r"\d+", "N", url), min(taken)))
        return found


if __name__ == "__main__":
    for url, ms in report():
        sys.stdout.write(f"{url:28} {ms:7.0f} ms\n")
