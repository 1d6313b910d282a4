"""The field camera: optics as theory has them, raw files as LibRaw reads them."""

from __future__ import annotations

import math
import struct
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest
import rawpy
import tifffile

from eaveplane.fieldcam.camera import Camera, Shot, Stage, fit_between, shoot, truth_of
from eaveplane.fieldcam.dng import write_dng
from eaveplane.fieldcam.landscapes import LANDSCAPES
from eaveplane.fieldcam.lens import Lens
from eaveplane.imaging.colour import SRGB_FROM_WORK, encode_srgb
from eaveplane.imaging.difference import ciede2000
from eaveplane.imaging.exif import Metadata
from eaveplane.imaging.formats.registry import read_picture
from eaveplane.imaging.light import to_light
from eaveplane.imaging.resample import warp
from tests.conftest import CAMERA, Set


def test_fits_are_exact_and_breathe() -> None:
    near, far = Shot(0.6), Shot(math.inf)
    fit = fit_between(CAMERA, near, far)
    scale = math.hypot(fit[0, 0], fit[1, 0])
    assert scale == pytest.approx(1 / 1.02, rel=1e-9)
    near = Shot(0.6, (3, -2), 0.4)
    fit = fit_between(CAMERA, near, far)
    # the middle of the frame sees what lies three pixels to the right and two up in the other
    middle = np.array([[[(CAMERA.width - 1) / 2, (CAMERA.height - 1) / 2]]])
    np.testing.assert_allclose(cv2.perspectiveTransform(middle, fit) - middle, [[[3, -2]]], atol=0.01)
    both = fit_between(CAMERA, far, near) @ fit
    np.testing.assert_allclose(both / both[2, 2], np.eye(3), atol=1e-9)


def test_libraw_sees_the_light_that_was_there(stage: Stage, tmp_path: Path) -> None:
    noiseless = Camera(CAMERA.width, CAMERA.height, Lens(f_number=16.0), iso=0)
    clean = Stage.__new__(Stage)
    clean.__dict__.update(stage.__dict__, camera=noiseless)
    (path,) = shoot(clean, [Shot(2.0)], tmp_path)
    light, _ = clean.picture(Shot(2.0))
    picture = read_picture(path)

    def shown(pixels: np.ndarray) -> np.ndarray:
        soft = cv2.GaussianBlur(pixels, (0, 0), 2.0)
        return encode_srgb(soft @ SRGB_FROM_WORK.T.astype(np.float32)).astype(np.float64)

    seen = to_light(picture.codes, picture.encoding)
    scale = float(np.median(light) / np.median(seen))
    difference = ciede2000(shown(seen * scale), shown(light))
    assert np.median(difference) < 1.0 and scale == pytest.approx(1.0, abs=0.02)


def test_files_are_dng_with_the_facts_of_the_shot(tripod: Set) -> None:
    with rawpy.imread(str(tripod.paths[0])) as raw:
        assert raw.raw_pattern.tolist() == [[0, 1], [3, 2]] and raw.color_desc == b"RGBG"
        assert raw.black_level_per_channel[0] == 512 and raw.white_level == 15871
    assert [p.name for p in tripod.paths] == [f"FIELD{i:04d}.dng" for i in range(1, len(tripod.paths) + 1)]


def test_an_odd_mosaic_is_refused(tmp_path: Path) -> None:
    with pytest.raises(ValueError, match="even"):
        write_dng(tmp_path / "a.dng", np.zeros((3, 4), np.uint16), 0, 100, np.eye(3), np.ones(3), Metadata())


def test_the_truth_is_sharper_than_any_frame(tripod: Set) -> None:
    def fine(picture: np.ndarray) -> float:
        return float(np.abs(cv2.Laplacian(encode_srgb(picture[..., 1]), cv2.CV_32F)).mean())

    sharp = fine(tripod.truth.sharp)
    for path in tripod.paths:
        picture = read_picture(path)
        assert fine(cv2.GaussianBlur(to_light(picture.codes, picture.encoding), (0, 0), 0.6)) < sharp
    assert tripod.truth.distance.min() > 0.4 and tripod.truth.distance.max() > 1e5


