"""What frames show of one another: blur, faults, soft bands, exposures."""

from __future__ import annotations

import math

import cv2
import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from bench.faults import FAULTS, look, scene, spoil, true_gap
from eaveplane.core.gather.coverage import SoftBand
from eaveplane.core.gather.detail import measure_detail
from eaveplane.core.gather.exposures import brackets_of
from eaveplane.core.gather.merge import base_of, exposure_times, merge, peak_of, steadiness
from eaveplane.core.gather.octaves import OCTAVES, RADII, Octaves, attenuation, compute_attenuation
from eaveplane.core.gather.order import near_to_far
from eaveplane.core.gather.verdicts import leans, other_settings
from eaveplane.fieldcam.lens import Lens, disc_of
from eaveplane.imaging.colour import luminance
from eaveplane.imaging.exif import Metadata

pytestmark = pytest.mark.slow

SNOW = ("larch", 17.0, 0, (720, 480))


def root(light: np.ndarray) -> np.ndarray:
    return np.sqrt(np.maximum(luminance(light), 0)).astype(np.float32)


# ---- octaves under a disc ------------------------------------------------------------------------------------


def test_a_disc_takes_more_from_finer_octaves_and_from_all_the_more_the_larger_it_is() -> None:
    table = attenuation()
    np.testing.assert_allclose(table, compute_attenuation(), rtol=1e-9)
    assert table.shape == (OCTAVES, len(RADII)) and np.allclose(table[:, 0], 1)
    usual = RADII < 6
    assert (np.diff(table[1:, usual], axis=1) < 1e-3).all() and (np.diff(table[:, 20:40], axis=0) > 0).all()


@pytest.mark.parametrize("radius", [1.0, 2.0, 4.0])
def test_the_table_agrees_with_discs_drawn_on_a_texture(radius: float) -> None:
    rng = np.random.default_rng(1)
    noise = np.fft.rfft2(rng.standard_normal((768, 768)))
    f = np.hypot(np.fft.fftfreq(768)[:, None], np.fft.rfftfreq(768)[None])
    texture = np.fft.irfft2(noise * np.maximum(f, 1e-3) ** -1.1 * np.exp(-((0.6 * 2 * np.pi * f) ** 2) / 2), (768, 768))
    picture = (0.5 + 0.05 * texture / texture.std()).astype(np.float32)
    blurred = cv2.filter2D(picture, -1, disc_of(Lens(), radius), borderType=cv2.BORDER_REFLECT_101)
    before, after = (measure_detail(p).octaves.energy.mean(axis=(1, 2)) for p in (picture, blurred))
    told = [float(np.interp(radius, RADII, line)) for line in attenuation()]
    for octave in range(3):
        assert math.log(after[octave] / before[octave]) == pytest.approx(math.log(told[octave]), abs=0.28), octave


# ---- faults --------------------------------------------------------------------------------------------------


def test_focus_and_blur_are_read_from_the_frames() -> None:
    case = spoil(np.random.default_rng(5), scene(*SNOW), "none", told=False)
    found, order = look(case)
    assert order == list(range(6))
    true = case.source.focus[:6] - case.source.focus[0]
    focus = found.defocus.focus - found.defocus.focus[0]
    assert np.abs(focus - true).max() < 0.15 * true[-1]
    assert not found.bands and found.covered > 0.99 and not any(v.flaw for v in found.verdicts)
    lows = [v.sharp_rows for v in found.verdicts]
    assert lows[0][1] == 1.0 and lows[0][0] > lows[-1][1] - 0.2 and sum(v.share for v in found.verdicts) == pytest.approx(1, abs=0.1)


@pytest.mark.parametrize("fault", FAULTS[1:])
def test_each_fault_is_found_and_nobody_else_is_accused(fault: str) -> None:
    case = spoil(np.random.default_rng(FAULTS.index(fault)), scene(*SNOW), fault, told=True)
    found, order = look(case)
    flaws = [found.verdicts[order.index(i)].flaw for i in range(len(order))]
    if fault == "gap":
        assert true_gap(case) > 0.03 and found.bands and found.bands[0].near is not None and found.bands[0].blur_px > 1.5
        assert found.bands[0].metres and found.bands[0].metres[0] < found.bands[0].metres[1]
        assert flaws == [None] * len(flaws)
    elif fault == "redundant":
        twins = [i for i, k in enumerate(case.kept) if case.kept.count(k) > 1]
        assert sorted(i for i, f in enumerate(flaws) if f) in ([twins[0]], [twins[1]]) and "redundant" in flaws
    else:
        assert flaws == case.truth
        victim = case.truth.index(fault)
        assert found.verdicts[order.index(victim)].evidence


