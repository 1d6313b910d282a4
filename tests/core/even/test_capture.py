"""Capture corrections against what was done to made-up frames, and against the field camera's own lens."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import cv2
import lensfunpy
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from eaveplane.core.even.capture.correction import Measured, corrected, correction, edge_mask
from eaveplane.core.even.capture.fringes import measure_fringes
from eaveplane.core.even.capture.noise import denoised, measure_noise
from eaveplane.core.even.capture.settings import CORRECTIONS, Capture, without
from eaveplane.fieldcam.camera import COLOUR_MATRIX, camera_neutral
from eaveplane.fieldcam.dng import write_dng
from eaveplane.fieldcam.lens import Lens, draw_fringes
from eaveplane.imaging.colour import FloatArray
from eaveplane.imaging.exif import Metadata
from eaveplane.imaging.formats.raw import DEMOSAIC, HIGHLIGHTS
from eaveplane.imaging.formats.registry import read_picture
from eaveplane.imaging.lensdata import LensData, from_database, read_opcodes
from eaveplane.imaging.light import channels
from eaveplane.imaging.pyramid import Box

SIZE = (900, 600)
STILL = Measured((0.0, 0.0), (0.0, 0.0), np.zeros((3, 4)).tolist())
STRAIGHT = (1.0, 0.0, 0.0, 0.0)


def texture(seed: int = 0, size: tuple[int, int] = SIZE) -> FloatArray:
    """A picture of soft blobs of many sizes, (h, w, 3)."""
    rng = np.random.default_rng(seed)
    total = np.zeros((size[1], size[0]), np.float32)
    for blur in (2, 5, 14):
        layer = cv2.GaussianBlur(rng.standard_normal(total.shape).astype(np.float32), (0, 0), blur)
        total += layer / layer.std()
    grey = 0.3 + 0.08 * total / total.std()
    return np.clip(grey[..., None] * np.array([0.9, 1.0, 0.8], np.float32), 0.01, 0.9).astype(np.float32)


def measure(read: Callable[[Box], FloatArray], size: tuple[int, int]) -> Measured:
    return Measured(*measure_fringes(read, size), measure_noise(read, size).tolist())


def reader(light: FloatArray) -> Callable[[Box], FloatArray]:
    return lambda box: light[box[1] : box[1] + box[3], box[0] : box[0] + box[2]]


@given(st.floats(-1.2e-3, 1.2e-3), st.floats(-1.2e-3, 1.2e-3))
@settings(max_examples=6)
def test_fringes_are_measured_and_taken_away(red: float, blue: float) -> None:
    light = texture(1)
    whole = light.copy()
    draw_fringes(light, Lens(fringe_red=red, fringe_blue=blue))
    found = measure_fringes(reader(light), SIZE)
    half = np.hypot(*SIZE) / 2
    for true, (k0, k1) in zip((red, blue), found, strict=True):
        for r in (0.4, 0.7, 0.95):
            assert abs((k0 + k1 * r * r) - true * r * r) * r * half < 0.09
    fixed = corrected(reader(light), correction(Capture(fringes="measured"), measure(reader(light), SIZE), None, SIZE), SIZE, 0, (0, 0, *SIZE))
    inner = np.s_[8:-8, 8:-8]
    if max(abs(red), abs(blue)) > 3e-4:
        before, after = (float(np.abs(p[inner] - whole[inner]).mean()) for p in (light, fixed))
        assert after < 0.6 * before


def test_without_texture_no_fringes_are_made_up() -> None:
    assert measure_fringes(reader(np.full((600, 900, 3), 0.4, np.float32)), SIZE) == ((0.0, 0.0), (0.0, 0.0))
    assert measure_fringes(reader(np.ones((600, 900, 3), np.float32)), SIZE) == ((0.0, 0.0), (0.0, 0.0))


def test_noise_is_measured_and_smoothed_where_nothing_is_lost() -> None:
    rng = np.random.default_rng(2)
    clean = np.repeat(np.repeat(np.where(np.arange(10)[:, None] % 2 == np.arange(15) % 2, 0.2, 0.35), 60, 0), 60, 1)[..., None] * np.ones(3, np.float32)
    root = np.sqrt(clean) + 0.02 * rng.standard_normal(clean.shape)
    light = (root * np.abs(root)).astype(np.float32)
    noise = measure_noise(reader(light), SIZE)
    # white noise of 0.02 a channel: brightness (1, 2, 1) / 4, differences √2; the finest B3 scale keeps 0.889 of it
    assert noise[0, 0] == pytest.approx(0.02 * np.sqrt(6) / 4 * 0.889, rel=0.12)
    assert noise[1, 0] == pytest.approx(0.02 * np.sqrt(2) * 0.889, rel=0.12)
    smooth = denoised(light, noise, 100, 100)

    def off(picture: FloatArray) -> float:
        return float(np.mean((np.sqrt(np.maximum(picture, 0)) - np.sqrt(clean)) ** 2))

    assert off(smooth) < 0.42 * off(light) and off(denoised(light, noise, 50, 50)) < 0.7 * off(light)
    # edges stay where and as steep as they were
    rows = np.sqrt(np.maximum(smooth[:60, :, 1], 0)).mean(axis=0)
    step = np.sqrt(0.35) - np.sqrt(0.2)
    assert abs(rows[70:110].mean() - rows[10:50].mean()) == pytest.approx(step, rel=0.03)
    assert abs(rows[60] - rows[59]) > 0.75 * step
    np.testing.assert_allclose(denoised(light, noise, 0, 0), light, atol=1e-5)


def test_corners_are_lightened_as_asked() -> None:
    flat = np.full((600, 900, 3), 0.25, np.float32)
    by_hand = corrected(reader(flat), correction(Capture(vignetting="hand", falloff=1), STILL, None, SIZE), SIZE, 0, (0, 0, *SIZE))
    assert by_hand[300, 450] == pytest.approx(np.full(3, 0.25), rel=1e-3) and by_hand[0, 0] == pytest.approx(np.full(3, 0.5), rel=5e-3)
    lens = LensData(STRAIGHT, STRAIGHT, STRAIGHT, (0.3, 0.2, 0, 0, 0), "a test")
    told = correction(Capture(vignetting="lens"), STILL, lens, SIZE)
    assert told.peak == pytest.approx(1.5) and correction(Capture(vignetting="lens"), STILL, None, SIZE).peak == 1
    assert corrected(reader(flat), told, SIZE, 0, (0, 0, 2, 2))[0, 0, 0] == pytest.approx(0.25 * 1.5, rel=5e-3)


def test_distortion_is_taken_away_only_when_asked() -> None:
    light = texture(3)
    bent = LensData((1.0, 0.04, 0, 0), (1.0, 0.04, 0, 0), (1.0, 0.041, 0, 0), (0, 0, 0, 0, 0), "a test")
    left = correction(Capture(fringes="lens"), STILL, bent, SIZE)
    assert left.radials[1] == STRAIGHT and left.radials[2][1] == pytest.approx(0.001)
    whole = correction(Capture(distortion=True), STILL, bent, SIZE)
    straight = corrected(reader(light), whole, SIZE, 0, (0, 0, *SIZE))
    # what a straight picture shows at radius r lies at r (1 + 0.04 r²)
    x, y, half = 820, 540, np.hypot(*SIZE) / 2
    dx, dy = x + 0.5 - 450, y + 0.5 - 300
    stretch = 1 + 0.04 * (dx * dx + dy * dy) / half**2
    at = cv2.getRectSubPix(light[..., 1].copy(), (1, 1), (float(dx * stretch + 449.5), float(dy * stretch + 299.5)))
    assert straight[y, x, 1] == pytest.approx(float(at[0, 0]), abs=5e-3)


@given(st.integers(0, 700), st.integers(0, 450), st.sampled_from(["noise", "fringes", "vignetting", "sharpening", "distortion"]))
@settings(max_examples=15)
def test_a_piece_is_corrected_as_the_whole_is(x: int, y: int, name: str) -> None:
    capture = {
        "noise": Capture(noise=60, noise_colour=80),
        "fringes": Capture(fringes="hand", fringe_red=1.5, fringe_blue=-1),
        "vignetting": Capture(vignetting="hand", falloff=1.2),
        "sharpening": Capture(sharpen=80),
        "distortion": Capture(distortion=True, fringes="lens"),
    }[name]
    light = WHOLE
    lens = LensData((1.0, 0.02, 0, 0), (1.0, 0.02, 0, 0), (1.0, 0.021, 0, 0), (0, 0, 0, 0, 0), "a test")
    correcting = correction(capture, Measured((0, 0), (0, 0), np.full((3, 4), 0.01).tolist()), lens, SIZE)
    box = (x, y, min(200, SIZE[0] - x), min(150, SIZE[1] - y))
    whole = corrected(reader(light), correcting, SIZE, 0, (0, 0, *SIZE))[y : y + box[3], x : x + box[2]]
    np.testing.assert_allclose(corrected(reader(light), correcting, SIZE, 0, box), whole, atol=2e-3)


WHOLE = texture(4)


def test_sharpening_acts_on_edges_and_spares_noise() -> None:
    rng = np.random.default_rng(5)
    light = np.full((200, 300, 3), 0.2, np.float32)
    light[:, 150:] = 0.4
    light = cv2.GaussianBlur(light, (0, 0), 1.0) + (0.004 * rng.standard_normal((200, 300, 3))).astype(np.float32)
    noise = measure_noise(reader(light), (300, 200))
    mask = edge_mask(light, noise, 40)
    assert mask[:, 148:152].min() > 0.9 and mask[:, :130].mean() < 0.03
    sharp = corrected(reader(light), correction(Capture(sharpen=80), Measured((0, 0), (0, 0), noise.tolist()), None, (300, 200)), (300, 200), 0, (0, 0, 300, 200))
    across, before = sharp[..., 1].mean(axis=0), light[..., 1].mean(axis=0)
    assert np.abs(np.diff(across)).max() > 1.2 * np.abs(np.diff(before)).max()
    assert np.std(sharp[:, :120]) < 1.05 * np.std(light[:, :120])


def test_every_setting_belongs_to_one_correction_and_can_be_taken_back() -> None:
    assert sorted(f for fields in CORRECTIONS.values() for f in fields) == sorted(Capture.model_fields)
    busy = Capture(demosaic="dcb", highlights="blend", fringes="hand", fringe_red=1, vignetting="hand", falloff=1, distortion=True, noise=20, sharpen=10)
    assert without(busy, "noise").noise == 0 and without(busy, "noise").fringes == "hand"
    for name in CORRECTIONS:
        busy = without(busy, name)
    assert busy == Capture() and not busy.corrects() and not Capture(demosaic="vng", falloff=1).corrects() and Capture(noise=5).corrects()


# ---- the lens, from the file and from the database --------------------------------------------------------------


@pytest.fixture(scope="module")
def raw(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A raw file of a bright patch, in which green clips first, drawn by a lens with fringes and falloff."""
    path = tmp_path_factory.mktemp("raw") / "patch.dng"
    neutral = camera_neutral()
    ramp = np.linspace(0.1, 1.8, 256)
    mosaic = np.empty((128, 256), np.float64)
    for (row, col), channel in zip(((0, 0), (0, 1), (1, 0), (1, 1)), (0, 1, 1, 2), strict=True):
        mosaic[row::2, col::2] = ramp[col::2] * neutral[channel]
    codes = np.clip(np.rint(512 + mosaic * (15871 - 512)), 0, 15871).astype(np.uint16)
    lens = Lens(f_number=2.0, falloff_ev=1.0, fringe_red=5e-4, fringe_blue=-3e-4)
    write_dng(path, codes, 512, 15871, COLOUR_MATRIX, neutral, Metadata(seconds=0.01), lens.profile())
    return path


