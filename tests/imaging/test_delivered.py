"""What is written opens elsewhere: every format in a reader of another library than its writer's, with pixels, profile, size, density, EXIF and XMP."""

from __future__ import annotations

import io
import subprocess
import zipfile
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import Any
from xml.etree import ElementTree as Xml

import cv2
import exifread
import imagecodecs
import numpy as np
import pytest
import tifffile
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from PIL.TiffImagePlugin import IFDRational

from eaveplane.imaging.carried import from_json, named, read_carried, to_json
from eaveplane.imaging.errors import PictureError
from eaveplane.imaging.exif import Metadata, exif_block, read_metadata
from eaveplane.imaging.formats import tiffwrite
from eaveplane.imaging.formats.format import Saving
from eaveplane.imaging.formats.layered import Layer, write_layers, write_openraster
from eaveplane.imaging.formats.registry import read_picture, write_picture
from eaveplane.imaging.icc import make_profile
from eaveplane.imaging.xmp import EMPTY, packed, packet, recipe_in
from tests.browser.conftest import CHROMIUM

RNG = np.random.default_rng(19)
CODES = cv2.resize(RNG.integers(0, 65536, (9, 14, 3)).astype(np.uint16), (421, 283), interpolation=cv2.INTER_CUBIC)
META = Metadata(datetime(2026, 4, 11, 6, 14, 3), 1 / 125, 8.0, 400, 24.0, 2.5, "Field camera 1", "24 mm f/2.8", make="Eaveplane", author="A. Walker", position=(46.5, -7.25, 2100.0))
WIDE = make_profile("p3")


def pixels_of_tiff(path: Path) -> np.ndarray:
    return tifffile.imread(path)


def pixels_by_vision(path: Path) -> np.ndarray:
    return cv2.imread(str(path), cv2.IMREAD_UNCHANGED)[..., ::-1]


def pixels_by_codec(path: Path) -> np.ndarray:
    return {".jpg": imagecodecs.jpeg8_decode, ".avif": imagecodecs.avif_decode}[path.suffix](path.read_bytes())  # type: ignore[no-any-return]


TABLE: list[tuple[str, Saving, Callable[[Path], np.ndarray], float]] = [
    *((".tif", Saving(packing=packing, tiled=tiled, bits=bits), pixels_of_tiff, 0.0) for packing in ("none", "deflate", "lzw") for tiled in (False, True) for bits in (8, 16)),
    (".tif", Saving(packing="deflate"), pixels_by_vision, 0.0),
    (".png", Saving(), pixels_by_vision, 0.0),
    (".png", Saving(bits=8), pixels_by_vision, 0.0),
    (".jpg", Saving(bits=8, quality=97), pixels_by_codec, 1.2),
    (".avif", Saving(bits=8, quality=97), pixels_by_codec, 2.0),
]


@pytest.mark.parametrize(("suffix", "saving", "read", "off"), TABLE, ids=lambda v: str(v)[:40] if not callable(v) else v.__name__)
def test_every_format_opens_in_another_reader(tmp_path: Path, suffix: str, saving: Saving, read: Callable[[Path], np.ndarray], off: float) -> None:
    path = tmp_path / f"a{suffix}"
    xmp = packet(b"", {"title": "Dawn <&>"}, ["salt", "pan"], {"Recipe": packed('{"a": 1}')}, True)
    write_picture(path, CODES, WIDE, META, replace(saving, density=240.5, carried=replace(saving.carried, xmp=xmp)))
    codes = CODES if saving.bits == 16 else (CODES.astype(np.uint32) * 255 + 32767) // 65535
    found = read(path)
    assert found.dtype == (np.uint16 if saving.bits == 16 else np.uint8) and found.shape == CODES.shape
    assert np.abs(found.astype(int) - codes.astype(int)).mean() <= off
    told = read_metadata(path)
    assert (told.iso, told.f_number, told.camera, told.author, told.taken) == (400, 8.0, "Field camera 1", "A. Walker", META.taken)
    assert told.position == pytest.approx(META.position)
    with Image.open(path) as image:
        assert image.info["icc_profile"] == WIDE and image.size == (421, 283)
        block = image.getexif()
        assert float(block[0x011A]) == pytest.approx(240.5, rel=1e-4)
        if suffix != ".avif":
            assert tuple(float(v) for v in image.info["dpi"]) == pytest.approx((240.5, 240.5), abs=0.6)
        found_xmp = image.tag_v2[700] if suffix == ".tif" else image.info["xmp"]  # type: ignore[attr-defined]
        assert recipe_in(bytes(found_xmp)) == '{"a": 1}' and b"salt" in bytes(found_xmp)