def test_a_frame_exposed_otherwise_stays_where_it_is_the_sharpest_and_goes_where_it_has_a_twin(monkeypatch: pytest.MonkeyPatch) -> None:
    """Though nothing is seen to be lost: it is the same light once it is evened out."""
    monkeypatch.setattr("eaveplane.core.gather.inspect.losses", lambda *asked: {})
    for fault, needed in (("settings", True), ("redundant", False)):
        case = spoil(np.random.default_rng(FAULTS.index(fault)), scene(*SNOW), fault, told=True)
        victim = case.truth.index(fault)
        if fault == "redundant":
            case.frames[victim] = np.minimum(1.9 * case.frames[victim], 1)
        found, order = look(case)
        verdict = found.verdicts[order.index(victim)]
        assert verdict.flaw == "settings" and verdict.needed is needed


def test_a_blur_without_direction_leans_nowhere() -> None:
    rng = np.random.default_rng(2)
    pictures = [cv2.GaussianBlur(rng.random((320, 480), np.float32), (0, 0), 1.0)] * 3
    pictures[1] = cv2.GaussianBlur(pictures[1], (0, 0), 1.5)
    along = np.zeros((9, 9), np.float32)
    np.fill_diagonal(along, 1 / 9)
    pictures.append(cv2.filter2D(pictures[0], -1, along))
    octaves = [measure_detail(p).octaves for p in pictures]
    clear = [np.ones(o.energy.shape[1:], bool) for o in octaves]
    found = leans([o.slopes for o in octaves], clear)
    assert found[3] > 0.2 and max(found[:3]) < 0.03


def test_settings_that_differ_are_told_in_words() -> None:
    usual = Metadata(f_number=5.6, iso=100, focal_mm=24)
    even, light = [(1.0, 1.0, 1.0)] * 4, [(5500.0, 0.0)] * 4
    assert other_settings([usual] * 4, light, even) == {}
    odd = {
        "f/11": Metadata(f_number=11, iso=100, focal_mm=24),
        "ISO 800": Metadata(f_number=5.6, iso=800, focal_mm=24),
        "35 mm": Metadata(f_number=5.6, iso=100, focal_mm=35),
    }
    for words, meta in odd.items():
        found = other_settings([usual, usual, meta, usual], light, even)
        assert list(found) == [2] and words in found[2]
    assert "3200 K" in other_settings([usual] * 4, [*light[:3], (3200.0, 0.0)], even)[3]
    assert "EV brighter" in other_settings([Metadata()] * 4, light, [*even[:3], (0.5, 0.5, 0.5)])[3]
    # drift that evening-out takes away is no other setting
    assert other_settings([Metadata()] * 4, light, [*even[:3], (0.85, 0.82, 0.8)]) == {}
    assert other_settings([usual, odd["f/11"]], light[:2], even[:2]) == {}


def test_soft_bands_are_told_in_one_sentence() -> None:
    band = SoftBand((0, 400, 900, 140), 2.5, 1, 2, (1.8, 2.3))
    assert band.told() == "Nothing is sharp between 1.8 m and 2.3 m: a strip 140 px high, blurred by 2.5 px."
    assert SoftBand((0, 0, 9, 9), 2, 1, 2, None).told().startswith("Frames 2 and 3 do not meet")
    assert "beyond 12.0 m" in SoftBand((0, 0, 9, 9), 2, 2, None, (12.0, 4000.0)).told()
    assert "nearer than the first" in SoftBand((0, 0, 9, 9), 2, None, 0, None).told() and "beyond the last" in SoftBand((0, 0, 9, 9), 2, 2, None, None).told()


# ---- order ---------------------------------------------------------------------------------------------------


@given(st.permutations(range(6)))
@settings(max_examples=8)
def test_the_order_does_not_depend_on_how_frames_come(order: list[int]) -> None:
    lights = scene(*SNOW).lights[:6]
    octaves = [measure_detail(root(lights[k])).octaves for k in order]
    assert [order[i] for i in near_to_far(octaves)] == list(range(6))
    # nor on one that was taken with much more noise
    rng = np.random.default_rng(3)
    loud = root(np.maximum(lights[order[2]] + np.sqrt(np.maximum(lights[order[2]], 0) / 300) * rng.standard_normal(lights[0].shape), 0))
    octaves[2] = measure_detail(loud).octaves
    assert [order[i] for i in near_to_far(octaves)] == list(range(6))
    # frames that show nothing sharp stay as they came
    nothing = Octaves(*(np.zeros((n, 1, 1), np.float32) for n in (6, 6, 4)))
    assert near_to_far([nothing] * 4) == [0, 1, 2, 3]


