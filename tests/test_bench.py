"""The instrument by which results are judged is right itself."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
import pytest
import tifffile
from hypothesis import given
from hypothesis import strategies as st

from bench import strangers, textbook
from bench.run import NOTES, renewed
from bench.score import corner_error, depth_edges, fitted, gradient_kept, psnr, ssim
from eaveplane.imaging.difference import ciede2000, lab
from eaveplane.imaging.formats.registry import read_picture

ALL = np.ones((60, 80), bool)


def _picture(seed: int = 1) -> np.ndarray:
    return cv2.GaussianBlur(np.random.default_rng(seed).random((60, 80, 3)), (0, 0), 1.5)


@pytest.mark.parametrize("name", ["what:700", "jpeg", "jpeg:x"])
def test_a_set_that_is_none_is_told(name: str, tmp_path: Path) -> None:
    with pytest.raises(SystemExit, match="such as jpeg:700; kinds are jpeg, gains"):
        strangers.row_of(name, tmp_path)


@pytest.mark.parametrize("kind", list(strangers.KINDS))
def test_what_strangers_send_is_told(kind: str, tmp_path: Path) -> None:
    """Which of the files is the reference, and what each shows: within what the kind changes."""
    rng, paths = np.random.default_rng(4), [tmp_path / f"f{k}.tif" for k in range(6)]
    for k, path in enumerate(paths):
        smooth = cv2.GaussianBlur(rng.random((48, 72, 3)), (0, 0), 6)
        tifffile.imwrite(path, np.round((0.15 * k + smooth - smooth.mean()) * 50000 + 10000).clip(0, 65535).astype(np.uint16), photometric="rgb")
    files, reference, row = strangers.sent(kind, paths, 2, tmp_path / "sent", 3)
    assert row[reference] == 2 and sorted(row) == list(range(6)) and (row != sorted(row)) == (kind == "shuffled")
    for path, k in zip(files, row, strict=True):
        picture = read_picture(path)
        whole = 255.0 if kind == "jpeg" else 65535.0
        assert np.abs(picture.codes / whole - tifffile.imread(paths[k]) / 65535).mean() < {strangers.SHADED: 0.15, "under": 0.4}.get(kind, 0.03)


@given(st.floats(0.001, 0.3))
def test_psnr_of_a_constant_error(error: float) -> None:
    picture = _picture()
    assert psnr(picture + error, picture, ALL) == pytest.approx(-20 * np.log10(error), abs=0.01)


def test_gain_and_offset_are_taken_out() -> None:
    truth = _picture()
    off = truth * [0.8, 1.1, 0.9] + [0.02, -0.03, 0.0]
    np.testing.assert_allclose(fitted(off, truth, ALL), truth, atol=1e-9)


def test_structure_and_gradient_of_the_truth_itself_are_whole() -> None:
    truth = _picture()
    assert ssim(truth, truth, ALL) == pytest.approx(1) and gradient_kept(truth, truth, ALL) == pytest.approx(1)
    soft = cv2.GaussianBlur(truth, (0, 0), 2)
    assert ssim(soft, truth, ALL) < 0.9 and gradient_kept(soft, truth, ALL) < 0.6
    assert gradient_kept(0.5 * truth, truth, ALL) == pytest.approx(0.5)


# from the supplementary test data of Sharma, Wu and Dalal (2005): two Lab colours and their difference
PUBLISHED = [
    ((50.0, 2.6772, -79.7751), (50.0, 0.0, -82.7485), 2.0425),
    ((50.0, 3.1571, -77.2803), (50.0, 0.0, -82.7485), 2.8615),
    ((50.0, 2.8361, -74.0200), (50.0, 0.0, -82.7485), 3.4412),
    ((50.0, -1.3802, -84.2814), (50.0, 0.0, -82.7485), 1.0),
    ((50.0, 0.0, 0.0), (50.0, -1.0, 2.0), 2.3669),
    ((50.0, 2.49, -0.001), (50.0, -2.49, 0.0009), 7.1792),
    ((50.0, 2.5, 0.0), (73.0, 25.0, -18.0), 27.1492),
    ((50.0, 2.5, 0.0), (61.0, -5.0, 29.0), 22.8977),
    ((60.2574, -34.0099, 36.2677), (60.4626, -34.1751, 39.4387), 1.2644),
    ((22.7233, 20.0904, -46.6940), (23.0331, 14.9730, -42.5619), 2.0373),
    ((90.8027, -2.0831, 1.4410), (91.1528, -1.6435, 0.0447), 1.4441),
    ((6.7747, -0.2908, -2.4247), (5.8714, -0.0985, -2.2286), 0.6377),
]


@pytest.mark.parametrize(("one", "two", "difference"), PUBLISHED)
def test_colour_difference_agrees_with_the_published_data(one: tuple[float, ...], two: tuple[float, ...], difference: float, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("eaveplane.imaging.difference.lab", lambda colour: colour)
    assert float(ciede2000(np.array(one), np.array(two))) == pytest.approx(difference, abs=2e-4)


def test_lab_of_white_grey_and_red() -> None:
    np.testing.assert_allclose(lab(np.ones(3)), [100, 0, 0], atol=0.01)
    np.testing.assert_allclose(lab(np.full(3, 0.5)), [53.389, 0, 0], atol=0.01)
    np.testing.assert_allclose(lab(np.array([1.0, 0, 0])), [53.24, 80.09, 67.20], atol=0.02)


def test_depth_edges_are_where_distance_jumps() -> None:
    distance = np.full((60, 80), 10.0)
    distance[:, 40:] = 1.0
    band = depth_edges(distance, 5)
    assert band[30, 36:45].all() and not band[30, :33].any() and not band[30, 48:].any()
    assert not depth_edges(np.tile(np.linspace(2, 3, 80), (60, 1)), 5).any()


def test_corner_error_of_a_shift() -> None:
    moved = np.array([[1, 0, 3.0], [0, 1, 4.0], [0, 0, 1]])
    assert corner_error(moved, np.eye(3), (100, 50)) == pytest.approx(5)


def test_textbook_methods_do_what_their_names_say() -> None:
    sharp = (0.1 + 0.8 * _picture()).astype(np.float32)
    soft = cv2.GaussianBlur(sharp, (0, 0), 3)
    left, right = soft.copy(), soft.copy()
    left[:, :40], right[:, 40:] = sharp[:, :40], sharp[:, 40:]
    np.testing.assert_allclose(textbook.mean([left, right]), (left + right) / 2, atol=1e-6)
    away = np.abs(np.arange(80) - 40) > 14
    for method in (textbook.arg_max, textbook.laplacian_pyramid):
        out = method([left, right])
        assert np.abs(out - sharp)[:, away].mean() < 0.35 * np.abs(soft - sharp)[:, away].mean()
    np.testing.assert_allclose(textbook.laplacian_pyramid([sharp, sharp]), sharp, atol=1e-4)


def test_a_part_of_the_page_is_written_anew_at_its_place_and_the_notes_stay_last() -> None:
    page = f"# Page\n\n## One\n\nold\n\n## Two\n\nkept\n\n{NOTES}\n\nnotes\n\n## The page\n\nmore\n"
    assert renewed(page, "One", ["new"]) == page.replace("old", "new")
    added = renewed(page, "Three", ["third"])
    assert added.index("kept") < added.index("## Three\n\nthird") < added.index(NOTES) and added.endswith("more\n")
