"""Stacks without end, by seed: a picture as ground and sky, cut-out near things before it, seen by a thin lens; truth is exact.

Everything is laid out in dioptres; a frame focused at `f` draws what lies at `d` with a disc of `opening * |f - d|` pixels.
Parts are composed from far to near with true hiding: light premultiplied with coverage is blurred and laid over what is
behind it, which is whole there. Frames are written as 16-bit TIFF in sRGB without metadata, as a stranger would send them.
"""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Iterator
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import tifffile

from eaveplane.fieldcam.camera import Camera, Shot, Stage
from eaveplane.fieldcam.landscapes import LANDSCAPES
from eaveplane.fieldcam.lens import Lens
from eaveplane.imaging.colour import FloatArray, encode_srgb

EXPOSED = 0.85
"""Light of the brightest white, 1 being the end of the codes."""
RUNGS = np.concatenate([[0.0, 0.35, 0.6, 0.85], 1.15 * 1.2 ** np.arange(24)])
"""Radii at which a sloping ground is blurred; what lies between is mixed."""
Rng = np.random.Generator
Outline = tuple[np.ndarray, np.ndarray]
"""Points (k, 2) in pixels and a colour (3,)."""


@dataclass(frozen=True)
class Order:
    """What a stack is made of. `step_px` is the blur between neighbouring frames, `beyond` and `before` count frames that
    are focused past infinity and nearer than everything, `shaken` is the frame during which the camera moved."""

    seed: int
    things: tuple[str, ...] = ("stems",)
    count: int = 5
    step_px: float = 3.0
    beyond: int = 0
    before: int = 0
    shaken: int | None = None
    blades: int = 0
    rim: float = 0.0
    cut: float = 0.0
    by_hand: bool = False
    wind_px: float = 0.0
    sway_px: float = 0.0
    breathing: float = 0.01
    electrons: float = 9000.0
    ground: str = "leaves"
    near: float = 0.7
    width: int = 1200


# ---- grounds ------------------------------------------------------------------------------------------------


def pink(rng: Rng, shape: tuple[int, int], power: float) -> FloatArray:
    """Noise (h, w) of mean 0 and deviation 1 whose amplitude falls with a power of frequency."""
    h, w = shape
    f = np.hypot(np.fft.fftfreq(h)[:, None], np.fft.rfftfreq(w)[None])
    f[0, 0] = 1
    noise = np.fft.irfft2(np.fft.rfft2(rng.standard_normal(shape)) / f**power, s=shape)
    return np.asarray((noise - noise.mean()) / noise.std(), np.float32)


