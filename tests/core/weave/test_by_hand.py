"""Masks made by hand: hidden, whole, given; and strokes that stop at edges."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from eaveplane.core.masks.strokes import Stroke
from eaveplane.core.weave.edges import cover_of
from eaveplane.core.weave.laid import HandMask, RegisteredFrames, Weaving
from eaveplane.core.weave.span import Span, limits_of
from eaveplane.core.weave.weave import found_in, masks_in, repaint, weave_box
from eaveplane.imaging.brush import draw_line
from eaveplane.imaging.placement import Placement
from tests.core.weave.test_weave import SIZE, _scene

BOX = (0, 0, *SIZE)
INNER = np.s_[20:-20, 20:-20]


def _with(by_hand: dict[int, HandMask]) -> tuple[RegisteredFrames, np.ndarray]:
    """The scene, its gates as sharp zones among the other frames would be found."""
    laid, gates = _scene()
    found = [k for k in range(3) if k not in by_hand]
    gates[list(by_hand)] = 0
    if found:
        gates[found] += np.where(gates.sum(axis=0) == 0, 1 / len(found), 0)
    return replace(laid, by_hand=by_hand), np.asarray(gates, np.float32)


@pytest.mark.parametrize("way", ["crisp-seams", "fine-tangle", "gentle"])
def test_a_hidden_frame_gives_nothing_until_it_is_painted_in(way: str) -> None:
    laid, gates = _with({0: HandMask()})
    weaving = Weaving(way=way)  # type: ignore[arg-type]
    picture, masks = weave_box(laid, gates, weaving, [], BOX, 0)
    assert masks.get(0, np.zeros(1)).max() == 0
    np.testing.assert_allclose(sum(masks.values()), 1, atol=1e-4)
    # as if it had been left out
    others = replace(laid.alone)
    np.testing.assert_allclose(picture, weave_box(others, gates[[1, 2]], weaving, [], BOX, 0)[0], atol=1e-6)
    painted, masks = weave_box(laid, gates, weaving, [Stroke(action="in", frame="f0", width=80, softness=0.2, opacity=1, points=[(160, 40)])], BOX, 0)
    assert masks[0][40, 160] == pytest.approx(1, abs=1e-3) and masks[0][150, 160] == 0
    np.testing.assert_allclose(painted[30:50, 150:170], laid.read(0, 0, (150, 30, 20, 20)), atol=2e-3)
    np.testing.assert_allclose(painted[120:], picture[120:], atol=1e-6)


def test_all_hidden_shows_the_reference_and_what_is_painted_in() -> None:
    laid, gates = _with({k: HandMask() for k in range(3)})
    picture, masks = weave_box(laid, gates, Weaving(), [], BOX, 0)
    np.testing.assert_allclose(picture, laid.read(1, 0, BOX), atol=1e-6)
    assert masks[1].min() == 1
    strokes = [Stroke(action="in", frame="f0", width=60, softness=0.3, opacity=1, points=[(160, 40)]), Stroke(action="out", frame="f0", width=20, softness=0.3, opacity=1, points=[(160, 40)])]
    masks = weave_box(laid, gates, Weaving(), strokes[:1], BOX, 0)[1]
    assert masks[0][40, 160] == pytest.approx(1, abs=1e-3)
    masks = weave_box(laid, gates, Weaving(), strokes, BOX, 0)[1]
    assert masks[0][40, 160] < 0.01
    np.testing.assert_allclose(sum(masks.values()), 1, atol=1e-4)


def test_a_whole_frame_stands_wherever_it_reaches() -> None:
    laid, gates = _with({2: HandMask(1.0)})
    picture, masks = weave_box(laid, gates, Weaving(), [], BOX, 0)
    reach = laid.covers(2, 0, BOX)
    assert masks[2][reach].min() > 0.999 and masks[2][~reach].max() < 0.001
    np.testing.assert_allclose(picture[INNER], laid.read(2, 0, BOX)[INNER], atol=1e-4)
    # over the same weave as it lies in the cache, without it
    stored = found_in(laid, gates, Weaving(), BOX, 0)[0]
    assert np.abs(stored - picture)[INNER].max() > 0.1
    repaint(stored, laid, gates, Weaving(), [], BOX, 0)
    np.testing.assert_allclose(stored, picture, atol=1e-6)


@given(st.integers(0, 2**32 - 1))
@settings(max_examples=15)
def test_given_masks_stand_as_they_are(seed: int) -> None:
    rng = np.random.default_rng(seed)
    shares = np.kron(rng.dirichlet([0.5] * 3, (6, 8)), np.ones((40, 40, 1))).astype(np.float32)
    readers = {k: HandMask(read=lambda level, box, k=k: shares[box[1] : box[1] + box[3], box[0] : box[0] + box[2], k]) for k in range(3)}  # type: ignore[misc]
    still, gates = _with(readers)
    laid = replace(still, placements=[Placement(np.eye(3), SIZE)] * 3)
    masks = masks_in(laid, gates, Weaving(), [], BOX, 0)
    for k in range(3):
        np.testing.assert_allclose(masks[k], shares[..., k], atol=1e-6)
    some, gates = _with({1: readers[1]})
    masks = masks_in(some, gates, Weaving(), [], BOX, 0)
    np.testing.assert_allclose(masks[1][INNER], shares[..., 1][INNER], atol=1e-6)
    np.testing.assert_allclose(sum(masks.values()), 1, atol=1e-4)


def test_what_no_other_frame_reaches_is_the_hidden_references() -> None:
    laid, gates = _with({1: HandMask()})
    beside = replace(laid, placements=[Placement(np.array([[1, 0, 40.0], [0, 1, 0], [0, 0, 1]]), SIZE), Placement(np.eye(3), SIZE), Placement(np.array([[1, 0, 40.0], [0, 1, 0], [0, 0, 1]]), SIZE)])
    picture, masks = weave_box(beside, gates, Weaving(), [], BOX, 0)
    np.testing.assert_allclose(picture[:, :24], beside.read(1, 0, BOX)[:, :24], atol=1e-6)
    assert masks[1][:, :40].min() == 1 and masks[1][:, 41:].max() == 0


def _two_things() -> RegisteredFrames:
    """A green leaf with an uneven, bright vein, before a blue sky."""
    rng = np.random.default_rng(4)
    light = np.empty((240, 320, 3), np.float32)
    light[:] = (0.10, 0.22, 0.60)
    leaf = np.hypot(np.arange(320)[None] - 160, (np.arange(240)[:, None] - 120) * 1.6) < 90
    light[leaf] = (0.12, 0.30, 0.05)
    light[leaf] *= rng.uniform(0.8, 1.2, (int(leaf.sum()), 1)).astype(np.float32)
    root = np.sqrt(light)
    return RegisteredFrames(["leaf"], 0, SIZE, [Placement(np.eye(3), SIZE)], 1e-6, lambda k, level, box: root[box[1] : box[1] + box[3], box[0] : box[0] + box[2]])


def test_a_large_brush_fills_a_leaf_and_not_the_sky() -> None:
    laid = _two_things()
    leaf = laid.read(0, 0, BOX)[..., 2] < 0.5
    stroke = Stroke(action="in", frame="leaf", width=260, softness=0, opacity=1, points=[(130, 110), (190, 130)], edges=True)
    drawn, cover = draw_line(stroke, BOX, 0), cover_of(stroke, laid, BOX, 0)
    assert drawn is not None and cover is not None
    assert drawn[leaf].mean() > 0.99 and drawn[~leaf].mean() > 0.2
    assert cover[leaf].mean() > 0.97 and cover[~leaf].mean() < 0.01
    part = cover_of(stroke, laid, (100, 60, 90, 80), 0)
    np.testing.assert_allclose(part, cover[60:140, 100:190], atol=1e-5)
    plain = cover_of(stroke.model_copy(update={"edges": False}), laid, BOX, 0)
    np.testing.assert_array_equal(plain, drawn)


def test_beyond_the_span_the_last_frame_within_stands_and_nothing_else_changes() -> None:
    laid, gates = _scene()
    plain = weave_box(laid, gates, Weaving(), [], BOX, 0)[0]
    for span, last, sharp, soft in ((Span(far=0.5), 1, np.s_[20:150, 20:-20], np.s_[175:-20, 20:-20]), (Span(near=0.5), 1, np.s_[95:-20, 20:-20], np.s_[20:65, 20:-20])):
        limits = limits_of(span, ["f0", "f1", "f2"], laid.names)
        limited = replace(laid, limits=limits)
        picture, masks = weave_box(limited, gates, Weaving(), [], BOX, 0)
        np.testing.assert_array_equal(picture[sharp], plain[sharp])
        np.testing.assert_allclose(picture[soft], laid.read(last, 0, BOX)[soft], atol=1e-6)
        np.testing.assert_allclose(sum(masks.values()), 1, atol=1e-4)
        np.testing.assert_allclose(masks_in(limited, gates, Weaving(), [], BOX, 0)[last], masks[last], atol=1e-6)
        stored = plain.copy()
        repaint(stored, limited, gates, Weaving(), [], BOX, 0)
        np.testing.assert_allclose(stored, picture, atol=1e-6)
        part = weave_box(limited, gates, Weaving(), [], (90, 120, 80, 60), 0)[0]
        np.testing.assert_allclose(part, picture[120:180, 90:170], atol=2e-3)
        # a hand has the last word
        stroke = Stroke(action="in", frame="f2" if last == 1 and span.far < 1 else "f0", width=30, softness=0, opacity=1, points=[(160, 210 if span.far < 1 else 30)])
        painted = weave_box(limited, gates, Weaving(), [stroke], BOX, 0)[1]
        assert painted[2 if span.far < 1 else 0][210 if span.far < 1 else 30, 160] > 0.99


@given(st.floats(0, 1), st.floats(0, 1), st.integers(2, 30))
def test_the_ends_of_a_span_are_frames_within_it_or_the_nearest(a: float, b: float, count: int) -> None:
    near, far = sorted((a, b))
    names = [str(k) for k in range(count)]
    if far - near < 0.01:
        return
    limits = limits_of(Span(near=near, far=far), names, names)
    assert (limits is None) == (near == 0 and far == 1)
    for k, first, last in limits.last() if limits else []:
        inside = [u for u in limits.at if near <= u <= far]  # type: ignore[union-attr]
        assert limits.at[k] in inside or not inside  # type: ignore[union-attr]
        assert first in (near, far) and (last > far or last < near)


def test_a_span_that_ends_before_it_begins_is_refused() -> None:
    with pytest.raises(ValueError, match="before it begins"):
        Span(near=0.6, far=0.6)
