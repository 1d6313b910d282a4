"""The simulated camera: a landscape through a lens onto a Bayer sensor, frame by frame to a card.

A frame is composited from far to near. What hangs together (the far ground with the sky, the near ground, each
stone, all twigs at one distance) is blurred together with its own coverage, so a defocused near thing lies
translucent over what it hides, as behind a real lens; what lies hidden is there whole.
"""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, field, replace
from datetime import datetime, timedelta
from pathlib import Path

import cv2
import numpy as np
from numba import njit
from numpy.typing import NDArray

from ..imaging.colour import D65_XY, SRGB_FROM_WORK, XYZ_FROM_WORK, FloatArray, encode_srgb, white_xyz
from ..imaging.exif import Metadata
from ..imaging.rows import by_rows
from .dng import write_dng
from .ground import View
from .landscape import Landscape
from .lens import SHARP, Lens, defocus, draw_falloff, draw_fringes
from .things import Sheet, draw_twigs, gloved_hand

COLOUR_MATRIX = np.array([[0.742, -0.241, -0.083], [-0.443, 1.271, 0.192], [-0.062, 0.171, 0.588]])
"""The made-up sensor's channels from XYZ (D65)."""
BLACK, WHITE = 512, 15871
FULL_WELL, READ_NOISE = 32000.0, 3.2
"""Electrons at the white level and standard deviation of a read, at ISO 100."""
DETAIL, DETAIL_LARGE = 1.1, 0.85
"""How much finer than the sensor's pixels the landscape is drawn, on sensors of up to 3000 and from 6000 pixels on
the long side: no lens resolves the pixels of the larger ones."""
SLAB_PX, SLAB_PART = 0.4, 0.05
"""Twigs whose discs differ by less, in radius or, for large ones, in part of it, are blurred alike."""
SHUTTER = 1 / 25
"""Seconds at f/5.6 and ISO 100 without an exposure bracket."""


@dataclass(frozen=True)
class Shot:
    """One frame: where the lens is focused (metres; negative is past infinity), how the camera was held, what drifted.

    `aim_px` turns the camera so that the middle of the picture moves by so many pixels, `roll_deg` about the axis;
    `step_m` moves it right, up and forward. `drift` multiplies the channels, `ev` the exposure. `shake_px` is the
    path of the picture during the exposure. `gust` (right, forward) bends the plants, 1 by as much as they sway.
    `hand` holds a glove before the lens.
    """

    focus_m: float
    aim_px: tuple[float, float] = (0.0, 0.0)
    roll_deg: float = 0.0
    step_m: tuple[float, float, float] = (0.0, 0.0, 0.0)
    drift: tuple[float, float, float] = (1.0, 1.0, 1.0)
    ev: float = 0.0
    shake_px: tuple[float, float] = (0.0, 0.0)
    gust: tuple[float, float] = (0.0, 0.0)
    hand: bool = False

    @property
    def focus(self) -> float:
        """Focus in dioptres."""
        return 0.0 if math.isinf(self.focus_m) else 1 / self.focus_m


@dataclass(frozen=True)
class Camera:
    """Sensor size in pixels (even), lens, ISO (0 is noiseless); `upright` is how it was held when height > width."""

    width: int
    height: int
    lens: Lens = field(default_factory=Lens)
    iso: int = 100

    @property
    def long_side(self) -> int:
        return max(self.width, self.height)

    def blur_radius(self, focus_m: float, distance_m: float) -> float:
        """Radius in pixels of the blur disc, on the axis."""
        focus, place = (0.0 if math.isinf(d) else 1 / d for d in (focus_m, distance_m))
        return self.lens.radius_per_dioptre(focus, self.long_side) * abs(focus - place)

    def to_plane(self, shot: Shot) -> NDArray[np.float64]:
        """(3, 3) from the frame's pixels to the picture plane of the camera as it stood at first (see `View`)."""
        focal = self.lens.focal_mm / self.lens.sensor_mm
        scale = 1 / self.long_side / self.lens.magnification(shot.focus)
        aim, climb, roll = math.atan2(shot.aim_px[0] / self.long_side, focal), math.atan2(shot.aim_px[1] / self.long_side, focal), math.radians(shot.roll_deg)
        turn = cv2.Rodrigues(np.array([0.0, aim, 0.0]))[0] @ cv2.Rodrigues(np.array([-climb, 0.0, 0.0]))[0] @ cv2.Rodrigues(np.array([0.0, 0.0, roll]))[0]
        onto = np.diag([focal, focal, 1.0]) @ turn @ np.diag([1 / focal, 1 / focal, 1.0])
        centred = np.array([[scale, 0, -scale * (self.width - 1) / 2], [0, scale, -scale * (self.height - 1) / 2], [0, 0, 1]])
        return np.asarray(onto @ centred, np.float64)


