"""Weaving: masks, boxes, strokes, order; and that the result is worth it."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from eaveplane.core.gather.detail import POOL, covered, measure_detail, pooled_shape, signal
from eaveplane.core.gather.order import near_to_far, profiles
from eaveplane.core.masks.strokes import Stroke
from eaveplane.core.weave.finest import finest, finest_chosen
from eaveplane.core.weave.labels import above_noise, aggregate, costs, label_weights
from eaveplane.core.weave.laid import RegisteredFrames, Weaving
from eaveplane.core.weave.places import Places
from eaveplane.core.weave.weave import repaint, touched, weave_box
from eaveplane.imaging.brush import draw_line
from eaveplane.imaging.placement import Placement
from tests.conftest import Set
from tests.core.register.test_register import analysed

SIZE = (320, 240)


def _scene(count: int = 3, seed: int = 1) -> tuple[RegisteredFrames, np.ndarray]:
    """Frames of one texture, each sharp in a band of its own, slightly shifted; gates that prefer that band."""
    import cv2

    rng = np.random.default_rng(seed)
    texture = np.clip(0.5 + 0.2 * cv2.GaussianBlur(rng.standard_normal((SIZE[1], SIZE[0], 3)), (0, 0), 1.0) * 3, 0.05, 1).astype(np.float32)
    soft = cv2.GaussianBlur(texture, (0, 0), 3)
    frames, gates = [], np.full((count, -(-SIZE[1] // POOL), -(-SIZE[0] // POOL)), 0.0, np.float32)
    for k in range(count):
        band = np.zeros((SIZE[1], 1, 1), np.float32)
        band[SIZE[1] * k // count : SIZE[1] * (k + 1) // count] = 1
        frames.append(texture * band + soft * (1 - band))
        rows = gates.shape[1]
        gates[k, max(0, rows * k // count - 3) : rows * (k + 1) // count + 3] = 0.5
    placements = [Placement(np.array([[1, 0, 0.4 * (k - 1)], [0, 1, 0.3 * (1 - k)], [0, 0, 1.0]]), SIZE) for k in range(count)]

    def read(k: int, level: int, box: tuple[int, int, int, int]) -> np.ndarray:
        picture = frames[k]
        for _ in range(level):
            picture = cv2.resize(picture, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
        return placements[k].at(level).lay(picture, box)

    return RegisteredFrames([f"f{k}" for k in range(count)], 1, SIZE, placements, 1e-6, read), gates


def test_masks_sum_to_one_and_sharp_bands_win() -> None:
    laid, gates = _scene()
    picture, masks = weave_box(laid, gates, Weaving(), [], (0, 0, *SIZE), 0)
    total = sum(masks.values())
    np.testing.assert_allclose(total, 1, atol=1e-4)
    for k in range(3):
        middle = slice(SIZE[1] * k // 3 + 20, SIZE[1] * (k + 1) // 3 - 20)
        assert masks[k][middle, 20:-20].mean() > 0.9
    assert picture.shape == (SIZE[1], SIZE[0], 3)


def test_a_region_has_narrower_or_broader_seams_than_the_rest() -> None:
    rows = -(-SIZE[1] // POOL)
    gates = np.stack([np.arange(rows) < rows // 2, np.arange(rows) >= rows // 2]).astype(np.float32)[..., None] * np.ones((1, 1, -(-SIZE[0] // POOL)), np.float32)
    tones = (0.4, 0.6)
    still = [Placement(np.eye(3), SIZE)] * 2
    laid = RegisteredFrames(["a", "b"], 0, SIZE, still, 1e-6, lambda k, level, box: np.full((box[3], box[2], 3), tones[k], np.float32))

    def wide(way: str) -> float:
        strokes = [Stroke(action="way", way=way, width=150, softness=0, opacity=1, points=[(160, 120)])]
        for at in (160, 20):
            picture, _ = weave_box(laid, gates, Weaving(way="crisp-seams"), strokes, (0, 0, *SIZE), 0)
            between = np.abs(picture[:, at, 0] - 0.5) < 0.08
            widths[at] = int(between.sum())
        return widths[160]

    widths: dict[int, int] = {}
    narrow, beside = wide("narrow-seams"), widths[20]
    broad = wide("broad-seams")
    assert narrow < beside == widths[20] < broad and broad > 2 * beside, "where nothing is painted all stays as it was"


def test_frames_that_are_alike_are_woven_into_themselves() -> None:
    laid, gates = _scene()
    same = RegisteredFrames(laid.names, 1, SIZE, [Placement(np.eye(3), SIZE)] * 3, 1e-6, lambda k, level, box: laid.read(1, level, box))
    picture, _ = weave_box(same, np.full_like(gates, 1 / 3), Weaving(seam=4), [], (0, 0, *SIZE), 0)
    np.testing.assert_allclose(picture, laid.read(1, 0, (0, 0, *SIZE)), atol=2e-5)


STROKES = [
    Stroke(action="out", frame="f1", width=40, softness=0.5, opacity=1, points=[(60, 120), (200, 110)]),
    Stroke(action="in", frame="f0", width=30, softness=0.8, opacity=0.7, points=[(100, 200)]),
    Stroke(action="draw", frame="f2", width=50, softness=0.6, opacity=1, points=[(250, 40), (260, 90)]),
]


@given(st.integers(0, 250), st.integers(0, 180), st.integers(1, 70), st.integers(1, 60), st.sampled_from([1, 2, 3]), st.booleans())
@settings(max_examples=20)
def test_a_box_is_the_same_wherever_it_is_cut(x: int, y: int, w: int, h: int, seam: int, painted: bool) -> None:
    laid, gates = _scene()
    strokes, weaving = (STROKES if painted else []), Weaving(seam=seam)
    whole, _ = weave_box(laid, gates, weaving, strokes, (0, 0, *SIZE), 0)
    part, _ = weave_box(laid, gates, weaving, strokes, (x, y, w, h), 0)
    np.testing.assert_allclose(part, whole[y : y + h, x : x + w], atol=2e-3)


def test_painting_in_out_and_drawing_from() -> None:
    laid, gates = _scene()
    box = (0, 0, *SIZE)
    plain, before = weave_box(laid, gates, Weaving(), [], box, 0)
    _, out = weave_box(laid, gates, Weaving(), [STROKES[0]], box, 0)
    assert before[1][115, 130] > 0.9 and out[1][115, 130] < 0.02
    np.testing.assert_allclose(sum(out.values()), 1, atol=1e-4)
    _, both = weave_box(laid, gates, Weaving(), [Stroke(action="in", frame="f0", width=60, softness=0.2, opacity=1, points=[(160, 200)])], box, 0)
    assert both[0][200, 160] == pytest.approx(1, abs=1e-3)
    drawn, _ = weave_box(laid, gates, Weaving(), [STROKES[2]], box, 0)
    np.testing.assert_allclose(drawn[60:70, 250:258], laid.read(2, 0, (250, 60, 8, 10)), atol=1e-4)
    ((x, y, w, h),) = touched([STROKES[2]], laid, box, 0)
    mask = np.ones(drawn.shape[:2], bool)
    mask[y : y + h, x : x + w] = False
    np.testing.assert_array_equal(drawn[mask], plain[mask])


def test_strokes_of_frames_that_are_left_out_do_nothing() -> None:
    laid, gates = _scene()
    plain, _ = weave_box(laid, gates, Weaving(), [], (0, 0, *SIZE), 0)
    ghost = Stroke(action="in", frame="gone", width=90, softness=0, opacity=1, points=[(100, 100)])
    same, _ = weave_box(laid, gates, Weaving(), [ghost], (0, 0, *SIZE), 0)
    np.testing.assert_array_equal(plain, same)


@given(st.floats(4, 60), st.floats(0, 1), st.floats(0.05, 1), st.integers(0, 2))
@settings(max_examples=40)
def test_a_dab_covers_what_its_formula_says(width: float, softness: float, opacity: float, level: int) -> None:
    stroke = Stroke(action="in", frame="a", width=width, softness=softness, opacity=opacity, points=[(64, 64)])
    drawn = draw_line(stroke, (0, 0, 128 >> level, 128 >> level), level)
    assert drawn is not None
    scale = 0.5**level
    radius = max(0.5, width / 2 * scale)
    y, x = np.mgrid[: 128 >> level, : 128 >> level]
    away = np.hypot(x - (64.5 * scale - 0.5), y - (64.5 * scale - 0.5))
    t = np.clip((radius + 0.5 - away) / max(softness * radius, 1), 0, 1)
    np.testing.assert_allclose(drawn, opacity * t * t * (3 - 2 * t), atol=2e-4)


def test_a_stroke_elsewhere_is_no_work() -> None:
    laid, _ = _scene()
    assert draw_line(STROKES[1], (250, 0, 40, 40), 0) is None
    assert touched(STROKES[1:2], laid, (300, 0, 10, 10), 0) == [] and touched([], laid, (0, 0, 10, 10), 0) == []


def test_quiet_areas_follow_their_surroundings() -> None:
    rng = np.random.default_rng(7)
    energy = [np.zeros((3, 40, 60), np.float32) for _ in range(3)]
    energy[0][:, 20:], energy[2][:, :20] = 1e-3, 1e-3
    quiet = slice(8, 18), slice(20, 40)
    for e in energy:
        e[(slice(None), *quiet)] = rng.random((3, 10, 20)) * 2e-7
    noise = [np.full(3, 1e-6, np.float32)] * 3
    reach = [np.ones((40, 60), bool)] * 3
    cost = costs(energy, noise, reach)
    wild = cost.argmin(axis=0)[quiet]
    calm = aggregate(cost, np.full((40, 60), 0.5, np.float32), 1.0).argmin(axis=0)
    assert len(np.unique(wild)) == 3 and (calm[quiet] == 2).mean() > 0.95
    assert (calm[30:] == 0).all() and (calm[:6] == 2).all()


def test_one_noisy_frame_does_not_blind_the_choice_among_the_others() -> None:
    energy = [np.full((3, 12, 12), e, np.float32) for e in (4e-5, 1e-5, 0.0)]
    reach = [np.ones((12, 12), bool)] * 3
    quiet, loud = ([np.full(3, n, np.float32) for n in (1e-6, 1e-6, last)] for last in (1e-6, 1e-4))
    np.testing.assert_allclose(costs(energy, loud, reach), costs(energy, quiet, reach))
    # what the noisy one shows is held against its own
    assert costs([energy[2], energy[1], energy[0]], loud, reach).max() < 0.3 < 0.8 < costs(energy, quiet, reach).max()


def test_a_noisy_frame_wins_where_it_shows_something_and_not_where_nobody_does() -> None:
    import cv2

    rng = np.random.default_rng(5)
    texture = np.zeros((240, 480), np.float32)
    texture[:, :160] = 0.15 * cv2.GaussianBlur(rng.standard_normal((240, 160)).astype(np.float32), (0, 0), 0.7)
    noise, times = (0.002, 0.02, 0.002), (1.0, 100.0, 1.0)
    lumas = [(0.5 + (texture if k == 1 else cv2.GaussianBlur(texture, (0, 0), 2.5)) + n * rng.standard_normal(texture.shape)).astype(np.float32) for k, n in enumerate(noise)]
    seen = [measure_detail(luma) for luma in lumas]
    energies, noises = [signal(d) for d in seen], [d.noise for d in seen]
    reach = [np.ones(pooled_shape(240, 480), np.bool_)] * 3
    plain, shown = np.s_[:, 48:], np.s_[:, 2:36]
    unknown, known = (label_weights(aggregate(costs(e, noises, reach), np.full(reach[0].shape, 0.5, np.float32), 1.0), reach) for e in (energies, above_noise(energies, noises, times)))
    assert known[1][plain].mean() < 0.3 < 0.37 < unknown[1][plain].mean() and known[1][shown].mean() > 0.8
    still = [Placement(np.eye(3), (480, 240))] * 3
    frames = [np.repeat(luma[..., None], 3, axis=2) for luma in lumas]
    laid = RegisteredFrames(["a", "b", "c"], 0, (480, 240), still, float(np.median([d.fine_noise for d in seen])), lambda k, level, box: frames[k][box[1] : box[1] + box[3], box[0] : box[0] + box[2]])
    told = replace(laid, places=Places((0.0, 3.0, 6.0), 1.0, 1e-6, 1e-6, times))
    rough, smooth = (weave_box(frames_laid, known, Weaving(way="crisp-seams"), [], (0, 0, 480, 240), 0)[0][..., 0] for frames_laid in (laid, told))
    assert rough[:, 200:].std() > 0.004 and smooth[:, 200:].std() < 0.0025
    assert np.corrcoef(smooth[10:-10, 10:140].ravel(), texture[10:-10, 10:140].ravel())[0, 1] > 0.9


def test_of_the_finest_octave_a_noisy_frame_gives_what_stands_above_its_noise() -> None:
    rng, noise = np.random.default_rng(12), 1e-4
    flat = np.full((96, 96, 3), 0.5, np.float32)
    line = flat.copy()
    line[:, 48] = 0.15
    quiet = flat + np.float32(math.sqrt(noise)) * rng.standard_normal(flat.shape, np.float32)
    loud = line + np.float32(8 * math.sqrt(noise)) * rng.standard_normal(flat.shape, np.float32)
    reach = [np.ones(flat.shape[:2], bool)] * 2
    # the finest octave keeps most of white noise, in three channels
    known, unknown = (finest_chosen([quiet, loud], reach, [2.6 * noise, 2.6 * noise * times])[0] for times in (64, 1))
    beside = np.s_[8:-8, 8:40]
    assert known[beside].var() < 2 * finest(quiet)[0][beside].var() < unknown[beside].var() / 4
    assert known[8:-8, 48].mean() < 0.7 * finest(line)[0][8:-8, 48].mean() < 0


def test_gates_shut_out_frames_that_do_not_reach() -> None:
    reach = [np.ones((8, 8), bool), np.zeros((8, 8), bool)]
    gates = label_weights(np.zeros((2, 8, 8), np.float32), reach)
    assert (gates[0] == 1).all() and (gates[1] == 0).all()
    assert covered(Placement(np.array([[1, 0, 40.0], [0, 1, 0], [0, 0, 1]]), (32, 32)), (8, 8)).sum() == 0


def test_noise_is_measured_and_taken_off() -> None:
    rng = np.random.default_rng(3)
    flat = (0.5 + 0.004 * rng.standard_normal((400, 600))).astype(np.float32)
    detail = measure_detail(flat)
    assert signal(detail)[0].mean() < 0.25 * detail.energy[0].mean()
    assert detail.energy.shape == (3, *pooled_shape(400, 600)) and detail.level == 0
    assert 0.3 < detail.noise[0] / detail.energy[0].mean() < 1.3
    assert 0.3 < detail.fine_noise / (20 * 0.004**2) < 1.5


def test_frames_are_put_in_order_from_near_to_far(tripod: Set) -> None:
    details, _ = analysed(tripod.paths)
    octaves = [d.octaves for d in details]
    assert near_to_far(octaves) == list(range(len(details)))
    shuffled = [2, 0, 3, 1]
    assert [shuffled[i] for i in near_to_far([octaves[i] for i in shuffled])] == [0, 1, 2, 3]
    rows = profiles(octaves)
    middle = (rows * np.arange(48)).sum(axis=1) / rows.sum(axis=1)
    assert (np.diff(middle) < 0).all()


def test_a_region_is_woven_by_another_way_under_what_is_painted() -> None:
    laid, gates = _scene()
    box = (0, 0, *SIZE)

    def line(action: str, x: int, **told: str) -> Stroke:
        return Stroke(action=action, width=60, softness=0.2, opacity=1, points=[(x, 40), (x, 200)], **told)  # type: ignore[arg-type]

    for base, other in (("crisp-seams", "gentle"), ("gentle", "crisp-seams"), ("crisp-seams", "fine-tangle")):
        weaving = Weaving(way=base)  # type: ignore[arg-type]
        plain, wanted = (weave_box(laid, gates, Weaving(way=way), [], box, 0)[0] for way in (base, other))  # type: ignore[arg-type]
        strokes = [line("way", 100, way=other)]
        picture = weave_box(laid, gates, weaving, strokes, box, 0)[0]
        np.testing.assert_allclose(picture[80:160, 90:110], wanted[80:160, 90:110], atol=1e-6)
        np.testing.assert_array_equal(picture[:, 150:], plain[:, 150:])
        assert np.abs(wanted - plain)[80:160, 90:110].max() > 1e-3
        # stored and repainted, and any part of it by itself, it is the same
        again = plain.copy()
        repaint(again, laid, gates, weaving, strokes, box, 0)
        np.testing.assert_allclose(again, picture, atol=1e-6)
        part = weave_box(laid, gates, weaving, strokes, (64, 96, 128, 64), 0)[0]
        np.testing.assert_allclose(part, picture[96:160, 64:192], atol=1e-5)
        # taken back, and with a frame painted over it in whatever order
        back = weave_box(laid, gates, weaving, [*strokes, line("way", 100)], box, 0)[0]
        np.testing.assert_allclose(back[80:160, 90:110], plain[80:160, 90:110], atol=1e-6)
        frame = laid.read(2, 0, box)
        for order in ([line("in", 100, frame=laid.names[2]), *strokes], [*strokes, line("in", 100, frame=laid.names[2])]):
            np.testing.assert_allclose(weave_box(laid, gates, weaving, order, box, 0)[0][80:160, 95:105], frame[80:160, 95:105], atol=2e-3)


@given(st.lists(st.tuples(st.integers(0, 3000), st.integers(0, 2000), st.integers(4, 400)), max_size=8), st.integers(0, 2))
def test_strokes_touch_parts_that_do_not_meet_and_hold_them_all(places: list[tuple[int, int, int]], level: int) -> None:
    laid, _ = _scene()
    strokes = [Stroke(action="in", frame="f0", width=w, softness=0.5, opacity=1, points=[(x, y)]) for x, y, w in places]
    box = (100, 50, 2200 >> level, 1500 >> level)
    parts = touched(strokes, laid, box, level)
    inside = np.zeros((2200, 3200), np.int8)
    for x, y, w, h in parts:
        inside[y : y + h, x : x + w] += 1
    assert inside.max() <= 1
    for stroke in strokes:
        cover = draw_line(stroke, box, level)
        if cover is not None:
            assert inside[box[1] : box[1] + box[3], box[0] : box[0] + box[2]][cover > 0].all()
