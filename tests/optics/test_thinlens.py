"""The thin lens against its closed forms."""

from __future__ import annotations

import itertools
import math

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from eaveplane.optics.thinlens import airy_diameter, blur_diameter, depth_of_field, even_focus_steps, hyperfocal

FOCAL, STOP = st.floats(8, 300), st.floats(1.4, 32)


@given(FOCAL, STOP, st.floats(0.5, 100), st.floats(0.5, 1000))
def test_blur_agrees_with_image_distances(focal: float, stop: float, focus: float, distance: float) -> None:
    f = focal / 1000
    assume(focus > 1.2 * f and distance > 1.2 * f)
    sensor, image = f * focus / (focus - f), f * distance / (distance - f)
    expected = 1000 * f / stop * abs(sensor - image) / image
    assert blur_diameter(focal, stop, focus, distance) == pytest.approx(expected, rel=1e-6, abs=1e-9)


@given(FOCAL, STOP, st.floats(0.005, 0.05))
def test_at_the_hyperfocal_distance_infinity_is_just_sharp(focal: float, stop: float, blur: float) -> None:
    assert blur_diameter(focal, stop, hyperfocal(focal, stop, blur), math.inf) == pytest.approx(blur, rel=1e-3)


def test_what_is_in_focus_has_no_blur_and_what_is_too_near_is_refused() -> None:
    assert blur_diameter(24, 8, 3, 3) == 0
    with pytest.raises(ValueError, match="beyond"):
        blur_diameter(50, 8, 0.04, 3)


@given(st.floats(0.3, 2), st.integers(2, 30))
def test_steps_are_even_in_dioptres(nearest: float, count: int) -> None:
    steps = even_focus_steps(nearest, math.inf, count)
    dioptres = [0 if math.isinf(s) else 1 / s for s in steps]
    assert steps[0] == pytest.approx(nearest) and math.isinf(steps[-1])
    for a, b in itertools.pairwise(dioptres):
        assert a - b == pytest.approx(1 / nearest / (count - 1), rel=1e-6)
    assert even_focus_steps(nearest, math.inf, 1) == [nearest]


@given(FOCAL, STOP, st.floats(0.004, 0.06), st.floats(0.5, 200))
def test_depth_of_field_agrees_with_the_textbook_formulas(focal: float, stop: float, blur: float, focus: float) -> None:
    f = focal / 1000
    assume(focus > 2 * f)
    near, far = depth_of_field(focal, stop, focus, blur)
    # H = f²/(N c) + f;  near = s (H - f) / (H + s - 2 f),  far = s (H - f) / (H - s)
    h = f * f / (stop * blur / 1000) + f
    assert near == pytest.approx(focus * (h - f) / (h + focus - 2 * f), rel=1e-3)
    if focus < 0.999 * h:
        assert far == pytest.approx(focus * (h - f) / (h - focus), rel=1e-3)
    elif focus > 1.001 * h:
        assert math.isinf(far)
    assert hyperfocal(focal, stop, blur) == pytest.approx(h, rel=1e-9)


@given(STOP)
def test_diffraction_agrees_with_the_first_zero_of_the_airy_pattern(stop: float) -> None:
    assert airy_diameter(stop) == pytest.approx(2 * 1.21967 * 0.00055 * stop, rel=1e-3)
