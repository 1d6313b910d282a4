"""Lifting the veil: fronts are found, taken out of every frame, and stand only where the frames are the better explained for it."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.ndimage import grey_dilation, grey_erosion

from eaveplane.core.mend.found import EXTENT, INSIDE, PER_OCTAVE, STEPS, STRONG, WEAK, Detail, Fronts, detail_of, extended, fronts_in, in_steps, octaves_of, with_solid
from eaveplane.core.mend.fronts import SHOWN_AROUND, carried_in, coverage, near_to_far, shown_around, unveiled
from eaveplane.core.mend.veil import CELL, SOLID_STANDS, STANDS, WORTH, Energies, cut, detail_in, energies, lifted_block, quiet_details, quiet_in, standing, unexplained, veiled_block
from eaveplane.core.weave.laid import Weaving
from eaveplane.core.weave.planes import disc_left, seen_from
from eaveplane.core.weave.ways.joint_light import MOST_SUMMED
from eaveplane.core.weave.weave import weave_box
from eaveplane.imaging.light import light_of, root_of
from eaveplane.imaging.waves import FREQUENCIES
from tests.core.weave.test_joint_light import _defocused, _known, _laid, _texture

SIZE = (448, 400)
WHOLE = (0, 0, *SIZE)
PLACES = (8.0, 4.0, 0.0)
INNER = np.s_[64:-64, 64:-64]


@cache
def _stems(moved: float = 0.0) -> np.ndarray:
    """Coverage (h, w) of thin stems that cross, to a sixteenth of a pixel, moved to the right by some pixels."""
    over = 4
    cover = np.zeros((SIZE[1] * over, SIZE[0] * over), np.uint8)
    for x, lean, wide in ((110, 60, 3.0), (190, -30, 2.2), (235, 25, 4.0), (330, -70, 1.8)):
        ends = [((x + moved) * over, -10 * over), ((x + lean + moved) * over, (SIZE[1] + 10) * over)]
        cv2.line(cover, *[(round(a * 16), round(b * 16)) for a, b in ends], 255, round(wide * over), cv2.LINE_8, 4)
    return cv2.resize(cover, SIZE, interpolation=cv2.INTER_AREA).astype(np.float32) / 255


def _seen(
    light: tuple[float, float, float], moves: tuple[float, ...] = (0, 0, 0), places: tuple[float, ...] = PLACES, thing: Callable[[float], np.ndarray] = _stems, flat: bool = True
) -> tuple[list[np.ndarray], np.ndarray]:
    """Frames of stems, or another thing, of one light before a textured ground as far as the last frame is focused, with true hiding, and the
    sharp picture."""
    rng, ground = np.random.default_rng(3), _texture(7, SIZE)
    shown = np.float32(light) * (np.float32(1) if flat else 1 + np.float32(0.8) * (_texture(8, SIZE) - np.float32(0.5)))
    frames = []
    for place, by in zip(places, moves, strict=True):
        cover, lit = thing(by)[..., None], thing(by)[..., None] * shown
        blurred = [np.asarray(_defocused(part, abs(place - places[0]))) for part in (cover, lit)]
        clean = blurred[1].reshape(lit.shape) + (1 - np.clip(blurred[0].reshape(cover.shape), 0, 1)) * _defocused(ground, place - places[-1])
        frames.append(np.maximum(clean + 1e-3 * rng.standard_normal(clean.shape, np.float32), 1e-4).astype(np.float32))
    sharp = thing(0.0)[..., None]
    return frames, sharp * shown + (1 - sharp) * ground


def _lifted(frames: list[np.ndarray], places: tuple[float, ...] = PLACES, order: tuple[int, ...] = (0, 1, 2)) -> tuple[np.ndarray, np.ndarray, Fronts, float]:
    """The weave in root light, the same with veils lifted, which fronts stand, and how much is explained for it."""
    laid, gates = _laid(frames, _known(places, 2e-5), 2e-5)
    part = cut(laid, gates, Weaving(), order, WHOLE)
    quiet = quiet_details([quiet_in(part)], len(frames))
    detail = detail_in(part, quiet)
    thin = fronts_in(detail)
    tried = with_solid(thin, detail)
    stand, _, explained = standing(thin, tried, energies(part, thin, tried, quiet), len(frames))
    picture, shown = lifted_block(part, stand, quiet)
    woven = weave_box(laid, gates, Weaving(), [], WHOLE, 0)[0]
    return woven, woven + shown[..., None] * (picture - woven), stand, explained


def _error(root: np.ndarray, light: np.ndarray, where: np.ndarray) -> float:
    return float(np.square(root - root_of(light))[INNER][where[INNER]].mean())


@pytest.mark.parametrize("light", [(0.02, 0.02, 0.02), (0.9, 0.8, 0.5), (0.1, 0.4, 0.1)])
def test_stems_before_a_ground_come_out_with_less_than_half_the_error(light: tuple[float, float, float]) -> None:
    frames, truth = _seen(light)
    woven, lifted, stand, explained = _lifted(frames)
    near = cv2.dilate((_stems() > 0).astype(np.uint8), np.ones((17, 17))) > 0
    assert explained > 0 and set(np.unique(stand.number)) == {0, 1}
    assert _error(lifted, truth, near) < 0.5 * _error(woven, truth, near)
    # what is far from any front keeps its pixels
    np.testing.assert_array_equal(lifted[~cv2.dilate(near.astype(np.uint8), np.ones((25, 25))).astype(bool)], woven[~cv2.dilate(near.astype(np.uint8), np.ones((25, 25))).astype(bool)])


def test_no_stem_is_lost_and_no_blob_is_made() -> None:
    frames, truth = _seen((0.02, 0.02, 0.02))
    _, lifted, stand, _ = _lifted(frames)
    core = (_stems() > 0.95)[INNER]
    assert (stand.number > 0)[INNER][core].mean() > 0.97
    assert (lifted[INNER][core].mean(axis=1) < np.sqrt(0.02) + 0.1).mean() > 0.97
    # darker or lighter than all around it, where truth is not
    window = np.ones((9, 9), np.uint8)
    low, high = cv2.erode(root_of(truth), window), cv2.dilate(root_of(truth), window)
    assert ((lifted < low - 0.08) | (lifted > high + 0.08))[INNER].mean() < 1e-4


def test_what_is_lifted_is_neither_darker_nor_brighter_than_what_frames_show_around() -> None:
    for light in ((0.02, 0.02, 0.02), (0.9, 0.8, 0.5)):
        frames, _ = _seen(light)
        laid, gates = _laid(frames, _known(PLACES, 2e-5), 2e-5)
        part = cut(laid, gates, Weaving(), (0, 1, 2), WHOLE)
        # a thing that is none: what is taken away leaves light that cannot be
        number = np.zeros(frames[0].shape[:2], np.uint16)
        number[60:200, 100:103] = 1
        picture, shown = lifted_block(part, Fronts(number, np.zeros(number.shape, bool)), [1.0] * 3)
        assert shown.max() > 0.5
        square = np.ones((SHOWN_AROUND, SHOWN_AROUND))
        least = np.stack([grey_erosion(np.min(frames, axis=0)[..., c], footprint=square) for c in range(3)], axis=-1)
        most = np.stack([grey_dilation(np.max(frames, axis=0)[..., c], footprint=square) for c in range(3)], axis=-1)
        found = light_of(picture)
        assert (found >= least - 1e-4)[shown > 0].all() and (found <= most + 1e-4)[shown > 0].all()


def test_what_moved_between_frames_is_left() -> None:
    """Stems that are elsewhere in every frame: their veils are not where they would be taken from."""
    frames, _ = _seen((0.02, 0.02, 0.02), (0, 9, -8))
    woven, lifted, stand, _ = _lifted(frames)
    assert (stand.number > 0).mean() < 0.15 * (_stems() > 0).mean()
    assert np.abs(lifted - woven).mean() < 1e-3


def test_the_end_that_is_near_explains_more() -> None:
    frames, _ = _seen((0.9, 0.8, 0.5))
    assert _lifted(frames, order=(0, 1, 2))[3] > 5 * _lifted(frames, order=(2, 1, 0))[3]


def test_frames_without_blur_between_them_are_left_at_once() -> None:
    places = (0.4, 0.2, 0.0)
    frames, _ = _seen((0.02, 0.02, 0.02), places=places)
    woven, lifted, stand, _ = _lifted(frames, places)
    assert not stand.number.any()
    np.testing.assert_array_equal(lifted, woven)


def test_of_many_frames_what_lifting_does_not_change_is_as_those_summed_are_woven() -> None:
    """Twelve frames, of which fewer are summed: without a front the lifted block is the veiled one, which is not what all frames are woven to."""
    places = tuple(np.linspace(8, 0, 12))
    frames, _ = _seen((0.02, 0.02, 0.02), (0,) * 12, places)
    laid, gates = _laid(frames, _known(places, 2e-5), 2e-5)
    part = cut(laid, gates, Weaving(), range(12), WHOLE)
    assert len(part.numbers) == MOST_SUMMED < len(frames)
    picture, shown = lifted_block(part, Fronts(np.zeros(frames[0].shape[:2], np.uint16), np.zeros(frames[0].shape[:2], bool)), [1.0] * 12)
    veiled = veiled_block(part)
    assert shown.max() == 0
    # but for what is held back to what frames show around
    low, high = shown_around(part.sheaf.light)
    free = (light_of(veiled) > low + 1e-3) & (light_of(veiled) < high - 1e-3)
    assert free.mean() > 0.95 and np.abs(light_of(picture) - light_of(veiled))[free].max() < 2e-4
    assert np.abs(weave_box(laid, gates, Weaving(), [], WHOLE, 0)[0] - veiled).max() > 2e-3


def test_near_is_told_by_distances_else_either_end_may_be() -> None:
    assert near_to_far([0, 3, 7], [1.0, 2.0, None]) == [[0, 1, 2]]
    assert near_to_far([0, 3, 7], [9.0, 2.0, 1.0]) == [[2, 1, 0]]
    assert near_to_far([7, 3, 0], [None, None, None]) == [[0, 1, 2], [2, 1, 0]]
    # distances that contradict the pictures tell nothing; neither does one alone
    assert len(near_to_far([0, 5, 0.1, 5.1], [1.0, 1.1, 9.0, 8.0])) == 2
    assert len(near_to_far([0, 3], [2.0, None])) == 2 and len(near_to_far([1, 1], [None, None])) == 2


@settings(max_examples=30)
@given(st.integers(5, 70), st.integers(5, 70), st.floats(0, 1), st.integers(0, 99))
def test_what_is_carried_in_lies_within_what_is_known(h: int, w: int, part: float, seed: int) -> None:
    rng = np.random.default_rng(seed)
    known = rng.random((h, w)) < part
    known[rng.integers(h), rng.integers(w)] = True
    picture = rng.random((h, w, 3), np.float32)
    filled = carried_in(picture, known)
    assert filled.shape == picture.shape and np.isfinite(filled).all()
    np.testing.assert_allclose(filled[known], picture[known], atol=2e-3)
    assert filled.max() <= picture[known].max() + 1e-3
    flat = carried_in(np.full((h, w, 3), 0.5, np.float32), np.ones((h, w), np.bool_))
    np.testing.assert_allclose(flat, 0.5, atol=1e-3)


@settings(max_examples=30)
@given(st.floats(0, 0.8), st.floats(0, 1), st.floats(0.01, 1), st.integers(1, 3))
def test_a_known_veil_is_taken_away(part: float, light: float, behind: float, channels: int) -> None:
    """frame = veil + (1 - coverage) ground: the ground comes back, the less of it the more it is hidden."""
    shape = (3, 4, channels)
    frame = np.full(shape, part * light + (1 - part) * behind, np.float32)
    seen = np.empty((2 * channels + 1, 3, 4), np.float32)
    seen[:channels], seen[channels], seen[channels + 1 :] = part * light, part, part * (light - behind)
    ground, adds, veil = np.empty(shape, np.float32), np.empty(shape, np.float32), np.empty(shape[:2], np.float32)
    unveiled(frame, seen, ground, adds, veil)
    np.testing.assert_allclose(ground, behind if part > 0.002 else frame, atol=2e-3)
    np.testing.assert_allclose(veil, part, atol=1e-6)


def test_what_one_frame_shows_of_a_plane_is_told_by_frames_focused_there() -> None:
    """Frames at 0 and 3 of things where they are focused, to a frame 7 away: weighed, they add up to what that frame's disc leaves."""
    places, frequencies = (7.0, 3.0, 0.0), FREQUENCIES
    weights = seen_from(places, 0, (1, 2))
    assert len(weights) == 2 and weights[:, 0].sum() == pytest.approx(1, abs=1e-6)
    for plane in (3.0, 0.0):
        told = sum(part * disc_left(frequencies * (place - plane)) for part, place in zip(weights, places[1:], strict=True))
        off = np.abs(told - disc_left(frequencies * (7 - plane)))
        # least where both planes look alike, so that the ridge counts
        assert off.mean() < 0.02 and off.max() < 0.1


