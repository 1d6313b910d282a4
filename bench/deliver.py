"""Delivery: how fast TIFF is written against its library, how batches grow with workers, and with machines by their recorded times.

`python -m bench.deliver [write|batch]` prints rows of docs/quality.md.
"""

from __future__ import annotations

import heapq
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np
import tifffile

from bench.look import shot
from eaveplane.fieldcam.order import Order
from eaveplane.imaging.exif import Metadata
from eaveplane.imaging.formats.format import Saving
from eaveplane.imaging.formats.registry import write_picture
from eaveplane.imaging.rows import CORES, CORES_NAME

SCENES = int(os.environ.get("BENCH_SCENES", "12"))
LARGE = (6000, 4000)


def best(work: Callable[[], object], rounds: int = 3) -> float:
    """The least seconds that some work took."""
    found = []
    for _ in range(rounds):
        begin = time.perf_counter()
        work()
        found.append(time.perf_counter() - begin)
    return min(found)


def picture() -> np.ndarray:
    """24 megapixels with structure of every size and noise."""
    rng = np.random.default_rng(19)
    total = np.zeros((LARGE[1], LARGE[0], 3), np.float32)
    for octave in range(8):
        small = rng.normal(0, 1, (LARGE[1] >> octave, LARGE[0] >> octave, 3)).astype(np.float32)
        total += cv2.resize(small, LARGE, interpolation=cv2.INTER_CUBIC) * (120 * 2.0**octave)
    return np.clip(total + 30000, 0, 65535).astype(np.uint16)


def write() -> list[str]:
    codes = picture()
    rows = []
    with tempfile.TemporaryDirectory() as folder:
        ours, theirs = Path(folder) / "a.tif", Path(folder) / "b.tif"
        for name, packing, compression in (("deflate", "deflate", "zlib"), ("LZW", "lzw", "lzw"), ("not packed", "none", None)):
            spent = best(lambda packing=packing: write_picture(ours, codes, None, Metadata(), Saving(packing=packing), replace=True))  # type: ignore[misc]
            library = best(lambda compression=compression: tifffile.imwrite(theirs, codes, photometric="rgb", compression=compression, predictor=bool(compression), maxworkers=CORES))  # type: ignore[misc]
            rows.append(f"| {name} | {spent:.2f} | {ours.stat().st_size / 1e6:.0f} | {library:.2f} | {theirs.stat().st_size / 1e6:.0f} |")
        np.save(Path(folder) / "codes.npy", codes)
        held = subprocess.run([sys.executable, "-c", MEMORY, folder], capture_output=True, text=True, check=True).stdout.split()
    told = f"Writing 24 megapixels of 16 bits, {CORES} cores, the best of three, beside the TIFF library's own writer on as many:"
    head = [told, "", "| packed | s | MB | library s | MB |", "|---|---|---|---|---|"]
    return [*head, *rows, "", f"Memory while a deflated one is written, in frames (24 MP, 16 bits): {float(held[0]):.2f}, of which the picture itself is 1.", ""]


MEMORY = """
import sys
from pathlib import Path
import numpy as np
from eaveplane.cli.shared import peak_bytes
from eaveplane.imaging.exif import Metadata
from eaveplane.imaging.formats.format import Saving
from eaveplane.imaging.formats.registry import write_picture
before = peak_bytes()
codes = np.load(sys.argv[1] + "/codes.npy")
write_picture(Path(sys.argv[1]) / "m.tif", codes, None, Metadata(), Saving(packing="deflate"))
print((peak_bytes() - before) / codes.nbytes)
"""


def batch() -> list[str]:
    """Scenes of three frames of six megapixels: with one worker and with two, of a core each; one worker with all cores beside them."""
    frames = shot("batch_6mp", Order(landscape="saltpan", long_side_px=3000, count=3, seed=19, preview=False))
    spent: dict[tuple[int, int], float] = {}
    times: list[float] = []
    with tempfile.TemporaryDirectory() as home:
        for k in range(SCENES):
            folder = Path(home) / "in" / f"{k:02d}"
            folder.mkdir(parents=True)
            for frame in frames:
                shutil.copy(frame, folder)
        for workers, cores in ((1, 1), (2, 1), (1, CORES)):
            out, report = Path(home) / f"out{workers}{cores}", Path(home) / f"{workers}{cores}.json"
            call = [sys.executable, "-m", "eaveplane.cli", "batch", str(Path(home) / "in"), "--out", str(out), "--workers", str(workers), "--report", str(report)]
            env = {**os.environ, **({CORES_NAME: str(workers * cores)} if cores == 1 else {})}
            begin = time.perf_counter()
            subprocess.run(call, env=env, check=False, stderr=subprocess.DEVNULL)
            spent[workers, cores] = time.perf_counter() - begin
            if (workers, cores) == (1, 1):
                times = [scene["seconds"] for scene in json.loads(report.read_text())["scenes"]]
            print(workers, cores, round(spent[workers, cores], 1), file=sys.stderr, flush=True)
    one, two, all_cores = spent[1, 1], spent[2, 1], spent[1, CORES]
    rows = [f"{SCENES} scenes of 3 × 6 MP: one worker with one core {one:.0f} s, two of them {two:.0f} s ({one / two:.2f} times as fast); one worker with {CORES} cores {all_cores:.0f} s.", ""]
    many = (times * (24 // len(times) + 1))[:24]
    grown = ", ".join(f"{n} workers {grow(many, 1) / grow(many, n):.1f}" for n in (1, 2, 4, 16, 64))
    return [*rows, f"24 scenes by the recorded times of these, each going to the first worker that is free: {grown} times as fast as one.", ""]


def grow(times: list[float], workers: int) -> float:
    """Seconds until the last scene is done where each goes to the first worker that is free."""
    free = [0.0] * workers
    for spent in times:
        heapq.heappush(free, heapq.heappop(free) + spent)
    return max(free)


def section() -> list[str]:
    """Rows of docs/quality.md."""
    return [*write(), *batch()]


if __name__ == "__main__":
    for part in sys.argv[1:] or ["write", "batch"]:
        print("\n".join({"write": write, "batch": batch}[part]()), flush=True)
