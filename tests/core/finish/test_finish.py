"""Geometry, sharpening and grain: what is done to a developed picture last."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from eaveplane.core.finish.finish import finish
from eaveplane.core.finish.geometry import crop_box, cut, cut_part, cut_size, keystone, room_of, runs_together, straightened, to_crop, to_output, turned_size
from eaveplane.core.finish.level import horizon_of, level_of_line, tilt_of, uprights_of
from eaveplane.core.finish.output import Sharpening, grain_field, lay_grain, sharpened, sharpening_for
from eaveplane.core.finish.settings import Crop, Finish, Grain
from eaveplane.imaging.colour import FloatArray
from eaveplane.imaging.placement import through
from eaveplane.imaging.pyramid import Box


def _root(seed: int = 0, height: int = 24, width: int = 32) -> np.ndarray:
    return np.random.default_rng(seed).random((height, width, 3), np.float32)


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
    turned = straightened(picture, Finish(straighten=5.0), (0, 0, 301, 201))
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
    plain = finish(picture.copy(), Finish(), (0, 0, 32, 24), (32, 24))
    np.testing.assert_array_equal(plain, picture)
    cut_ = finish(picture, Finish(crop=Crop(x=0.25, y=0.5, w=0.5, h=0.5)), (0, 0, 32, 24), (8, 6))
    assert cut_.shape == (6, 8, 3)
    with pytest.raises(ValueError, match="ratio"):
        Finish(ratio="0:3")


UPRIGHT = [[], [(20.0, 10.0, 26.0, 80.0), (100.0, 10.0, 92.0, 80.0)]]
CUTS = st.builds(
    lambda x, y, w, h, degrees, lines: Finish(straighten=round(degrees, 1), uprights=lines, crop=Crop(x=x, y=y, w=min(w, 1 - x), h=min(h, 1 - y))),
    *(st.floats(0, 0.4), st.floats(0, 0.4), st.floats(0.4, 1), st.floats(0.4, 1)), st.sampled_from([0.0, 2.5, -7.0]), st.sampled_from(UPRIGHT),
)  # fmt: skip


@given(CUTS, st.sampled_from([1.0, 0.4, 0.77, 1.9]), st.floats(0, 1), st.floats(0, 1))
@settings(max_examples=30)
def test_a_part_of_the_output_is_what_the_whole_has_there(finishing: Finish, scale: float, right: float, down: float) -> None:
    picture, canvas = _root(3, 90, 120), (10, 6, 100, 80)
    x, y, w, h = canvas
    size = tuple(round(v * scale) for v in cut_size(finishing, canvas))
    whole = cut(np.ascontiguousarray(picture[y : y + h, x : x + w]), finishing, canvas, size)
    assert (whole.shape[1], whole.shape[0]) == size
    bw, bh = max(1, size[0] // 2), max(1, size[1] // 2)
    box = (int(right * (size[0] - bw)), int(down * (size[1] - bh)), bw, bh)
    part = cut_part(picture, (0, 0, 120, 90), finishing, canvas, size, box)
    # beyond the canvas there is picture for a part, and its edge repeated for the whole
    rim = round(3 * max(scale, 1)) + (3 if scale > 1 else 0) if finishing.straighten or finishing.uprights else 0
    inner = np.s_[rim : bh - rim, rim : bw - rim]
    np.testing.assert_allclose(part[inner], whole[box[1] : box[1] + bh, box[0] : box[0] + bw][inner], atol=2e-5)
    # and a place of the picture lies where both say
    place = np.linalg.inv(to_output(finishing, canvas, size)) @ [size[0] / 2 - 0.5, size[1] / 2 - 0.5, 1]
    np.testing.assert_allclose((to_crop(finishing, canvas) @ place)[:2], 0, atol=1e-9)


@given(st.floats(-8, 8), st.floats(-8, 8), st.floats(-3, 3))
@settings(max_examples=40)
def test_two_uprights_become_parallel_and_nothing_is_invented(left: float, right: float, degrees: float) -> None:
    canvas: Box = (5, 3, 300, 200)
    lines = [(60.0, 20.0, 60 + left, 180.0), (240.0, 20.0, 240 + right, 180.0)]
    finishing = Finish(straighten=round(degrees, 1), uprights=lines)
    matrix = keystone(lines, canvas)
    for x0, y0, x1, y1 in lines:
        (a, b), (c, d) = through(np.array([[x0, y0], [x1, y1]]), matrix)
        assert abs(c - a) < 1e-6 * max(1, abs(d - b))
    middle = np.array([[5 + 299 / 2, 3 + 199 / 2]])
    np.testing.assert_allclose(through(middle, matrix), middle, atol=1e-9)
    # the corners of what is left come from inside the canvas
    w, h = room_of(finishing, canvas)
    size = cut_size(finishing, canvas)
    assert size == (w, h)
    corners = np.array([[0, 0], [w - 1, 0], [0, h - 1], [w - 1, h - 1]], np.float64)
    source = through(corners, np.linalg.inv(to_output(finishing, canvas, size)))
    assert (source >= [5 - 1, 3 - 1]).all() and (source <= [305, 203]).all()


def test_uprights_that_run_together_too_fast_are_refused() -> None:
    for lines in ([(0, 0, 100, 100), (200, 0, 110, 100)], [(0, 50, 100, 52), (0, 90, 100, 95)], [(5, 5, 5, 5), (9, 9, 9, 9)], [(10, 0, 12, 90)]):
        assert not runs_together(lines, (0, 0, 200, 150))
        np.testing.assert_array_equal(keystone(lines, (0, 0, 200, 150)), np.eye(3))


# ---- level ----------------------------------------------------------------------------------------------------


@given(st.floats(-80, 80), st.floats(5, 400), st.booleans())
def test_a_line_that_is_drawn_becomes_level_or_upright(degrees: float, length: float, backwards: bool) -> None:
    dx, dy = length * math.cos(math.radians(degrees)), length * math.sin(math.radians(degrees))
    turn = level_of_line(*((dx, dy, 0, 0) if backwards else (0, 0, dx, dy)))
    after = (degrees + turn) % 90
    assert min(after, 90 - after) < 1e-6 and abs(turn) <= 45 + 1e-6


@given(st.floats(-4, 4), st.integers(0, 2**31))
@settings(max_examples=12, deadline=None)
def test_the_horizon_is_found(tilt: float, seed: int) -> None:
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[:400, :600].astype(np.float32)
    ground = np.clip(y - 150 - np.tan(np.radians(tilt)) * (x - 299.5) + 0.5, 0, 1)
    picture = 0.6 - 0.25 * ground + 0.05 * np.sin(x / 40 + y / 90) + 0.02 * rng.standard_normal((400, 600))
    # stones stand before it and clutter the ground
    for _ in range(25):
        px, py = rng.integers(0, 560), rng.integers(160, 380)
        picture[py : py + rng.integers(5, 20), px : px + rng.integers(10, 40)] = rng.uniform(0.1, 0.7)
    found = horizon_of(picture.astype(np.float32))
    assert found is not None and abs(found.tilt - tilt) <= 0.1
    ((x0, y0, x1, y1),) = found.lines
    assert y0 < y1 if tilt > 0.2 else y0 > y1 if tilt < -0.2 else (x0, x1) == (0, 1)


def _posts(leans: FloatArray, together: float, rng: np.random.Generator) -> FloatArray:
    """Posts (600, 800) that lean by degrees, and run together by as many from side to side."""
    picture = 0.5 + 0.02 * rng.standard_normal((600, 800))
    y, x = np.mgrid[:600, :800].astype(np.float32)
    for k, lean in enumerate(leans):
        foot = (k + rng.uniform(0.25, 0.75)) * 800 / len(leans)
        above, below, wide = rng.uniform(80, 220), rng.uniform(360, 560), rng.uniform(6, 20)
        middle = foot + np.tan(np.radians(lean + together * (foot / 800 - 0.5))) * (y - (above + below) / 2)
        inside = np.clip(wide / 2 - np.abs(x - middle) + 0.5, 0, 1) * ((y > above) & (y < below))
        picture = picture * (1 - inside) + inside * rng.choice([0.12, 0.85])
    return picture.astype(np.float32)


@given(st.floats(-6, 6), st.floats(-6, 6), st.integers(0, 2**31))
@settings(max_examples=12, deadline=None)
def test_what_stands_upright_tells_the_level_where_there_is_no_horizon(tilt: float, together: float, seed: int) -> None:
    rng = np.random.default_rng(seed)
    found = uprights_of(_posts(-tilt + rng.normal(0, 0.04, 8), together, rng))
    assert found is not None and abs(found.tilt - tilt) <= 0.15
    # its lines lie on the posts: they lean as these do
    for x0, y0, x1, y1 in found.lines:
        lean = math.degrees(math.atan2((x1 - x0) * 800, (y1 - y0) * 600))
        assert y1 > y0 and abs(lean + tilt - together * ((x0 + x1) / 2 - 0.5)) < 0.5


@given(st.integers(0, 2**31))
@settings(max_examples=12, deadline=None)
def test_what_grows_as_it_likes_tells_nothing(seed: int) -> None:
    rng = np.random.default_rng(seed)
    assert uprights_of(_posts(rng.permutation(np.linspace(-6, 6, 12)), 0, rng)) is None


def test_where_nothing_is_level_nothing_is_claimed() -> None:
    rng = np.random.default_rng(5)
    assert tilt_of(rng.random((300, 400), np.float32)) is None
    assert tilt_of(np.full((300, 400), 0.5, np.float32)) is None
    assert tilt_of(np.zeros((20, 30), np.float32)) is None
    # one thing alone, however straight; several do where there is no horizon
    assert tilt_of(_posts(np.array([1.0]), 0, rng)) is None
    found = tilt_of(_posts(np.full(8, 2.0), 0, rng))
    assert found is not None and found.by == "what stands upright"


# ---- sharpening, grain ------------------------------------------------------------------------------------------


def test_sharpening_steepens_edges_and_spares_noise() -> None:
    edge = np.repeat(np.concatenate([np.full(20, 0.3), 0.5 + 0.2 * np.tanh(np.linspace(-2.5, 2.5, 9)), np.full(20, 0.7)])[None, :], 30, axis=0).astype(np.float32)
    picture = np.repeat(edge[..., None], 3, axis=2)
    out = sharpened(picture.copy(), Sharpening(100, 1.0, 20))
    assert np.diff(out[15, :, 0]).max() > 1.15 * np.diff(edge[15]).max()
    np.testing.assert_allclose(out[:, :10], picture[:, :10], atol=1e-4)
    noise = (0.5 + 0.002 * np.random.default_rng(2).standard_normal((60, 60, 1)) * np.ones(3)).astype(np.float32)
    spared, not_spared = (np.std(sharpened(noise.copy(), Sharpening(100, 0.8, spare))) for spare in (60, 0))
    assert spared < 1.15 * np.std(noise) < not_spared


@given(st.floats(20, 200), st.floats(0.4, 3), st.floats(0.05, 0.6))
@settings(max_examples=25)
def test_sharpening_leaves_no_rim_and_no_other_colour(amount: float, radius: float, step: float) -> None:
    picture = np.full((40, 60, 3), 0.35, np.float32) * np.array([1.0, 0.8, 0.5], np.float32)
    picture[:, 30:] *= (0.35 + step) / 0.35
    out = sharpened(picture.copy(), Sharpening(amount, radius, 0))
    low, high = picture[0, 0, 0], picture[0, -1, 0]
    room = 0.12 * amount / 100 * (high - low) * 1.1 + 1e-4
    assert out[..., 0].min() >= low - room and out[..., 0].max() <= high + room
    np.testing.assert_allclose(out[..., 1] / out[..., 0], 0.8, rtol=1e-4)


def test_sharpening_goes_by_what_it_is_for() -> None:
    paper = Finish(sharpen_for="paper", sharpen=100)
    # looked at from farther away more is needed, and the same picture smaller on paper needs less of its pixels
    assert sharpening_for(paper.model_copy(update={"seen_from": 150.0}), 6000).radius > sharpening_for(paper, 6000).radius
    assert sharpening_for(paper, 3000).radius < sharpening_for(paper, 6000).radius
    assert sharpening_for(Finish(sharpen_for="screen", sharpen=50), 2000).amount == 30
    assert sharpening_for(Finish(sharpen=70, radius=1.2), 2000) == (70, 1.2, 20)


@given(st.floats(2, 6) | st.floats(0.05, 0.6))
@settings(max_examples=15, deadline=None)
def test_grain_has_the_spectrum_of_its_width(width: float) -> None:
    field = grain_field(width, (0, 0, 512, 512))
    assert abs(field.mean()) < 0.06 and field.std() == pytest.approx(1, abs=0.06)
    power = np.abs(np.fft.fft2(field)) ** 2 / field.size
    across = np.fft.fftfreq(512)
    frequency = np.hypot(across[:, None], across[None, :])
    sigma = width / 2.3548
    seen = np.sinc(across[:, None]) * np.sinc(across[None, :])
    expected = np.exp(-4 * np.pi**2 * sigma**2 * frequency**2) * seen**2 if sigma >= 0.3 else np.ones_like(frequency)
    expected /= expected.mean()
    for low, high in ((0.01, 0.05), (0.05, 0.1), (0.1, 0.2)):
        ring = (frequency >= low) & (frequency < high)
        if expected[ring].mean() > 0.02:
            assert power[ring].mean() == pytest.approx(expected[ring].mean(), rel=0.2)


def test_grain_is_the_same_in_every_piece_and_keeps_colour() -> None:
    whole = grain_field(2.0, (0, 0, 300, 200))
    np.testing.assert_allclose(grain_field(2.0, (110, 70, 64, 50)), whole[70:120, 110:174], atol=1e-5)
    picture = np.full((200, 300, 3), 0.5, np.float32) * np.array([1.0, 0.7, 0.4], np.float32)
    grained, none = picture.copy(), picture.copy()
    lay_grain(grained, Grain(strength=100), 2.0)
    lay_grain(none, Grain(), 2.0)
    np.testing.assert_array_equal(none, picture)
    assert 0.02 < grained[..., 0].std() < 0.1
    np.testing.assert_allclose(grained[..., 1] / grained[..., 0], 0.7, rtol=1e-4)
    white = np.ones((50, 50, 3), np.float32)
    lay_grain(white, Grain(strength=100), 2.0)
    np.testing.assert_allclose(white, 1, atol=1e-5)
