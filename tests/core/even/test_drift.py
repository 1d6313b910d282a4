"""Drift of exposure and colour between frames, measured."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bench.cards import composition
from eaveplane.core.develop.look import Light, Look, white_balance
from eaveplane.core.even.drift import Drift, measure_drift, radius_squared
from eaveplane.fieldcam.lens import Lens, disc_of
from eaveplane.imaging.placement import Placement


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
