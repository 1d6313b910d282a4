"""Healing: where a patch is taken from, and how its tone is fitted."""

from __future__ import annotations

import time
from dataclasses import replace
from functools import lru_cache

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bench.layered import leaves
from eaveplane.core.masks.strokes import Stroke
from eaveplane.core.mend.heal import RING, around_spot, source_for
from eaveplane.core.weave.drawn import MOST_TONE, membrane
from eaveplane.core.weave.laid import RegisteredFrames, Weaving
from eaveplane.core.weave.weave import repaint, weave_box
from eaveplane.imaging.brush import draw_line
from eaveplane.imaging.placement import Placement
from tests.core.weave.test_weave import SIZE, _scene

BOX = (0, 0, *SIZE)


@lru_cache
def _ground(seed: int) -> np.ndarray:
    """Ground of leaves under a sky (400, 600, 3) in root light, with noise."""
    rng = np.random.default_rng(seed)
    light = leaves(rng, (400, 600), 0.3)
    return np.sqrt(np.maximum(light + rng.normal(0, 0.004, light.shape), 0)).astype(np.float32)


def _healed(picture: np.ndarray, stroke: Stroke) -> tuple[np.ndarray, Stroke]:
    """The picture healed as the page does it, and the stroke with its source."""
    h, w = picture.shape[:2]
    box = around_spot(stroke.bounds(), (w, h))
    cover = draw_line(stroke, box, 0)
    assert cover is not None
    right, down = source_for(picture[box[1] : box[1] + box[3], box[0] : box[0] + box[2]], cover)
    stroke = stroke.model_copy(update={"source": (float(right), float(down))})
    laid = RegisteredFrames(["f0"], 0, (w, h), [Placement(np.eye(3), (w, h))], 1e-6, lambda k, level, b: picture[b[1] : b[1] + b[3], b[0] : b[0] + b[2]])
    out = picture.copy()
    repaint(out, laid, np.ones((1, -(-h // 4), -(-w // 4)), np.float32), Weaving(), [stroke], (0, 0, w, h), 0, lambda level, b: picture[b[1] : b[1] + b[3], b[0] : b[0] + b[2]])
    return out, stroke


def _spot(x: int, y: int, width: float) -> Stroke:
    return Stroke(action="heal", width=width, softness=0.3, opacity=1, points=[(x, y)])


def test_a_twig_across_the_ground_is_gone_and_the_ground_goes_on() -> None:
    clean = _ground(3)
    marked = clean.copy()
    cv2.line(marked, (260, 300), (330, 320), (0.9, 0.1, 0.1), 5, cv2.LINE_AA)
    stroke = Stroke(action="heal", width=16, softness=0.3, opacity=1, points=[(258, 299), (332, 321)])
    healed, stroke = _healed(marked, stroke)
    cover = draw_line(stroke, (0, 0, 600, 400), 0)
    assert cover is not None
    inside = cover > 0.99
    assert (healed[inside][:, 0] - healed[inside][:, 1] < 0.3).all() and (marked[inside][:, 0] - marked[inside][:, 1] > 0.3).any()
    np.testing.assert_allclose(healed[cover == 0], marked[cover == 0], atol=1e-6)
    fine = [p.mean(axis=2) - cv2.GaussianBlur(p.mean(axis=2), (0, 0), 2) for p in (healed, clean)]
    assert fine[0][inside].std() == pytest.approx(fine[1][inside].std(), rel=0.5)


def test_healed_patches_of_ground_are_like_what_lies_around() -> None:
    """Mean, roughness and gradients of healed patches beside those of their surroundings, as true ones are to theirs."""
    rng, apart, true = np.random.default_rng(5), [], []
    spent = []
    for _ in range(12):
        picture = _ground(int(rng.integers(2)))
        x, y, width = int(rng.integers(120, 480)), int(rng.integers(220, 330)), float(rng.uniform(24, 70))
        begin = time.perf_counter()
        healed, stroke = _healed(picture, _spot(x, y, width))
        spent.append(time.perf_counter() - begin)
        cover = draw_line(stroke, (0, 0, 600, 400), 0)
        assert cover is not None
        inside, ring = cover > 0.5, (cv2.dilate((cover > 0).astype(np.uint8), np.ones((2 * RING + 1, 2 * RING + 1))) > 0) & (cover == 0)
        for shown, told in ((healed, apart), (picture, true)):
            luma = shown.mean(axis=2)
            slope = np.hypot(cv2.Sobel(luma, cv2.CV_32F, 1, 0), cv2.Sobel(luma, cv2.CV_32F, 0, 1))
            told.append([abs(luma[inside].mean() / luma[ring].mean() - 1), abs(np.log(luma[inside].std() / luma[ring].std())), abs(np.log(np.median(slope[inside]) / np.median(slope[ring])))])
    print("healed against around: mean, deviation, gradient", np.median(apart, axis=0).round(3), "true ones", np.median(true, axis=0).round(3), f"{np.median(spent):.2f} s")
    assert (np.median(apart, axis=0) < np.maximum(1.5 * np.median(true, axis=0), 0.1)).all()


def test_sky_is_healed_by_sky_and_leaves_no_seam() -> None:
    picture = _ground(1)
    healed, stroke = _healed(picture, _spot(300, 50, 60))
    x, y = 300 + stroke.source[0], 50 + stroke.source[1]
    assert y < 110
    rows = healed[50, 240:360].mean(axis=1)
    assert np.abs(np.diff(cv2.GaussianBlur(rows[None], (0, 0), 3)[0])).max() < 0.01 and 0 < x < 600


def test_a_spot_with_nothing_around_is_refused() -> None:
    with pytest.raises(ValueError, match="no room"):
        source_for(np.zeros((60, 60, 3), np.float32), np.ones((60, 60), np.float32))
    with pytest.raises(ValueError, match="nothing to heal"):
        source_for(np.zeros((60, 60, 3), np.float32), np.zeros((60, 60), np.float32))


@given(st.floats(-0.05, 0.05), st.floats(-0.02, 0.02), st.floats(-0.02, 0.02))
@settings(max_examples=20)
def test_a_membrane_carries_what_is_even_or_slopes(offset: float, right: float, down: float) -> None:
    """Harmonic functions are their own membranes: a plane is."""
    y, x = np.mgrid[0:80, 0:80] / 40 - 1
    plane = (offset + right * x + down * y)[..., None].astype(np.float32)
    hole = np.hypot(x, y) < 0.6
    spoiled = plane.copy()
    spoiled[hole] = 5
    found = membrane(spoiled, hole)
    wanted = np.clip(plane, offset - MOST_TONE, offset + MOST_TONE)
    assert np.abs(found - wanted)[hole].max() < 4e-3
    assert not membrane(plane, np.ones((80, 80), bool)).any()


def test_what_is_drawn_takes_the_tone_of_what_lies_around_if_asked() -> None:
    laid, gates = _scene()
    brighter = replace(laid, read=lambda k, level, box: laid.read(k, level, box) + np.float32(0.05 if k == 2 else 0))
    stroke = Stroke(action="draw", frame="f2", width=60, softness=0.3, opacity=1, points=[(160, 120)])
    plain = weave_box(brighter, gates, Weaving(), [], BOX, 0)[0]
    drawn, fitted = (weave_box(brighter, gates, Weaving(), [stroke.model_copy(update={"fitted": f})], BOX, 0)[0] for f in (False, True))
    there = np.s_[110:130, 150:170]
    assert abs((drawn - plain)[there].mean() - 0.05) < 0.02 and abs((fitted - plain)[there].mean()) < 0.015
    # wherever it is cut
    part = weave_box(brighter, gates, Weaving(), [stroke.model_copy(update={"fitted": True})], (150, 100, 40, 40), 0)[0]
    np.testing.assert_allclose(part, fitted[100:140, 150:190], atol=2e-3)


def test_a_healed_spot_goes_along_to_another_reference() -> None:
    def turned(points: np.ndarray) -> np.ndarray:
        return points @ np.array([[0, 2.0], [-2.0, 0]]) + 7

    moved = _spot(100, 50, 20).model_copy(update={"source": (30.0, 10.0)}).moved(turned)
    (x, y), (dx, dy) = moved.points[0], moved.source
    np.testing.assert_allclose([(x + dx, y + dy)], turned(np.array([[130.0, 60.0]])))
    assert moved.width == pytest.approx(40)
