"""The look against closed forms: tones, colours in an even space, relief without rims, haze, areas."""

from __future__ import annotations

import math
from itertools import pairwise
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from eaveplane.core.develop.areas import Area, mask_of
from eaveplane.core.develop.develop import develop, hue_table, needs_guide, reaches
from eaveplane.core.develop.look import GROUPS, NEUTRAL, RAW_LOOK, HuePoint, Light, Look, balance, scene_light, with_groups
from eaveplane.core.develop.relief import Guide, added_by_band, guide_of
from eaveplane.core.develop.tone import Tones, encode, tone_curve
from eaveplane.core.masks.parts import Brushed, BrushedLine, DistanceRange, Elliptical, Graduated, HueRange, Site, ToneRange
from eaveplane.imaging.colour import SRGB_FROM_WORK, WORK_FROM_SRGB, XYZ_FROM_WORK, white_of
from eaveplane.imaging.oklab import from_oklab, hue_of_turn, oklab, reach
from eaveplane.parameter import controls

SHOT = Light(5200, 3)


def _root(seed: int = 0, shape: tuple[int, int] = (24, 32)) -> np.ndarray:
    return np.random.default_rng(seed).random((*shape, 3), np.float32)


# ---- nothing where nothing is asked -----------------------------------------------------------------------------


def test_every_control_at_zero_is_exactly_no_change() -> None:
    root = _root(1, (40, 60))
    guide = guide_of(root, (60, 40))
    assert develop(root, NEUTRAL, SHOT, "rec2020", guide=guide) is root
    # what has an effect only together with something else, and areas in which nothing is done or that are off
    whole = Graduated(x0=0, y0=1e5, x1=0, y1=1e5 + 1)
    idle = Look(pivot=70, tint_darks_hue=10, tint_balance=50, hues=[HuePoint(hue=40)], areas=[Area(parts=[whole]), Area(on=False, parts=[whole], exposure=2)])
    assert develop(root, idle, SHOT, "rec2020", guide=guide) is root
    plain = develop(root, NEUTRAL, SHOT, "srgb", guide=guide)
    np.testing.assert_allclose(plain * np.abs(plain), (root**2) @ SRGB_FROM_WORK.T, atol=1e-5)


@given(st.sampled_from([c for c in controls(Look) if c.name not in ("pivot", "tint_balance", "compress") and not c.name.endswith("_hue")]), st.sampled_from([-1, 1]))
@settings(max_examples=60)
def test_a_little_of_any_control_is_little(control, way: int) -> None:  # type: ignore[no-untyped-def]
    root = 0.15 + 0.6 * _root(2)
    guide = guide_of(root, (32, 24))
    start = 5200 if control.name == "kelvin" else control.default
    value = float(np.clip(start + way * 0.01 * (control.high - control.low), control.low, control.high))
    changed = develop(root, Look(**{control.name: value}), SHOT, "rec2020", guide=guide)
    assert np.isfinite(changed).all() and np.abs(changed - root).max() < 0.06


# ---- colour against an independent implementation ---------------------------------------------------------------


@pytest.fixture(scope="module")
def colour() -> Any:
    """It takes seconds to load, for which not every worker need wait."""
    import colour

    return colour


@given(st.tuples(*[st.floats(0, 1)] * 3))
def test_oklab_agrees_with_colour_science(colour: Any, light: tuple[float, float, float]) -> None:
    light_ = np.array(light)
    np.testing.assert_allclose(oklab(light_), colour.XYZ_to_Oklab(XYZ_FROM_WORK @ light_), atol=1e-4)
    np.testing.assert_allclose(from_oklab(oklab(light_)), light_, atol=1e-6)


def test_the_working_space_agrees_with_colour_science(colour: Any) -> None:
    theirs = colour.RGB_COLOURSPACES["ITU-R BT.2020"].matrix_RGB_to_XYZ
    np.testing.assert_allclose(XYZ_FROM_WORK, theirs, atol=1e-4)
    np.testing.assert_allclose(SRGB_FROM_WORK, colour.matrix_RGB_to_RGB("ITU-R BT.2020", "sRGB"), atol=2e-4)


