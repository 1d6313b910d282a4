"""What the finish takes at full size, how much nearer to the noise-free weave it comes, how level the level is, and how air lies beside edges.

`python -m bench.finish` prints the table. Sets are shot by the field camera into .bench/ once.
"""

from __future__ import annotations

import math
import subprocess
import sys
import time
from pathlib import Path

import cv2
import numpy as np
import tifffile

from bench import run
from bench.look import scene, shot
from bench.score import fitted, gradient_kept, psnr
from eaveplane.core.depth.order import order_of
from eaveplane.core.develop.develop import develop
from eaveplane.core.develop.look import RAW_LOOK, Light
from eaveplane.core.finish.finish import Known, finish, known_of, lay_light, needs_order, rendition, whole_of
from eaveplane.core.finish.geometry import cut_size
from eaveplane.core.finish.level import horizon_of
from eaveplane.core.finish.noise import denoised, measure
from eaveplane.core.finish.settings import Air, AirAt, FineDetail, Finish, Glow, Grain, NoiseLeft, PaintedMap, Vignette
from eaveplane.core.masks.parts import BrushedLine, Site
from eaveplane.fieldcam.camera import Camera, Shot, Stage
from eaveplane.fieldcam.landscapes import LANDSCAPES
from eaveplane.fieldcam.order import Order
from eaveplane.imaging.colour import SRGB_FROM_WORK, FloatArray
from eaveplane.imaging.light import root_luma
from eaveplane.imaging.pyramid import Box
from eaveplane.recipe import Recipe

LARGE = (6000, 4000)
TURNED = (-4.0, -2.7, -1.3, -0.4, 0.0, 0.7, 1.6, 2.9, 4.0)
LINES = [BrushedLine(width=700, softness=0.8, opacity=0.8, points=[(900 + 420 * k, 2400 + 200 * (k % 2)) for k in range(9)])]
PARTS = {
    "noise": Finish(noise=NoiseLeft(strength=60, colour=60)),
    "air": Finish(air=Air(far=AirAt(haze=50, contrast=-30, saturation=-20, warmth=-20))),
    "painted light, three maps": Finish(light=[PaintedMap(kind="lighter", lines=LINES, low=0.3), PaintedMap(kind="warmer", lines=LINES, far=0.6), PaintedMap(kind="richer", lines=LINES, feather=40)]),
    "glow": Finish(glow=Glow(strength=40)),
    "fine detail": Finish(detail=FineDetail(strength=40)),
    "vignette": Finish(vignette=Vignette(strength=-40, keep=30)),
    "straightened, sharpened, grain": Finish(straighten=1.5, sharpen=80, grain=Grain(strength=40)),
}
ALL = Finish(**{name: getattr(of, name) for of in PARTS.values() for name in of.model_fields_set})


def part_of(picture: FloatArray, box: Box) -> FloatArray:
    x, y, w, h = box
    return picture[y : y + h, x : x + w]


def carried_out(woven: FloatArray, developed: FloatArray, gates: FloatArray, of: Finish) -> float:
    """Seconds that a finish takes on a weave that is there and developed."""
    size = (woven.shape[1], woven.shape[0])
    whole, canvas = Site(size, 0, (0, 0, *size)), (0, 0, *size)
    begin = time.perf_counter()
    if of.noise.strength:
        noise = measure(lambda box: part_of(woven, box), [lambda box: part_of(woven, box)] * len(gates), size, gates)
        denoised(woven, of.noise, noise, whole)
    known = Known()
    if of.glow.strength or of.air != Air() or of.light:
        level, small = rendition(woven)
        site = Site(size, level, (0, 0, small.shape[1], small.shape[0]))
        known = known_of(of, whole_of(small, develop(small, RAW_LOOK, Light(), "rec2020", site), order_of(gates, woven) if needs_order(of) else None, site))
    lay_light(developed, woven, of, whole, known, canvas, SRGB_FROM_WORK)
    finish(developed, of, canvas, cut_size(of, canvas))
    return time.perf_counter() - begin


