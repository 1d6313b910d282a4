"""The look, and what is done to a developed picture."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from bench.cards import composition
from eaveplane.core.deliver.delivery import file_name
from eaveplane.core.develop.develop import clipped, develop, for_screen, histogram, tones_of
from eaveplane.core.develop.look import NEUTRAL, RAW_LOOK, Light, Look, white_balance
from eaveplane.core.develop.tone import tone_curve
from eaveplane.core.even.drift import Drift, measure_drift, radius_squared
from eaveplane.core.finish.finish import Crop, Finish, crop_box, finish, ratio_of, sharpened, straightened, turned_size
from eaveplane.fieldcam.lens import Lens, disc_of
from eaveplane.imaging.colour import SRGB_FROM_WORK
from eaveplane.imaging.icc import standard_encoding
from eaveplane.imaging.light import to_codes, to_root
from eaveplane.imaging.oklab import oklab
from eaveplane.imaging.placement import Placement
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


@given(st.text(max_size=60), st.text(max_size=30))
def test_a_name_is_never_a_path(template: str, scene: str) -> None:
    name = file_name(template, {"scene": scene})
    assert name and not set('/\\:*?"<>|\0\n') & set(name) and name not in (".", "..") and len(name) <= 120


def test_a_name_tells_the_settings() -> None:
    assert file_name("{scene} {frames}f {other}", {"scene": "Pan 1", "frames": "5"}) == "Pan 1 5f {other}"


# ---- drift between frames ------------------------------------------------------------------------------------


@given(st.integers(0, 10_000), st.floats(-0.3, 0.3), st.floats(-300, 300), st.floats(-10, 10), st.floats(-0.12, 0.12))
@settings(max_examples=6)
def test_drift_is_measured_through_blur_clipping_and_movement(seed: int, ev: float, kelvin: float, tint: float, falloff: float) -> None:
    """±0.3 EV, ±300 K, ±10 tint, changed falloff, a disc of 8 px, 1 % clipped, 5 % of the picture moved."""
    rng = np.random.default_rng(seed)
    pictures, _, _ = composition(*[("saltpan", 17.0), ("thistle", 17.0), ("larch", 17.0)][seed % 3])
    base = np.maximum(cv2.resize(pictures[3], (720, 480), interpolation=cv2.INTER_CUBIC), 1e-4)
    base *= np.float32(0.95 / np.quantile(base.max(axis=2), 0.99))
    matrix = white_balance(Look(kelvin=5500 + kelvin, tint=tint), Light(5500, 0))
    radius = radius_squared(480, 720)
    other = cv2.filter2D(base, -1, disc_of(Lens(), 8.0), borderType=cv2.BORDER_REFLECT_101) @ matrix.T.astype(np.float32) * np.float32(2.0**ev) * (1 + np.float32(falloff) * radius)[..., None]
    side = int(np.sqrt(0.05 * 480 * 720 / 4))
    for _ in range(4):
        y, x = rng.integers(0, 480 - side), rng.integers(0, 720 - side)
        other[y : y + side, x : x + side] = rng.uniform(0.05, 0.9, 3)
    frames = [np.clip(p + rng.standard_normal(p.shape) * np.sqrt(p / 2e4), 0, 1).astype(np.float32) for p in (base, other)]
    _, found = measure_drift(frames, [Placement(np.eye(3), (720, 480))] * 2, 0)
    wanted = -ev - np.log2(matrix @ np.ones(3))
    assert np.abs(np.log2(found.gain) - wanted).mean() < 0.02 and abs(np.mean(np.log2(found.gain) - wanted)) < 0.01
    assert found.falloff == pytest.approx(1 / (1 + falloff) - 1, abs=0.03) and found.left < 0.5


def test_nothing_in_common_is_no_drift() -> None:
    frames = [np.full((80, 120, 3), v, np.float32) for v in (0.3, 1.0)]
    still, shifted = (Placement(np.array([[1, 0, x], [0, 1, 0], [0, 0, 1.0]]), (120, 80)) for x in (0, 500))
    assert measure_drift(frames, [still] * 2, 0) == [Drift(), Drift()]
    assert measure_drift([frames[0]] * 2, [still, shifted], 0)[1] == Drift()


def test_radii_of_a_piece_are_those_of_the_whole() -> None:
    whole = radius_squared(40, 60)
    assert whole.max() < 1 < whole[0, 0] * 1.1 and whole[20, 30] < 1e-3
    np.testing.assert_allclose(radius_squared(40, 60, (7, 9, 20, 11)), whole[9:20, 7:27], rtol=1e-5)


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
