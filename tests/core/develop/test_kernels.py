"""Rows of the look, compiled: numbers against closed forms, and numbers that are none."""

from __future__ import annotations

import warnings

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from eaveplane.core.develop import kernels
from eaveplane.core.develop.areas import Area
from eaveplane.core.develop.develop import develop, for_screen, hue_table
from eaveplane.core.develop.look import RAW_LOOK, HuePoint, Light, Look
from eaveplane.core.masks.parts import Graduated, HueRange, ToneRange
from eaveplane.core.weave.ways import crisp_seams
from eaveplane.imaging.colour import LUMA
from eaveplane.imaging.icc import standard_encoding
from eaveplane.imaging.light import inverse_tables, root_luma, to_codes, to_root
from eaveplane.imaging.oklab import LIGHTNESSES, reach

SEEDS = st.integers(0, 2**31)


def _row(seed: int, low: float, high: float, count: int = 300) -> np.ndarray:
    return np.random.default_rng(seed).uniform(low, high, count).astype(np.float32)


@given(SEEDS, st.sampled_from([1e-6, 1e-2, 1.0, 1e3, 1e8]))
def test_cube_roots(seed: int, scale: float) -> None:
    x = _row(seed, -scale, scale)
    y = np.empty_like(x)
    kernels.root3(x, y)
    np.testing.assert_allclose(y, np.cbrt(x.astype(np.float64)), rtol=2e-6, atol=1e-8)


@given(SEEDS, st.floats(-30, 30))
def test_logarithms_and_powers_of_two(seed: int, middle: float) -> None:
    x = _row(seed, middle - 3, middle + 3)
    power, log = np.empty_like(x), np.empty_like(x)
    kernels.exp2(x, power, np.empty(x.size, np.int32))
    np.testing.assert_allclose(power, 2.0 ** x.astype(np.float64), rtol=1e-6)
    kernels.log2(power, log)
    np.testing.assert_allclose(log, np.log2(power.astype(np.float64)), atol=1e-5)


@given(SEEDS)
def test_turns_go_round_once_with_the_hue(seed: int) -> None:
    hue = np.sort(_row(seed, -np.pi, np.pi))
    turn = np.empty_like(hue)
    kernels.turns((0.1 * np.cos(hue)).astype(np.float32), (0.1 * np.sin(hue)).astype(np.float32), turn)
    assert (turn >= 0).all() and (turn <= 4).all()
    # one step back, from four to none, where red is passed; rising everywhere else
    assert (np.diff(turn) < -1e-4).sum() <= 1
    quarter = np.empty(4, np.float32)
    kernels.turns(np.array([1, 0, -1, 0], np.float32), np.array([0, 1, 0, -1], np.float32), quarter)
    np.testing.assert_allclose(quarter, [0, 1, 2, 3], atol=1e-6)


@given(SEEDS, st.booleans())
def test_tones_multiply_all_channels_alike(seed: int, masked: bool) -> None:
    r, g, b = (_row(seed + k, 0, 2) for k in range(3))
    before = np.stack([r, g, b])
    mask = _row(seed + 3, 0, 1)
    tone = np.linspace(0.5, 1.5, 8192).astype(np.float32)
    kernels._toned(r, g, b, tone, LUMA, mask, masked, np.empty_like(r))
    luma = np.sqrt(np.tensordot(LUMA, before, 1))
    factor = 0.5 + np.minimum(luma / np.sqrt(kernels.MOST), 1)
    told = 1 + mask * (factor - 1) if masked else factor
    np.testing.assert_allclose(np.stack([r, g, b]), before * told, rtol=1e-3, atol=1e-6)


@given(SEEDS, st.floats(0.3, 1))
def test_colours_that_cannot_be_shown_are_drawn_in_and_keep_their_hue(seed: int, amount: float) -> None:
    light, hue, chroma = _row(seed, 0.05, 0.95), _row(seed + 1, -np.pi, np.pi), _row(seed + 2, 0, 0.5)
    a, b = (chroma * np.cos(hue)).astype(np.float32), (chroma * np.sin(hue)).astype(np.float32)
    most = reach(np.eye(3))
    safe = (0.8 * most.min(axis=1)) ** 2
    turn = np.empty_like(a)
    kernels.turns(a, b, turn)
    kernels.drawn_in(light, a, b, turn, most, np.minimum(safe, np.append(safe[1:], 0)), amount, np.zeros_like(a))
    after = np.hypot(a, b)
    assert (after <= chroma + 1e-6).all()
    strong = chroma > 0.01
    assert np.abs(np.angle(np.exp(1j * (np.arctan2(b, a) - hue))))[strong].max() < 1e-3
    small = chroma**2 < safe[np.minimum((light * (LIGHTNESSES - 1)).astype(int), LIGHTNESSES - 2)] * 0.9
    np.testing.assert_allclose(after[small], chroma[small], atol=2e-4)


@given(SEEDS, st.floats(0, 1), st.floats(0.3, 1))
def test_haze_taken_away_is_what_was_laid_over_the_light(seed: int, amount: float, through: float) -> None:
    clear = [_row(seed + k, 0.05, 1) for k in range(3)]
    air = np.array([0.7, 0.8, 0.9], np.float32)
    hazed = [(a + (c - a) * (1 - amount * (1 - through))).astype(np.float32) for c, a in zip(clear, air, strict=True)]
    veil = np.tile(np.array([0, through], np.float32), (300, 1))
    kernels._cleared(*hazed, np.zeros(300, np.float32), np.full(300, amount, np.float32), veil, air, np.empty(300, np.float32))
    np.testing.assert_allclose(np.stack(hazed), np.stack(clear), atol=2e-5)


