"""The simulated camera: a landscape through a thin lens onto a Bayer sensor, frame by frame to a card.

A frame is composited from back to front. The backdrop's distance changes smoothly, so each of its pixels is
blurred by the disc of its own distance; every layer in front is blurred together with its own coverage, so a
defocused near thing lies translucent over what it hides, as behind a real lens.
"""

from __future__ import annotations

import json
import math
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from datetime import datetime, timedelta
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from ..imaging.colour import D65_XY, SRGB_FROM_WORK, XYZ_FROM_WORK, FloatArray, encode_srgb, white_xyz
from ..imaging.exif import Metadata
from ..imaging.resample import warp
from ..optics.thinlens import blur_diameter
from . import saltpan
from .dng import write_dng

COLOUR_MATRIX = np.array([[0.742, -0.241, -0.083], [-0.443, 1.271, 0.192], [-0.062, 0.171, 0.588]])
"""The made-up sensor's channels from XYZ (D65)."""
BLACK, WHITE = 512, 15871
FULL_WELL, READ_NOISE = 32000.0, 3.2
"""Electrons at the white level and standard deviation of a read, at ISO 100."""
MARGIN = 0.05
"""How much more than its frame the landscape is drawn, on each side, in widths."""
DETAIL = 1.2
"""How much finer than the sensor's pixels the landscape is drawn."""


SOFTNESS = 0.55
"""Standard deviation in pixels of what even a focused lens and the filter on the sensor spread."""


@dataclass(frozen=True)
class Lens:
    """Focal length and sensor width in mm; `breathing` is the change of scale from infinity to `near_m`."""

    focal_mm: float = 24.0
    f_number: float = 5.6
    sensor_mm: float = 36.0
    breathing: float = 0.02
    near_m: float = 0.6


@dataclass(frozen=True)
class Shot:
    """One frame: where the lens is focused, how the camera moved, how the exposure drifted."""

    focus_m: float
    shift_px: tuple[float, float] = (0.0, 0.0)
    rotation_deg: float = 0.0
    drift: tuple[float, float, float] = (1.0, 1.0, 1.0)


@dataclass(frozen=True)
class Camera:
    """Sensor size in pixels (even), lens, how brightly it exposes, ISO (sets the noise; 0 is noiseless)."""

    width: int
    height: int
    lens: Lens = field(default_factory=Lens)
    exposure: float = 0.72
    iso: int = 100

    def pixel(self) -> float:
        """Width of a pixel in plane coordinates."""
        return 1 / self.width

    def blur_radius(self, focus_m: float, distance_m: float) -> float:
        """Radius in pixels of the blur disc."""
        diameter = blur_diameter(self.lens.focal_mm, self.lens.f_number, focus_m, distance_m)
        return 0.5 * diameter / self.lens.sensor_mm * self.width

    def to_plane(self, shot: Shot) -> NDArray[np.float64]:
        """(3, 3) from the frame's pixels to the landscape's plane coordinates."""
        near_share = self.lens.near_m / shot.focus_m
        scale = self.pixel() / (1 + self.lens.breathing * near_share)
        angle = math.radians(shot.rotation_deg)
        c, s = scale * math.cos(angle), scale * math.sin(angle)
        centre = np.array([[1, 0, shot.shift_px[0] - (self.width - 1) / 2], [0, 1, shot.shift_px[1] - (self.height - 1) / 2], [0, 0, 1]])
        return np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]]) @ centre


def fit_between(camera: Camera, frame: Shot, reference: Shot) -> NDArray[np.float64]:
    """The true fit (3, 3) that takes a pixel of `frame` to the pixel grid of `reference`."""
    fit = np.linalg.inv(camera.to_plane(reference)) @ camera.to_plane(frame)
    return fit / fit[2, 2]


def disc(radius: float) -> FloatArray:
    """A filled disc of `radius` pixels that sums to one; pixels on the rim count by how much of them is inside."""
    if radius < 0.05:
        return np.ones((1, 1), np.float32)
    reach = math.ceil(radius)
    fine = 9
    axis = (np.arange((2 * reach + 1) * fine) + 0.5) / fine - reach - 0.5
    inside = (axis[:, None] ** 2 + axis[None, :] ** 2 <= radius**2).astype(np.float32)
    kernel = inside.reshape(2 * reach + 1, fine, 2 * reach + 1, fine).mean(axis=(1, 3))
    return np.asarray(kernel / kernel.sum(), np.float32)


def blur(picture: FloatArray, radius: float) -> FloatArray:
    """Blur (h, w) or (h, w, c) by a disc, borders reflected."""
    if radius < 0.05:
        return picture
    return np.asarray(cv2.filter2D(picture, cv2.CV_32F, disc(radius), borderType=cv2.BORDER_REFLECT_101), np.float32)