@pytest.mark.slow
def test_a_chromium_shows_what_was_written(tmp_path: Path) -> None:
    """A browser's decoders are nobody's writers here."""
    flat = np.full((40, 60, 3), (50000, 20000, 9000), np.uint16)
    for suffix in (".png", ".jpg", ".avif"):
        write_picture(tmp_path / f"a{suffix}", flat, make_profile("srgb"), META, Saving(quality=95))
        page = tmp_path / "page.html"
        page.write_text(f'<body style="margin:0;background:#fff"><img src="a{suffix}">')
        shot = tmp_path / f"{suffix[1:]}.shot.png"
        flags = ["--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking"]
        flags += ["--hide-scrollbars", "--window-size=400,400", "--force-color-profile=srgb", f"--user-data-dir={tmp_path / 'user'}"]
        subprocess.run([CHROMIUM, *flags, f"--screenshot={shot}", page.as_uri()], check=True, capture_output=True, timeout=120)
        seen = np.asarray(Image.open(shot).convert("RGB")).astype(int)
        assert np.abs(seen[5:35, 5:55] - np.array([50000, 20000, 9000]) / 257).max() <= 3, suffix
        assert (seen[60:200, 100:] == 255).all()


@pytest.mark.parametrize("suffix", [".jpg", ".avif"])
def test_a_largest_size_in_bytes_is_kept(tmp_path: Path, suffix: str) -> None:
    for most in (30_000, 12_000):
        write_picture(tmp_path / f"a{suffix}", CODES, None, META, Saving(quality=100, most_bytes=most), replace=True)
        assert most * 0.7 < (tmp_path / f"a{suffix}").stat().st_size <= most
    with pytest.raises(PictureError, match="at any quality") as told:
        write_picture(tmp_path / f"b{suffix}", CODES, WIDE, META, Saving(quality=90, most_bytes=600))
    assert "smaller size" in told.value.remedy and not (tmp_path / f"b{suffix}").exists()