@pytest.mark.parametrize("kelvin", [1700, 2200, 2856, 3400, 4000, 5003, 6504, 9300, 15000, 25000])
def test_lights_lie_on_their_loci(colour: Any, kelvin: float) -> None:
    xyz = white_of(kelvin, 0)
    xy = xyz[:2] / xyz.sum()
    theirs = colour.temperature.CCT_to_xy_CIE_D(kelvin) if kelvin >= 4000 else colour.UCS_uv_to_xy(colour.temperature.CCT_to_uv_Planck1900(kelvin))
    np.testing.assert_allclose(xy, theirs, rtol=1e-3)


@given(st.floats(0, 2 * np.pi))
def test_a_place_on_the_ring_is_its_hue(hue: float) -> None:
    a, b = np.cos(hue), np.sin(hue)
    p = b / (abs(a) + abs(b))
    turn = 2 - p if a < 0 else p if p >= 0 else 4 + p
    assert np.cos(hue_of_turn(turn) - hue) > 1 - 1e-9


def test_a_scene_under_coloured_light_is_measured() -> None:
    rng = np.random.default_rng(3)
    greys = np.repeat(np.repeat(rng.uniform(0.05, 0.8, (30, 40, 1)), 4, 0), 4, 1)
    # seen by a camera set to 5200 K, greys under 3800 K are the inverse of what is made neutral
    cast = np.clip((greys * np.ones(3)) @ np.linalg.inv(balance(3800, -8, Light(5200, 0))).T, 0, 0.96)
    found = scene_light(cast.astype(np.float32), Light(5200, 0))
    assert found.kelvin == pytest.approx(3800, rel=0.03)
    with pytest.raises(ValueError, match="Too little"):
        scene_light(np.ones((20, 20, 3), np.float32), SHOT)


# ---- tones and colours ------------------------------------------------------------------------------------------


def test_tones_keep_the_colour_of_light() -> None:
    root = 0.1 + 0.5 * _root(4)
    look = Look(contrast=40, pivot=30, shadows=30, highlights=-40, shoulder=80, exposure=0.7, curve=[(0, 0.02), (0.4, 0.3), (0.8, 0.9), (1, 1)])
    after = develop(root, look, SHOT, "rec2020") ** 2
    np.testing.assert_allclose(after / after.sum(axis=2, keepdims=True), root**2 / (root**2).sum(axis=2, keepdims=True), atol=1e-5)


@given(st.floats(10, 90), st.floats(-100, 100).filter(lambda c: abs(c) > 0.1))
def test_contrast_leaves_its_pivot(pivot: float, contrast: float) -> None:
    tones = Tones(contrast=contrast, pivot=pivot)
    at, around = pivot / 100, np.array([pivot / 100 - 0.02, pivot / 100 + 0.02])
    assert tone_curve(tones, np.array([at]))[0] == pytest.approx(at, abs=1e-9)
    assert (np.diff(tone_curve(tones, around))[0] > 0.04 - 1e-9) == (contrast >= 0)


@given(st.lists(st.tuples(st.floats(0, 1), st.floats(0, 1)), min_size=2, max_size=9))
def test_a_curve_meets_its_points_and_never_falls(points: list[tuple[float, float]]) -> None:
    points = sorted(points)
    try:
        look = Look(curve=points)
    except ValidationError:
        assert any(b[0] - a[0] < 0.004 for a, b in pairwise(points))
        return
    xs, ys = np.array(look.curve).T
    tones = Tones(curve=tuple(look.curve))
    np.testing.assert_allclose(tone_curve(tones, xs), np.maximum.accumulate(ys), atol=1e-9)
    assert (np.diff(tone_curve(tones, np.linspace(0, 2, 500))) >= -1e-12).all()


def test_bright_colours_run_into_white_and_keep_their_hue() -> None:
    orange = np.sqrt(np.outer(2.0 ** np.linspace(-3, 5, 60), WORK_FROM_SRGB @ [1.0, 0.45, 0.12])).astype(np.float32)[None]
    lit = develop(orange, RAW_LOOK, SHOT, "srgb")
    light = lit * np.abs(lit)
    assert light.max() < 1.006 and light.min() > -0.006
    lab = oklab(np.clip(light[0], 0, 1) @ WORK_FROM_SRGB.T)
    strong = np.hypot(lab[:, 1], lab[:, 2]) > 0.03
    hue = np.degrees(np.arctan2(lab[:, 2], lab[:, 1]))
    assert strong.sum() > 20 and np.ptp(hue[strong]) < 2
    assert (np.diff(lab[:, 0]) > -1e-4).all() and np.hypot(*lab[-1, 1:]) < 0.01


