"""The many ways in which pictures are stored, and EXIF that lies."""

from __future__ import annotations

import struct
from pathlib import Path
from typing import get_args

import numpy as np
import pytest
import tifffile
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from eaveplane.core.deliver.delivery import LAYERED, SUFFIX, Format
from eaveplane.imaging.errors import PictureError
from eaveplane.imaging.exif import Metadata, exif_block, read_metadata
from eaveplane.imaging.formats.registry import FORMATS, WRITTEN, facts, format_of, read_picture, write_picture

CODES = np.random.default_rng(6).integers(0, 65536, (37, 53, 3), np.uint16)


def test_formats_are_told_apart_and_what_can_be_asked_for_can_be_written(tmp_path: Path) -> None:
    suffixes = [suffix for format in FORMATS for suffix in format.suffixes]
    assert len(set(suffixes)) == len(suffixes) and all(s == s.lower() and s[0] == "." for s in suffixes)
    assert set(SUFFIX) == set(get_args(Format)) == {format.name for format in WRITTEN.values()} | set(LAYERED)
    for name, suffix in ((name, suffix) for name, suffix in SUFFIX.items() if name not in LAYERED):
        # a wrong name does not matter where the content tells
        write_picture(tmp_path / f"a{suffix}", CODES, None, Metadata())
        other = (tmp_path / f"a{suffix}").rename(tmp_path / f"{name}.tiff")
        assert format_of(other).name == facts(other).kind == name
        assert read_picture(other).codes.shape == CODES.shape


@pytest.mark.parametrize(
    "options",
    [
        {"compression": "zlib"},
        {"compression": "lzw", "predictor": True},
        {"byteorder": ">"},
        {"bigtiff": True},
        {"planarconfig": "separate"},
        {"tile": (16, 16)},
        {"rowsperstrip": 5},
    ],
    ids=str,
)
def test_tiff_in_all_its_layouts(tmp_path: Path, options: dict[str, object]) -> None:
    data = np.moveaxis(CODES, -1, 0) if "planarconfig" in options else CODES
    tifffile.imwrite(tmp_path / "a.tif", data, photometric="rgb", **options)  # type: ignore[arg-type]
    np.testing.assert_array_equal(read_picture(tmp_path / "a.tif").codes, CODES)
    assert (facts(tmp_path / "a.tif").width, facts(tmp_path / "a.tif").height, facts(tmp_path / "a.tif").kind) == (53, 37, "tiff")


def test_grey_tiff_and_alpha(tmp_path: Path) -> None:
    tifffile.imwrite(tmp_path / "grey.tif", CODES[..., 0], photometric="minisblack")
    np.testing.assert_array_equal(read_picture(tmp_path / "grey.tif").codes, np.repeat(CODES[..., :1], 3, axis=2))
    tifffile.imwrite(tmp_path / "alpha.tif", np.dstack([CODES, CODES[..., 0]]), photometric="rgb", extrasamples=["unassalpha"])
    np.testing.assert_array_equal(read_picture(tmp_path / "alpha.tif").codes, CODES)


@pytest.mark.parametrize(
    ("name", "said"),
    [("float.tif", "float32"), ("cmyk.tif", "SEPARATED"), ("cmyk.jpg", "CMYK"), ("palette.tif", "PALETTE")],
)
def test_what_is_not_rgb_is_told_how_to_save_it(tmp_path: Path, name: str, said: str) -> None:
    path = tmp_path / name
    if name == "float.tif":
        tifffile.imwrite(path, CODES.astype(np.float32), photometric="rgb")
    elif name == "palette.tif":
        Image.fromarray((CODES >> 8).astype(np.uint8)).convert("P").save(path)
    else:
        Image.fromarray((CODES >> 8).astype(np.uint8)).convert("CMYK").save(path)
    with pytest.raises(PictureError, match=said) as told:
        read_picture(path)
    assert told.value.remedy.startswith("Save it")


def test_a_wrong_suffix_is_forgiven_where_the_content_tells(tmp_path: Path) -> None:
    Image.fromarray((CODES >> 8).astype(np.uint8)).save(tmp_path / "a.png")
    (tmp_path / "a.png").rename(tmp_path / "b.tif")
    assert read_picture(tmp_path / "b.tif").codes.shape == (37, 53, 3)


def test_a_folder_with_a_pictures_name(tmp_path: Path) -> None:
    (tmp_path / "a.dng").mkdir()
    with pytest.raises(PictureError, match="cannot be opened"):
        facts(tmp_path / "a.dng")


def test_a_profile_that_cannot_be_used_is_told(tmp_path: Path) -> None:
    profile = b"\0" * 36 + b"acsp" + b"\0" * 200
    Image.fromarray((CODES >> 8).astype(np.uint8)).save(tmp_path / "a.png", icc_profile=profile)
    with pytest.raises(PictureError, match="colour profile"):
        read_picture(tmp_path / "a.png")


def test_a_decompression_bomb_is_not_unpacked(tmp_path: Path) -> None:
    header = b"\x89PNG\r\n\x1a\n" + struct.pack(">I4sIIBBBBB", 13, b"IHDR", 50_000, 50_000, 16, 2, 0, 0, 0)
    (tmp_path / "a.png").write_bytes(header + b"\0\0\0\0" + struct.pack(">I4s", 0, b"IEND"))
    for look in (facts, read_picture):
        with pytest.raises(PictureError):
            look(tmp_path / "a.png")


TEXTS = st.text(st.characters(min_codepoint=33, max_codepoint=126), min_size=1, max_size=40)
DISTANCES = st.floats(0.05, 5000) | st.just(float("inf"))


@given(st.floats(1e-5, 3600), st.floats(0.7, 64), st.integers(25, 60000), st.floats(1, 1200), DISTANCES, TEXTS)
@settings(max_examples=40)
def test_exif_says_what_was_written(tmp_path_factory: pytest.TempPathFactory, seconds: float, stop: float, iso: int, focal: float, focus: float, lens: str) -> None:
    path = tmp_path_factory.mktemp("exif") / "a.jpg"
    meta = Metadata(seconds=seconds, f_number=stop, iso=iso, focal_mm=focal, focus_m=focus, lens=lens)
    Image.new("RGB", (32, 32)).save(path, exif=b"Exif\0\0" + exif_block(meta))
    found = read_metadata(path)
    assert found.seconds == pytest.approx(seconds, rel=1e-3, abs=1e-6) and found.f_number == pytest.approx(stop, rel=1e-4)
    assert found.iso == iso and found.focal_mm == pytest.approx(focal, rel=1e-4) and found.focus_m == pytest.approx(focus, rel=1e-3)
    assert found.lens == lens.strip()


@pytest.mark.filterwarnings("ignore:Corrupt EXIF data")
# (the parser follows thousands of entries that are not there: half a second each)
@given(st.binary(min_size=0, max_size=160))
@settings(max_examples=8)
def test_any_exif_is_read_or_ignored(tmp_path_factory: pytest.TempPathFactory, noise: bytes) -> None:
    path = tmp_path_factory.mktemp("exif") / "a.jpg"
    Image.new("RGB", (32, 32)).save(path, exif=b"Exif\0\0II*\0\x08\0\0\0" + noise)
    found = read_metadata(path)
    assert 1 <= found.orientation <= 8
    assert read_picture(path).codes.shape[2] == 3
