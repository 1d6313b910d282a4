"""Stacks as strangers send them, against truth and against the best of the textbooks: many frames and two, JPEG, wrong gains, strong noise,
distortion that changes with focus, small apertures, shadows of clouds, other sensitivities and exposures, a shuffled order.

`python -m bench.strangers` makes them in .bench/strangers/ once and prints the table; `python -m bench.strangers sixty:700 …` does others.
Frames are told nothing but the reference, veils are lifted and frames left out as `stack` does by itself.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import tifffile

from bench import run
from bench.layered import Order, kept
from bench.score import corner_error
from bench.ways import TEXTBOOK, Truth, by_seed, of_textbooks, told_of
from eaveplane.imaging.colour import FloatArray, decode_srgb, encode_srgb

Codes = np.ndarray
LOUD, UNDER = 800.0, 3000.0
"""Electrons at white in frames of a higher sensitivity, and in one that is exposed too little."""
Rng = np.random.Generator
QUALITY = 90
"""Of JPEG files."""
BENT = 1.5
"""Pixels at the corners by which the frames at both ends differ in distortion."""


def _light_of(codes: Codes) -> FloatArray:
    return decode_srgb(np.asarray(codes / 65535.0, np.float32))


def _codes_of(light: np.ndarray) -> Codes:
    return np.round(encode_srgb(np.clip(light, 0, 1).astype(np.float32)) * 65535).astype(np.uint16)


def _as_shot(codes: Codes, rng: Rng, along: float) -> Codes:
    return codes


def _gained(codes: Codes, rng: Rng, along: float) -> Codes:
    """Each channel 2 % brighter or darker, which nothing tells."""
    light = _light_of(codes) * np.float32(1 + 0.02 * rng.standard_normal(3))
    return _codes_of(light)


def _bent(codes: Codes, rng: Rng, along: float) -> Codes:
    """Distorted as the square of the distance from the middle, the more the farther from the middle of the row (`along`, -0.5 to 0.5)."""
    h, w = codes.shape[:2]
    y, x = (np.asarray(a, np.float64) for a in np.mgrid[:h, :w])
    dy, dx, half = y - h / 2, x - w / 2, np.hypot(h, w) / 2
    by = 1 + BENT * along / half * ((dx**2 + dy**2) / half**2 - 0.5)
    at_x, at_y = (np.asarray(a, np.float32) for a in (w / 2 + dx * by, h / 2 + dy * by))
    return np.asarray(cv2.remap(codes, at_x, at_y, cv2.INTER_LANCZOS4, borderMode=cv2.BORDER_REFLECT), np.uint16)


def _shaded(codes: Codes, rng: Rng, along: float) -> Codes:
    """Under the shadows of clouds: half of the light is gone there."""
    h, w = codes.shape[:2]
    cells = np.asarray(cv2.GaussianBlur(rng.standard_normal((40, 60)).astype(np.float32), (0, 0), 6), np.float32)
    clouds = np.asarray(cv2.resize(cells / cells.std(), (w, h), interpolation=cv2.INTER_CUBIC), np.float32)
    light = _light_of(codes) * (0.75 + 0.25 * np.tanh(2 * clouds))[..., None]
    return _codes_of(light)


def _grained(light: FloatArray, rng: Rng, electrons: float) -> Codes:
    grain = rng.standard_normal(light.shape).astype(np.float32) * np.sqrt(np.maximum(light, 0) / np.float32(electrons))
    return _codes_of(light + grain)


def _loud(codes: Codes, rng: Rng, along: float) -> Codes:
    """Nearer than the middle at a higher sensitivity, as against wind."""
    return _grained(_light_of(codes), rng, LOUD) if along < -0.01 else codes


def _under(codes: Codes, rng: Rng, along: float) -> Codes:
    """The nearest three stops under."""
    return _grained(_light_of(codes) / 8, rng, UNDER) if along == -0.5 else codes


def _few(order: Order) -> Order:
    return replace(order, count=2, step_px=6.0)


def _stopped(order: Order) -> Order:
    return replace(order, count=max(4, order.count), step_px=0.5)


SHADED = "shaded"
KINDS: dict[str, tuple[str, Callable[[Order], Order], Callable[[Codes, Rng, float], Codes]]] = {
    "jpeg": (f"JPEG of 8 bits, quality {QUALITY}", lambda o: o, _as_shot),
    "gains": ("channels wrong by 2 %", lambda o: o, _gained),
    "noise": ("strong noise, 500 electrons at white", lambda o: replace(o, electrons=500.0), _as_shot),
    "bent": (f"distortion that changes by {BENT:g} px at the corners", lambda o: o, _bent),
    "two": ("two frames far apart", _few, _as_shot),
    "stopped": ("a small aperture", _stopped, _as_shot),
    SHADED: ("shadows of clouds that pass, not over the reference", lambda o: replace(o, count=max(3, o.count)), _shaded),
    "loud": ("nearer frames at a higher sensitivity", lambda o: replace(o, count=max(3, o.count)), _loud),
    "under": ("the nearest frame three stops under", lambda o: replace(o, count=max(3, o.count)), _under),
    "shuffled": ("in any order", lambda o: replace(o, count=max(5, o.count)), _as_shot),
    "sixteen": ("sixteen frames", lambda o: replace(o, count=16, step_px=max(0.8, o.step_px / 3)), _as_shot),
    "many": ("twenty-six frames", lambda o: replace(o, count=26, step_px=max(0.5, o.step_px / 5)), _as_shot),
    "sixty": ("sixty frames", lambda o: replace(o, count=60, step_px=0.3), _as_shot),
}
"""What is said of a kind, what becomes of the order for a stack by seed, and of the codes of a frame."""
LATER: dict[str, tuple[int, ...]] = {SHADED: (740, 741, 742), "loud": (750, 751), "under": (752, 753)}
"""Kinds that came when seeds of the others were taken, with theirs."""
SETS = (*(f"{kind}:{700 + i}" for i, kind in enumerate(kind for kind in KINDS if kind not in LATER)), *(f"{kind}:{seed}" for kind, seeds in LATER.items() for seed in seeds))


def sent(kind: str, paths: list[Path], reference: int, folder: Path, seed: int) -> tuple[list[Path], int, list[int]]:
    """Files as a stranger would send them, which of them is the reference, and which frame each shows."""
    rng, change = np.random.default_rng([seed, 9]), KINDS[kind][2]
    folder.mkdir(exist_ok=True)
    row = [int(k) for k in rng.permutation(len(paths))] if kind == "shuffled" else list(range(len(paths)))
    out = []
    for n, k in enumerate(row):
        codes = tifffile.imread(paths[k])
        if kind != SHADED or k != reference:
            codes = change(codes, rng, k / max(len(paths) - 1, 1) - 0.5)
        path = folder / f"s{n:02d}{'.jpg' if kind == 'jpeg' else '.tif'}"
        if kind == "jpeg":
            cv2.imwrite(str(path), np.round(codes[..., ::-1] / 257).astype(np.uint8), [cv2.IMWRITE_JPEG_QUALITY, QUALITY])
        else:
            tifffile.imwrite(path, codes, photometric="rgb")
        out.append(path)
    return out, row.index(reference), row


def row_of(name: str, home: Path) -> str:
    """The row of a set, such as `jpeg:700`."""
    kind, _, seed = name.partition(":")
    if kind not in KINDS or not seed.isdecimal():
        raise SystemExit(f"{name}: a set is a kind and a seed, such as jpeg:700; kinds are {', '.join(KINDS)}.")
    said, changed, _ = KINDS[kind]
    order = replace(changed(by_seed(int(seed))), width=900)
    paths, true = kept(f"{kind}_{seed}", order, home)
    files, reference, row = sent(kind, paths, true["reference"], home / f"{kind}_{seed}" / "sent", int(seed))
    against, shape = Truth(true), true["dioptres"].shape
    mine, report = against.woven(files, reference=reference)
    for frame, fit in zip(report["frames"], true["fits"][row], strict=True):
        # textbooks have what was left out, too
        frame["homography"] = frame["homography"] or fit.tolist()
    best = np.max(list(of_textbooks(files, against, report).values()), axis=0)
    texts = [" / ".join(f"{v:.1f}" for v in scores) for scores in (best, mine)]
    left = sum(frame["state"] != "used" for frame in report["frames"])
    ahead = " / ".join(f"{v:+.2f}" for v in np.array(mine) - best)
    apart = max(corner_error(np.array(frame["homography"]), fit, (shape[1], shape[0])) for frame, fit in zip(report["frames"], true["fits"][row], strict=True))
    return f"| {name} | {said}: {told_of(order)} | {texts[0]} | {texts[1]} | {ahead} | {apart:.2f} | {left} | {100 * report['veil_lifted']:.1f} % | {report['seconds']['total']:.0f} |"


def section(sets: list[str] | None = None) -> list[str]:
    """The table, as lines."""
    home = run.HERE / "strangers"
    home.mkdir(parents=True, exist_ok=True)
    lines = [
        "Stacks as strangers send them (`python -m bench.strangers`), 900 px, PSNR whole / edge band / outside it; best textbook of each column",
        f"({', '.join(TEXTBOOK)}) on the same fits; corners: the worst frame's error in px; frames left out; veils lifted; seconds in all.",
        "",
        "| set | what | best textbook | Eaveplane | ahead by | corners | left out | lifted | s |",
        "|---|---|---|---|---|---|---|---|---|",
    ]
    for name in sets or SETS:
        lines.append(row_of(name, home))
        print(lines[-1], flush=True)
    return lines


if __name__ == "__main__":
    cv2.setNumThreads(2)
    section(sys.argv[1:] or None)