def test_past_four_gigabytes_it_is_a_bigtiff(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(tiffwrite, "FOUR_GB", 1 << 20)
    for tiled in (False, True):
        write_picture(tmp_path / "a.tif", CODES, WIDE, META, Saving(packing="deflate", tiled=tiled), replace=True)
        with tifffile.TiffFile(tmp_path / "a.tif") as file:
            assert file.is_bigtiff and file.pages[0].tags["ExifTag"].value["FNumber"] == (8, 1)  # type: ignore[union-attr]
            np.testing.assert_array_equal(file.asarray(), CODES)
        np.testing.assert_array_equal(read_picture(tmp_path / "a.tif").codes, CODES)


# ---- what the source says ---------------------------------------------------------------------------------------


def _source(path: Path, order: str) -> None:
    """A JPEG whose EXIF holds what nobody here writes, in either byte order."""
    exif = Image.Exif()
    exif.endian = order  # type: ignore[assignment]
    exif[0x010E], exif[0x4746], exif[0x0112] = "Salt pan before sunrise", 4, 6
    inner = exif.get_ifd(0x8769)
    inner[0x9286], inner[0x8822], inner[0xA431], inner[0x829A] = b"ASCII\0\0\0note", 3, "SN 0042", IFDRational(1, 3)
    exif.get_ifd(0x8825)[1], exif.get_ifd(0x8825)[2] = "S", (46.0, 30.0, 0.0)
    xmp = EMPTY.replace(b'rdf:about=""', b'rdf:about="" xmlns:own="http://own.example/" own:roll="7"')
    Image.new("RGB", (64, 48)).save(path, exif=exif.tobytes(), xmp=xmp)


@pytest.mark.parametrize("order", ["<", ">"])
@pytest.mark.parametrize("suffix", [".tif", ".png", ".jpg", ".avif"])
def test_what_the_source_says_is_carried_whole(tmp_path: Path, order: str, suffix: str) -> None:
    _source(tmp_path / "s.jpg", order)
    carried = read_carried(tmp_path / "s.jpg")
    assert from_json(to_json(carried)) == carried
    xmp = packet(carried.xmp, {"title": "New"}, [], {}, True)
    write_picture(tmp_path / f"a{suffix}", CODES, None, read_metadata(tmp_path / "s.jpg").upright(), Saving(carried=replace(named(carried, "", "B. Walker", ""), xmp=xmp)))
    with Image.open(tmp_path / f"a{suffix}") as image:
        exif = image.getexif()
        inner, place = exif.get_ifd(0x8769), exif.get_ifd(0x8825)
        assert (exif[0x010E], exif[0x4746], exif.get(0x0112, 1), exif[0x013B]) == ("Salt pan before sunrise", 4, 1, "B. Walker")
        assert (inner[0x8822], inner[0xA431]) == (3, "SN 0042") and float(inner[0x829A]) == pytest.approx(1 / 3) and inner[0x9286].endswith(b"note")
        assert place[1] == "S" and tuple(float(v) for v in place[2]) == (46.0, 30.0, 0.0)
    again = read_carried(tmp_path / f"a{suffix}")
    assert b'roll="7"' in again.xmp and b"New" in again.xmp
    bare = replace(again, position=())
    write_picture(tmp_path / f"b{suffix}", CODES, None, Metadata(), Saving(carried=replace(bare, xmp=packet(again.xmp, {}, [], {}, False))))
    assert read_metadata(tmp_path / f"b{suffix}").position is None and not read_carried(tmp_path / f"b{suffix}").position


@pytest.mark.parametrize("suffix", [".tif", ".png", ".avif"])
def test_a_long_recipe_is_found_again(tmp_path: Path, suffix: str) -> None:
    long = np.random.default_rng(3).bytes(150_000).hex()
    write_picture(tmp_path / f"a{suffix}", CODES, None, META, Saving(carried=replace(read_carried(tmp_path), xmp=packet(b"", {}, [], {"Recipe": packed(long)}, True))))
    assert recipe_in(read_carried(tmp_path / f"a{suffix}").xmp) == long


@given(st.binary(max_size=300))
def test_any_bytes_carry_something_or_nothing(data: bytes) -> None:
    for begin in (b"", b"II*\0\x08\0\0\0", b"MM\0*\0\0\0\x08"):
        path = Path(f"/tmp/{abs(hash(data))}.carried")
        path.write_bytes(begin + data)
        try:
            found = read_carried(path)
        finally:
            path.unlink()
        assert from_json(to_json(found)) == found
        # whatever it was, what is written of it can be read
        exifread.process_file(io.BytesIO(b"\xff\xd8\xff\xe1" + (len(exif_block(Metadata(), 300, found)) + 8).to_bytes(2, "big") + b"Exif\0\0" + exif_block(Metadata(), 300, found) + b"\xff\xd9"))


@given(st.text(max_size=60), st.lists(st.text(st.characters(codec="utf-8", exclude_categories=("Cs", "Cc")), min_size=1, max_size=9), max_size=4), st.booleans())
def test_a_packet_is_well_formed_whatever_it_is_made_of(text: str, words: list[str], keep: bool) -> None:
    clean = "".join(c for c in text if c.isprintable())
    first = packet(b"", {"title": clean, "creator": clean}, words, {"Recipe": packed(text)}, keep)
    second = packet(first, {"rights": clean}, [], {"Frames": "3"}, keep)
    for made in (first, second):
        Xml.fromstring(made.decode())
    assert recipe_in(first) == text and recipe_in(second) is None
    assert b"<!ENTITY" not in packet(b'<!DOCTYPE x [<!ENTITY a "b">]><x>&a;</x>', {}, [], {}, keep)


# ---- layers -----------------------------------------------------------------------------------------------------


def _layers() -> list[Layer]:
    mask = np.zeros(CODES.shape[:2], np.uint16)
    mask[40:120, 100:300] = 40000
    return [Layer("Result", CODES), Layer("1 near", np.dstack([CODES[::-1], mask])), Layer("empty", np.dstack([CODES, np.zeros_like(mask)]), hidden=True)]


@pytest.mark.parametrize("bits", [8, 16])
def test_openraster_is_as_its_specification_says(tmp_path: Path, bits: int) -> None:
    write_openraster(tmp_path / "a.ora", _layers(), CODES, WIDE, Saving(bits=bits, density=200))
    expected = CODES if bits == 16 else np.round(CODES / 257).astype(np.uint8)
    with zipfile.ZipFile(tmp_path / "a.ora") as file:
        first = file.infolist()[0]
        assert (first.filename, first.compress_type, file.read(first)) == ("mimetype", zipfile.ZIP_STORED, b"image/openraster")
        raw = (tmp_path / "a.ora").read_bytes()
        assert raw[30:54] == b"mimetypeimage/openraster"
        image = Xml.fromstring(file.read("stack.xml"))
        assert image.tag == "image" and (image.get("w"), image.get("h"), image.get("version")) == ("421", "283", "0.0.6")
        layers = image.findall("stack/layer")
        assert [(layer.get("name"), layer.get("visibility")) for layer in layers] == [("Result", "visible"), ("1 near", "visible"), ("empty", "hidden")]
        assert all(layer.get("composite-op") == "svg:src-over" and 0 <= float(layer.get("opacity") or -1) <= 1 for layer in layers)
        found = [imagecodecs.png_decode(file.read(str(layer.get("src")))) for layer in layers]
        merged = imagecodecs.png_decode(file.read("mergedimage.png"))
        with Image.open(io.BytesIO(file.read("Thumbnails/thumbnail.png"))) as small:
            assert max(small.size) == 256 and small.format == "PNG"
        with Image.open(io.BytesIO(file.read("mergedimage.png"))) as shown:
            assert shown.info["icc_profile"] == WIDE
    assert np.abs(merged.astype(int) - expected).max() <= int(bits == 8) and np.array_equal(found[0], merged)
    # a layer is kept without its empty rim, and lies where that was
    assert found[1].shape == (80, 200, 4) and (layers[1].get("x"), layers[1].get("y")) == ("100", "40") and found[2].size == 4
    # laid over each other as the specification has it, the layers make the merged picture
    canvas = np.zeros((283, 421, 3))
    for layer, codes in reversed([(lay, codes) for lay, codes in zip(layers, found, strict=True) if lay.get("visibility") == "visible"]):
        x, y = int(layer.get("x") or 0), int(layer.get("y") or 0)
        part = canvas[y : y + codes.shape[0], x : x + codes.shape[1]]
        alpha = codes[..., 3:] / (2**bits - 1) if codes.shape[2] == 4 else 1.0
        part += (codes[..., :3] - part) * alpha
    np.testing.assert_allclose(canvas, merged)


def test_layers_as_pages_of_a_tiff(tmp_path: Path) -> None:
    write_layers(tmp_path / "a.tif", _layers()[1:], 2, CODES, WIDE, META, Saving(packing="deflate"))
    with tifffile.TiffFile(tmp_path / "a.tif") as file:
        pages: list[Any] = list(file.pages)
        assert [page.tags["PageName"].value for page in pages] == ["Result", "1 near", "empty"]
        np.testing.assert_array_equal(pages[0].asarray(), CODES)
        np.testing.assert_array_equal(pages[1].asarray(), _layers()[1].codes)
        assert [len(page.extrasamples) for page in pages] == [0, 1, 1]
    with Image.open(tmp_path / "a.tif") as image:
        assert image.n_frames == 3 and image.info["icc_profile"] == WIDE  # type: ignore[attr-defined]
    assert read_metadata(tmp_path / "a.tif").camera == META.camera
