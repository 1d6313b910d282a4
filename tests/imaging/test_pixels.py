"""Resampling, pyramids on disk, analysis of light in one pass."""

from __future__ import annotations

from pathlib import Path
from unittest.mock import patch

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from eaveplane.imaging import resample
from eaveplane.imaging.icc import standard_encoding
from eaveplane.imaging.light import light_of, root_luma, root_of, survey, to_root
from eaveplane.imaging.pyramid import Pyramid, level_sizes
from eaveplane.imaging.resample import halve, spread, warp
from eaveplane.imaging.rows import by_rows, in_strips


def _smooth(height: int = 120, width: int = 160, seed: int = 1) -> np.ndarray:
    return cv2.GaussianBlur(np.random.default_rng(seed).random((height, width, 3), np.float32), (0, 0), 2.0)


def _fit(scale: float, degrees: float, dx: float, dy: float, bend: float = 0.0) -> np.ndarray:
    a = np.radians(degrees)
    return np.array([[scale * np.cos(a), -scale * np.sin(a), dx], [scale * np.sin(a), scale * np.cos(a), dy], [bend, -bend, 1]])


def test_no_change_is_exact() -> None:
    picture = _smooth()
    np.testing.assert_array_equal(warp(picture, np.eye(3), (0, 0, 160, 120)), picture)
    np.testing.assert_array_equal(warp(picture, np.eye(3), (20, 30, 50, 40)), picture[30:70, 20:70])


@given(st.integers(-20, 20), st.integers(-20, 20))
@settings(max_examples=20)
def test_whole_pixels_shift_exactly(dx: int, dy: int) -> None:
    picture = _smooth()
    moved = warp(picture, _fit(1, 0, dx, dy), (40, 40, 60, 40))
    np.testing.assert_array_equal(moved, picture[40 - dy : 80 - dy, 40 - dx : 100 - dx])


@given(st.floats(0.97, 1.03), st.floats(-2, 2), st.floats(-9, 9), st.floats(-9, 9), st.floats(-1e-4, 1e-4))
@settings(max_examples=40)
def test_rows_then_columns_is_the_same_as_both_at_once(scale: float, degrees: float, dx: float, dy: float, bend: float) -> None:
    picture, fit = _smooth(), _fit(scale, degrees, dx, dy, bend)
    box = (25, 25, 110, 70)
    with patch.object(resample, "_warp", side_effect=AssertionError("that much is resampled in two passes")):
        quick = warp(picture, fit, box, repeat_edge=True, whole=(160, 120))
    whole = np.empty_like(quick)
    resample._warp(picture, np.linalg.inv(fit), box[0], box[1], whole, resample._TABLE, True)
    assert np.abs(quick - whole).max() < 2e-3
    # a part of it is the same, whatever of the picture it is taken from
    part = warp(picture[5:, 7:], fit @ np.array([[1, 0, 7], [0, 1, 5], [0, 0, 1.0]]), (60, 50, 20, 20), repeat_edge=True, whole=(160, 120))
    np.testing.assert_allclose(part, quick[25:45, 35:55], atol=2e-5)


@given(st.floats(0.97, 1.03), st.floats(-8, 8), st.floats(-5, 5), st.floats(-5, 5))
@settings(max_examples=20)
def test_there_and_back_gives_the_picture(scale: float, degrees: float, dx: float, dy: float) -> None:
    picture, fit = _smooth(200, 200), _fit(scale, degrees, dx, dy)
    there = warp(picture, fit, (0, 0, 200, 200), repeat_edge=True)
    back = warp(there, np.linalg.inv(fit), (0, 0, 200, 200), repeat_edge=True)
    assert np.abs(back - picture)[60:140, 60:140].max() < 0.01


@given(st.integers(1, 30), st.integers(1, 20), st.floats(0.01, 3), st.floats(0.01, 3), st.floats(-4, 30), st.floats(-4, 30), st.booleans())
@settings(max_examples=60)
def test_maps_are_linear_between_their_pixels_and_repeated_beyond(width: int, height: int, across: float, down: float, x: float, y: float, two: bool) -> None:
    maps = np.random.default_rng(3).random((height, width, 2) if two else (height, width), np.float32)
    out = spread(maps, (across, down), (x, y), (17, 9))
    at_x, at_y = np.clip(x + across * np.arange(17), 0, width - 1), np.clip(y + down * np.arange(9), 0, height - 1)
    rows = np.apply_along_axis(lambda column: np.interp(at_y, np.arange(height), column), 0, maps)
    np.testing.assert_allclose(out, np.apply_along_axis(lambda row: np.interp(at_x, np.arange(width), row), 1, rows), atol=2e-6)