def test_the_true_fits_lay_frames_on_the_truth_within_a_fiftieth_of_a_pixel() -> None:
    """The shift left in tiles (Lucas and Kanade 1981) between a frame sharp everywhere, laid by its fit, and the truth."""
    shots = [Shot(math.inf, (0.0, 0.0)), Shot(math.inf, (21.4, -13.7), 0.5)]
    camera = replace(CAMERA, width=1080, height=720)
    stage = Stage(LANDSCAPES["saltpan"], camera, shots)
    truth = truth_of(stage, shots, 0)
    moved, _ = stage.picture(shots[1], sharp=True)
    laid = warp(moved, truth.fits[1], (0, 0, camera.width, camera.height), repeat_edge=True)
    a, b = (cv2.GaussianBlur(np.sqrt(np.maximum(p[..., 1], 0)), (0, 0), 1.2).astype(np.float64) for p in (truth.sharp, laid))
    gy, gx = np.gradient(0.5 * (a + b))
    for x, y in ((60, 440), (400, 440), (760, 440), (400, 300), (420, 150)):
        part = np.s_[y : y + 256, x : x + 256]
        design = np.stack([gx[part].ravel(), gy[part].ravel()], axis=1)
        shift = np.linalg.lstsq(design, (a - b)[part].ravel(), rcond=None)[0]
        assert np.hypot(*shift) < 0.02


def test_a_profile_travels_as_opcodes(stage: Stage, tmp_path: Path) -> None:
    lens = Lens(f_number=2.0, falloff_ev=1.0, fringe_red=5e-4)
    camera = Camera(CAMERA.width, CAMERA.height, lens)
    corrected = Stage.__new__(Stage)
    corrected.__dict__.update(stage.__dict__, camera=camera)
    (path,) = shoot(corrected, [Shot(2.0)], tmp_path, preview=True)
    with tifffile.TiffFile(path) as file:
        assert file.pages[0].tags[0x0103].value == 7
        raw = file.pages[0].pages[0]
        data = raw.tags[0xC74E].value
        assert raw.tags[0xC61D].value == 15871 and raw.shape == (CAMERA.height, CAMERA.width)
    count, first, version, flags, length = struct.unpack(">5I", data[:20])
    assert (count, first, version, flags) == (2, 1, 0x01030000, 1)
    assert struct.unpack(">I6d", data[20:72])[:3] == (3, 1.0, 5e-4)
    second = data[20 + length :]
    assert struct.unpack(">I", second[:4])[0] == 3
    assert struct.unpack(">2d", second[16:32]) == pytest.approx((0.6, 0.4))
    with rawpy.imread(str(path)) as raw_file:
        assert raw_file.sizes.width == CAMERA.width


def test_exposures_of_a_bracket_are_of_one_picture_and_as_if_taken_alone(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    shots = [Shot(f, ev=ev, drift=(1, drift, 1)) for f in (1.0, math.inf) for ev, drift in ((-2.0, 1.0), (0.0, 1.1), (2.0, 0.9))]
    stage = Stage(LANDSCAPES["lava"], Camera(96, 64), shots)
    drawn = []
    picture = stage.picture
    monkeypatch.setattr(stage, "picture", lambda shot: drawn.append(shot.focus_m) or picture(shot))
    together = shoot(stage, shots, tmp_path / "together")
    assert drawn == [1.0, math.inf]
    for number, (shot, path) in enumerate(zip(shots, together, strict=True)):
        (alone,) = shoot(stage, [shot], tmp_path / "alone", 1 + number)
        np.testing.assert_array_equal(read_picture(alone).codes, read_picture(path).codes)