def leaves(rng: Rng, shape: tuple[int, int], ridge: float) -> FloatArray:
    """Ground (h, w, 3) of overlapping leaves of all sizes under a cloudy sky (dead leaves: Lee, Mumford and Huang 2001)."""
    h, w = shape
    over = 2
    palette = rng.uniform(0.04, 0.5, (9, 1)) * np.clip(np.array([1.0, 0.86, 0.55]) + rng.normal(0, 0.14, (9, 3)), 0.2, 1.2)
    canvas = np.broadcast_to(palette.mean(axis=0).astype(np.float32), (h * over, w * over, 3)).copy()
    for _ in range(h * w // 18):
        y = rng.uniform(ridge - 0.04, 1.02)
        radius = min(1.1 * over / rng.random() ** 0.6, 80.0 * over) * (0.25 + 1.2 * max(y - ridge, 0))
        axes = (max(int(8 * radius), 4), max(int(8 * radius * rng.uniform(0.3, 1)), 4))
        colour = tuple(float(v) for v in palette[rng.integers(9)] * rng.uniform(0.4, 1.5))
        cv2.ellipse(canvas, (int(rng.uniform(-0.02, 1.02) * w * over * 8), int(y * h * over * 8)), axes, rng.uniform(0, 180), 0, 360, colour, -1, cv2.LINE_8, 3)
    ground = cv2.resize(canvas, (w, h), interpolation=cv2.INTER_AREA) * np.exp(0.22 * pink(rng, shape, 1.0))[..., None]
    sky = np.float32([0.25, 0.4, 0.7]) * (0.7 + 0.5 * np.linspace(0, 1, h, dtype=np.float32)[:, None, None]) * np.exp(0.2 * pink(rng, shape, 1.6))[..., None]
    line = (np.arange(h)[:, None] / h - ridge - 0.03 * pink(rng, shape, 1.6)[:1]) * h
    land = np.clip(line + 0.5, 0, 1)[..., None].astype(np.float32)
    return np.asarray(np.clip(land * ground + (1 - land) * sky, 0, 1), np.float32)


def landscape(name: str, shape: tuple[int, int]) -> FloatArray:
    """A landscape of the field camera as a flat picture, without its own depth."""
    stage = Stage(LANDSCAPES[name], Camera(shape[1], shape[0], Lens()))
    light, _ = stage.picture(Shot(math.inf), sharp=True)
    return np.asarray(np.clip(light / np.percentile(light, 99.5), 0, 1), np.float32)


# ---- near things: outlines in pixels, one depth each --------------------------------------------------------


def _strip(line: np.ndarray, width: np.ndarray | float) -> np.ndarray:
    """Outline of a line (k, 2) that is `width` pixels wide."""
    along = np.gradient(line, axis=0)
    side = np.stack([-along[:, 1], along[:, 0]], axis=1) / (np.linalg.norm(along, axis=1)[:, None] + 1e-9)
    half = np.broadcast_to(np.asarray(width, np.float64) / 2, len(line))[:, None]
    return np.concatenate([line + side * half, (line - side * half)[::-1]])


def _stem(rng: Rng, h: int, w: int, s: float, x: float, tall: float, thick: float) -> np.ndarray:
    t = np.linspace(0, 1, 40)
    across = (x + rng.normal(0, 0.1) * t**2 + 0.008 * np.sin(rng.uniform(2, 6) * t + rng.uniform(0, 6))) * w
    width = thick * s * (1 - 0.75 * t) + 0.6 * s + (rng.uniform(3, 9) * s * np.exp(-(((t - 0.95) / 0.04) ** 2)) if rng.random() < 0.3 else 0)
    return _strip(np.stack([across, (1.05 - tall * t) * h], axis=1), width)


def stems(rng: Rng, h: int, w: int, s: float) -> Iterator[Outline]:
    colour = np.array([(0.5, 0.42, 0.12), (0.2, 0.3, 0.06), (0.42, 0.2, 0.1), (0.6, 0.58, 0.5)][rng.integers(4)])
    left, wide = rng.uniform(0, 0.6), rng.uniform(0.25, 0.6)
    for _ in range(int(rng.integers(8, 60))):
        yield _stem(rng, h, w, s, left + wide * rng.random(), rng.uniform(0.25, 1), rng.uniform(1, 6)), colour * rng.uniform(0.3, 1.3) * rng.uniform(0.85, 1.15, 3)


def few_stems(rng: Rng, h: int, w: int, s: float) -> Iterator[Outline]:
    """Three stems at the border: well under three hundredths of the picture."""
    left = bool(rng.random() < 0.5)
    for _ in range(3):
        yield _stem(rng, h, w, s, rng.uniform(0.01, 0.07) if left else rng.uniform(0.93, 0.99), rng.uniform(0.4, 0.8), rng.uniform(1.5, 4)), np.array([0.35, 0.3, 0.1]) * rng.uniform(0.5, 1.4)


def wire(rng: Rng, h: int, w: int, s: float) -> Iterator[Outline]:
    """Two wires right across, nothing else near."""
    for k in range(2):
        t = np.linspace(-0.05, 1.05, 200)
        yield _strip(np.stack([t * w, (rng.uniform(0.45, 0.55) + 0.17 * k + 0.01 * np.cos(t * rng.uniform(6, 18))) * h], axis=1), rng.uniform(1.3, 2.6) * s), np.array([0.15, 0.13, 0.11])


def fence(rng: Rng, h: int, w: int, s: float) -> Iterator[Outline]:
    top, colour = rng.uniform(0.35, 0.6), np.array([0.16, 0.13, 0.1]) * rng.uniform(0.5, 2)
    for x in np.sort(rng.uniform(0.05, 0.95, int(rng.integers(2, 5)))):
        t = np.linspace(top, 1.05, 60)
        yield _strip(np.stack([(x + 0.15 * rng.normal(0, 0.004, 60).cumsum()) * w, t * h], axis=1), rng.uniform(12, 40) * s), colour
    for k in range(3):
        t = np.linspace(-0.05, 1.05, 200)
        yield _strip(np.stack([t * w, (top + 0.05 + 0.12 * k + 0.01 * np.cos(t * rng.uniform(9, 20))) * h], axis=1), rng.uniform(1.2, 2.5) * s), 0.8 * colour


def branch(rng: Rng, h: int, w: int, s: float) -> Iterator[Outline]:
    """One thin branch that reaches in from a side, with leaves."""
    from_left = bool(rng.random() < 0.5)
    green = np.array([(0.12, 0.26, 0.05), (0.5, 0.3, 0.04), (0.3, 0.08, 0.05)][rng.integers(3)])

    def grow(at: np.ndarray, angle: float, length: float, thick: float, more: int) -> Iterator[Outline]:
        t = np.linspace(0, 1, 16)
        turning = angle + np.cumsum(rng.normal(0, 0.07, 16))
        line = at + np.cumsum(np.stack([np.cos(turning), np.sin(turning)], axis=1), axis=0) * length / 16
        yield _strip(line, thick * (1 - 0.45 * t)), np.array([0.1, 0.07, 0.05]) * rng.uniform(0.5, 1.5)
        for _ in range(3 if more else 0):
            yield from grow(line[rng.integers(5, 16)], angle + rng.normal(0, 0.7), length * rng.uniform(0.4, 0.7), thick * 0.5, more - 1)
        for _ in range(int(rng.integers(0, 6)) if more < 2 else 0):
            turn, long = rng.uniform(0, 7), rng.uniform(8, 22) * s
            leaf = line[rng.integers(4, 16)] + np.stack([np.cos(turn) * t, np.sin(turn) * t], axis=1) * long
            yield _strip(leaf, 0.4 * long * np.sin(np.pi * t) + 0.4 * s), green * rng.uniform(0.4, 1.6)

    start = np.array([-0.02 * w if from_left else 1.02 * w, rng.uniform(0.1, 0.5) * h])
    yield from grow(start, rng.normal(0.2, 0.15) if from_left else np.pi + rng.normal(-0.2, 0.15), 0.3 * w, rng.uniform(5, 10) * s, 2)


def boulder(rng: Rng, h: int, w: int, s: float) -> Iterator[Outline]:
    a = np.linspace(0, 2 * np.pi, 400)
    r = 1 + 0.1 * np.sin(3 * a + rng.uniform(0, 6)) + 0.04 * np.sin(9 * a + rng.uniform(0, 6)) + 0.02 * np.sin(23 * a + rng.uniform(0, 6))
    x, wide, top = rng.uniform(0.1, 0.9), rng.uniform(0.2, 0.55), rng.uniform(0.45, 0.75)
    yield np.stack([(x + wide / 2 * r * np.cos(a)) * w, (1.15 - (1.15 - top) * r * np.sin(a)) * h], axis=1), np.full(3, np.nan)


THINGS: dict[str, Callable[[Rng, int, int, float], Iterator[Outline]]] = {
    "stems": stems, "few stems": few_stems, "wire": wire, "fence": fence, "branch": branch, "boulder": boulder,
}  # fmt: skip
BENDING = ("stems", "few stems", "branch")


def cut_out(name: str, rng: Rng, ground: FloatArray, s: float) -> FloatArray:
    """A thing (h, w, 4): light times coverage, and coverage, edges smooth to a sixteenth of a pixel."""
    h, w = ground.shape[:2]
    over = 4
    cover, light = np.zeros((h * over, w * over), np.uint8), np.zeros((h, w, 3), np.float32)
    for outline, colour in THINGS[name](rng, h, w, s):
        cv2.fillPoly(cover, [np.round(((outline + 0.5) * over - 0.5) * 16).astype(np.int32)], 255, shift=4)
        if np.isnan(colour).any():
            light[:] = np.roll(ground, (h // 3, w // 4), (0, 1)) * rng.uniform(0.6, 1.2)
            continue
        # colour reaches under all of the coverage
        points, paint = [np.round(outline).astype(np.int32)], tuple(float(v) for v in np.clip(colour, 0, 1))
        cv2.polylines(light, points, True, paint, 5)
        cv2.fillPoly(light, points, paint)
    alpha = cv2.resize(cover, (w, h), interpolation=cv2.INTER_AREA).astype(np.float32) / 255
    grain = 1 + 0.45 * cv2.GaussianBlur(rng.standard_normal((h, w)).astype(np.float32), (0, 0), 1.5)
    return np.dstack([np.clip(light * grain[..., None], 0, 1) * alpha[..., None], alpha]).astype(np.float32)


# ---- the lens -----------------------------------------------------------------------------------------------


def disc(radius: float, order: Order) -> FloatArray:
    """Blur figure of a radius in pixels that sums to one, of the area of a circle whatever its shape."""
    radius, fine = max(radius, 0.06), 9
    reach = math.ceil(radius * 1.2) + 1
    at = (np.arange((2 * reach + 1) * fine) + 0.5) / fine - reach - 0.5
    y, x = at[:, None], at[None]
    away = np.hypot(x, y)
    shape = away
    if order.blades:
        half = np.pi / order.blades
        angle = (np.arctan2(y, x) - 0.3) % (2 * half) - half
        shape = away * np.cos(angle) / np.sqrt(np.pi / (order.blades * np.tan(half)))
    if order.cut:
        shape = np.maximum(shape, np.maximum(np.hypot(x - order.cut * radius, y), np.hypot(x + order.cut * radius, y)))
    inside = (shape <= radius) * (1 + order.rim * (away / radius) ** 4)
    kernel = inside.reshape(2 * reach + 1, fine, 2 * reach + 1, fine).mean(axis=(1, 3))
    return np.asarray(kernel / kernel.sum(), np.float32)


def blurred(part: FloatArray, radius: float | FloatArray, order: Order) -> FloatArray:
    """A part (h, w, c) blurred by one radius, or by a map (h, w) of radii."""

    def by(r: float) -> FloatArray:
        return np.asarray(cv2.filter2D(part, -1, disc(r, order), borderType=cv2.BORDER_REFLECT), np.float32)

    if np.ndim(radius) == 0:
        return by(float(radius))
    at, out = np.interp(radius, RUNGS, np.arange(len(RUNGS))), np.zeros_like(part)
    for i, rung in enumerate(RUNGS):
        weight = np.clip(1 - np.abs(at - i), 0, 1).astype(np.float32)
        if weight.any():
            out += weight[..., None] * by(rung)
    return out


def seen(parts: list[tuple[FloatArray, float | FloatArray]], focus: float | None, opening: float, order: Order) -> FloatArray:
    """What the lens sees (h, w, 3) of parts with their dioptres, far to near; focus None: everything sharp."""
    out: FloatArray | None = None
    for part, depth in parts:
        drawn = part if focus is None else blurred(part, np.abs(opening * (focus - depth)), order)
        out = drawn[..., :3] if out is None else drawn[..., :3] + (1 - drawn[..., 3:]) * out
    assert out is not None
    return out


def shifted(part: FloatArray, dx: float | FloatArray) -> FloatArray:
    """A part moved `dx` pixels (a number or (h, w)) to the right."""
    h, w = part.shape[:2]
    y, x = np.mgrid[:h, :w].astype(np.float32)
    return np.asarray(np.clip(cv2.remap(part, x - np.asarray(dx, np.float32), y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT), 0, None), np.float32)


# ---- a stack ------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Stack:
    """`frames` (n, h, w, 3) linear, near to far; `sharp` (n, h, w, 3) everything sharp at each frame's moment in the grid of
    frame `reference`; `fits` (n, 3, 3) frame to reference; `dioptres` (h, w) of what is in front; `focus` (n,) dioptres."""

    frames: FloatArray
    sharp: FloatArray
    fits: np.ndarray
    dioptres: FloatArray
    focus: list[float]
    opening: float
    reference: int
    overshot: list[int]


def make(order: Order) -> Stack:
    rng = np.random.default_rng([order.seed, 77])
    w, h = order.width, order.width * 2 // 3
    s, ridge = w / 1500, float(rng.uniform(0.3, 0.55))
    ground = leaves(rng, (h, w), ridge) if order.ground == "leaves" else landscape(order.ground, (h, w))
    ground = np.asarray(cv2.GaussianBlur(ground, (0, 0), 0.55), np.float32)
    depth = (np.clip((np.arange(h)[:, None] / h - ridge) / (1 - ridge), 0, 1) * order.near * np.ones((1, w))).astype(np.float32)
    cut = sorted(((order.near * float(rng.uniform(1.05, 1.9)), name, cut_out(name, rng, ground, s)) for name in order.things), key=lambda t: t[0])
    nearest = max([order.near, *(d for d, _, _ in cut)])
    inner = order.count - order.beyond - order.before
    step = nearest / max(inner - 1, 1)
    focus = [nearest + step * k for k in range(order.before, 0, -1)] + list(np.linspace(nearest * 0.97, 0, inner)) + [-step * (k + 1) for k in range(order.beyond)]
    opening, reference = order.step_px / step, order.before + inner // 2
    middle = np.array([[1, 0, w / 2], [0, 1, h / 2], [0, 0, 1.0]])
    frames, sharp, fits = [], [], []
    for k in range(order.count):
        sway = order.sway_px * float(rng.normal()) if k != reference else 0.0
        parts: list[tuple[FloatArray, float | FloatArray]] = [(np.dstack([shifted(ground, sway * depth) if sway else ground, np.ones((h, w), np.float32)]), depth)]
        for d, name, part in cut:
            gust = order.wind_px * float(rng.normal()) * (1 - np.arange(h, dtype=np.float32)[:, None] / h) ** 1.5 if name in BENDING else np.float32(0)
            move = np.broadcast_to(np.float32(sway * d) + gust, (h, w))
            parts.append((shifted(part, move) if move.any() else part, d))
        zoom = 1 - order.breathing * (focus[reference] - focus[k]) / nearest
        turn, shift = (math.radians(float(rng.normal(0, 0.3))), rng.normal(0, 15 * s, 2)) if order.by_hand else (0.0, rng.normal(0, 0.7, 2))
        if k == reference:
            turn, shift = 0.0, np.zeros(2)
        c, q = zoom * math.cos(turn), zoom * math.sin(turn)
        pose = middle @ np.array([[c, -q, shift[0]], [q, c, shift[1]], [0, 0, 1]]) @ np.linalg.inv(middle)
        view = cv2.warpPerspective(seen(parts, float(focus[k]), opening, order), pose, (w, h), flags=cv2.INTER_LANCZOS4, borderMode=cv2.BORDER_REFLECT)
        if k == order.shaken:
            view = _swept(view, float(rng.uniform(5, 9)) * s * 1.2, float(rng.uniform(0, np.pi)))
        lit = np.clip(view, 0, None) * np.float32(EXPOSED)
        lit = lit + np.sqrt(lit / order.electrons + (4 / order.electrons) ** 2).astype(np.float32) * rng.standard_normal(lit.shape, np.float32)
        frames.append(np.clip(lit, 0, 1))
        sharp.append(seen(parts, None, 0, order) * np.float32(EXPOSED))
        fits.append(np.linalg.inv(pose))
    front = depth.copy()
    for d, _, part in cut:
        front[part[..., 3] > 0.5] = d
    ends = [*range(order.before), *range(order.count - order.beyond, order.count)]
    return Stack(np.stack(frames), np.stack(sharp), np.array(fits), front, [float(f) for f in focus], opening, reference, ends)


def _swept(view: FloatArray, length: float, angle: float) -> FloatArray:
    """A picture during whose exposure the camera moved by `length` pixels."""
    reach = math.ceil(length / 2) + 1
    kernel = np.zeros((2 * reach + 1, 2 * reach + 1), np.float32)
    for t in np.linspace(-0.5, 0.5, 200):
        kernel[round(reach + t * length * math.sin(angle)), round(reach + t * length * math.cos(angle))] += 1
    return np.asarray(cv2.filter2D(view, -1, kernel / kernel.sum(), borderType=cv2.BORDER_REFLECT), np.float32)


def kept(name: str, order: Order, home: Path) -> tuple[list[Path], dict[str, Any]]:
    """The frames of a stack as files, and what is true of it (`sharp`, encoded; `fits`, `dioptres`, `focus` …); made if they are not there."""
    folder = home / name
    if not (folder / "facts.json").exists():
        folder.mkdir(parents=True, exist_ok=True)
        made = make(order)
        for k, frame in enumerate(made.frames):
            tifffile.imwrite(folder / f"f{k:02d}.tif", np.round(encode_srgb(frame) * 65535).astype(np.uint16), photometric="rgb")
        moments = made.sharp if order.wind_px or order.sway_px else made.sharp[made.reference :][:1]
        np.savez_compressed(folder / "truth.npz", sharp=encode_srgb(moments).astype(np.float16), fits=made.fits, dioptres=made.dioptres.astype(np.float16))
        facts = {"order": asdict(order), "focus": made.focus, "opening": made.opening, "reference": made.reference, "overshot": made.overshot, "largest_px": made.opening * max(made.focus)}
        (folder / "facts.json").write_text(json.dumps(facts))
    stored = np.load(folder / "truth.npz")
    facts = json.loads((folder / "facts.json").read_text())
    return sorted(folder.glob("f*.tif")), facts | {"sharp": stored["sharp"].astype(np.float32), "fits": stored["fits"], "dioptres": stored["dioptres"].astype(np.float32)}