class Stage:
    """A landscape drawn once, sharp and a little finer than the sensor, from which frames are taken."""

    def __init__(self, camera: Camera) -> None:
        self.camera = camera
        lens_widths = camera.lens.focal_mm / camera.lens.sensor_mm
        pixel = camera.pixel() / DETAIL
        width = math.ceil(camera.width * DETAIL * (1 + 2 * MARGIN))
        height = math.ceil(camera.height * DETAIL + camera.width * DETAIL * 2 * MARGIN)
        self.grid = np.array([[pixel, 0, -(width - 1) / 2 * pixel], [0, pixel, -(height - 1) / 2 * pixel], [0, 0, 1]])
        self.light, self.distance = saltpan.backdrop(self.grid, height, width, lens_widths, camera.pixel())
        self.layers = []
        for layer in saltpan.layers(lens_widths):
            corners = cv2.perspectiveTransform(np.array(layer.span()).reshape(2, 1, 2), np.linalg.inv(self.grid))[:, 0]
            x0, y0 = np.clip(np.floor(corners[0]).astype(int), 0, (width - 1, height - 1))
            x1, y1 = np.clip(np.ceil(corners[1]).astype(int), 0, (width, height))
            box = (int(x0), int(y0), int(x1 - x0), int(y1 - y0))
            light, cover = saltpan.draw_layer(layer, self.grid, box, camera.pixel())
            self.layers.append((layer.distance, box, np.dstack([light * cover[..., None], cover])))

    def _onto(self, shot: Shot) -> NDArray[np.float64]:
        fit: NDArray[np.float64] = np.linalg.inv(self.camera.to_plane(shot)) @ self.grid
        return fit

    def _backdrop(self, shot: Shot, sharp: bool) -> tuple[FloatArray, FloatArray]:
        whole = (0, 0, self.camera.width, self.camera.height)
        light = warp(self.light, self._onto(shot), whole)
        distance = 1 / warp(1 / self.distance, self._onto(shot), whole)
        if not sharp:
            light = self._blur_by_distance(light, distance, shot)
        return light, distance

    def _blur_by_distance(self, light: FloatArray, distance: FloatArray, shot: Shot) -> FloatArray:
        # the disc grows with the difference in dioptres, measured here at a point one dioptre farther or nearer
        aside = 1 / shot.focus_m - 1 if shot.focus_m < 1 else 1 / shot.focus_m + 1
        per_dioptre = self.camera.blur_radius(shot.focus_m, 1 / aside)
        radius = (per_dioptre * np.abs(1 / shot.focus_m - 1 / distance)).astype(np.float32)
        steps = [0.0, 0.35]
        while steps[-1] < radius.max():
            steps.append(steps[-1] + max(0.3, 0.08 * steps[-1]))
        out = np.zeros_like(light)
        for i, step in enumerate(steps):
            below = steps[i - 1] if i else step - 1
            above = steps[i + 1] if i + 1 < len(steps) else step + 1
            share = np.clip(np.minimum((radius - below) / (step - below), (above - radius) / (above - step)), 0, 1)
            rows = np.flatnonzero(share.max(axis=1) > 0)
            if not len(rows):
                continue
            reach = math.ceil(step) + 1
            top, bottom = max(0, rows[0] - reach), min(len(light), rows[-1] + 1 + reach)
            piece = blur(light[top:bottom], step)[rows[0] - top : rows[-1] + 1 - top]
            out[rows[0] : rows[-1] + 1] += piece * share[rows[0] : rows[-1] + 1, :, None]
        return out

    def picture(self, shot: Shot, sharp: bool = False) -> tuple[FloatArray, FloatArray]:
        """Light (h, w, 3), linear Rec. 2020, and distance in metres (h, w), as the lens draws it or with all in focus."""
        light, distance = self._backdrop(shot, sharp)
        camera, onto = self.camera, self._onto(shot)
        for metres, (x, y, w, h), premultiplied in self.layers:
            radius = 0.0 if sharp else camera.blur_radius(shot.focus_m, metres)
            there = onto @ np.array([[1, 0, x], [0, 1, y], [0, 0, 1.0]])
            corners = cv2.perspectiveTransform(np.array([[[0, 0]], [[w, 0]], [[0, h]], [[w, h]]], np.float64), there)[:, 0]
            reach = math.ceil(radius) + 3
            left, top = np.clip(np.floor(corners.min(axis=0)).astype(int) - reach, 0, (camera.width, camera.height))
            right, bottom = np.clip(np.ceil(corners.max(axis=0)).astype(int) + reach, 0, (camera.width, camera.height))
            if right <= left or bottom <= top:
                continue
            # blurred with room around it, so that the frame's own border reflects nothing into it
            wide = warp(premultiplied, there, (left - reach, top - reach, right - left + 2 * reach, bottom - top + 2 * reach))
            soft = blur(np.ascontiguousarray(wide), radius)[reach:-reach, reach:-reach]
            cover = np.clip(soft[..., 3], 0, 1)
            part = np.s_[top:bottom, left:right]
            light[part] = light[part] * (1 - cover[..., None]) + soft[..., :3]
            distance[part] = np.where(cover > 0.5, metres, distance[part])
        light = cv2.GaussianBlur(light, (0, 0), SOFTNESS, borderType=cv2.BORDER_REFLECT_101)
        return np.maximum(light, 0) * np.float32(camera.exposure), distance


