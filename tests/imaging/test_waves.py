"""Pictures as waves: there and back, and blurs against closed forms."""

from __future__ import annotations

import cv2
import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from eaveplane.imaging.waves import FREQUENCIES, STEPS, Waves

SIDES = st.integers(9, 90)


@given(SIDES, SIDES, st.integers(0, 40), st.integers(1, 3))
def test_waves_of_a_picture_give_it_back(height: int, width: int, pad: int, channels: int) -> None:
    picture = np.random.default_rng(height * width).random((height, width, channels), np.float32)
    waves = Waves((height, width), (pad, pad), (pad // 2, pad // 3))
    back = waves.picture(waves.of([picture]), np.ones((1, STEPS)))
    np.testing.assert_allclose(np.moveaxis(back, 0, -1), picture, atol=3e-6)


@given(st.integers(0, 30), st.integers(0, 20), st.booleans(), st.booleans())
def test_a_wave_is_weighed_by_the_length_of_its_frequency(across: int, down: int, odd_width: bool, odd_height: bool) -> None:
    """Whatever packs its numbers: a plane wave of the transform's own length comes out as long as its weight says."""
    height, width = 96 - odd_height * 15, 80 - odd_width * 5
    y, x = np.mgrid[:height, :width]
    wave = np.cos(2 * np.pi * (across * x / width + down * y / height) + 0.4).astype(np.float32)
    waves = Waves((height, width), (0, 0))
    weights = 1 / (1 + 9 * FREQUENCIES)
    length = np.hypot(across / width, down / height)
    np.testing.assert_allclose(waves.picture(waves.of([wave]), weights[None])[0], wave / (1 + 9 * length), atol=2e-3)


def test_weights_of_several_pictures_add_up() -> None:
    a, b = np.random.default_rng(3).random((2, 60, 75), np.float32)
    waves = Waves(a.shape, (60, 60), (30, 30))
    blur = np.exp(-2 * (np.pi * 2.0 * FREQUENCIES) ** 2)
    found = waves.picture(waves.of([a, b]), np.stack([blur, 1 - blur]))[0]
    wanted = b + cv2.GaussianBlur(a - b, (0, 0), 2.0, borderType=cv2.BORDER_REFLECT)
    np.testing.assert_allclose(found[12:-12, 12:-12], wanted[12:-12, 12:-12], atol=2e-3)
