"""Light that changed in places between frames: measured where it did, and nothing claimed where it did not."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bench.cards import composition
from bench.layered import pink
from eaveplane.core.even.drift import measure_drift, radius_squared
from eaveplane.core.even.passing import PassingLight, passing_light
from eaveplane.core.gather.smooth import smooth_part, soft
from eaveplane.fieldcam.lens import Lens, disc_of
from eaveplane.imaging.placement import Placement

SIZE = (720, 480)
STILL = [Placement(np.eye(3), SIZE)] * 2


@given(st.integers(0, 10_000), st.integers(40, 300), st.integers(40, 300), st.floats(0.5, 30), st.booleans())
@settings(max_examples=40)
def test_a_wide_bell_is_drawn_in_cells(seed: int, height: int, width: int, sigma: float, coloured: bool) -> None:
    picture = np.random.default_rng(seed).random((height, width, 3) if coloured else (height, width), np.float32)
    exact = cv2.GaussianBlur(picture, (0, 0), sigma, borderType=cv2.BORDER_CONSTANT)
    assert np.abs(soft(picture, sigma) - exact).max() < 0.02 * exact.max()


def scene(landscape: str) -> tuple[np.ndarray, np.ndarray]:
    """A composition in the middle of the row, and as the hand before it leaves it (480, 720, 3)."""
    pictures, hands, _ = composition(landscape, 17.0)
    base, hand = (np.maximum(cv2.resize(p, SIZE, interpolation=cv2.INTER_CUBIC), 1e-4) for p in (pictures[3], hands[0]))
    white = np.float32(0.95 / np.quantile(base.max(axis=2), 0.99))
    return np.asarray(base * white, np.float32), np.asarray(hand * white, np.float32)


def clouds(rng: np.random.Generator, dark: float) -> np.ndarray:
    """What clouds leave of the light (480, 720), 1 - `dark` to 1."""
    cells = cv2.GaussianBlur(rng.standard_normal((48, 72)).astype(np.float32), (0, 0), 8)
    return np.asarray(1 - dark * (0.5 + 0.5 * np.tanh(2 * cv2.resize(cells / cells.std(), SIZE, interpolation=cv2.INTER_CUBIC))), np.float32)


def measured(base: np.ndarray, other: np.ndarray) -> tuple[float, PassingLight | None]:
    """Median difference before, and the light that passed with the drift."""
    rng = np.random.default_rng(1)
    frames = [np.clip(p + rng.standard_normal(p.shape) * np.sqrt(p / 2e4), 0, 1).astype(np.float32) for p in (base, other)]
    drifts = measure_drift(frames, STILL, 0)
    none, light = passing_light(frames, STILL, drifts, 0)
    assert none is None
    if light:
        drift = np.array(drifts[1].gain, np.float32) * (1 + np.float32(drifts[1].falloff) * radius_squared(*light.gain.shape[:2]))[..., None]
        light = PassingLight(light.gain * drift, light.left)
    return drifts[1].before, light


# of 40 others drawn at random all were found; a search among 80 more came upon one that is not (seed 63, dark 0.56, saltpan), most of it in the lowest quarter
@pytest.mark.parametrize("seed, dark, landscape", [(2401, 0.24, "thistle"), (2402, 0.47, "larch"), (2403, 0.19, "saltpan"), (2417, 0.54, "larch"), (2419, 0.57, "thistle"), (2433, 0.56, "saltpan")])
def test_shadows_of_clouds_are_measured_through_blur_and_taken_away(seed: int, dark: float, landscape: str) -> None:
    rng = np.random.default_rng(seed)
    base, _ = scene(landscape)
    shade = clouds(rng, dark)
    other = cv2.filter2D(base, -1, disc_of(Lens(), 6.0), borderType=cv2.BORDER_REFLECT_101) * shade[..., None]
    before, light = measured(base, other)
    # a difference of 0.3 is not seen; where hardly anything is shaded the median place differed by less before
    assert light is not None and light.left < 0.3 and (light.left < before or before < 0.15)
    off = np.abs(np.log(light.on((0, 0, *SIZE), SIZE).mean(axis=2) * shade))[(base.max(axis=2) < 0.9) & (base.min(axis=2) > 0.01)]
    assert np.median(off) < 0.03 and np.percentile(off, 95) < 0.15
    assert light.most_ev() == pytest.approx(-np.log2(1 - dark), abs=0.25)


@pytest.mark.parametrize("landscape", ["saltpan", "thistle", "larch", "lava"])
def test_defocus_and_a_hand_before_the_lens_are_no_light(landscape: str) -> None:
    base, hand = scene(landscape)
    for radius in (4.0, 15.0):
        assert measured(base, cv2.filter2D(base, -1, disc_of(Lens(), radius), borderType=cv2.BORDER_REFLECT_101))[1] is None
    assert measured(base, hand)[1] is None


def test_clouds_that_drift_across_the_sky_are_left_there_while_their_shadows_are_taken_from_the_ground() -> None:
    rng = np.random.default_rng(0)
    base, _ = scene("saltpan")
    down = np.arange(SIZE[1], dtype=np.float32)[:, None] / SIZE[1]
    heaps = cv2.GaussianBlur(1 / (1 + np.exp(-8 * (pink(rng, (SIZE[1], SIZE[0] + 30), 1.7) - 0.4))), (0, 0), 1.0)
    ground = np.clip((down - 0.45) / 0.05, 0, 1)
    shades = [1 - (1 - clouds(rng, 0.5)) * ground for _ in range(2)]
    frames = [0.45 * base * (shade * (1 + 1.2 * heaps[:, move : move + SIZE[0]] * (1 - np.clip((down - 0.37) / 0.05, 0, 1))))[..., None] for shade, move in zip(shades, (0, 25), strict=True)]
    _, light = measured(*frames)
    assert light is not None
    found = np.log(light.on((0, 0, *SIZE), SIZE).mean(axis=2))
    off = found - np.log(shades[0] / shades[1])
    rms = [float(np.sqrt((off[rows] ** 2).mean())) for rows in (down[:, 0] < 0.35, down[:, 0] > 0.5)]
    print(f"off by {rms[0]:.3f} in the sky, {rms[1]:.3f} on the ground, in log light")
    assert rms[0] < 0.045 and rms[1] < 0.1


def test_a_piece_is_lit_as_the_whole_is_and_so_is_what_lies_around_it() -> None:
    rng = np.random.default_rng(4)
    light = PassingLight(np.exp(cv2.GaussianBlur(rng.standard_normal((20, 30, 3)).astype(np.float32), (0, 0), 3)).astype(np.float32), 0.0)
    whole = light.on((0, 0, 300, 200), (300, 200))
    np.testing.assert_allclose(light.on((40, 30, 70, 50), (300, 200)), whole[30:80, 40:110], rtol=1e-6)
    np.testing.assert_array_equal(light.on((-9, 0, 4, 200), (300, 200))[:, 0], whole[:, 0])
    # the same place at half the size
    np.testing.assert_allclose(light.on((0, 0, 150, 100), (150, 100)), cv2.resize(whole, (150, 100), interpolation=cv2.INTER_AREA), rtol=2e-3)


def test_nothing_to_compare_has_no_smooth_part() -> None:
    ratio = np.ones((60, 90, 1), np.float32)
    assert smooth_part(ratio, np.zeros((60, 90), np.float32)) is None
    assert smooth_part(0 * ratio, np.ones((60, 90), np.float32)) is None
    found = smooth_part(0.3 * ratio, np.ones((60, 90), np.float32))
    assert found is not None and found == pytest.approx(0.3, abs=0.02)
