"""Reading: codes come through exactly, and what cannot be read says so in words."""

from __future__ import annotations

import struct
from pathlib import Path

import numpy as np
import pytest
import tifffile
from PIL import Image

from eaveplane.imaging.colour import WORK_FROM_SRGB, decode_srgb
from eaveplane.imaging.errors import PictureError
from eaveplane.imaging.exif import Metadata
from eaveplane.imaging.formats.registry import facts, read_picture, write_picture
from eaveplane.imaging.icc import make_profile
from eaveplane.imaging.light import to_light
from tests.conftest import CAMERA, Set


def _codes(height: int = 40, width: int = 60) -> np.ndarray:
    return np.random.default_rng(3).integers(0, 65536, (height, width, 3), np.uint16)


@pytest.mark.parametrize("suffix", [".tif", ".png"])
def test_sixteen_bits_come_through_exactly(tmp_path: Path, suffix: str) -> None:
    codes = _codes()
    path = tmp_path / f"a{suffix}"
    write_picture(path, codes, make_profile("rec2020"), Metadata(iso=200, f_number=5.6))
    picture = read_picture(path)
    np.testing.assert_array_equal(picture.codes, codes)
    assert picture.encoding.profile == make_profile("rec2020")
    assert (picture.meta.iso, picture.meta.f_number) == (200, 5.6)
    assert not picture.raw


@pytest.mark.parametrize("mode", ["L", "RGB", "RGBA", "P"])
def test_eight_bit_pictures_of_every_layout(tmp_path: Path, mode: str) -> None:
    grey = np.tile(np.arange(64, dtype=np.uint8) * 4, (48, 1))
    Image.fromarray(grey).convert(mode).save(tmp_path / "a.png")
    picture = read_picture(tmp_path / "a.png")
    assert picture.codes.dtype == np.uint8 and picture.codes.shape == (48, 64, 3)
    np.testing.assert_array_equal(picture.codes[..., 0], grey)


def test_without_a_profile_codes_are_srgb(tmp_path: Path) -> None:
    tifffile.imwrite(tmp_path / "a.tif", _codes(), photometric="rgb")
    picture = read_picture(tmp_path / "a.tif")
    expected = decode_srgb(picture.codes / 65535) @ WORK_FROM_SRGB.T
    np.testing.assert_allclose(to_light(picture.codes, picture.encoding), expected, atol=2e-6)


@pytest.mark.parametrize("orientation", range(1, 9))
def test_pictures_are_turned_upright(tmp_path: Path, orientation: int) -> None:
    upright = np.zeros((32, 48, 3), np.uint8)
    upright[:8, :8] = (255, 0, 0)
    upright[:8, -8:] = (0, 255, 0)
    image = Image.fromarray(upright)
    # what a camera stores that was held so that this orientation mends it
    stored = {1: None, 2: 0, 3: 3, 4: 1, 5: 5, 6: 2, 7: 6, 8: 4}[orientation]
    image = image if stored is None else image.transpose(Image.Transpose(stored))
    exif = Image.Exif()
    exif[0x0112] = orientation
    image.save(tmp_path / "a.png", exif=exif)
    assert (facts(tmp_path / "a.png").width, facts(tmp_path / "a.png").height) == (48, 32)
    np.testing.assert_array_equal(read_picture(tmp_path / "a.png").codes, upright)
    assert read_picture(tmp_path / "a.png").meta.orientation == 1


def test_raw_is_scene_linear_and_tells_how_it_was_taken(tripod: Set) -> None:
    picture = read_picture(tripod.paths[0])
    assert picture.raw and picture.codes.dtype == np.uint16 and picture.codes.shape == (CAMERA.height, CAMERA.width, 3)
    assert picture.meta.f_number == 2.0 and picture.meta.focal_mm == 24.0 and picture.meta.iso == 100
    assert picture.meta.focus_m == pytest.approx(0.6, rel=1e-4)
    assert picture.meta.camera == "Field camera 1" and picture.meta.taken is not None
    assert read_picture(tripod.paths[-1]).meta.focus_m == float("inf")


