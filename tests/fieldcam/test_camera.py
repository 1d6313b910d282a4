"""The field camera: optics as theory has them, raw files as LibRaw reads them."""

from __future__ import annotations

import math
from pathlib import Path

import cv2
import numpy as np
import pytest
import rawpy

from bench.score import ciede2000
from eaveplane.fieldcam.camera import Camera, Lens, Shot, Stage, disc, fit_between, shoot
from eaveplane.fieldcam.dng import write_dng
from eaveplane.imaging.colour import SRGB_FROM_WORK, encode_srgb
from eaveplane.imaging.exif import Metadata
from eaveplane.imaging.light import to_light
from eaveplane.imaging.read import read_picture
from eaveplane.optics.thinlens import blur_diameter
from tests.conftest import CAMERA, Set


@pytest.mark.parametrize("radius", [0.8, 2.0, 5.5, 11.0])
def test_a_disc_has_the_spread_of_a_disc(radius: float) -> None:
    kernel = disc(radius)
    reach = kernel.shape[0] // 2
    _, x = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    assert kernel.sum() == pytest.approx(1, abs=1e-5)
    # second moment of a uniform disc with that of a pixel's own square, which small discs share only roughly
    assert float((kernel * x * x).sum()) == pytest.approx(radius**2 / 4 + 1 / 12, rel=0.03 if radius > 3 else 0.08)


def test_blur_in_pixels_follows_the_lens() -> None:
    camera = Camera(3000, 2000, Lens(24, 5.6))
    expected = blur_diameter(24, 5.6, 0.6, math.inf) / 36 * 3000 / 2
    assert camera.blur_radius(0.6, math.inf) == pytest.approx(expected)
    assert camera.blur_radius(2.0, 2.0) == 0


def test_fits_are_exact_and_breathe() -> None:
    near, far = Shot(0.6, (3, -2), 0.4), Shot(math.inf)
    fit = fit_between(CAMERA, near, far)
    scale = math.hypot(fit[0, 0], fit[1, 0])
    assert scale == pytest.approx(1 / 1.02, rel=1e-9)
    np.testing.assert_allclose(fit_between(CAMERA, far, near) @ fit, np.eye(3), atol=1e-9)


def test_libraw_sees_the_light_that_was_there(stage: Stage, tmp_path: Path) -> None:
    noiseless = Camera(CAMERA.width, CAMERA.height, Lens(f_number=22.0), iso=0)
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