@given(st.integers(0, 999))
@settings(max_examples=30)
def test_colours_beyond_the_gamut_are_drawn_in_and_not_cut(seed: int) -> None:
    lab = np.stack([np.full(200, 0.6), *(np.outer([np.cos(seed), np.sin(seed)], np.linspace(0, 0.3, 200)))], axis=-1)
    root = np.sqrt(np.maximum(from_oklab(lab), 0)).astype(np.float32)[None]
    keep = (from_oklab(lab) >= 0).all(axis=1)
    shown = develop(root, Look(compress=100), SHOT, "srgb")[0][keep]
    light = shown * np.abs(shown)
    assert light.min() > -0.004 and light.max() < 1.004
    chroma = np.hypot(*oklab(np.clip(light, 0, 1) @ WORK_FROM_SRGB.T)[:, 1:].T)
    # stronger stays stronger, and weak colours stay as they were
    assert (np.diff(chroma) > -1e-4).all()
    least = reach(np.asarray(SRGB_FROM_WORK)).min(axis=1)[154]
    weak = lab[keep][:, 1] ** 2 + lab[keep][:, 2] ** 2 < (0.7 * least) ** 2
    np.testing.assert_allclose(chroma[weak], np.hypot(*lab[keep][weak][:, 1:].T), atol=2e-3)


def test_the_ring_turns_one_hue_and_leaves_its_opposite() -> None:
    hues = np.radians([30.0, 60.0, 210.0])
    lab = np.stack([np.full(3, 0.6), 0.08 * np.cos(hues), 0.08 * np.sin(hues)], axis=-1)
    root = np.sqrt(from_oklab(lab)).astype(np.float32)[None]
    after = oklab(develop(root, Look(hues=[HuePoint(hue=30, shift=20, strength=50, lightness=50)]), SHOT, "rec2020")[0] ** 2)
    turned = np.degrees(np.arctan2(after[:, 2], after[:, 1])) % 360
    np.testing.assert_allclose(turned, [50, 70, 210], atol=0.3)
    chroma = np.hypot(after[:, 1], after[:, 2])
    np.testing.assert_allclose(chroma, [0.12, 0.10, 0.08], atol=2e-3)
    assert after[0, 0] > after[1, 0] > after[2, 0] == pytest.approx(0.6, abs=1e-3)


@given(st.lists(st.floats(0, 359), min_size=1, max_size=12, unique_by=lambda h: round(h / 3)))
def test_adjustments_are_smooth_around_the_ring(places: list[float]) -> None:
    try:
        points = Look(hues=[HuePoint(hue=h, strength=100) for h in places]).hues
    except ValidationError:
        return
    table = hue_table(points)[:, 2]
    assert table[0] == pytest.approx(table[-1], abs=1e-6) and table.min() > -1e-6 and table.max() < 1 + 1e-6


def test_tints_colour_their_tones_and_leave_black_and_white() -> None:
    greys = np.repeat(np.linspace(0, 1, 101, dtype=np.float32)[None, :, None], 3, axis=2)
    lab = oklab(develop(greys, Look(tint_darks=50, tint_darks_hue=260, tint_lights=50, tint_lights_hue=80), SHOT, "rec2020")[0] ** 2)
    hue = np.degrees(np.arctan2(lab[:, 2], lab[:, 1])) % 360
    assert hue[12] == pytest.approx(260, abs=15) and hue[85] == pytest.approx(80, abs=15)
    assert np.hypot(lab[[0, -1], 1], lab[[0, -1], 2]).max() < 1e-3
    darker = oklab(develop(greys, Look(tint_lights=50, tint_balance=-80), SHOT, "rec2020")[0] ** 2)
    lighter = oklab(develop(greys, Look(tint_lights=50, tint_balance=80), SHOT, "rec2020")[0] ** 2)
    assert np.hypot(*lighter[50, 1:]) > np.hypot(*darker[50, 1:])