def test_the_profile_in_a_file_is_read(raw: Path, tmp_path: Path) -> None:
    lens = read_opcodes(raw)
    assert lens is not None and lens.red[:2] == (1.0, 5e-4) and lens.blue[:2] == (1.0, -3e-4) and lens.green == STRAIGHT
    assert lens.gain[:2] == pytest.approx((0.6, 0.4)) and read_picture(raw).lens == lens
    empty = tmp_path / "no.dng"
    empty.write_bytes(b"II*\0")
    assert read_opcodes(empty) is None


def test_highlights_that_are_kept_go_on_where_clipped_ones_end(raw: Path) -> None:
    rows = {}
    for highlights in HIGHLIGHTS:
        picture = read_picture(raw, "ahd", highlights)
        rows[highlights] = channels(picture.codes, picture.encoding)[60:68].mean(axis=0)
    clip, rebuilt = rows["clip"], rows["rebuild"]
    # below white all are alike, above it what is not clipped in every channel goes on
    for highlights in ("blend", "rebuild"):
        np.testing.assert_allclose(rows[highlights][20:110], clip[20:110], rtol=0.04)
    assert clip.max() <= 1.001 and rebuilt.max() > 1.2
    assert np.ptp(clip[-40:-10], axis=1).max() < 0.02