def test_coverage_is_the_part_of_the_usual_difference() -> None:
    """A stem's edges cover half of what its middle does; what is as bright as its ground covers nothing that is known."""
    adds = np.zeros((30, 30, 3), np.float32)
    adds[:, 14:17], adds[:, 13], adds[:, 17] = 0.4, 0.2, 0.2
    covers = coverage(adds, np.full_like(adds, 0.2), np.full((30, 30), 1e-6, np.float32))
    assert covers[15, 15] == pytest.approx(1, abs=0.1) and covers[15, 13] == pytest.approx(0.5, abs=0.1) and covers[15, 5] == 0
    assert coverage(1e-3 * adds, np.full_like(adds, 0.2), np.full((30, 30), 1e-6, np.float32)).max() < 0.2


def _of(owner: np.ndarray, strength: np.ndarray) -> Detail:
    none = Detail.empty(owner.shape[::-1])
    return Detail(owner, strength, none.nearest, none.hides)


def test_weak_detail_belongs_to_a_front_only_beside_strong() -> None:
    strength = np.zeros((60, 60), np.uint8)
    owner = np.full((60, 60), 2, np.uint16)
    weak, strong = (int(np.log2(v) * PER_OCTAVE) + 2 for v in (WEAK, STRONG))
    strength[10, 5:50], strength[10, 30], strength[40, 5:50], strength[50, 5 : 5 + EXTENT // 2] = weak, strong, weak, strong
    found = fronts_in(_of(owner, strength))
    assert set(np.unique(found)) == {0, 3} and found[10, 8] == 3 and not found[38:].any()
    assert in_steps(octaves_of(np.float32([[1.0, 2.0, 4.0, 0.1]]), 1.0)).tolist() == [[0, PER_OCTAVE, 2 * PER_OCTAVE, 0]]


def test_faint_detail_counts_where_it_runs_in_a_line() -> None:
    """Four times a quiet place's, less than weak: a line of it is a front, texture of the same strength is not."""
    rng = np.random.default_rng(4)
    near, far = rng.uniform(0, 0.3, (2, 120, 160)).astype(np.float32)
    near[60:63, 10:150] = 2.2
    near[90:110, 10:150] = 2.2 * (rng.random((20, 140)) < 0.3)
    found = fronts_in(detail_of([near, far], (5.0, 0.0), (4, 7), [0]))
    assert (found[61, 14:146] == 5).all() and not found[:56].any() and not found[66:].any()


@pytest.mark.parametrize("abrupt", [True, False])
def test_a_solid_thing_ends_abruptly(abrupt: bool) -> None:
    """A block in whose place nothing farther shows detail; ground that comes into focus little by little is none."""
    place = np.full((100, 120), -1.0, np.float32)
    place[30:, 40:80] = 0.6
    if not abrupt:
        place = np.broadcast_to(np.linspace(-1, 1, 100, dtype=np.float32)[:, None], place.shape)
    none = Detail.empty((240, 200))
    detail = Detail(none.owner, none.strength, np.full(place.shape, 2, np.uint16), (place * STEPS).astype(np.int8))
    found = with_solid(none.owner, detail)
    inside = np.s_[60 + INSIDE + 4 : 200, 80 + INSIDE + 4 : 160 - INSIDE - 4]
    assert found.solid[inside].all() == abrupt and found.solid.any() == abrupt and found.number.any() == abrupt
    if abrupt:
        assert set(np.unique(found.number)) == {0, 3} and not found.number[:50].any() and not found.number[:, :70].any() and not found.solid[60:64].any()


def test_a_front_stands_by_its_own_parts_where_it_does_not_as_a_whole() -> None:
    fronts = np.zeros((80, 400), np.uint16)
    fronts[38:42, 8:392] = 1
    before = np.zeros((80 // CELL, 400 // CELL), np.float32)
    before[3:7] = 1
    after = before.copy()
    every = before.copy()
    every[:, 35:] *= 20

    def stood(after: np.ndarray, frames: int = 3) -> tuple[Fronts, np.ndarray, float]:
        return standing(fronts, Fronts(fronts, np.zeros(fronts.shape, bool)), {1: Energies(before, after, after, every)}, frames)

    assert not stood(after)[0].number.any()
    after[:, :20] *= 0.1
    stands, left, explained = stood(after)
    assert stands.number[40, 40] == 1 and not stands.number[:, 300:].any() and explained > 0
    # what single planes explain nearly wholly is no front that stays
    assert left[40, 190] and not left[40, 40] and not left[:, 328:].any()
    assert (stood(before * np.float32(0.9 * STANDS))[0].number == fronts).all() and not stood(before * np.float32(0.9 * STANDS), 2)[0].number.any()
    # of two frames a part is explained by what is not so: there only the whole stands
    after = before.copy()
    after[:, :20] *= 0.1
    assert stood(after)[0].number.any() and not stood(after, 2)[0].number.any()
    # a scrap in which lifting makes it worse does not stand for hanging together with the rest
    after = before * np.float32(0.1)
    after[:, 40:] = 2 * before[:, 40:]
    assert stood(after)[0].number[40, 100] == 1 and not stood(after)[0].number[:, 360:].any()


def test_a_thing_is_solid_where_that_explains_more_than_its_outline() -> None:
    thin, whole = np.zeros((160, 160), np.uint16), np.zeros((160, 160), np.uint16)
    whole[40:120, 40:120] = 2
    thin[40:120, 40:44], thin[40:120, 116:120] = 2, 2
    fronts = Fronts(whole, cv2.erode((whole > 0).astype(np.uint8), np.ones((11, 11))) > 0)
    before = np.ones((20, 20), np.float32)

    def stood(as_thin: float, as_whole: float) -> Fronts:
        return standing(thin, fronts, {2: Energies(before, before * np.float32(as_thin), before * np.float32(as_whole), before)}, 3)[0]

    assert (stood(0.8, 0.8 * SOLID_STANDS).number == whole).all() and (stood(0.8, 0.8 * SOLID_STANDS).solid == fronts.solid).all()
    found = stood(0.3, 0.3 / WORTH * 0.95)
    assert (found.number == thin).all() and not found.solid.any()
    assert not stood(1.0, 1.05 * SOLID_STANDS).number.any()


def _post(moved: float = 0.0) -> np.ndarray:
    """Coverage (h, w) of a wide post, to a sixteenth of a pixel."""
    over = 4
    cover = np.zeros((SIZE[1] * over, SIZE[0] * over), np.uint8)
    corners = np.array([(150 + moved, 90), (196 + moved, 92), (206 + moved, SIZE[1] + 20), (148 + moved, SIZE[1] + 20)]) * over * 16
    cv2.fillPoly(cover, [np.round(corners).astype(np.int32)], 255, cv2.LINE_8, 4)
    return cv2.resize(cover, SIZE, interpolation=cv2.INTER_AREA).astype(np.float32) / 255


@pytest.mark.parametrize("light", [(0.15, 0.12, 0.1), (0.12, 0.2, 0.06)])
def test_a_wide_thing_is_solid_and_the_ground_beside_it_clean(light: tuple[float, float, float]) -> None:
    frames, truth = _seen(light, thing=_post, flat=False)
    woven, lifted, stand, _ = _lifted(frames)
    cover = _post()
    middle = cv2.erode((cover > 0.99).astype(np.uint8), np.ones((35, 35))) > 0
    assert stand.solid[middle].mean() > 0.7 and not stand.solid[cover < 0.5].any()
    beside = (cv2.dilate((cover > 0).astype(np.uint8), np.ones((17, 17))) > 0) & (cover == 0)
    assert _error(lifted, truth, beside) < 0.6 * _error(woven, truth, beside)
    # at worst it has one frame's noise there, and not that of all together
    assert _error(lifted, truth, middle) < 2.5 * _error(woven, truth, middle)


def test_specks_are_no_fronts() -> None:
    mask = np.zeros((40, 40), np.uint8)
    mask[5, 2 : 2 + EXTENT], mask[20:23, 20:23] = 1, 1
    assert extended(mask).sum() == EXTENT


def test_what_single_planes_explain_is_looked_into_no_further() -> None:
    """Of three fronts one is well explained, one is not, and one is but for a spot: the first goes, the second stays whole, of the third what lies around the spot."""
    number = np.zeros((40 * CELL, 60 * CELL), np.uint16)
    number[4 * CELL : 5 * CELL, :] = 1
    number[16 * CELL : 17 * CELL, :] = 2
    number[30 * CELL : 31 * CELL, :] = 3
    every, left = np.ones((40, 60), np.float32), np.zeros((40, 60), np.float32)
    left[12:21] = 0.05
    left[25:36, 20:23] = 0.5
    thin, fronts = unexplained(number, Fronts(number, number == 1), left, every)
    assert not (fronts.number == 1).any() and not fronts.solid.any()
    assert ((fronts.number == 2) == (number == 2)).all()
    across = np.flatnonzero((fronts.number == 3).any(axis=0)) / CELL
    assert 8 < across.min() < 20 and 23 < across.max() < 35
    np.testing.assert_array_equal(thin, fronts.number)