def speed() -> list[str]:
    woven, _ = scene(*LARGE)
    rng = np.random.default_rng(1)
    gates = cv2.resize(rng.random((5, 50, 75)).astype(np.float32).transpose(1, 2, 0), (LARGE[0] // 4, LARGE[1] // 4), interpolation=cv2.INTER_CUBIC).transpose(2, 0, 1)
    gates = np.maximum(np.ascontiguousarray(gates), 0)
    developed = develop(woven, RAW_LOOK, Light(), "rec2020")
    rows = []
    for name, of in (PARTS | {"all of them": ALL}).items():
        spent = min(carried_out(woven, developed.copy(), gates, of) for _ in range(3))
        rows.append(f"| {name} | {spent:.2f} |")
    return ["Seconds at 24 megapixels, on two cores, the best of three:", "", "| part | s |", "|---|---|", *rows, ""]


MEMORY = """
import sys
from bench.finish import *
from eaveplane.pipeline.steps.finish import Development, finished
# not getrusage, which counts what the process that started this one had
def peak(): return next(int(line.split()[1]) * 1024 for line in open("/proc/self/status") if line.startswith("VmHWM"))
before = peak()
woven, gates = np.load(sys.argv[1]), np.ones((5, 1000, 1500), np.float32)
frame = woven.nbytes
noise = measure(lambda box: part_of(woven, box), [lambda box: part_of(woven, box)] * 5, LARGE, gates)
woven = denoised(woven, ALL.noise, noise, Site(LARGE, 0, (0, 0, *LARGE)))
picture = finished(woven, Development(RAW_LOOK, Light(), LARGE, None, SRGB_FROM_WORK), ALL, (0, 0, *LARGE), order_of(gates, woven))
del woven
finish(picture, ALL, (0, 0, *LARGE), cut_size(ALL, (0, 0, *LARGE)))
print(before / frame, peak() / frame)
"""
"""A delivery's finish in a process of its own."""


def memory() -> list[str]:
    path = run.HERE / "finish" / "woven.npy"
    path.parent.mkdir(parents=True, exist_ok=True)
    np.save(path, scene(*LARGE)[0])
    told = subprocess.run([sys.executable, "-c", MEMORY, str(path)], check=True, capture_output=True, text=True, cwd=run.ROOT).stdout
    path.unlink()
    before, peak = (float(v) for v in told.split())
    return [f"Peak memory with every part on, in frames of float RGB: {peak:.1f}, of which the program itself takes {before:.1f}.", ""]


def stacked(name: str, frames: list[Path], recipe: Recipe) -> FloatArray:
    """What `stack` makes of frames by a recipe, encoded 0..1."""
    out = run.HERE / "finish" / f"{name}.tif"
    out.parent.mkdir(exist_ok=True)
    (out.with_suffix(".json")).write_text(recipe.to_json())
    command = [sys.executable, "-m", "eaveplane.cli", "stack", *map(str, frames), "--out", str(out), "--recipe", str(out.with_suffix(".json")), "--force"]
    subprocess.run([*command, "--canvas", "reference", "--reference", "2", "--leave-out", "none", "--report", str(out.with_suffix(".r.json"))], check=False, capture_output=True)
    return tifffile.imread(out).astype(np.float32) / 65535


def noise() -> list[str]:
    rows = []
    for landscape in ("saltpan", "larch"):
        plain, noisy = (shot(f"finish_{landscape}_{iso}", Order(landscape=landscape, long_side_px=1800, count=5, seed=51, iso=iso, preview=False)) for iso in (0, 1600))
        clean = stacked(f"{landscape}_clean", plain, Recipe(veil="leave"))
        inside = np.zeros(clean.shape[:2], np.bool_)
        inside[40:-40, 40:-40] = True
        found = []
        for strength in (0, 70):
            made = stacked(f"{landscape}_{strength}", noisy, Recipe(veil="leave", finish=Finish(noise=NoiseLeft(strength=strength, colour=strength))))
            made = fitted(made, clean, inside)
            found.append((psnr(made, clean, inside), gradient_kept(made, clean, inside)))
        (before, kept), (after, kept_after) = found
        rows.append(f"| {landscape} | {before:.2f} | {after:.2f} | {100 * kept:.1f} | {100 * kept_after:.1f} |")
    head = ["Against the weave of frames without noise, ISO 1600, noise at 70 % (`--veil leave`):", "", "| landscape | PSNR before | after | gradient kept, % | after |", "|---|---|---|---|---|"]
    return [*head, *rows, ""]


def level() -> list[str]:
    rows = []
    for name, landscape in LANDSCAPES.items():
        light, _ = Stage(landscape, Camera(1800, 1200)).picture(Shot(math.inf), sharp=True)
        luma = root_luma(np.sqrt(np.maximum(light, 0)).astype(np.float32))
        off = []
        for degrees in TURNED:
            turn = cv2.getRotationMatrix2D(((luma.shape[1] - 1) / 2, (luma.shape[0] - 1) / 2), -degrees, 1.15)
            found = horizon_of(np.asarray(cv2.warpAffine(luma, turn, luma.shape[::-1], flags=cv2.INTER_CUBIC), np.float32))
            off += [] if found is None else [abs(found.tilt - degrees)]
        rows.append(f"| {name} | {len(off)} of {len(TURNED)} | {f'{max(off):.3f}' if off else '–'} |")
    return [f"Horizon found in all-sharp pictures turned by {TURNED[0]:g}° to {TURNED[-1]:g}°:", "", "| landscape | found | most off, ° |", "|---|---|---|", *rows, ""]


def section() -> list[str]:
    """Rows of docs/quality.md."""
    return [*speed(), *memory(), *noise(), *level()]


if __name__ == "__main__":
    wanted = sys.argv[1:] or ["speed", "memory", "noise", "level"]
    for part in wanted:
        print("\n".join({"speed": speed, "memory": memory, "noise": noise, "level": level}[part]()), flush=True)
