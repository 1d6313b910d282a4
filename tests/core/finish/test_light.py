"""Light and air on a developed picture, against closed forms: painted maps, air, glow, fine detail, vignette."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from eaveplane.core.depth.order import DepthOrder, order_of
from eaveplane.core.finish.air import curve, light_of_distance
from eaveplane.core.finish.finish import Known, changes_light, known_of, lay_light, rendition, whole_of
from eaveplane.core.finish.maps import coverage_of
from eaveplane.core.finish.settings import PARTS, Air, AirAt, Crop, FineDetail, Finish, Glow, Kind, PaintedMap, Vignette
from eaveplane.core.masks.parts import BrushedLine, Site
from eaveplane.imaging.colour import LUMA, SRGB_FROM_WORK, WORK_FROM_SRGB
from eaveplane.imaging.oklab import oklab
from eaveplane.imaging.pyramid import Box

SIZE = (96, 64)
ALL = Site(SIZE, 0, (0, 0, *SIZE))
CANVAS: Box = (0, 0, *SIZE)
OVER_ALL = [BrushedLine(width=400, softness=0, opacity=1, points=[(48, 32)])]


def _picture(seed: int = 0, most: float = 1.0) -> np.ndarray:
    """Any colours that a screen can show, as square roots of working light."""
    light = np.random.default_rng(seed).random((SIZE[1], SIZE[0], 3), np.float32) * most
    return np.sqrt(np.maximum(light @ WORK_FROM_SRGB.T.astype(np.float32), 0)).astype(np.float32)


def _lit(picture: np.ndarray, finish: Finish, known: Known | None = None, site: Site = ALL) -> np.ndarray:
    out = picture.copy()
    lay_light(out, picture, finish, site, known or Known(), CANVAS, SRGB_FROM_WORK)
    return out


def _map(kind: Kind, strength: float = 100, **more: object) -> Finish:
    return Finish(light=[PaintedMap.model_validate({"kind": kind, "strength": strength, "lines": OVER_ALL, **more})])


def _light(root: np.ndarray) -> np.ndarray:
    return np.asarray(root * np.abs(root), np.float64)


def _hue(root: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    lab = oklab(_light(root))
    return np.arctan2(lab[..., 2], lab[..., 1]), np.hypot(lab[..., 1], lab[..., 2])


# ---- nothing is nothing -----------------------------------------------------------------------------------------


def test_everything_at_zero_changes_nothing() -> None:
    picture = _picture()
    assert not changes_light(Finish()) and Finish().in_use() == []
    np.testing.assert_array_equal(_lit(picture, Finish()), picture)
    for nothing in (_map("lighter", 0), _map("richer", 0), _map("lighter", on=False), Finish(glow=Glow(radius=4, tint=50)), Finish(vignette=Vignette(middle=10, keep=40))):
        assert not changes_light(nothing)
        np.testing.assert_array_equal(_lit(picture, nothing), picture)


def test_parts_can_be_switched_off() -> None:
    full = Finish(light=_map("darker").light, glow=Glow(strength=40), vignette=Vignette(strength=-30), detail=FineDetail(strength=20), straighten=2)
    assert full.in_use() == ["light", "glow", "detail", "vignette", "crop"]
    off = full.model_copy(update={"off": ["light", "glow", "detail", "vignette"]})
    assert off.shown().light == [] and off.shown().straighten == 2 and off.light == full.light
    np.testing.assert_array_equal(_lit(_picture(), off.shown()), _picture())
    assert full.without("all").in_use() == ["crop"] and set(PARTS) >= set(full.in_use()) - {"crop"}


@given(st.integers(0, 40), st.integers(0, 30), st.integers(24, 56), st.integers(20, 34), st.integers(0, 1))
@settings(max_examples=12, deadline=None)
def test_pieces_agree_with_the_whole(x: int, y: int, w: int, h: int, feathered: int) -> None:
    lines = [BrushedLine(width=30, softness=0.6, opacity=0.8, points=[(20, 20), (60, 40)]), BrushedLine(width=10, softness=0.5, opacity=1, erase=True, points=[(30, 30)])]
    finish = Finish(
        light=[PaintedMap(kind="lighter", lines=lines, low=0.3, feather=4.0 * feathered), PaintedMap(kind="warmer", lines=lines, near=0.3)],
        air=Air(far=AirAt(haze=50, contrast=-30)), glow=Glow(strength=30), detail=FineDetail(strength=40, size=3), vignette=Vignette(strength=-40, keep=20),
    )  # fmt: skip
    picture = _picture(4)
    gates = np.random.default_rng(1).random((3, 16, 24), np.float32)
    known = known_of(finish, whole_of(picture, picture, order_of(gates, picture), ALL))
    whole = _lit(picture, finish, known)
    reach = 14
    x0, y0, x1, y1 = max(0, x - reach), max(0, y - reach), min(SIZE[0], x + w + reach), min(SIZE[1], y + h + reach)
    piece = np.ascontiguousarray(picture[y0:y1, x0:x1])
    out = piece.copy()
    lay_light(out, piece, finish, Site(SIZE, 0, (x0, y0, x1 - x0, y1 - y0)), known, CANVAS, SRGB_FROM_WORK)
    # a feathered map is drawn on a coarse grid, whose phase a piece may shift
    np.testing.assert_allclose(out[y - y0 : y - y0 + h, x - x0 : x - x0 + w], whole[y : y + h, x : x + w], atol=0.02 if feathered else 2e-5)


# ---- painted light ------------------------------------------------------------------------------------------------


@given(st.integers(0, 1000), st.floats(5, 100))
@settings(max_examples=20, deadline=None)
def test_lighter_and_darker_keep_hue_and_neither_grey_nor_burn(seed: int, strength: float) -> None:
    picture = _picture(seed)
    before, chroma = _hue(picture)
    for kind in ("lighter", "darker"):
        out = _lit(picture, _map(kind, strength))  # type: ignore[arg-type]
        ratio = _light(out) / np.maximum(_light(picture), 1e-9)
        coloured = picture.min(axis=2) > 0.05
        # all channels by one factor: hue and strength of colour stay
        assert np.ptp(ratio[coloured], axis=1).max() < 2e-3
        hue, after = _hue(out)
        apart = (hue - before + np.pi) % (2 * np.pi) - np.pi
        assert np.abs(apart[coloured & (chroma > 0.02)]).max() < 0.01
        shown = _light(out) @ SRGB_FROM_WORK.T
        assert shown.max() <= 1.0005
        if kind == "darker":
            np.testing.assert_allclose(ratio[coloured], 2.0 ** (-strength / 100), rtol=2e-3)
        else:
            assert (ratio[coloured] >= 0.999).all() and ratio[coloured].max() <= 2.0 ** (strength / 100) + 1e-3
        assert after.shape == chroma.shape


def test_richer_strengthens_colours_without_burning_them() -> None:
    picture = _picture(2, 0.7)
    hue, chroma = _hue(picture)
    out = _lit(picture, _map("richer", 40))
    hue_after, chroma_after = _hue(out)
    moderate = (chroma > 0.03) & (chroma < 0.08)
    assert np.median(chroma_after[moderate] / chroma[moderate]) == pytest.approx(1.4, abs=0.05)
    assert np.abs((hue_after - hue + np.pi) % (2 * np.pi) - np.pi)[moderate].max() < 0.02
    assert (_light(out) @ SRGB_FROM_WORK.T).max() < 1.02 and (_light(out) @ SRGB_FROM_WORK.T).min() > -0.02


def test_warmer_changes_the_light_and_not_its_brightness() -> None:
    grey = np.full((SIZE[1], SIZE[0], 3), 0.6, np.float32)
    out = _light(_lit(grey, _map("warmer", 60)))
    assert (out[..., 0] > out[..., 1]).all() and (out[..., 1] > out[..., 2]).all()
    np.testing.assert_allclose(out @ LUMA, 0.36, rtol=1e-3)


def test_a_map_is_bound_to_tones_and_to_near_and_far() -> None:
    ramp = np.repeat(np.linspace(0, 1, SIZE[0], dtype=np.float32)[None, :, None], SIZE[1], axis=0).repeat(3, axis=2)
    order = np.repeat(np.linspace(0, 1, SIZE[1], dtype=np.float32)[:, None], SIZE[0], axis=1)
    lights = coverage_of(PaintedMap(lines=OVER_ALL, low=0.7, soft=0.1), ALL, ramp * ramp, order)
    assert lights[:, :40].max() < 1e-3 and lights[:, -1].min() > 0.99
    near = coverage_of(PaintedMap(lines=OVER_ALL, far=0.4, soft=0.1), ALL, ramp * ramp, order)
    assert near[:20].min() > 0.99 and near[-20:].max() < 1e-3
    # where nothing is known of depth the bound has no meaning
    np.testing.assert_allclose(coverage_of(PaintedMap(lines=OVER_ALL, far=0.4), ALL, ramp * ramp, None), 1, atol=1e-6)
    rubbed = PaintedMap(lines=[*OVER_ALL, BrushedLine(width=30, softness=0, opacity=1, erase=True, points=[(48, 32)])])
    assert coverage_of(rubbed, ALL, ramp, None)[32, 48] == 0
    # one that only rubs out, or has no lines, does nothing
    assert not PaintedMap(lines=[rubbed.lines[1]]).acts and not PaintedMap().acts


@given(st.floats(-30, 30), st.floats(-20, 20), st.floats(0.7, 1.4))
@settings(max_examples=20, deadline=None)
def test_a_map_stays_on_its_thing_when_the_reference_changes(right: float, down: float, scale: float) -> None:
    map_ = PaintedMap(lines=[BrushedLine(width=24, softness=0.5, opacity=0.9, points=[(40, 30), (55, 35)])], feather=2)

    def carry(points: np.ndarray) -> np.ndarray:
        return np.asarray(points * scale + [right, down])

    finish = Finish(light=[map_], crop=Crop(x=0.2, y=0.2, w=0.5, h=0.5)).moved(carry, CANVAS, CANVAS)
    light = np.full((64, 96, 3), 0.3, np.float32)
    before, after = (coverage_of(m, ALL, light, None) for m in (map_, finish.light[0]))
    for x, y in ((40, 30), (48, 33), (55, 35), (40, 40)):
        u, v = (x * scale + right, y * scale + down)
        # a mask is softened from what lies in the picture: near its rim it is another
        if 10 < u < 85 and 10 < v < 53:
            there = cv2.getRectSubPix(np.ascontiguousarray(after), (1, 1), (u, v))[0, 0]
            assert there == pytest.approx(before[y, x], abs=0.09)


# ---- air ----------------------------------------------------------------------------------------------------------


@given(st.lists(st.integers(-100, 100), min_size=3, max_size=3), st.floats(0.1, 0.9))
def test_the_air_passes_through_its_handles_and_never_beyond_them(values: list[int], at: float) -> None:
    near, middle, far = values
    air = Air(near=AirAt(haze=near), middle=AirAt(haze=middle), far=AirAt(haze=far), at=at)
    along = curve(air, "haze", np.linspace(0, 1, 101))
    np.testing.assert_allclose(curve(air, "haze", np.array([0, at, 1])), values, atol=1e-6)
    assert along.min() >= min(values) - 1e-6 and along.max() <= max(values) + 1e-6


def _branch(wide: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """A dark near branch before a pale far ground: picture, label weights that run over its edge, and where it is."""
    w, h = 400, 240
    there = np.zeros((h, w), np.float32)
    there[:, 180 : 180 + wide] = 1
    soft = cv2.GaussianBlur(there, (0, 0), 0.7)
    light = 0.03 * np.array([1.0, 0.8, 0.6]) * soft[..., None] + np.array([0.4, 0.45, 0.55]) * (1 - soft[..., None])
    # labels know it in cells of four, and two cells too wide
    near = cv2.dilate(cv2.resize(there, (w // 4, h // 4), interpolation=cv2.INTER_AREA), np.ones((5, 5), np.uint8))
    near = cv2.GaussianBlur(np.clip(near, 0, 1), (0, 0), 1)
    return np.sqrt(light).astype(np.float32), np.stack([near, 1 - near]).astype(np.float32), there


@pytest.mark.parametrize("wide", [8, 40])
@pytest.mark.parametrize("far", [AirAt(haze=70, contrast=-40, saturation=-30), AirAt(haze=-60, contrast=30, darks=-40), AirAt(warmth=-60, darks=50)])
def test_no_rim_stands_beside_a_depth_edge(wide: int, far: AirAt) -> None:
    picture, gates, _ = _branch(wide)
    size = (picture.shape[1], picture.shape[0])
    site = Site(size, 0, (0, 0, *size))
    finish = Finish(air=Air(far=far))
    known = known_of(finish, whole_of(picture, picture, order_of(gates, picture), site))
    out = picture.copy()
    lay_light(out, picture, finish, site, known, (0, 0, *size), SRGB_FROM_WORK)
    middle = 180 + wide // 2
    sides = np.stack([out[:, 20], out[:, middle]])
    low, high = sides.min(axis=(0, 1)), sides.max(axis=(0, 1))
    beside = out[:, 160 : 200 + wide]
    assert (beside >= low - 0.02).all() and (beside <= high + 0.02).all()
    # and the far ground is changed right up to the branch
    whole = np.abs(out[120, 20] - picture[120, 20]).max()
    assert np.abs(out[120, 172] - picture[120, 172]).max() > 0.8 * whole > 0.01


def test_depth_is_followed_to_the_edges_of_the_picture() -> None:
    picture, gates, there = _branch(40)
    size = (picture.shape[1], picture.shape[0])
    order = order_of(gates, picture)
    found = order.at(Site(size, 0, (0, 0, *size)), picture)
    wrong = np.abs(found - (1 - there))
    # labels alone are two cells, eight pixels, too wide on both sides
    assert wrong[:, 160:240].mean() < 0.06 and wrong[:, :150].max() < 0.05
    # any piece of it is told the same, and so is a smaller size
    part = order.at(Site(size, 0, (100, 60, 150, 80)), np.ascontiguousarray(picture[60:140, 100:250]))
    np.testing.assert_allclose(part, found[60:140, 100:250], atol=1e-5)
    assert isinstance(order, DepthOrder) and order_of(np.ones((1, 10, 10), np.float32), picture).at(Site(size, 0, (0, 0, *size)), picture).max() <= 1


def test_haze_has_the_light_of_the_distance() -> None:
    light = np.full((60, 80, 3), 0.05, np.float32)
    light[:20] = [0.5, 0.55, 0.7]
    order = np.repeat(np.linspace(1, 0, 60, dtype=np.float32)[:, None], 80, axis=1)
    haze = light_of_distance(light, order)
    assert haze[2] > haze[0] > 0.4


# ---- glow, detail, vignette ---------------------------------------------------------------------------------------


@given(st.integers(0, 100), st.floats(10, 100), st.floats(0.5, 6))
@settings(max_examples=15, deadline=None)
def test_glow_neither_makes_nor_loses_light(seed: int, strength: float, radius: float) -> None:
    picture = _picture(seed)
    finish = Finish(glow=Glow(strength=strength, radius=radius, above=40))
    known = known_of(finish, whole_of(picture, picture, None, ALL))
    out = _lit(picture, finish, known)
    before, after = _light(picture).sum(axis=(0, 1)), _light(out).sum(axis=(0, 1))
    np.testing.assert_allclose(after, before, rtol=3e-3)
    # a tint moves it between channels and keeps luminance
    tinted = finish.model_copy(update={"glow": finish.glow.model_copy(update={"tint": 80.0})})
    grey = np.sqrt(np.repeat((_light(picture) @ LUMA)[..., None], 3, axis=2)).astype(np.float32)
    coloured = _light(_lit(grey, tinted, known_of(tinted, whole_of(grey, grey, None, ALL))))
    assert (coloured @ LUMA).sum() == pytest.approx((_light(grey) @ LUMA).sum(), rel=3e-3)
    assert coloured[..., 0].sum() > coloured[..., 2].sum()


def test_a_point_of_light_glows_as_a_gaussian() -> None:
    picture = np.full((201, 201, 3), 0.1, np.float32)
    picture[98:103, 98:103] = 1.0
    size = (201, 201)
    site, finish = Site(size, 0, (0, 0, *size)), Finish(glow=Glow(strength=80, radius=5, above=50))
    out = picture.copy()
    lay_light(out, picture, finish, site, known_of(finish, whole_of(picture, picture, None, site)), (0, 0, *size), SRGB_FROM_WORK)
    sigma = 0.05 * 201
    profile = _light(out)[100, 100:180, 0] - 0.01
    expected = 0.8 * 25 / (2 * np.pi * sigma**2) * np.exp(-0.5 * (np.arange(80) / sigma) ** 2)
    np.testing.assert_allclose(profile[8:30], expected[8:30], rtol=0.08)


def test_glow_is_where_it_was_painted() -> None:
    picture = _picture(3)
    lines = [BrushedLine(width=30, softness=0, opacity=1, points=[(20, 32)])]
    finish = Finish(glow=Glow(strength=80, radius=0.5), light=[PaintedMap(kind="glow", strength=100, lines=lines)])
    out = _lit(picture, finish, known_of(finish, whole_of(picture, picture, None, ALL)))
    assert np.abs(out[:, 60:] - picture[:, 60:]).max() < 1e-3 < np.abs(out[20:44, 8:32] - picture[20:44, 8:32]).max()


def test_fine_detail_grows_without_rims() -> None:
    x = np.arange(160)
    edge = np.where(x < 80, 0.1, 0.5)
    fine = edge * (1 + 0.05 * np.sin(x * 2 * np.pi / 5))
    picture = np.sqrt(np.repeat(np.repeat(fine[None, :, None], 60, axis=0), 3, axis=2)).astype(np.float32)
    size = (160, 60)
    site = Site(size, 0, (0, 0, *size))
    out = picture.copy()
    lay_light(out, picture, Finish(detail=FineDetail(strength=100)), site, Known(), (0, 0, *size), SRGB_FROM_WORK)
    before, after = _light(picture)[30, :, 0], _light(out)[30, :, 0]
    assert np.std(after[20:60]) > 1.5 * np.std(before[20:60])
    # beside the edge nothing passes what waves alone do
    assert after[60:79].min() > after[20:60].min() - 0.02 * 0.1 and after[81:100].max() < after[100:140].max() * 1.045
    smooth = np.sqrt(np.repeat(np.repeat(edge[None, :, None], 60, axis=0), 3, axis=2)).astype(np.float32)
    plain = smooth.copy()
    lay_light(plain, smooth, Finish(detail=FineDetail(strength=100)), site, Known(), (0, 0, *size), SRGB_FROM_WORK)
    assert np.abs(plain / smooth - 1).max() < 0.025
    less = picture.copy()
    lay_light(less, picture, Finish(detail=FineDetail(strength=-100)), site, Known(), (0, 0, *size), SRGB_FROM_WORK)
    assert np.std(_light(less)[30, 20:60, 0]) < 0.7 * np.std(before[20:60])


@given(st.floats(-100, 100), st.floats(0, 90), st.floats(10, 100), st.sampled_from([-100.0, 0.0, 100.0]))
@settings(max_examples=30)
def test_a_vignette_follows_its_radial_profile(strength: float, middle: float, feather: float, roundness: float) -> None:
    w, h = 120, 80
    grey, site = np.full((h, w, 3), 0.5, np.float32), Site((w, h), 0, (0, 0, w, h))
    crop = Crop(x=0.25, y=0.0, w=0.5, h=1.0)
    finish = Finish(vignette=Vignette(strength=strength, middle=middle, feather=feather, roundness=roundness), crop=crop)
    out = grey.copy()
    lay_light(out, grey, finish, site, Known(), (0, 0, w, h), SRGB_FROM_WORK)
    u, v = (np.arange(w)[None, :] + 0.5 - 60) / 30, (np.arange(h)[:, None] + 0.5 - 40) / 40
    if roundness > 0:
        scale = np.sqrt(30**2 + 40**2) / np.sqrt(2)
        r = np.hypot(u * 30, v * 40) / scale
    else:
        n = 8.0 if roundness < 0 else 2.0
        r = (np.abs(u) ** n + np.abs(v) ** n) ** (1 / n)
    r = r / 2 ** (1 / (8.0 if roundness < 0 else 2.0))
    begins, ends = middle / 100, middle / 100 + (1 - middle / 100) * feather / 100
    t = np.clip((r - begins) / (ends - begins), 0, 1)
    expected = 2.0 ** (2 * strength / 100 * t * t * (3 - 2 * t))
    np.testing.assert_allclose(_light(out)[..., 0] / 0.25, expected, rtol=2e-3)


def test_a_vignette_keeps_lights() -> None:
    picture = np.full((80, 120, 3), 0.3, np.float32)
    picture[:, :10] = 1.0
    site = Site((120, 80), 0, (0, 0, 120, 80))
    out = picture.copy()
    lay_light(out, picture, Finish(vignette=Vignette(strength=-80, middle=0, keep=100)), site, Known(), (0, 0, 120, 80), SRGB_FROM_WORK)
    np.testing.assert_allclose(out[:, :10], 1, atol=1e-4)
    assert out[0, -1, 0] < 0.2


def test_the_whole_is_told_from_a_small_rendition() -> None:
    level, small = rendition(np.zeros((1500, 2300, 3), np.float32))
    assert level == 2 and small.shape == (375, 575, 3)
    assert rendition(small)[0] == 0