def fit_between(camera: Camera, frame: Shot, reference: Shot) -> NDArray[np.float64]:
    """The true fit (3, 3) that takes a pixel of `frame` to the pixel grid of `reference`, for what is far away: a
    camera that also moved sees near things elsewhere."""
    fit = np.linalg.inv(camera.to_plane(reference)) @ camera.to_plane(frame)
    return fit / fit[2, 2]


@njit(cache=True, nogil=True, fastmath=True)
def _look(source: np.ndarray, depth: np.ndarray, onto: np.ndarray, grid: np.ndarray, step: np.ndarray, x0: int, y0: int, repeat: bool, out: np.ndarray, dioptres: np.ndarray) -> None:
    """Sample a sheet (h, w, 4) by cubic convolution (Keys 1981) for frame pixels from (x0, y0) on."""
    left, top, size, lens, horizon = grid
    height, width = depth.shape
    moved = step[0] != 0 or step[1] != 0 or step[2] != 0
    wx, wy = np.empty(4, np.float32), np.empty(4, np.float32)
    for j in range(out.shape[0]):
        for i in range(out.shape[1]):
            px, py = float(i + x0), float(j + y0)
            w = onto[2, 0] * px + onto[2, 1] * py + onto[2, 2]
            u = (onto[0, 0] * px + onto[0, 1] * py + onto[0, 2]) / w
            v = (onto[1, 0] * px + onto[1, 1] * py + onto[1, 2]) / w
            sx, sy = (u - left) / size, (v - top) / size
            if moved:
                # near things stand elsewhere for a lens that moved; how near is known where they stand
                for _ in range(4):
                    d = depth[min(max(int(sy + 0.5), 0), height - 1), min(max(int(sx + 0.5), 0), width - 1)]
                    sx = (u * (1 - step[2] * d) + lens * step[0] * d - left) / size
                    sy = (horizon + (v - horizon) * (1 - step[2] * d) - lens * step[1] * d - top) / size
            if not repeat and (sx < -1 or sy < -1 or sx > width or sy > height):
                for c in range(4):
                    out[j, i, c] = 0
                dioptres[j, i] = depth[min(max(int(sy), 0), height - 1), min(max(int(sx), 0), width - 1)]
                continue
            ix, iy = int(np.floor(sx)), int(np.floor(sy))
            fx, fy = np.float32(sx - ix), np.float32(sy - iy)
            wx[0], wx[1] = ((-0.5 * fx + 1) * fx - 0.5) * fx, (1.5 * fx - 2.5) * fx * fx + 1
            wx[2], wx[3] = ((-1.5 * fx + 2) * fx + 0.5) * fx, (0.5 * fx - 0.5) * fx * fx
            wy[0], wy[1] = ((-0.5 * fy + 1) * fy - 0.5) * fy, (1.5 * fy - 2.5) * fy * fy + 1
            wy[2], wy[3] = ((-1.5 * fy + 2) * fy + 0.5) * fy, (0.5 * fy - 0.5) * fy * fy
            a0, a1, a2, a3 = np.float32(0), np.float32(0), np.float32(0), np.float32(0)
            if ix >= 1 and iy >= 1 and ix < width - 2 and iy < height - 2:
                if source[iy, ix, 3] + source[iy, ix + 1, 3] + source[iy + 1, ix, 3] + source[iy + 1, ix + 1, 3] == 0:
                    for c in range(4):
                        out[j, i, c] = 0
                    dioptres[j, i] = depth[iy, ix]
                    continue
                for b in range(4):
                    r0, r1, r2, r3 = np.float32(0), np.float32(0), np.float32(0), np.float32(0)
                    for a in range(4):
                        r0 += wx[a] * source[iy + b - 1, ix + a - 1, 0]
                        r1 += wx[a] * source[iy + b - 1, ix + a - 1, 1]
                        r2 += wx[a] * source[iy + b - 1, ix + a - 1, 2]
                        r3 += wx[a] * source[iy + b - 1, ix + a - 1, 3]
                    a0, a1, a2, a3 = a0 + wy[b] * r0, a1 + wy[b] * r1, a2 + wy[b] * r2, a3 + wy[b] * r3
            else:
                for b in range(4):
                    for a in range(4):
                        row, col = iy + b - 1, ix + a - 1
                        if not repeat and (row < 0 or col < 0 or row >= height or col >= width):
                            continue
                        row, col = min(max(row, 0), height - 1), min(max(col, 0), width - 1)
                        weight = wy[b] * wx[a]
                        a0 += weight * source[row, col, 0]
                        a1 += weight * source[row, col, 1]
                        a2 += weight * source[row, col, 2]
                        a3 += weight * source[row, col, 3]
            out[j, i, 0], out[j, i, 1], out[j, i, 2], out[j, i, 3] = a0, a1, a2, min(max(a3, np.float32(0)), np.float32(1))
            row, col = min(max(iy, 0), height - 2), min(max(ix, 0), width - 2)
            fx, fy = min(max(np.float32(sx - col), np.float32(0)), np.float32(1)), min(max(np.float32(sy - row), np.float32(0)), np.float32(1))
            upper = depth[row, col] * (1 - fx) + depth[row, col + 1] * fx
            lower = depth[row + 1, col] * (1 - fx) + depth[row + 1, col + 1] * fx
            dioptres[j, i] = upper * (1 - fy) + lower * fy