def expose(light: FloatArray, camera: Camera, shot: Shot, seed: int) -> NDArray[np.uint16]:
    """Sensor values (h, w), RGGB, of linear Rec. 2020 light, with photon and read noise."""
    neutral = camera_neutral()
    to_sensor = (COLOUR_MATRIX @ XYZ_FROM_WORK) * np.array(shot.drift)[:, None] / (COLOUR_MATRIX @ white_xyz(D65_XY)).max()
    channels = light @ to_sensor.T.astype(np.float32)
    mosaic = np.empty(light.shape[:2], np.float32)
    for (row, col), channel in zip(((0, 0), (0, 1), (1, 0), (1, 1)), (0, 1, 1, 2), strict=True):
        mosaic[row::2, col::2] = channels[row::2, col::2, channel]
    assert neutral.max() == 1.0
    if camera.iso:
        rng = np.random.default_rng(seed)
        gain = FULL_WELL * 100 / camera.iso
        spread = np.sqrt(np.maximum(mosaic, 0) / gain + (READ_NOISE / FULL_WELL) ** 2 * camera.iso / 100)
        mosaic += spread * rng.standard_normal(mosaic.shape, np.float32)
    return np.clip(np.rint(mosaic * (WHITE - BLACK) + BLACK), 0, WHITE).astype(np.uint16)


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
    """The all-sharp radiance, distances and true geometry of a set in the grid of the frame `reference`."""
    sharp, distance = stage.picture(shots[reference], sharp=True)
    fits = [fit_between(stage.camera, shot, shots[reference]) for shot in shots]
    return Truth(reference, sharp, distance, fits)


def write_truth(truth: Truth, shots: list[Shot], folder: Path) -> None:
    """Write `sharp.tif` (16 bits, sRGB), `distance.npy` (metres) and `truth.json` (geometry and shots)."""
    import tifffile

    folder.mkdir(parents=True, exist_ok=True)
    encoded = encode_srgb(truth.sharp @ SRGB_FROM_WORK.T.astype(np.float32))
    tifffile.imwrite(folder / "sharp.tif", np.rint(encoded * 65535).astype(np.uint16), photometric="rgb")
    np.save(folder / "distance.npy", truth.distance)
    facts = {"reference": truth.reference, "fits": [fit.tolist() for fit in truth.fits], "shots": [asdict(shot) for shot in shots]}
    (folder / "truth.json").write_text(json.dumps(facts, indent=1))


def shoot(
    stage: Stage,
    shots: list[Shot],
    card: Path,
    first_number: int = 1,
    start: datetime = datetime(2026, 4, 11, 6, 14, 3),
    on_frame: Callable[[int, Path], None] | None = None,
) -> list[Path]:
    """Take the shots in order, one DNG each, onto the card folder; `on_frame(n, path)` after each."""
    card.mkdir(parents=True, exist_ok=True)
    paths = []
    for i, shot in enumerate(shots):
        light, _ = stage.picture(shot)
        mosaic = expose(light, stage.camera, shot, seed=first_number + i)
        path = card / f"FIELD{first_number + i:04d}.dng"
        lens = stage.camera.lens
        exif = Metadata(
            taken=start + timedelta(seconds=2 * i),
            seconds=1 / 25,
            f_number=lens.f_number,
            iso=max(stage.camera.iso, 50),
            focal_mm=lens.focal_mm,
            focus_m=shot.focus_m,
            camera="Field camera 1",
            lens=f"{lens.focal_mm:g} mm f/2.8",
        )
        write_dng(path, mosaic, BLACK, WHITE, COLOUR_MATRIX, camera_neutral(), exif)
        paths.append(path)
        if on_frame:
            on_frame(i, path)
    return paths
