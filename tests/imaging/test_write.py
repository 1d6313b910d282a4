"""Writing: whole or not at all, never over a file, with profile and EXIF that others can read."""

from __future__ import annotations

import math
from dataclasses import replace
from datetime import datetime
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PIL import Image

from eaveplane.imaging.errors import PictureError
from eaveplane.imaging.exif import Metadata, read_metadata
from eaveplane.imaging.formats.format import Saving
from eaveplane.imaging.formats.registry import read_picture, write_picture
from eaveplane.imaging.icc import make_profile
from eaveplane.imaging.tiffdir import HEADER, RATIONAL, directory
from eaveplane.imaging.write import free_name, put_in_place, writes

CODES = np.random.default_rng(1).integers(0, 65536, (40, 60, 3), np.uint16)
META = Metadata(datetime(2026, 4, 11, 6, 14, 3), 1 / 125, 8.0, 400, 24.0, math.inf, "Field camera 1", "24 mm f/2.8")


@pytest.mark.parametrize("suffix", [".tif", ".png", ".jpg"])
def test_exif_and_profile_are_carried_over(tmp_path: Path, suffix: str) -> None:
    path = tmp_path / f"out{suffix}"
    write_picture(path, CODES, make_profile("rec2020"), META)
    found = read_metadata(path)
    assert (found.taken, found.iso, found.f_number, found.focal_mm, found.camera, found.lens) == (META.taken, 400, 8.0, 24.0, META.camera, META.lens)
    assert found.seconds == pytest.approx(1 / 125) and found.focus_m == math.inf
    with Image.open(path) as image:
        assert image.info["icc_profile"] == make_profile("rec2020")


@given(st.floats(-90, 90), st.floats(-180, 180), st.none() | st.floats(-400, 8800))
@settings(max_examples=40, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_maker_author_rights_and_position_come_through_every_format(tmp_path: Path, north: float, east: float, height: float | None) -> None:
    meta = replace(META, make="Northlight", author="A. Walker", rights="© 2026 A. Walker", position=(north, east, height))
    for suffix in (".tif", ".png", ".jpg"):
        path = tmp_path / f"out{suffix}"
        write_picture(path, CODES[:8, :8], None, meta, replace=True)
        found = read_metadata(path)
        assert (found.make, found.author, found.rights) == (meta.make, meta.author, meta.rights)
        assert found.position is not None and found.position[:2] == pytest.approx((north, east), abs=1e-6)
        assert (found.position[2] is None) == (height is None) and (height is None or found.position[2] == pytest.approx(height, abs=0.01))


def test_every_format_tells_one_density(tmp_path: Path) -> None:
    for suffix in (".tif", ".png", ".jpg"):
        write_picture(tmp_path / f"a{suffix}", CODES, None, Metadata())
        with Image.open(tmp_path / f"a{suffix}") as image:
            assert tuple(float(v) for v in image.info["dpi"]) == pytest.approx((300, 300), abs=0.1)


def test_jpeg_rounds_to_eight_bits(tmp_path: Path) -> None:
    flat = np.full((32, 32, 3), 0x8080, np.uint16)
    write_picture(tmp_path / "a.jpg", flat, None, Metadata(), Saving(quality=100))
    assert np.abs(read_picture(tmp_path / "a.jpg").codes.astype(int) - 0x80).max() <= 1


def test_a_file_that_stands_is_never_replaced_unasked(tmp_path: Path) -> None:
    path = tmp_path / "a.tif"
    path.write_text("an original")
    with pytest.raises(FileExistsError):
        write_picture(path, CODES, None, Metadata())
    with pytest.raises(FileExistsError):
        put_in_place(path, writes("new"))
    assert path.read_text() == "an original" and [p.name for p in tmp_path.iterdir()] == ["a.tif"]
    put_in_place(path, writes("new"), replace=True)
    assert path.read_text() == "new"


def test_nothing_half_written_is_left(tmp_path: Path) -> None:
    def fails(part: Path) -> None:
        part.write_bytes(b"half")
        raise OSError(28, "No space left on device")

    with pytest.raises(PictureError, match="No space left"):
        put_in_place(tmp_path / "a.tif", fails)
    assert list(tmp_path.iterdir()) == []


def test_a_folder_that_is_not_there_is_named(tmp_path: Path) -> None:
    with pytest.raises(PictureError, match="cannot be written"):
        write_picture(tmp_path / "no" / "a.tif", CODES, None, Metadata())
    with pytest.raises(ValueError, match="written as"):
        write_picture(tmp_path / "a.bmp", CODES, None, Metadata())


def test_taken_names_get_a_number(tmp_path: Path) -> None:
    assert free_name(tmp_path / "a.tif").name == "a.tif"
    (tmp_path / "a.tif").touch()
    (tmp_path / "a 2.tif").touch()
    assert free_name(tmp_path / "a.tif").name == "a 3.tif"


@given(st.floats(1e-6, 1e12))
def test_rationals_fit_any_number(value: float) -> None:
    data = directory([(0x9206, RATIONAL, value)], len(HEADER))
    top, bottom = (int.from_bytes(data[-8 + 4 * i : (-4 + 4 * i) or None], "little") for i in range(2))
    assert top == 0xFFFFFFFF or top / bottom == pytest.approx(value, rel=1e-3, abs=1e-6)