@given(st.integers(1, 40), st.integers(1, 40))
def test_halving_averages(height: int, width: int) -> None:
    picture = np.random.default_rng(height * 41 + width).random((height, width, 3), np.float32)
    half = halve(picture)
    assert half.shape[:2] == (-(-height // 2), -(-width // 2))
    if height % 2 == 0 and width % 2 == 0:
        np.testing.assert_allclose(half, picture.reshape(height // 2, 2, width // 2, 2, 3).mean(axis=(1, 3)), atol=1e-6)


def test_levels_keep_any_box_of_any_size(tmp_path: Path) -> None:
    codes = np.random.default_rng(4).integers(0, 65535, (700, 1501, 3), np.uint16)
    levels = Pyramid.create(tmp_path / "p", 1501, 700, 3, "uint16")
    levels.write(0, 0, 0, codes)
    levels.halve_into_levels()
    assert levels.sizes == level_sizes(1501, 700) == [(1501, 700), (751, 350), (376, 175)]
    np.testing.assert_array_equal(levels.read(0, (100, 50, 30, 20)), codes[50:70, 100:130])
    np.testing.assert_allclose(levels.read(1, (0, 0, 750, 350)), codes[:, :1500].reshape(350, 2, 750, 2, 3).mean(axis=(1, 3)), atol=1)
    changed = codes.copy()
    changed[201:333, 511:902] = 7
    levels.write(0, 511, 201, changed[201:333, 511:902])
    levels.halve_into_levels((511, 201, 391, 132))
    whole = Pyramid.create(tmp_path / "q", 1501, 700, 3, "uint16")
    whole.write(0, 0, 0, changed)
    whole.halve_into_levels()
    # what is kept at its full size only is halved as it is read
    only = Pyramid.create(tmp_path / "r", 1501, 700, 3, "uint16", full_only=True)
    only.write(0, 0, 0, changed)
    assert only.stored == 1
    for level in range(3):
        np.testing.assert_array_equal(levels.whole(level), whole.whole(level))
        np.testing.assert_array_equal(only.whole(level), whole.whole(level))
        width, height = only.sizes[level]
        box = (width - 301, height - 101, 301, 101)
        np.testing.assert_array_equal(only.read(level, box), whole.read(level, box))


def test_a_survey_is_luma_and_average(tmp_path: Path) -> None:
    codes = np.random.default_rng(9).integers(0, 65535, (33, 50, 3), np.uint16)
    encoding = standard_encoding("srgb")
    luma, small = survey(codes, encoding, 2)
    root = to_root(codes, encoding)
    np.testing.assert_allclose(luma, root_luma(root), atol=1e-6)
    np.testing.assert_allclose(small[:8, :12], light_of(root)[:32, :48].reshape(8, 4, 12, 4, 3).mean(axis=(1, 3)), atol=1e-5)
    np.testing.assert_allclose(small[8, 12], light_of(root)[32:, 48:].mean(axis=(0, 1)), atol=1e-5)


def test_root_keeps_the_sign() -> None:
    light = np.array([-0.25, 0, 0.04], np.float32)
    np.testing.assert_allclose(root_of(light), [-0.5, 0, 0.2], atol=1e-7)
    np.testing.assert_allclose(light_of(root_of(light)), light, atol=1e-7)


@settings(max_examples=40)
@given(st.integers(1, 1500), st.integers(0, 300), st.integers(1, 3))
def test_strips_beside_each_other_know_what_lay_around_them(height: int, margin: int, reach: int) -> None:
    before = np.random.default_rng(height).random((height, 5), np.float32)
    reach = min(reach, margin)

    def softened(picture: np.ndarray) -> np.ndarray:
        wide = np.pad(picture, ((reach, reach), (0, 0)), mode="edge")
        return np.sum([wide[k : k + len(picture)] for k in range(2 * reach + 1)], axis=0)

    def work(piece: np.ndarray, above: int) -> None:
        np.testing.assert_array_equal(piece[0], before[above])
        piece[:] = softened(piece)

    after = before.copy()
    in_strips(after, margin, work)
    np.testing.assert_array_equal(after, softened(before))


def test_rows_are_shared_out_completely_and_errors_come_back() -> None:
    seen = np.zeros(3000, int)

    def work(a: int, b: int) -> None:
        seen[a:b] += 1

    by_rows(work, 3000, 1000)
    assert (seen == 1).all()
    with pytest.raises(ZeroDivisionError):
        by_rows(lambda a, b: 1 / 0, 3000, 1000)