def test_raw_frames_are_not_stretched_to_their_own_brightest_pixel(tripod: Set, tmp_path: Path) -> None:
    whole = read_picture(tripod.paths[1]).codes
    data = bytearray(tripod.paths[1].read_bytes())
    begin = len(data) - 2 * CAMERA.height * CAMERA.width
    mosaic = np.frombuffer(data, "<u2", offset=begin).reshape(CAMERA.height, CAMERA.width)
    mosaic = np.minimum(mosaic, 6000)
    data[begin:] = mosaic.astype("<u2").tobytes()
    (tmp_path / "dim.dng").write_bytes(data)
    dim = read_picture(tmp_path / "dim.dng").codes
    dark = whole.max(axis=2) < 12000
    assert np.median(np.abs(dim[dark].astype(int) - whole[dark])) <= 2


def _absurd_tiff() -> bytes:
    entries = [(256, 4, 1, 900_000), (257, 4, 1, 900_000), (258, 3, 1, 16), (259, 3, 1, 1), (262, 3, 1, 2), (273, 4, 1, 200), (277, 3, 1, 3), (278, 4, 1, 900_000), (279, 4, 1, 64)]
    body = struct.pack("<2sHI", b"II", 42, 8) + struct.pack("<H", len(entries))
    return (body + b"".join(struct.pack("<HHII", *e) for e in entries) + b"\0\0\0\0").ljust(400, b"\0")


def _broken(folder: Path, kind: str, dng: Path) -> Path:
    suffix = {"empty": "dng", "text": "tif", "cut dng": "dng", "cut tiff": "tif", "cut png": "png", "cut jpeg": "jpg", "absurd": "tif", "gone": "tif", "tiny": "png"}
    path = folder / f"{kind.replace(' ', '-')}.{suffix[kind]}"
    if kind == "empty":
        path.write_bytes(b"")
    elif kind == "text":
        path.write_text("this is a shopping list\n" * 40)
    elif kind == "cut dng":
        path.write_bytes(dng.read_bytes()[:5000])
    elif kind == "cut tiff":
        tifffile.imwrite(path, _codes(200, 300), photometric="rgb")
        path.write_bytes(path.read_bytes()[:20000])
    elif kind in ("cut png", "cut jpeg"):
        Image.fromarray((_codes(200, 300) >> 8).astype(np.uint8)).save(path)
        path.write_bytes(path.read_bytes()[: path.stat().st_size // 3])
    elif kind == "absurd":
        path.write_bytes(_absurd_tiff())
    elif kind == "tiny":
        Image.fromarray(np.zeros((4, 4, 3), np.uint8)).save(path)
    return path


@pytest.mark.parametrize("kind", ["empty", "text", "cut dng", "cut tiff", "cut png", "cut jpeg", "absurd", "gone", "tiny"])
def test_what_cannot_be_read_is_named_with_a_remedy(tmp_path: Path, tripod: Set, kind: str) -> None:
    path = _broken(tmp_path, kind, tripod.paths[0])
    with pytest.raises(PictureError) as told:
        read_picture(path)
    assert path.name in str(told.value) and told.value.remedy.endswith(".")
    assert len(str(told.value)) < 300 and "Traceback" not in str(told.value)


def test_an_error_survives_the_way_between_processes() -> None:
    import pickle

    error = pickle.loads(pickle.dumps(PictureError("/x/a.dng", "is empty.", "Copy it again.")))
    assert str(error) == "a.dng: is empty. Copy it again."


@pytest.mark.parametrize("seed", range(30))
def test_noise_in_headers_never_ends_in_anything_else(tmp_path: Path, tripod: Set, seed: int) -> None:
    rng = np.random.default_rng(seed)
    data = bytearray(tripod.paths[0].read_bytes()[:60_000] if seed % 2 else tripod.paths[0].read_bytes())
    for at in rng.integers(0, 700, 12):
        data[at] = rng.integers(0, 256)
    path = tmp_path / "noise.dng"
    path.write_bytes(data)
    try:
        assert read_picture(path).codes.ndim == 3
    except PictureError as error:
        assert "noise.dng" in str(error)
