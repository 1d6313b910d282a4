"""Pictures at screen size: embedded previews turned as the camera was held, everything else shrunk as it is shown."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import pytest
import tifffile
from PIL import Image

from eaveplane.fieldcam.camera import Camera, Shot, Stage, shoot
from eaveplane.fieldcam.landscapes import LANDSCAPES
from eaveplane.fieldcam.lens import Lens
from eaveplane.imaging.errors import PictureError
from eaveplane.imaging.preview import SCREEN_SIDE, read_preview


@pytest.mark.parametrize("upright", [False, True])
@pytest.mark.parametrize("preview", [False, True])
def test_a_raw_file_shows_its_preview_or_a_quick_development(upright: bool, preview: bool, tmp_path: Path) -> None:
    size = (480, 720) if upright else (720, 480)
    stage = Stage(LANDSCAPES["saltpan"], Camera(*size, Lens(f_number=2)))
    (path,) = shoot(stage, [Shot(float("inf"))], tmp_path / "card", preview=preview)
    seen = read_preview(path)
    assert seen.dtype == np.uint8 and (seen.shape[0] > seen.shape[1]) == upright
    # without a preview LibRaw develops at half size
    assert max(seen.shape) == (720 if preview else 360)
    # sky above, ground below: as it was held
    assert seen[: len(seen) // 6, :, 2].mean() > seen[: len(seen) // 6, :, 0].mean() - 30
    assert np.abs(np.diff(seen[-len(seen) // 4 :].astype(int), axis=1)).mean() > 2 * np.abs(np.diff(seen[: len(seen) // 5].astype(int), axis=1)).mean()


def test_jpegs_are_turned_and_large_ones_shrunk(tmp_path: Path) -> None:
    picture = np.zeros((1300, 2600, 3), np.uint8)
    picture[:, :1300] = (200, 40, 40)
    exif = Image.Exif()
    exif[0x0112] = 6
    Image.fromarray(picture).save(tmp_path / "turned.jpg", quality=95, exif=exif)
    seen = read_preview(tmp_path / "turned.jpg")
    assert max(seen.shape) == SCREEN_SIDE and seen.shape[0] > seen.shape[1]
    # what was left is on top after a quarter turn
    assert seen[100, 300, 0] > 180 and seen[-100, 300, 0] < 30


def test_sixteen_bits_are_shown_as_eight(tmp_path: Path) -> None:
    codes = np.full((40, 60, 3), 257 * 128, np.uint16)
    tifffile.imwrite(tmp_path / "a.tif", codes, photometric="rgb")
    assert (np.abs(read_preview(tmp_path / "a.tif").astype(int) - 128) <= 1).all()


def test_what_cannot_be_shown_says_why(tmp_path: Path) -> None:
    (tmp_path / "a.dng").write_bytes(b"II*\0" + bytes(4000))
    (tmp_path / "b.jpg").write_bytes(b"\xff\xd8\xff" + bytes(100))
    whole = io.BytesIO()
    Image.fromarray(np.zeros((200, 200, 3), np.uint8)).save(whole, "JPEG")
    (tmp_path / "c.jpg").write_bytes(whole.getvalue()[:300])
    for name in ("a.dng", "b.jpg", "c.jpg"):
        with pytest.raises(PictureError, match=name):
            read_preview(tmp_path / name)
    with pytest.raises(PictureError, match="not there"):
        read_preview(tmp_path / "gone.png")
