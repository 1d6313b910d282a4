"""Figures of Even out: `python -m bench.look`. The look's speed and memory, relief beside edges, what capture corrections leave."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from pathlib import Path
from typing import get_args

import cv2
import numpy as np

from eaveplane.cli.shared import peak_bytes
from eaveplane.core.depth.distance import distances_of
from eaveplane.core.develop.areas import Area
from eaveplane.core.develop.develop import develop, for_screen
from eaveplane.core.develop.look import RAW_LOOK, HuePoint, Light, Look
from eaveplane.core.develop.relief import Guide, guide_of
from eaveplane.core.even.capture.correction import UNMOVED, Measured, corrected, correction
from eaveplane.core.even.capture.fringes import measure_fringes
from eaveplane.core.even.capture.noise import measure_noise
from eaveplane.core.even.capture.settings import Capture
from eaveplane.core.masks.parts import Elliptical, Graduated, ToneRange
from eaveplane.fieldcam.order import LandscapeName, Order
from eaveplane.fieldcam.outing import carry_out
from eaveplane.imaging.colour import FloatArray
from eaveplane.imaging.formats.registry import read_picture
from eaveplane.imaging.lensdata import LensData, read_opcodes
from eaveplane.imaging.light import channels
from eaveplane.imaging.pyramid import Box
from eaveplane.imaging.rows import CORES
from eaveplane.pipeline import scene as scene_of_job
from eaveplane.pipeline.cache import Cache, hash_file
from eaveplane.pipeline.frames import File, choice, gather
from eaveplane.pipeline.runner import Runner
from eaveplane.pipeline.steps import open_frame, open_labels
from eaveplane.recipe import Recipe

HERE = Path(__file__).parents[1] / ".bench"
BEGIN = datetime(2026, 4, 11, 6, 14)
ROUNDS = 25


def busy_look(width: int, height: int) -> Look:
    """A look in which every part has something to do, with three areas."""
    areas = [
        Area(parts=[Graduated(x0=0, y0=0.2 * height, x1=0, y1=0.5 * height)], exposure=-0.7, contrast=20, saturation=10),
        Area(parts=[Elliptical(x=0.5 * width, y=0.6 * height, rx=0.25 * width, ry=0.25 * height)], exposure=0.5, shadows=30, warmth=20, relief=30),
        Area(parts=[ToneRange(low=0.1, high=0.5)], haze=20, highlights=-20, feather=0.005 * width),
    ]
    curve = [(0.0, 0.0), (0.3, 0.25), (0.7, 0.8), (1.0, 1.0)]
    more = {"exposure": 0.3, "highlights": -30, "shadows": 20, "kelvin": 5600, "tint": 4, "boost": 20, "fine": 20, "middle": 30, "broad": 20, "haze": 20, "tint_darks": 20}
    return RAW_LOOK.model_copy(update={**more, "curve": curve, "hues": [HuePoint(hue=100, shift=10, strength=20), HuePoint(hue=240, lightness=-20)], "areas": areas})


def scene(width: int, height: int) -> tuple[FloatArray, Guide]:
    """A picture of the field camera's at any size, in the weaving encoding, and where it lies."""
    path = shot("look", Order(landscape="thistle", long_side_px=1800, count=2, seed=41, preview=False))[0]
    picture = read_picture(path)
    light = np.maximum(channels(picture.codes, picture.encoding) @ picture.encoding.to_work.T.astype(np.float32), 0)
    root = np.ascontiguousarray(cv2.resize(np.sqrt(light), (width, height), interpolation=cv2.INTER_CUBIC), np.float32)
    return root, guide_of(cv2.resize(root, None, fx=0.25, fy=0.25, interpolation=cv2.INTER_AREA) if width > 4000 else root, (width, height))


def shot(name: str, order: Order) -> list[Path]:
    folder = HERE / name
    if not (folder / "truth").exists():
        carry_out(order, folder / "card", 1, BEGIN, folder / "truth")
    return sorted((folder / "card").glob("*.dng"))