def test_every_way_to_demosaic_gives_the_same_light(raw: Path) -> None:
    ramps = [channels(p.codes, p.encoding)[40:90, 30:100].mean(axis=0) for p in (read_picture(raw, name) for name in DEMOSAIC)]
    for ramp in ramps[1:]:
        np.testing.assert_allclose(ramp, ramps[0], rtol=0.03, atol=0.01)


DATABASE = """<lensdatabase version="1"><mount><name>Made up</name></mount>
<camera><maker>Nobody</maker><model>Field One</model><mount>Made up</mount><cropfactor>1.5</cropfactor></camera>
<lens><maker>Nobody</maker><model>Wide 20</model><mount>Made up</mount><cropfactor>1.5</cropfactor><focal value="20"/>
<calibration><distortion model="poly3" focal="20" k1="-0.02"/><tca model="linear" focal="20" kr="1.0006" kb="0.9995"/>
<vignetting model="pa" focal="20" aperture="4" distance="1000" k1="-0.5" k2="0.1" k3="0"/></calibration></lens></lensdatabase>"""


def test_the_database_tells_of_a_lens_it_knows() -> None:
    database = lensfunpy.Database(xml=DATABASE, load_common=False, load_bundled=False)
    meta = Metadata(camera="Field One", lens="Wide 20", focal_mm=20.0, f_number=4.0, focus_m=1000.0)
    lens = from_database(meta, SIZE, database)
    assert lens is not None
    # k1 = -0.5, k2 = 0.1 leave 0.6 of the light in the corners
    r = np.ones(1)
    assert 1 + sum(g * r**2 for g in lens.gain) == pytest.approx(1 / 0.6, rel=0.05)
    at = [sum(k * 0.8 ** (2 * n) for n, k in enumerate(radial)) for radial in (lens.red, lens.green, lens.blue)]
    assert at[0] / at[1] == pytest.approx(1.0006, abs=2e-4) and at[2] / at[1] == pytest.approx(0.9995, abs=2e-4) and abs(at[1] - 1) > 0.004
    assert from_database(Metadata(camera="Field Two", lens="Wide 20", focal_mm=20.0), SIZE, database) is None
    assert from_database(Metadata(), SIZE, database) is None
