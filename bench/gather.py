"""Gathering by the hundred: scenes, markers, brackets and order of made-up outings, faults found, and how long a full
card takes. `python -m bench.gather` prints the section that `make bench` puts into docs/quality.md."""

from __future__ import annotations

import json
import multiprocessing
import shutil
import struct
import subprocess
import sys
from collections import defaultdict
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np

from bench.cards import SIZE, deal
from bench.faults import count
from eaveplane.core.gather.composition import Glimpse, glimpse
from eaveplane.core.gather.exposures import brackets_of, exposure_step
from eaveplane.core.gather.split import Taken, split
from eaveplane.fieldcam.landscapes import LANDSCAPES
from eaveplane.fieldcam.order import Order
from eaveplane.fieldcam.outing import carry_out

HERE = Path(__file__).parents[1] / ".bench"
OUTINGS, CASES, FILES = 100, 84, 300
PLACES = [(name, focal, blades) for name in LANDSCAPES for focal, blades in ((17.0, 0), (30.0, 7))]


def split_outings(seeds: range) -> dict[str, list[int]]:
    """Scenes, markers and brackets right, and how many there were, over made-up outings; markers accused."""
    tally: dict[str, list[int]] = defaultdict(lambda: [0, 0])
    for seed in seeds:
        rng = np.random.default_rng(seed)
        card = deal(seed, int(rng.integers(1, 11)), int(rng.choice([1, 1, 3, 5])), bool(seed % 2))
        glimpses = [glimpse(f.light) for f in card.frames]
        true = defaultdict(list)
        for i, frame in enumerate(card.frames):
            if not frame.marker:
                true[frame.scene].append(i)
        markers = {i for i, frame in enumerate(card.frames) if frame.marker}
        for told in ("with", "without"):
            taken = [Taken(f.taken, SIZE, f.focal_mm) if told == "with" else Taken() for f in card.frames]
            found = split(glimpses, taken)
            _add(tally[f"scenes {told}"], sum(frames in found.scenes for frames in true.values()), len(true))
            _add(tally[f"markers {told}"], len(markers & set(found.markers())), len(markers))
            _add(tally[f"accused {told}"], len(set(found.markers()) - markers), len(card.frames) - len(markers))
            for frames in true.values():
                stops = [card.frames[i].ev for i in frames]

                def between(a: int, b: int, frames: list[int] = frames, stops: list[float] = stops, told: str = told, seen: list[Glimpse] = glimpses) -> float:
                    return exposure_step(seen[frames[a]], seen[frames[b]], stops[b] - stops[a] if told == "with" else None)

                positions: dict[int, list[int]] = defaultdict(list)
                for j, i in enumerate(frames):
                    positions[card.frames[i].place].append(j)
                right = sorted(sorted(g) for g in brackets_of(len(frames), between)) == sorted(positions.values())
                _add(tally[f"brackets {told}"], right, 1)
    return tally


def _add(pair: list[int], right: int, of: int) -> None:
    pair[0] += right
    pair[1] += of


def full_card() -> tuple[float, float]:
    """Seconds a file and peak memory in MB for `eaveplane sets` on 300 raw files of 24 megapixels with previews."""
    card, first = HERE / "full card", HERE / "full card frames"
    if not card.exists():
        print("shooting the full card …", flush=True)
        carry_out(Order(landscape="saltpan", long_side_px=6000, count=3, seed=31), first, 1, datetime(2026, 4, 11, 6, 14))
        part = HERE / "full card.part"
        shutil.rmtree(part, ignore_errors=True)
        part.mkdir(parents=True)
        frames = [p.read_bytes() for p in sorted(first.glob("*.dng"))]
        for k in range(FILES):
            data = bytearray(frames[k % 3])
            at = data.find(b"2026:04:11 06:14:")
            while at >= 0:
                minutes = 14 + 4 * (k // 3)
                data[at : at + 19] = f"2026:04:11 {6 + minutes // 60:02d}:{minutes % 60:02d}:{2 * (k % 3):02d}".encode()
                at = data.find(b"2026:04:11 06:14:", at + 19)
            data[-8:] = struct.pack("<Q", k)
            (part / f"FIELD{k + 1:04d}.dng").write_bytes(data)
        part.rename(card)
    report = HERE / "sets.json"
    subprocess.run([str(Path(sys.executable).with_name("eaveplane")), "sets", str(card), "--report", str(report), "--force"], check=True, stderr=subprocess.DEVNULL)
    told: dict[str, Any] = json.loads(report.read_text())
    assert len(told["scenes"]) == FILES // 3, len(told["scenes"])
    return told["seconds"] / FILES, told["peak_bytes"] / 2**20


def share(pair: tuple[int, int] | list[int]) -> str:
    return f"{pair[0]} of {pair[1]} ({100 * pair[0] / max(1, pair[1]):.1f} %)"


def section() -> list[str]:
    """Lines for docs/quality.md."""
    tally = split_outings(range(OUTINGS))
    lines = [f"{OUTINGS} made-up outings of 1 to 10 scenes, 2 to 7 focus positions, exposure brackets of 1, 3 or 5, half of them with markers:", ""]
    lines += ["| | with metadata | pictures alone |", "|---|---|---|"]
    for what, label in (("scenes", "scenes right"), ("markers", "markers found"), ("accused", "frames taken for markers"), ("brackets", "brackets right")):
        lines.append(f"| {label} | {share(tally[f'{what} with'])} | {share(tally[f'{what} without'])} |")
    print("\n".join(lines), flush=True)
    shown = len(lines)
    lines += ["", f"{CASES} scenes of 960 × 640 px with faults put in (`python -m bench.faults` lists what was missed):", "", "| | distances known | pictures alone |", "|---|---|---|"]
    with multiprocessing.get_context("spawn").Pool(2) as pool:
        both = pool.starmap(count, [(range(CASES), told, PLACES) for told in (True, False)])
    for flaw in ("shaken", "overshot", "redundant", "settings", "intruder"):
        lines.append(f"| {flaw} found | {' | '.join(share(t['found'].get(flaw, (0, 0))) for t in both)} |")
    lines.append(f"| good frames accused | {' | '.join(share((t['accused'], t['good'])) for t in both)} |")
    lines.append(f"| soft bands over 2 px found | {' | '.join(share(t['gaps']) for t in both)} |")
    lines.append(f"| bands told of complete sets | {' | '.join(share(t['false gaps']) for t in both)} |")
    lines.append(f"| blur within 25 % or 0.4 px, discs to 8 px | {' | '.join(share(t['blur']) for t in both)} |")
    lines.append(f"| order right | – | {share(both[1]['order'])} |")
    print("\n".join(lines[shown:]), flush=True)
    seconds, memory = full_card()
    lines += ["", f"A full card, {FILES} raw files of 24 megapixels with previews of 1620 px, sorted by `eaveplane sets`: {seconds:.2f} s a file, peak memory {memory:.0f} MB."]
    print(lines[-1], flush=True)
    return lines


if __name__ == "__main__":
    section()