def on_screen(width: int, height: int, look: Look) -> float:
    """Median milliseconds of developing a piece for the screen."""
    root, guide = scene(width, height)
    spent = []
    for _ in range(ROUNDS):
        begin = time.perf_counter()
        for_screen(develop(root, look, Light(), "srgb", guide=guide))
        spent.append(1000 * (time.perf_counter() - begin))
    return float(np.median(spent[3:]))


def at_full_size() -> tuple[float, float]:
    """Seconds (median of five) and peak memory of the process in frames of float RGB, for 24 megapixels."""
    root, guide = scene(6000, 4000)
    spent = []
    for _ in range(5):
        begin = time.perf_counter()
        develop(root, busy_look(6000, 4000), Light(), "rec2020", guide=guide)
        spent.append(time.perf_counter() - begin)
    return float(np.median(spent)), peak_bytes() / root.nbytes


def rims(look: Look, step: float) -> float:
    """The larger of over- and undershoot beside an ideal edge of some EV, in percent of the step."""
    ev = np.full((400, 600), -5.0)
    ev[:, 300:] += step
    root = np.repeat(np.sqrt(2.0**ev)[..., None], 3, axis=2).astype(np.float32)
    after = np.log2(develop(root, look, Light(), "rec2020", guide=guide_of(root, (600, 400)))[..., 1] ** 2)
    return 100 * max(float(after.max() - ev.max()), float(ev.min() - after.min())) / step


def fringes() -> list[str]:
    """How far red and blue still lie from where the lens would have drawn them without fringes, in pixels."""
    lines = ["| frame | red, blue in the corner as shot | left at half the radius | left in the corner |", "|---|---|---|---|"]
    for landscape, iso in (("saltpan", 800), ("thistle", 3200), ("lava", 400)):
        paths = shot(f"fringes {landscape}", Order(landscape=landscape, long_side_px=3000, fringes=0.6, falloff_ev=1, iso=iso, count=3, seed=42, preview=False))
        for path in paths[1:2]:
            picture = read_picture(path)
            light = channels(picture.codes, picture.encoding)
            size = (light.shape[1], light.shape[0])
            found, true = measure_fringes(lambda box, light=light: light[box[1] : box[1] + box[3], box[0] : box[0] + box[2]], size), read_opcodes(path)  # type: ignore[misc]
            assert isinstance(true, LensData)
            half = float(np.hypot(*size)) / 2

            def left(r: float, true: LensData = true, found=found, half: float = half) -> tuple[float, float]:  # type: ignore[no-untyped-def]
                red, blue = (abs(k[0] + k[1] * r * r - t[1] * r * r) * r * half for k, t in ((found[0], true.red), (found[1], true.blue)))
                return red, blue

            told = [f"{r:.2f}, {b:.2f} px" for r, b in ((true.red[1] * half, true.blue[1] * half), left(0.5), left(1.0))]
            lines.append(f"| {landscape}, ISO {iso} | {' | '.join(told)} |")
    return lines


def noise() -> list[str]:
    """PSNR of a frame against the same frame shot without noise, in the square root of light, before and after."""
    lines = ["| frame | as shot | noise 50, colour 100 | noise 100, colour 100 |", "|---|---|---|---|"]
    for landscape, iso in (("larch", 1600), ("thistle", 3200)):
        clean, rough = (shot(f"noise {landscape} {i}", Order(landscape=landscape, long_side_px=1800, count=2, iso=i, seed=43, preview=False))[1] for i in (50, iso))
        a, b = (channels(p.codes, p.encoding) for p in (read_picture(clean), read_picture(rough)))
        size = (b.shape[1], b.shape[0])

        def read(box: Box, b: FloatArray = b) -> FloatArray:
            return b[box[1] : box[1] + box[3], box[0] : box[0] + box[2]]

        measured = Measured(UNMOVED, UNMOVED, measure_noise(read, size).tolist())
        done = [b] + [corrected(read, correction(Capture(noise=s, noise_colour=100), measured, None, size), size, 0, (0, 0, *size)) for s in (50, 100)]
        scores = [-10 * np.log10(np.mean((np.sqrt(np.maximum(p, 0)) - np.sqrt(np.maximum(a, 0))) ** 2)) for p in done]
        lines.append(f"| {landscape}, ISO {iso} | {' | '.join(f'{s:.2f} dB' for s in scores)} |")
    return lines