@njit(cache=True, nogil=True, fastmath=True)
def _lay_over(over: np.ndarray, dioptres: np.ndarray, light: np.ndarray, depth: np.ndarray) -> None:
    for j in range(light.shape[0]):
        for i in range(light.shape[1]):
            cover = over[j, i, 3]
            if cover <= 0:
                continue
            for c in range(3):
                light[j, i, c] = light[j, i, c] * (1 - cover) + over[j, i, c]
            if cover > 0.5:
                depth[j, i] = dioptres[j, i]


@dataclass(frozen=True)
class _Slab:
    """Twigs at about one distance, as they stand in a frame: pixel ends and the pixel box of them all."""

    dioptres: float
    twigs: NDArray[np.float64]
    ends: NDArray[np.float64]
    box: tuple[float, float, float, float]


class Stage:
    """A landscape drawn once, sharp and a little finer than the sensor, from which frames are taken."""

    def __init__(self, landscape: Landscape, camera: Camera, shots: Sequence[Shot] = ()) -> None:
        """Large enough for `shots`."""
        self.landscape, self.camera = landscape, camera
        detail = float(np.interp(camera.long_side, (3000, 6000), (DETAIL, DETAIL_LARGE)))
        focal, step = camera.lens.focal_mm / camera.lens.sensor_mm, 1 / camera.long_side / detail
        low, high = np.full(2, np.inf), np.full(2, -np.inf)
        for shot in shots or (Shot(math.inf),):
            w, h = camera.width - 1, camera.height - 1
            seen = cv2.perspectiveTransform(np.array([[[0, 0], [w, 0], [0, h], [w, h]]], np.float64), camera.to_plane(shot))[0]
            # what is nearest moves most when the camera does
            aside = focal * max(abs(s) for s in shot.step_m) * 3.0
            low, high = np.minimum(low, seen.min(axis=0) - aside), np.maximum(high, seen.max(axis=0) + aside)
        low, high = low - 4 * step, high + 4 * step
        width, height = (math.ceil(n) + 1 for n in (high - low) / step)
        self.view = View(width, height, float(low[0]), float(low[1]), step, focal, max(1 / camera.long_side, step))
        self.sheets = landscape.sheets(self.view)
        self.twigs = landscape.plants()

    def _slabs(self, shot: Shot) -> list[_Slab]:
        twigs = self.twigs.copy()
        scape, camera = self.landscape, self.camera
        if len(twigs):
            # a plant bends as a whole and flutters a little on its own
            own = np.sin(twigs[:, 10] * 12.9898 + 7 * shot.gust[0] + 3 * shot.gust[1])
            for end in (0, 4):
                bend = twigs[:, 8 + end // 4] * scape.sway
                twigs[:, end] += bend * (shot.gust[0] + 0.3 * own * abs(shot.gust[0]))
                twigs[:, end + 2] += bend * (shot.gust[1] + 0.3 * own * abs(shot.gust[1]))
        if shot.hand:
            twigs = np.concatenate([twigs, gloved_hand(scape.eye, scape.horizon)])
        twigs = twigs[(twigs[:, 2] > 0.12 + shot.step_m[2]) & (twigs[:, 6] > 0.12 + shot.step_m[2])]
        if not len(twigs):
            return []
        focal, back = self.view.lens, np.linalg.inv(camera.to_plane(shot))
        pixels = camera.long_side * camera.lens.magnification(shot.focus)
        ends = np.empty((len(twigs), 6))
        for k, end in ((0, 0), (3, 4)):
            x, y, z, r = twigs[:, end : end + 4].T
            far = z - shot.step_m[2]
            u, v = focal * (x - shot.step_m[0]) / far, scape.horizon + focal * (scape.eye + shot.step_m[1] - y) / far
            ends[:, k : k + 2] = cv2.perspectiveTransform(np.stack([u, v], axis=1)[None], back)[0]
            ends[:, k + 2] = r * focal / far * pixels
        place = 2 / (twigs[:, 2] + twigs[:, 6])
        radius = (place - shot.focus) * camera.lens.radius_per_dioptre(shot.focus, camera.long_side)
        turn = SLAB_PX / SLAB_PART
        wide = turn * (1 + np.log(np.maximum(np.abs(radius), turn) / turn))
        number = np.floor(np.where(np.abs(radius) < turn, radius, np.sign(radius) * wide) / SLAB_PX).astype(int)
        found = []
        for n in np.unique(number):
            mine = number == n
            e = ends[mine]
            edge = e[:, [2, 5]].max() + 2
            box = (e[:, [0, 3]].min() - edge, e[:, [1, 4]].min() - edge, e[:, [0, 3]].max() + edge, e[:, [1, 4]].max() + edge)
            if box[2] > -60 and box[3] > -60 and box[0] < camera.width + 60 and box[1] < camera.height + 60:
                found.append(_Slab(float(place[mine].mean()), twigs[mine], e, box))
        return found

    def picture(self, shot: Shot, sharp: bool = False) -> tuple[FloatArray, FloatArray]:
        """Light (h, w, 3), linear Rec. 2020, and distance in metres (h, w), as the lens draws it or with all in focus.

        1 is the white level; the sharp picture has no falloff. Fringes are drawn on the sensor's own channels, in `expose`.
        """
        camera, lens = self.camera, self.camera.lens
        width, height = camera.width, camera.height
        onto, view = camera.to_plane(shot), self.view
        back = np.asarray(np.linalg.inv(onto), np.float64)
        step = np.array(shot.step_m)
        slabs = self._slabs(shot)
        parts: list[Sheet | _Slab] = [*self.sheets, *slabs]
        parts.sort(key=lambda part: part.back if isinstance(part, Sheet) else part.dioptres)
        corners = {id(s): self._corners(s, back, step) for s in self.sheets}
        light = np.zeros((height, width, 3), np.float32)
        depth = np.zeros((height, width), np.float32)
        per_dioptre = lens.radius_per_dioptre(shot.focus, camera.long_side)

        def strip(first: int, last: int) -> None:
            for part in parts:
                if isinstance(part, Sheet):
                    nearest = part.nearest
                    spread = 0.0 if sharp else per_dioptre * (max(abs(shot.focus - part.back), abs(shot.focus - nearest)) + abs(lens.curvature))
                else:
                    spread = 0.0 if sharp else per_dioptre * (abs(shot.focus - part.dioptres) + abs(lens.curvature))
                pad = math.ceil(spread * 1.33) + 5 if spread >= SHARP else 0
                left, top, right, bottom = corners[id(part)] if isinstance(part, Sheet) else part.box
                x0, x1 = max(0, math.floor(left) - pad - 2), min(width, math.ceil(right) + pad + 2)
                y0, y1 = max(first, math.floor(top) - pad - 2), min(last, math.ceil(bottom) + pad + 2)
                if x1 <= x0 or y1 <= y0:
                    continue
                inner = np.s_[pad : pad + y1 - y0, pad : pad + x1 - x0]
                if isinstance(part, Sheet):
                    wide = np.empty((y1 - y0 + 2 * pad, x1 - x0 + 2 * pad, 4), np.float32)
                    dioptres = np.empty(wide.shape[:2], np.float32)
                    grid = np.array([view.left + part.x * view.step, view.top + part.y * view.step, view.step, view.lens, self.landscape.horizon])
                    whole = part.light.shape[1] == view.width
                    _look(part.light, part.dioptres, onto, grid, step, x0 - pad, y0 - pad, whole, wide, dioptres)
                    dioptres = np.ascontiguousarray(dioptres[inner])
                else:
                    metres = 1 / (part.dioptres * view.lens * camera.long_side)
                    wide = draw_twigs(part.twigs, part.ends, (x0 - pad, y0 - pad, x1 - x0 + 2 * pad, y1 - y0 + 2 * pad), self.landscape.light, metres)
                    dioptres = np.full((y1 - y0, x1 - x0), part.dioptres, np.float32)
                soft = defocus(lens, shot.focus, wide, dioptres, pad, (x0, y0), (width, height)) if pad else wide
                _lay_over(soft, dioptres, light[y0:y1, x0:x1], depth[y0:y1, x0:x1])

        by_rows(strip, height, width)
        if not sharp:
            draw_falloff(light, lens)
        light[:] = cv2.GaussianBlur(light, (0, 0), lens.softness(camera.long_side), borderType=cv2.BORDER_REFLECT_101)
        if not sharp and any(shot.shake_px):
            light = _shaken(light, shot.shake_px)
        np.maximum(light, 0, out=light)
        light *= np.float32(self.landscape.exposure)
        return light, (1 / np.maximum(depth, 1e-6)).astype(np.float32)

    def _corners(self, sheet: Sheet, back: NDArray[np.float64], step: NDArray[np.float64]) -> tuple[float, float, float, float]:
        """The pixel box of a sheet in a frame."""
        h, w = sheet.dioptres.shape
        view = self.view
        x0, y0 = view.left + sheet.x * view.step, view.top + sheet.y * view.step
        x1, y1 = x0 + w * view.step, y0 + h * view.step
        at = cv2.perspectiveTransform(np.array([[[x0, y0], [x1, y0], [x0, y1], [x1, y1]]], np.float64), back)[0]
        aside = np.abs(step).max() * view.lens * sheet.nearest * self.camera.long_side
        return float(at[:, 0].min() - aside), float(at[:, 1].min() - aside), float(at[:, 0].max() + aside), float(at[:, 1].max() + aside)


def _shaken(light: FloatArray, path: tuple[float, float]) -> FloatArray:
    """The picture moved along a straight path while the shutter was open."""
    reach = math.ceil(max(abs(p) for p in path)) + 1
    kernel = np.zeros((2 * reach + 1, 2 * reach + 1), np.float32)
    for t in np.linspace(-0.5, 0.5, 16 * reach):
        x, y = reach + t * path[0], reach + t * path[1]
        i, j = int(x), int(y)
        for a, b, share in ((0, 0, (1 - x + i) * (1 - y + j)), (1, 0, (x - i) * (1 - y + j)), (0, 1, (1 - x + i) * (y - j)), (1, 1, (x - i) * (y - j))):
            kernel[j + b, i + a] += share
    return np.asarray(cv2.filter2D(light, cv2.CV_32F, kernel / kernel.sum(), borderType=cv2.BORDER_REPLICATE), np.float32)


def expose(light: FloatArray, camera: Camera, shot: Shot, seed: int) -> NDArray[np.uint16]:
    """Sensor values (h, w), RGGB, of linear Rec. 2020 light, with fringes, photon and read noise."""
    scale = 2.0**shot.ev / (COLOUR_MATRIX @ white_xyz(D65_XY)).max()
    to_sensor = ((COLOUR_MATRIX @ XYZ_FROM_WORK) * np.array(shot.drift)[:, None] * scale).astype(np.float32)
    height, width = light.shape[:2]
    mosaic = np.empty((height, width), np.float32)
    if camera.lens.fringe_red or camera.lens.fringe_blue:
        light, to_sensor = light @ to_sensor.T, np.eye(3, dtype=np.float32)
        draw_fringes(light, camera.lens)
    for (row, col), channel in zip(((0, 0), (0, 1), (1, 0), (1, 1)), (0, 1, 1, 2), strict=True):
        mosaic[row::2, col::2] = light[row::2, col::2] @ to_sensor[channel]
    out = np.empty((height, width), np.uint16)

    # strips of a fixed height, so that a seed gives the same noise on any machine
    def strip(number: int) -> None:
        a, b = 256 * number, min(256 * (number + 1), height)
        part = np.minimum(mosaic[a:b], 4.0)
        if camera.iso:
            rng = np.random.default_rng((seed, a))
            gain = FULL_WELL * 100 / camera.iso
            spread = np.sqrt(np.maximum(part, 0) / gain + (READ_NOISE / FULL_WELL) ** 2 * camera.iso / 100)
            part += spread * rng.standard_normal(part.shape, np.float32)
        out[a:b] = np.clip(np.rint(part * (WHITE - BLACK) + BLACK), 0, WHITE)

    def rows(first: int, last: int) -> None:
        for number in range(first, last):
            strip(number)

    by_rows(rows, math.ceil(height / 256), 256 * width)
    return out


def camera_neutral() -> NDArray[np.float64]:
    """White (D65) as the sensor's channels see it, the largest being 1."""
    seen = COLOUR_MATRIX @ white_xyz(D65_XY)
    return np.asarray(seen / seen.max())


@dataclass(frozen=True)
class Truth:
    """What a set was made from. `fits` take each frame's pixels to the reference frame's."""

    reference: int
    sharp: FloatArray
    distance: FloatArray
    fits: list[NDArray[np.float64]]


def truth_of(stage: Stage, shots: list[Shot], reference: int) -> Truth:
    """The all-sharp radiance, exposed as the frame `reference`, distances and true geometry of a set in its grid."""
    sharp, distance = stage.picture(shots[reference], sharp=True)
    sharp *= np.float32(2.0 ** shots[reference].ev)
    fits = [fit_between(stage.camera, shot, shots[reference]) for shot in shots]
    return Truth(reference, sharp, distance, fits)


def write_truth(truth: Truth, stage: Stage, shots: list[Shot], files: list[str], wrong: dict[str, object], folder: Path) -> None:
    """Write `sharp.tif` (16 bits, sRGB), `sharp_linear.npy` (half floats, Rec. 2020; brighter than white where it was),
    `distance.npy` (metres) and `truth.json` (geometry, shots, lens and `wrong`, what was put wrong on purpose)."""
    import tifffile

    folder.mkdir(parents=True, exist_ok=True)
    encoded = encode_srgb(truth.sharp @ SRGB_FROM_WORK.T.astype(np.float32))
    tifffile.imwrite(folder / "sharp.tif", np.rint(np.clip(encoded, 0, 1) * 65535).astype(np.uint16), photometric="rgb")
    np.save(folder / "sharp_linear.npy", truth.sharp.astype(np.float16))
    np.save(folder / "distance.npy", truth.distance)
    camera = stage.camera
    facts = {
        "schema": 1,
        "landscape": stage.landscape.name,
        "reference": truth.reference,
        "files": files,
        "fits": [fit.tolist() for fit in truth.fits],
        "shots": [asdict(shot) | {"focus_m": shot.focus_m if math.isfinite(shot.focus_m) else None} for shot in shots],
        "camera": {"width": camera.width, "height": camera.height, "iso": camera.iso, "lens": asdict(camera.lens)},
        "profile": camera.lens.profile(),
        "blur_px_per_dioptre": [camera.lens.radius_per_dioptre(shot.focus, camera.long_side) for shot in shots],
        "wrong": wrong,
    }
    (folder / "truth.json").write_text(json.dumps(facts, indent=1))


def shoot(
    stage: Stage,
    shots: Sequence[Shot],
    card: Path,
    first_number: int = 1,
    start: datetime = datetime(2026, 4, 11, 6, 14, 3),
    on_frame: Callable[[int, Path], None] | None = None,
    preview: bool = False,
    seed: int = 0,
) -> list[Path]:
    """Take the shots in order, one DNG each, onto the card folder; `on_frame(n, path)` after each.

    A frame that stands there already is left alone and counts as taken. `preview` embeds a small JPEG.
    """
    card.mkdir(parents=True, exist_ok=True)
    camera, lens = stage.camera, stage.camera.lens
    paths = []
    seen: tuple[Shot, FloatArray] | None = None
    for i, shot in enumerate(shots):
        path = card / f"FIELD{first_number + i:04d}.dng"
        if not path.exists():
            # exposures of one bracket are of the same light
            alike = replace(shot, ev=0.0, drift=(1.0, 1.0, 1.0))
            if seen is None or seen[0] != alike:
                seen = alike, stage.picture(shot)[0]
            light = seen[1]
            if camera.height > camera.width:
                # the sensor lies on its side; the file says how to turn the picture
                light = np.ascontiguousarray(np.rot90(light))
            mosaic = expose(light, camera, shot, seed=1000 * seed + first_number + i)
            exif = Metadata(
                taken=start + timedelta(seconds=2 * i),
                seconds=SHUTTER * (lens.f_number / 5.6) ** 2 * 100 / max(camera.iso, 50) * 2**shot.ev,
                f_number=lens.f_number,
                iso=max(camera.iso, 50),
                focal_mm=lens.focal_mm,
                focus_m=shot.focus_m if shot.focus_m > 0 else math.inf,
                camera="Field camera 1",
                lens=f"{lens.focal_mm:g} mm f/2.8",
                orientation=6 if camera.height > camera.width else 1,
            )
            write_dng(path, mosaic, BLACK, WHITE, COLOUR_MATRIX, camera_neutral(), exif, lens.profile(), _preview(light, shot) if preview else None)
        paths.append(path)
        if on_frame:
            on_frame(i, path)
    return paths


def _preview(light: FloatArray, shot: Shot) -> NDArray[np.uint8]:
    """The picture as the camera's own screen shows it: (h, w, 3), sRGB, 1620 px on its long side where the sensor has them."""
    size = min(1.0, 1620 / max(light.shape[:2]))
    small = cv2.resize(light, None, fx=size, fy=size, interpolation=cv2.INTER_AREA) * np.float32(2.0**shot.ev) * np.array(shot.drift, np.float32)
    return np.asarray(np.rint(np.clip(encode_srgb(small @ SRGB_FROM_WORK.T.astype(np.float32)), 0, 1) * 255), np.uint8)