def test_boost_spares_what_is_strong_and_what_is_warm() -> None:
    def gain(hue: float, chroma: float) -> float:
        lab = np.array([0.6, chroma * np.cos(np.radians(hue)), chroma * np.sin(np.radians(hue))])
        root = np.sqrt(from_oklab(lab)).astype(np.float32)[None, None]
        return float(np.hypot(*oklab(develop(root, Look(boost=80), SHOT, "rec2020")[0, 0] ** 2)[1:]) / chroma)

    assert gain(140, 0.04) > gain(140, 0.1) > gain(140, 0.17) and gain(140, 0.05) > gain(55, 0.05) > 1


# ---- relief and haze --------------------------------------------------------------------------------------------

STRONGEST = {"fine": Look(fine=100), "middle": Look(middle=100), "broad": Look(broad=100)}


def _grey(ev: np.ndarray) -> np.ndarray:
    return np.repeat(np.sqrt(2.0**ev)[..., None], 3, axis=2).astype(np.float32)


@pytest.mark.parametrize("name", STRONGEST)
@pytest.mark.parametrize("step", [1.0, 2.0, 3.5])
def test_relief_raises_no_rim_beside_an_edge(name: str, step: float) -> None:
    ev = np.full((400, 600), -5.0)
    ev[:, 300:] += step
    root = _grey(ev)
    for sign in (1, -1):
        look = Look(**{name: 100 * sign})
        after = np.log2(develop(root, look, SHOT, "rec2020", guide=guide_of(root, (600, 400)))[..., 1] ** 2)
        over, under = after.max() - ev.max(), ev.min() - after.min()
        assert max(over, under) < 0.02 * step, (sign, over / step, under / step)


@pytest.mark.parametrize("name", STRONGEST)
def test_relief_keeps_ramps_rising(name: str) -> None:
    for low, high in ((-8.0, -1.0), (-4.0, -3.0)):
        root = _grey(np.tile(np.linspace(low, high, 700), (300, 1)))
        for sign in (1, -1):
            look = Look(**{name: 100 * sign})
            after = develop(root, look, SHOT, "rec2020", guide=guide_of(root, (700, 300)))
            assert (np.diff(after[..., 1], axis=1) > -2e-6).all()


def test_each_relief_lifts_its_own_scale() -> None:
    x = np.arange(1024)
    waves = {"fine": 6, "middle": 24, "broad": 130}
    gains = {}
    for wave, period in waves.items():
        ev = -4 + 0.12 * np.sin(2 * np.pi * np.tile(x, (600, 1)) / period)
        root = _grey(ev)
        guide = guide_of(root, (1024, 600))
        for name in waves:
            after = np.log2(develop(root, STRONGEST[name], SHOT, "rec2020", guide=guide)[250:350, 200:800, 1] ** 2)
            gains[wave, name] = float(np.std(after) / np.std(ev[250:350, 200:800]))
        smooth = np.log2(develop(root, Look(**{wave: -100}), SHOT, "rec2020", guide=guide)[250:350, 200:800, 1] ** 2)
        assert np.std(smooth) < 0.85 * np.std(ev)
    for wave in waves:
        assert gains[wave, wave] == max(gains[wave, name] for name in waves) and gains[wave, wave] > 1.25, gains


def test_bands_are_only_what_is_added() -> None:
    assert all(np.abs(band).max() < 1e-5 for band in added_by_band(np.full((64, 96), -3.0, np.float32)))


def test_haze_is_taken_away_where_it_lies() -> None:
    rng = np.random.default_rng(5)
    true = np.kron(rng.uniform(0.0, 0.35, (40, 60, 3)), np.ones((10, 10, 1)))
    through = np.repeat(np.linspace(0.3, 1.0, 400), 600).reshape(400, 600, 1)
    air = np.array([0.7, 0.75, 0.8])
    seen = true * through + air * (1 - through)
    root = np.sqrt(seen).astype(np.float32)
    guide = guide_of(root, (600, 400))
    np.testing.assert_allclose(guide.air, air, rtol=0.25)
    clear = develop(root, Look(haze=100), SHOT, "rec2020", guide=guide) ** 2
    veiled = develop(root, Look(haze=-60), SHOT, "rec2020", guide=guide) ** 2
    top = np.s_[20:120, 60:540]
    off = [float(np.abs(p[top] - true[top]).mean()) for p in (clear, seen, veiled)]
    assert off[0] < 0.45 * off[1] < off[1] < off[2]


# ---- areas ------------------------------------------------------------------------------------------------------