def distances() -> list[str]:
    """In how much of a picture areas by distance are told right: within half a step of the frames' focus, in dioptres."""
    lines = ["| landscape | of the picture | nearer or farther than 5 m |", "|---|---|---|"]
    for landscape in get_args(LandscapeName):
        paths = shot(f"distances {landscape}", Order(landscape=landscape, long_side_px=1800, f_number=4, count=5, nearest_m=0.62, seed=44, preview=False))
        with tempfile.TemporaryDirectory() as scratch, ThreadPoolExecutor(CORES) as pool:
            cache, runner = Cache(Path(scratch) / "cache"), Runner(pool, Path(scratch) / "tickets", lambda what, share: None)
            files = [File(path, hash_file(path), path.name) for path in paths]
            chosen = [choice([f]) for f in files]
            planned = scene_of_job.plan(Recipe(frames=chosen), gather(cache, files, lambda decoded, problems: chosen, runner, True, Capture()).frames)  # noqa: B023
            assert planned is not None
            scene_of_job.register(cache, planned, runner)
            scene_of_job.label(cache, planned, runner)
            gates = open_labels(cache, planned.labelled.key)
            focus = [open_frame(cache, frame).meta.focus_m for frame in planned.frames]
        found = distances_of(gates, focus)
        assert found is not None
        steps = np.array([1 / f for f in focus if f])
        distance = np.load(HERE / f"distances {landscape}" / "truth" / "distance.npy").astype(np.float32)
        true = cv2.resize(1 / np.maximum(distance, 1e-3), found.shape[::-1], interpolation=cv2.INTER_AREA)
        right = np.abs(1 / found - np.clip(true, steps.min(), steps.max())) < np.abs(np.diff(steps)).min() / 2
        lines.append(f"| {landscape} | {100 * right.mean():.1f} % | {100 * ((1 / found < 0.2) == (true < 0.2)).mean():.1f} % |")
    return lines


def section() -> list[str]:
    """Lines for docs/quality.md."""
    HERE.mkdir(exist_ok=True)
    lines = ["A look with every part at work and three areas, against what raw files start from:", "", "| picture | start | all parts, three areas |", "|---|---|---|"]
    for width, height, label in ((812, 541, "what a page of 1280 × 800 shows"), (1280, 800, "a whole screen of 1280 × 800")):
        lines.append(f"| {label} | {on_screen(width, height, RAW_LOOK):.0f} ms | {on_screen(width, height, busy_look(width, height)):.0f} ms |")
    told = subprocess.run([sys.executable, "-m", "bench.look", "large"], capture_output=True, text=True, check=True, cwd=HERE.parent).stdout.split()
    lines += ["", f"24 megapixels, all parts and three areas: {float(told[0]):.1f} s; peak memory of the process {float(told[1]):.1f} frames of float RGB.", ""]
    lines += ["Overshoot of relief at 100 % beside an ideal edge, in percent of the step:", "", "| step | fine | middle | broad | all three |", "|---|---|---|---|---|"]
    for step in (0.5, 1.0, 1.5, 2.0, 3.5):
        values = [rims(look, step) for look in (Look(fine=100), Look(middle=100), Look(broad=100), Look(fine=100, middle=100, broad=100))]
        lines.append(f"| {step:g} EV | {' | '.join(f'{v:.1f}' for v in values)} |")
    lines += ["", "Fringes measured in single frames of 3000 × 2000 px:", "", *fringes(), "", "Noise reduction, against the same frame at ISO 50:", "", *noise()]
    lines += ["", "Distances that areas go by, told by five frames on a tripod, against truth:", "", *distances()]
    print("\n".join(lines), flush=True)
    return lines


if __name__ == "__main__":
    if "large" in sys.argv:
        print(*at_full_size())
    else:
        section()
