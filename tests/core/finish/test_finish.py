"""What is done to the woven picture: straightened, cropped, sharpened."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eaveplane.core.finish.finish import Crop, Finish, crop_box, finish, ratio_of, sharpened, straightened, turned_size


def _root(seed: int = 0) -> np.ndarray:
    return np.random.default_rng(seed).random((24, 32, 3), np.float32)


@given(st.integers(20, 400), st.integers(20, 400), st.floats(-15, 15))
def test_straightening_invents_no_corner(width: int, height: int, degrees: float) -> None:
    w, h = turned_size(width, height, degrees)
    angle = np.radians(abs(degrees))
    # the turned box's corners, seen from the middle, lie inside the original
    assert w / 2 * np.cos(angle) + h / 2 * np.sin(angle) <= width / 2 + 1e-6
    assert w / 2 * np.sin(angle) + h / 2 * np.cos(angle) <= height / 2 + 1e-6


def test_straightening_turns_about_the_middle() -> None:
    picture = np.zeros((201, 301, 3), np.float32)
    picture[100, :] = 1
    turned = straightened(picture, 5.0)
    middle = turned.shape[0] // 2, turned.shape[1] // 2
    column = turned[:, middle[1] + 60, 0]
    # clockwise: what was level falls to the right
    assert column.argmax() - turned[:, middle[1] - 60, 0].argmax() == pytest.approx(120 * np.tan(np.radians(5)), abs=1.5)


@given(st.floats(0, 1), st.floats(0, 1), st.floats(0.01, 1), st.floats(0.01, 1))
def test_a_crop_lies_inside(x: float, y: float, w: float, h: float) -> None:
    bx, by, bw, bh = crop_box(Crop(x=x, y=y, w=w, h=h), 300, 200)
    assert bx >= 0 and by >= 0 and bw >= 1 and bh >= 1 and bx + bw <= 300 and by + bh <= 200


def test_finishing_in_order() -> None:
    picture = _root()
    plain = finish(picture, Finish(), 0)
    np.testing.assert_array_equal(plain, picture)
    cut = finish(picture, Finish(crop=Crop(x=0.25, y=0.5, w=0.5, h=0.5)), 8)
    assert cut.shape == (6, 8, 3)
    assert ratio_of("3:2", (10, 10)) == 1.5 and ratio_of("free", (10, 10)) is None and ratio_of("frame", (30, 20)) == 1.5


def test_sharpening_steepens_edges_and_spares_noise() -> None:
    edge = np.repeat(np.concatenate([np.full(20, 0.3), np.full(20, 0.7)])[None, :], 30, axis=0).astype(np.float32)
    picture = np.repeat(edge[..., None], 3, axis=2)
    out = sharpened(picture, 100, 1.0, 20)
    assert out.max() > 0.72 and out.min() < 0.28
    np.testing.assert_allclose(out[:, :10], picture[:, :10], atol=1e-4)
    noise = (0.5 + 0.002 * np.random.default_rng(2).standard_normal((60, 60, 1)) * np.ones(3)).astype(np.float32)
    assert np.std(sharpened(noise, 100, 0.8, 60)) < 1.15 * np.std(noise) < np.std(sharpened(noise, 100, 0.8, 0))