def _mask(area: Area, light: np.ndarray | None = None, size: tuple[int, int] = (200, 120), level: int = 0) -> np.ndarray:
    width, height = size[0] >> level, size[1] >> level
    return mask_of(area, Site(size, level, (0, 0, width, height)), np.full((height, width, 3), 0.2, np.float32) if light is None else light)


def test_shapes_are_where_they_are_put() -> None:
    graduated = _mask(Area(parts=[Graduated(x0=0, y0=40, x1=0, y1=80)]))
    assert (graduated[:40] == 1).all() and (graduated[80:] == 0).all() and (np.diff(graduated[:, 5]) <= 0).all()
    ellipse = _mask(Area(parts=[Elliptical(x=100, y=60, rx=50, ry=20, angle=90, soft=0)]))
    assert ellipse.sum() == pytest.approx(np.pi * 50 * 20, rel=0.06) and ellipse[15, 100] == 1 and ellipse[60, 60] == 0
    line = BrushedLine(width=20, softness=0, opacity=1, points=[(30, 60), (170, 60)])
    rubbed = line.model_copy(update={"erase": True, "points": [(100, 60)]})
    painted = _mask(Area(parts=[Brushed(lines=[line, rubbed])]))
    assert painted[60, 50] == 1 and painted[60, 100] == 0 and painted[90, 50] == 0


def test_ranges_choose_by_tone_and_hue_and_distance() -> None:
    ramp = np.repeat(np.linspace(0, 1, 200, dtype=np.float32)[None, :, None] ** 2, 120, axis=0) * np.ones(3, np.float32)
    tones = _mask(Area(parts=[ToneRange(low=0.3, high=0.6, soft=0.1)]), ramp)[0]
    level = encode(ramp[0, :, 0].astype(np.float64))
    assert (tones[(level > 0.3) & (level < 0.6)] == 1).all() and (tones[(level < 0.19) | (level > 0.71)] == 0).all()
    hues = np.radians([40, 95, 140])
    colours = from_oklab(np.stack([np.full(3, 0.6), 0.09 * np.cos(hues), 0.09 * np.sin(hues)], axis=-1))
    patches = np.repeat(np.vstack([colours, [[0.3, 0.3, 0.3]]]), 50, axis=0)[None].repeat(120, 0).astype(np.float32)
    green = _mask(Area(parts=[HueRange(hue=140, width=20, soft=40)]), patches)[0]
    assert green[175] < 1e-6 and green[125] == 1 and 0 < green[75] < 1 and green[25] == 0
    far = np.tile(np.linspace(1, 200, 200, dtype=np.float32), (120, 1))
    guide = Guide((200, 120), *(np.zeros((n, 120, 200), np.float32) for n in (3, 3, 2)), np.ones(3, np.float32), far)
    light = np.full((120, 200, 3), 0.2, np.float32)
    beyond = mask_of(Area(parts=[DistanceRange(near=50, soft=1.5)]), Site((200, 120), 0, (0, 0, 200, 120)), light, guide.distance)[0]
    assert (beyond[55:] == 1).all() and (beyond[:30] == 0).all()
    assert _mask(Area(parts=[DistanceRange(near=1)])).max() == 0


@given(st.permutations(["add", "subtract", "intersect"]), st.booleans())
def test_parts_join_as_sets_do(joins: list[str], inside_out: bool) -> None:
    parts = [Elliptical(x=60 + 30 * k, y=60, rx=40, ry=40, soft=0, join="add" if k == 0 else joins[k - 1]) for k in range(4)]
    sets = [_mask(Area(parts=[p.model_copy(update={"join": "add"})])) > 0.5 for p in parts]
    wanted = sets[0]
    for part, one in zip(parts[1:], sets[1:], strict=True):
        wanted = {"add": wanted | one, "subtract": wanted & ~one, "intersect": wanted & one}[part.join]
    found = _mask(Area(parts=parts, invert=inside_out)) > 0.5
    assert (found == (~wanted if inside_out else wanted)).mean() > 0.98