BAD = np.array([np.nan, np.inf, -np.inf, 3e38, -3e38, 1e-40, 0.0, 0.5], np.float32)


def test_numbers_that_are_none_read_nothing_beside_the_tables() -> None:
    # numpy says what it thinks of such numbers
    warnings.simplefilter("ignore", RuntimeWarning)
    root = np.stack(np.meshgrid(BAD, BAD, BAD, indexing="ij"), axis=-1).reshape(8, 64, 3)
    areas = [Area(parts=[ToneRange(low=0.2, high=0.4)], contrast=50), Area(parts=[HueRange(hue=10)], exposure=2)]
    look = RAW_LOOK.model_copy(update={"saturation": 40, "boost": 50, "tint_darks": 30, "hues": [HuePoint(hue=40, shift=20)], "areas": areas})
    for primaries in ("srgb", "rec2020"):
        shown = for_screen(develop(root, look, Light(), primaries))
        assert shown.shape == root.shape
    # what is whole beside them stays what it is alone
    alone = np.full((1, 4, 3), 0.5, np.float32)
    beside = np.concatenate([alone, np.full((1, 4, 3), np.nan, np.float32)])
    np.testing.assert_array_equal(develop(beside, RAW_LOOK, Light(), "srgb")[:1], develop(alone, RAW_LOOK, Light(), "srgb"))
    assert to_codes(root, standard_encoding("srgb")).dtype == np.uint16


@pytest.mark.parametrize("stops", [4.0, -4.0])
def test_as_many_areas_as_there_may_be_all_at_their_strongest(stops: float) -> None:
    everywhere = Graduated(x0=0, y0=1e5, x1=0, y1=1e6)
    areas = [Area(parts=[everywhere], exposure=stops, contrast=100, highlights=100, shadows=100, saturation=20) for _ in range(24)]
    root = np.random.default_rng(1).random((32, 32, 3)).astype(np.float32)
    shown = develop(root, Look(exposure=stops, compress=100, areas=areas), Light(), "srgb")
    assert np.isfinite(shown).all()
    assert shown.min() > 0.9 if stops > 0 else shown.max() < 0.01


def test_hues_between_two_points_share_what_both_do() -> None:
    table = hue_table([HuePoint(hue=30, strength=50), HuePoint(hue=60, strength=50)])
    turns = np.linspace(0, 4, len(table))
    between = (turns > 0.4) & (turns < 0.6)
    np.testing.assert_allclose(table[between, 2], 0.5, atol=0.02)
    assert table[(turns > 2.5) & (turns < 3.5), 2].max() == 0


@given(SEEDS, st.sampled_from(["srgb", "rec2020"]), st.sampled_from([np.uint8, np.uint16]))
@settings(max_examples=20)
def test_light_is_what_curve_and_matrix_say(seed: int, primaries: str, kind: type) -> None:
    encoding = standard_encoding(primaries)
    codes = np.random.default_rng(seed).integers(0, np.iinfo(kind).max + 1, (5, 41, 3)).astype(kind)
    wide = codes.astype(np.int64) * (257 if kind is np.uint8 else 1)
    light = np.stack([encoding.curves[c][wide[..., c]] for c in range(3)], axis=-1) @ encoding.to_work.T
    root = to_root(codes, encoding)
    np.testing.assert_allclose(root, np.copysign(np.sqrt(np.abs(light)), light), atol=3e-4)
    np.testing.assert_allclose(root_luma(root), np.sqrt(np.maximum(light @ LUMA, 0)), atol=3e-4)


@given(SEEDS, st.sampled_from(["srgb", "rec2020"]))
@settings(max_examples=20)
def test_codes_are_the_nearest_to_their_light(seed: int, primaries: str) -> None:
    encoding = standard_encoding(primaries)
    root = np.random.default_rng(seed).uniform(-0.1, 1.1, (4, 37, 3)).astype(np.float32)
    own = np.clip((root * np.abs(root)).astype(np.float64) @ np.linalg.inv(encoding.to_work).T, 0, 1)
    told = np.stack([np.interp(own[..., c], encoding.curves[c], np.arange(65536.0)) for c in range(3)], axis=-1)
    assert np.abs(to_codes(root, encoding) - told).max() < 6
    assert inverse_tables(encoding)[:, -1].tolist() == [65535.0] * 3


@given(SEEDS, st.integers(1, 4), st.booleans())
@settings(max_examples=30)
def test_shares_sum_to_one_and_nothing_comes_through_a_closed_gate(seed: int, count: int, alone: bool) -> None:
    rng = np.random.default_rng(seed)
    spare, gates = rng.random((2, count, 6, 19)).astype(np.float32)
    gates[rng.random(gates.shape) < 0.4] = 0
    spare[rng.random(spare.shape) < 0.1] = 0
    share = np.empty_like(spare)
    crisp_seams._weigh(spare, gates, 0 if alone else -1, share)
    open_ = (spare * gates).sum(axis=0) > 0
    wanted = np.where(open_, spare * gates / np.maximum((spare * gates).sum(axis=0), 1e-30), 0)
    if alone:
        wanted[0][~open_] = 1
    np.testing.assert_allclose(share, wanted, atol=1e-5)
