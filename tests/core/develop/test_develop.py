"""The look on pixels: what each control promises."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from eaveplane.core.develop.develop import clipped, develop, for_screen, histogram, tones_of
from eaveplane.core.develop.look import NEUTRAL, RAW_LOOK, Light, Look
from eaveplane.core.develop.tone import tone_curve
from eaveplane.imaging.colour import SRGB_FROM_WORK
from eaveplane.imaging.icc import standard_encoding
from eaveplane.imaging.light import to_codes, to_root
from eaveplane.imaging.oklab import oklab
from eaveplane.parameter import controls

LOOKS = st.builds(
    Look,
    **{c.name: st.floats(c.low, c.high) for c in controls(Look) if c.name not in ("kelvin", "tint", "saturation")},
)


def _root(seed: int = 0) -> np.ndarray:
    return np.random.default_rng(seed).random((24, 32, 3), np.float32)


@pytest.mark.parametrize("primaries", ["srgb", "rec2020"])
def test_a_neutral_look_returns_what_came_in(primaries: str) -> None:
    codes = np.random.default_rng(1).integers(0, 65536, (64, 64, 3), np.uint16)
    encoding = standard_encoding(primaries)
    out = to_codes(develop(to_root(codes, encoding), NEUTRAL, Light(), "rec2020"), encoding)
    assert np.abs(out.astype(int) - codes).max() <= 1


@given(LOOKS)
@settings(max_examples=200)
def test_tones_never_cross(look: Look) -> None:
    curve = tone_curve(tones_of(look), np.linspace(0, 1.5, 600))
    assert np.isfinite(curve).all() and (np.diff(curve) > -1e-6).all()


def test_exposure_doubles_light() -> None:
    root = _root() * 0.5
    np.testing.assert_allclose(develop(root, Look(exposure=1), Light(), "rec2020") ** 2, 2 * root**2, rtol=2e-3, atol=1e-6)


def test_saturation_keeps_lightness_and_hue_and_ends_in_grey() -> None:
    root = _root()
    grey = develop(root, Look(saturation=-100), Light(), "rec2020") ** 2
    np.testing.assert_allclose(grey[..., 0], grey[..., 2], atol=1e-4)
    before, muted = oklab(root**2), oklab(develop(root, Look(saturation=-40), Light(), "rec2020") ** 2)
    np.testing.assert_allclose(oklab(grey)[..., 0], before[..., 0], atol=1e-4)
    np.testing.assert_allclose(muted, before * [1, 0.6, 0.6], atol=1e-4)


def test_choosing_the_light_as_shot_changes_nothing_and_warmer_light_cools() -> None:
    root = _root()
    np.testing.assert_allclose(develop(root, Look(kelvin=5200), Light(5200, 0), "rec2020"), root, atol=2e-3)
    cooled = develop(root, Look(kelvin=3500), Light(5200, 0), "srgb") ** 2
    plain = develop(root, NEUTRAL, Light(5200, 0), "srgb") ** 2
    assert cooled[..., 2].mean() > plain[..., 2].mean() and cooled[..., 0].mean() < plain[..., 0].mean()
    green = develop(root, Look(tint=40), Light(5200, 0), "srgb") ** 2
    assert green[..., 1].mean() > plain[..., 1].mean() + 0.01 and green[..., 0].mean() < plain[..., 0].mean()


def test_the_screen_is_srgb_of_eight_bits() -> None:
    root = np.sqrt(np.full((2, 2, 3), 0.2140411, np.float32))
    assert (for_screen(root) == 128).all() or (np.abs(for_screen(root).astype(int) - 127) <= 1).all()
    neutral = develop(np.full((4, 4, 3), 0.5, np.float32), RAW_LOOK, Light(), "srgb")
    assert np.ptp(for_screen(neutral)) <= 1
    np.testing.assert_allclose(develop(_root(), NEUTRAL, Light(), "srgb"), _signed_root((_root() ** 2) @ SRGB_FROM_WORK.T), atol=2e-3)


def _signed_root(light: np.ndarray) -> np.ndarray:
    return np.sign(light) * np.sqrt(np.abs(light))


def test_histogram_counts_and_clipping_marks() -> None:
    screen = np.zeros((10, 10, 3), np.uint8)
    screen[:, :5] = 255
    assert histogram(screen)[:, [0, 255]].tolist() == [[50, 50]] * 4
    picture = np.full((2, 2, 3), 0.5, np.float32)
    picture[0, 0], picture[1, 1] = 0, (0.2, 1.0, 0.3)
    black, white = clipped(picture)
    assert black.tolist() == [[True, False], [False, False]] and white.tolist() == [[False, False], [False, True]]


def test_values_beyond_a_control_are_refused() -> None:
    with pytest.raises(ValidationError):
        Look(exposure=9)
    with pytest.raises(ValidationError):
        Look(brightness=1)  # type: ignore[call-arg]


def test_a_boost_strengthens_muted_colours_and_spares_strong_and_warm_ones() -> None:
    colours = np.array([[0.42, 0.45, 0.50], [0.05, 0.10, 0.60], [0.50, 0.45, 0.42]], np.float32)[None]
    plain, boosted = (develop(np.sqrt(colours), look, Light(), "rec2020") ** 2 for look in (Look(exposure=1e-9), Look(boost=60)))

    def strength(picture: np.ndarray) -> np.ndarray:
        return np.ptp(picture[0], axis=-1)

    grown = strength(boosted) / strength(plain)
    assert grown[0] > 1.3 and 1 <= grown[1] < 1.06 and 1.1 < grown[2] < grown[0]
    grey = np.full((1, 1, 3), 0.4, np.float32)
    np.testing.assert_allclose(develop(grey, Look(boost=100), Light(), "rec2020"), grey, rtol=1e-5)
    np.testing.assert_allclose(oklab(plain)[..., 0], oklab(boosted)[..., 0], atol=1e-4)