@given(st.floats(8, 60), st.integers(0, 2))
@settings(max_examples=15)
def test_a_feathered_edge_is_as_soft_as_asked_at_any_size(feather: float, level: int) -> None:
    # a sharp half plane softened by a Gaussian is its integral
    area = Area(feather=feather, parts=[Graduated(x0=399.5, y0=0, x1=400.5, y1=0)])
    site = Site((800, 64), level, (0, 0, 800 >> level, 64 >> level))
    mask = mask_of(area, site, np.full((64 >> level, 800 >> level, 3), 0.2, np.float32))[16 >> level]
    x = (np.arange(800 >> level) + 0.5) * (1 << level) - 0.5
    wanted = 0.5 * (1 + np.vectorize(math.erf)((400 - x) / feather / np.sqrt(2)))
    assert np.abs(mask - wanted)[2:-2].max() < 0.08


def test_pieces_of_a_picture_fit_together_under_any_look() -> None:
    root = np.repeat(np.repeat(_root(6, (30, 40)), 8, 0), 8, 1) * 0.9
    guide = guide_of(root, (320, 240))
    areas = [
        Area(parts=[Graduated(x0=0, y0=60, x1=40, y1=180)], exposure=-1, haze=30, contrast=20),
        Area(parts=[ToneRange(low=0.4, high=0.9), Elliptical(x=150, y=120, rx=90, ry=60, join="subtract")], feather=6, warmth=40, relief=60, saturation=30),
    ]
    look = RAW_LOOK.model_copy(update={"areas": areas, "fine": 40, "broad": 50, "haze": 40})
    assert needs_guide(look) and not needs_guide(RAW_LOOK)
    whole = develop(root, look, SHOT, "srgb", guide=guide)
    margin = reaches(look, 0)
    x, y, w, h = 150, 90, 70, 60
    wide = (x - margin, y - margin, w + 2 * margin, h + 2 * margin)
    piece = np.ascontiguousarray(root[wide[1] : wide[1] + wide[3], wide[0] : wide[0] + wide[2]])
    part = develop(piece, look, SHOT, "srgb", Site((320, 240), 0, wide), guide)[margin:-margin, margin:-margin]
    assert np.abs(part - whole[y : y + h, x : x + w]).max() < 0.02


@pytest.mark.parametrize("name, wanted", [("exposure", 1), ("saturation", 1), ("shadows", 1), ("warmth", 1)])
def test_an_area_changes_what_is_inside_and_nothing_else(name: str, wanted: int) -> None:
    root = 0.2 + 0.4 * _root(7, (60, 80))
    area = Area(parts=[Elliptical(x=40, y=30, rx=20, ry=15, soft=0)], **{name: wanted if name == "exposure" else 50})
    after = develop(root, Look(areas=[area]), SHOT, "rec2020")
    outside = _mask(area, size=(80, 60)) == 0
    np.testing.assert_allclose(after[outside], root[outside], atol=2e-5)
    inside = _mask(area, size=(80, 60)) == 1
    if name == "exposure":
        np.testing.assert_allclose(after[inside] ** 2, 2 * root[inside] ** 2, rtol=1e-4)
    elif name == "warmth":
        assert (after - root)[inside][:, 0].mean() > 0.01 and (after - root)[inside][:, 2].mean() < -0.01
    else:
        assert np.abs(after - root)[inside].mean() > 0.005


# ---- groups -----------------------------------------------------------------------------------------------------


def test_groups_are_all_of_a_look_and_carry_only_themselves() -> None:
    names = [name for group in GROUPS.values() for name in group]
    # what is told of merged exposures and of the frame it came from belongs to no part
    assert sorted([*names, "scale_ev", "frame"]) == sorted(Look.model_fields)
    other = Look(exposure=1, saturation=20, kelvin=4000, areas=[Area()])
    mixed = with_groups(RAW_LOOK, other, ["Tone"])
    assert mixed.exposure == 1 and mixed.saturation == RAW_LOOK.saturation and mixed.kelvin == 0 and mixed.contrast == 0 and not mixed.areas


CURVES: list[dict[str, object]] = [{"curve": [(0.5, 0.5)]}, {"curve": [(0.5, 0), (0.5, 1)]}, {"curve": [(0, float("nan")), (1, 1)]}]


@pytest.mark.parametrize("bad", [*CURVES, {"hues": [{"hue": 4}, {"hue": 4}]}, {"hues": [{"hue": 400}]}, {"areas": [{"parts": [{"kind": "square"}]}]}])
def test_looks_that_cannot_be_are_refused(bad: dict) -> None:  # type: ignore[type-arg]
    with pytest.raises(ValidationError):
        Look(**bad)