# ---- exposures -----------------------------------------------------------------------------------------------


@given(st.integers(1, 8), st.sampled_from([3, 5]), st.permutations(range(3)), st.floats(0.7, 3), st.floats(-0.1, 0.1), st.booleans())
@settings(max_examples=120)
def test_brackets_are_found_in_any_order_cameras_use(positions: int, size: int, order: list[int], step: float, drift: float, passes: bool) -> None:
    pattern = [*order, *range(3, size)]
    if passes and positions > 1:
        stops = [step * level + 0.2 * drift * k for level in pattern for k in range(positions)]
        want = [sorted(range(k, len(stops), positions), key=lambda i: stops[i]) for k in range(positions)]
    else:
        stops = [step * level + drift * k for k in range(positions) for level in pattern]
        want = [sorted(range(k * size, (k + 1) * size), key=lambda i: stops[i]) for k in range(positions)]
    assert brackets_of(len(stops), lambda a, b: stops[b] - stops[a]) == want


@given(st.lists(st.floats(-0.25, 0.25), min_size=1, max_size=12))
@example([0.0, -0.125, 0.25, 0.25, -0.25, -0.25])
def test_drifting_exposure_is_no_bracket(stops: list[float]) -> None:
    assert brackets_of(len(stops), lambda a, b: stops[b] - stops[a]) == [[i] for i in range(len(stops))]


def test_frames_that_cannot_be_compared_are_no_bracket_alone() -> None:
    assert brackets_of(3, lambda a, b: float("nan"))[0] in ([0], [0, 1, 2])
    assert brackets_of(0, lambda a, b: 0.0) == [] and brackets_of(1, lambda a, b: 0.0) == [[0]]


def exposed(light: np.ndarray, time: float, rng: np.random.Generator) -> np.ndarray:
    seen = light * time
    return np.clip(seen + rng.standard_normal(light.shape) * np.sqrt(np.maximum(seen, 0) / 3e4 + 1e-8), 0, 1).astype(np.float32)


def test_merged_exposures_hold_the_whole_range_with_less_noise() -> None:
    rng = np.random.default_rng(6)
    ramp = np.geomspace(3e-4, 3.6, 600, dtype=np.float32)
    light = np.repeat(np.repeat(ramp[None, :, None], 200, axis=0), 3, axis=2) * np.array([1.0, 0.9, 0.7], np.float32)
    times = [0.25, 1.0, 4.0]
    frames = [exposed(light, t, rng) for t in times]
    measured = exposure_times(frames, [None, None, None])
    assert np.allclose([t / measured[1] for t in measured], times, rtol=0.01) and base_of(measured) == 1
    steady = steadiness(frames, times, 1)
    assert all(s.min() > 0.7 for s in steady)
    peak = peak_of(times)
    codes = merge([lambda a, b, f=f: f[a:b] for f in frames], times, steady, light.shape[:2], peak)
    found = peak * (codes / 65535.0) ** 2
    off = np.abs(np.median(found / light, axis=0) - 1).max(axis=1)
    # noise that the sensor cuts off at black brightens the very darkest a little
    assert off.max() < 0.06 and off[ramp > 2e-3].max() < 0.02
    dark = light[..., 0] < 0.01
    assert (found / light)[dark].std() < 0.65 * (frames[1] / light)[dark].std()


def test_what_moves_between_exposures_is_taken_from_the_base_alone() -> None:
    rng = np.random.default_rng(7)
    light = np.full((160, 240, 3), 0.12, np.float32)
    times, frames = [0.25, 1.0, 4.0], []
    for k, t in enumerate(times):
        moved = light.copy()
        moved[60:100, 40 + 60 * k : 70 + 60 * k] = 0.03
        frames.append(exposed(moved, t, rng))
    base = light.copy()
    base[60:100, 100:130] = 0.03
    steady = steadiness(frames, times, 1)
    codes = merge([lambda a, b, f=f: f[a:b] for f in frames], times, steady, (160, 240), peak_of(times))
    found = peak_of(times) * (codes / 65535.0) ** 2
    inner = np.s_[64:96, 44:66], np.s_[64:96, 104:126], np.s_[64:96, 164:186]
    for part in inner:
        assert np.abs(found[part] / base[part] - 1).mean() < 0.06
