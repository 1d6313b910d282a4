"""Joint light: planes, where frames are focused, the sum of frames, and what stands in where summing is wrong."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache

import cv2
import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from eaveplane.core.masks.strokes import Stroke
from eaveplane.core.weave.finest import bounded
from eaveplane.core.weave.laid import RegisteredFrames, Weaving
from eaveplane.core.weave.locate import locate
from eaveplane.core.weave.places import NOTHING, TILE, Places, evened, place_among, shared_energies
from eaveplane.core.weave.planes import LEAST_APART, disc_left, explained_by, explanations, weights_of
from eaveplane.core.weave.ways.joint_light import BLOCK, MOST_SUMMED
from eaveplane.core.weave.weave import masks_in, weave_box, woven_by
from eaveplane.imaging.light import light_of, root_of
from eaveplane.imaging.placement import Placement
from eaveplane.imaging.waves import FREQUENCIES, Waves

PLACES = (6.0, 3.0, 0.0)
SIZE = (640, 560)
WHOLE = (0, 0, *SIZE)


def _texture(seed: int, size: tuple[int, int] = SIZE) -> np.ndarray:
    """Linear light (h, w, 3) with detail of all sizes."""
    rng = np.random.default_rng(seed)
    total = sum(cv2.GaussianBlur(rng.standard_normal((size[1], size[0], 3)), (0, 0), s) * s for s in (0.8, 2, 6, 20))
    return np.clip(0.3 + 0.06 * total, 0.02, 1).astype(np.float32)


def _defocused(picture: np.ndarray, radius: float) -> np.ndarray:
    waves = Waves(picture.shape[:2], (80, 80), (40, 40))
    return np.moveaxis(waves.picture(waves.of([picture]), disc_left(radius * FREQUENCIES)[None]), 0, -1)


def _laid(frames: list[np.ndarray], places: Places | None, noise: float = 1e-7) -> tuple[RegisteredFrames, np.ndarray]:
    """Frames (h, w, 3) in linear light that lie on each other already, and gates that let all of them in."""
    size = (frames[0].shape[1], frames[0].shape[0])
    roots = [root_of(frame).astype(np.float32) for frame in frames]

    def read(k: int, level: int, box: tuple[int, int, int, int]) -> np.ndarray:
        picture = roots[k]
        for _ in range(level):
            picture = cv2.resize(picture, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
        return np.ascontiguousarray(picture[box[1] : box[1] + box[3], box[0] : box[0] + box[2]])

    gates = np.full((len(frames), -(-size[1] // 4), -(-size[0] // 4)), 1 / len(frames), np.float32)
    return RegisteredFrames([f"f{k}" for k in range(len(frames))], len(frames) // 2, size, [Placement(np.eye(3), size)] * len(frames), noise, read, places), gates


def _known(places: tuple[float, ...] = PLACES, noise: float = 1e-7, noisier: tuple[float, ...] = ()) -> Places:
    return Places(places, 0.1, noise / 20, noise / 8, noisier or (1.0,) * len(places))


def _two_planes() -> tuple[list[np.ndarray], np.ndarray]:
    """Frames of two pictures whose light adds up, one in the first frame's plane and one in the last's, and their sum."""
    near, far = 0.5 * _texture(1), 0.5 * _texture(2)
    return [_defocused(near, abs(u - PLACES[0])) + _defocused(far, abs(u - PLACES[-1])) for u in PLACES], near + far


def _error(root: np.ndarray, light: np.ndarray) -> float:
    inner = np.s_[64:-64, 64:-64]
    return float(np.square(root[inner] - root_of(light)[inner]).mean())


@given(st.lists(st.floats(-20, 20), min_size=2, max_size=5), st.data())
def test_planes_explain_what_they_show(places: list[float], data: st.DataObject) -> None:
    """Waves that discs around the frames' places make of pictures in planes are what those planes leave nothing of, whatever the noise."""
    planes = tuple(data.draw(st.lists(st.floats(min(places) - 1, max(places) + 1), min_size=1, max_size=min(2, len(places) - 1), unique=True)))
    noisier = tuple(data.draw(st.lists(st.floats(1, 4), min_size=len(places), max_size=len(places))))
    from_frames, to_frames = explained_by(tuple(places), planes, 2.0, noisier)
    left = np.eye(len(places))[..., None] - np.einsum("mjf,mkf->jkf", to_frames, from_frames)
    seen = disc_left((np.array(places)[:, None] - np.array(planes)) * FREQUENCIES[:, None, None] / 2)
    pictures = np.random.default_rng(1).standard_normal((len(FREQUENCIES), len(planes)))
    frames = np.einsum("fjz,fz->fj", seen, pictures)
    error = np.einsum("jkf,fk->fj", left, frames)
    # the ridge costs a little where discs leave next to nothing
    assert (np.square(error).sum(axis=1) <= 0.02 * np.square(pictures).sum(axis=1)).all()
    turned = left * np.array(noisier)[:, None]
    np.testing.assert_allclose(turned, np.swapaxes(turned, 0, 1), atol=5e-5)


@settings(max_examples=25)
@given(st.lists(st.floats(0, 25), min_size=2, max_size=5, unique=True), st.floats(1e-6, 1e3), st.floats(1, 100))
@example([0.0, 0.5, 0.25], 0.1, 1.0)
@example([0.2 * k for k in range(30)], 0.1, 30.0)
def test_weights_keep_the_mean_and_what_is_tried_covers_all_frames(places: list[float], error: float, first: float) -> None:
    tried = explanations(tuple(places))
    assert tried[-1] == tuple(sorted(places))
    for planes in tried:
        weights = weights_of(tuple(places), planes, error, (first, *(1.0 for _ in places[1:])))
        assert weights[:, 0].sum() == pytest.approx(1, abs=1e-3) and np.isfinite(weights).all()
    singles = np.array([p[0] for p in tried if len(p) == 1])
    assert np.abs(singles - np.array(places)[:, None]).min(axis=1).max() <= 0.35
    assert all(b - a >= LEAST_APART for a, b in (p for p in tried if len(p) == 2) if len(places) > 2)


@settings(max_examples=25)
@given(st.lists(st.integers(0, 12), min_size=2, max_size=5, unique=True))
def test_nothing_that_a_frame_shows_sharp_is_lost_but_to_noise(steps: list[int]) -> None:
    """How much of the waves of a plane its sum has: all of them where some frame is focused there, less the more noise there is."""
    places = tuple(1.5 * step for step in steps)

    def kept(planes: tuple[float, ...], error: float) -> np.ndarray:
        seen = disc_left(FREQUENCIES * (np.array(places) - planes[0])[:, None])
        return np.asarray((weights_of(places, planes, error, (1.0,) * len(places)) * seen).sum(axis=0))[FREQUENCIES < 0.5]

    for planes in ((places[0],), (places[0], places[1])):
        sharp, noisy, lost = (kept(planes, error) for error in (1e-3, 1.0, 30.0))
        # pairs close together may come out a little too strong where others are far off: of any five of these places by 1.7 % at most
        assert sharp.min() > 0.98 and sharp.max() < 1.02
        assert lost[-1] < noisy[-1] < sharp[-1] and lost[-1] < 0.6
    # what lies between all of them is known less well: its finest waves are not made up
    between = (places[0] + 0.75,)
    assert kept(between, 1e-3)[-1] < kept((places[0],), 1e-3)[-1]


@pytest.mark.parametrize(("noise", "least", "most"), [(1e-3, 0.94, 1.005), (3e-2, 0.0, 0.63)])
def test_a_clear_line_keeps_its_contrast_and_a_faint_one_gives_way_to_noise(noise: float, least: float, most: float) -> None:
    """Lines a pixel wide and a fifth darker, in one plane of two."""
    rng, places = np.random.default_rng(8), (0.0, 3.5)
    lines = np.full((SIZE[1], SIZE[0], 3), 0.3, np.float32)
    lines[:, 20::16] *= 0.8
    frames = [np.square(np.maximum(root_of(_defocused(lines, u)) + noise * rng.standard_normal(lines.shape, np.float32), 0)) for u in places]
    laid, gates = _laid(frames, Places(places, 0.1, noise**2 / 4, 3 * noise**2 / 2, (1.0, 1.0)), 20 * noise**2)
    picture = light_of(weave_box(laid, gates, Weaving(), [], WHOLE, 0)[0])[64:-64, 64:-64]
    step = lines[0, 64:-64, 0] - lines[0, 64:-64, 0].mean()
    shown = (picture.mean(axis=(0, 2)) * step).sum() / (step * step).sum()
    assert least < shown < most


def test_light_that_adds_up_is_summed_to_what_no_choice_reaches() -> None:
    frames, truth = _two_planes()
    laid, gates = _laid(frames, _known())
    ours = _error(weave_box(laid, gates, Weaving(), [], WHOLE, 0)[0], truth)
    best = np.min([np.square(root_of(f) - root_of(truth)).sum(axis=2) for f in frames], axis=0)[64:-64, 64:-64].mean() / 3
    assert ours < 0.35 * best
    crisp = _error(weave_box(laid, gates, Weaving(way="crisp-seams"), [], WHOLE, 0)[0], truth)
    assert ours < 0.2 * crisp


def test_noise_of_one_plane_falls() -> None:
    """A plane that all frames show alike: three of them have a third of the noise's variance."""
    rng, noise = np.random.default_rng(5), 2e-3
    flat = [np.square(0.5 + noise * rng.standard_normal((SIZE[1], SIZE[0], 3), np.float32)) for _ in PLACES]
    laid, gates = _laid(flat, _known((0.2, 0.1, 0.0), 20 * noise**2), 20 * noise**2)
    picture, _ = weave_box(laid, gates, Weaving(), [], WHOLE, 0)
    assert picture[80:-80, 80:-80].var() < 0.55 * noise**2


@cache
def _woven(level: int) -> np.ndarray:
    laid, gates = _laid(_two_planes()[0], _known())
    return weave_box(laid, gates, Weaving(), [], (0, 0, *laid.size_at(level)), level)[0]


@pytest.mark.parametrize("count", [2, 5, 12])
def test_a_quiet_sky_keeps_its_light(count: int) -> None:
    """Where no explanation is better than any other there is still one."""
    rng = np.random.default_rng(count)
    sky = [np.square(0.4 + 1e-3 * rng.standard_normal((SIZE[1], SIZE[0], 3), np.float32)) for _ in range(count)]
    laid, gates = _laid(sky, _known(tuple(1.5 * k for k in range(count)), 20e-6), 20e-6)
    picture, _ = weave_box(laid, gates, Weaving(), [], WHOLE, 0)
    np.testing.assert_allclose(cv2.blur(picture, (9, 9)), 0.4, atol=1e-3)


@settings(max_examples=5)
@given(st.integers(0, 600), st.integers(0, 500), st.integers(1, 200), st.integers(1, 200), st.integers(0, 1))
def test_a_box_is_the_same_wherever_it_is_cut(x: int, y: int, w: int, h: int, level: int) -> None:
    laid, gates = _laid(_two_planes()[0], _known())
    size = laid.size_at(level)
    x, y = min(x, size[0] - 1), min(y, size[1] - 1)
    w, h = min(w, size[0] - x), min(h, size[1] - y)
    part, masks = weave_box(laid, gates, Weaving(), [], (x, y, w, h), level)
    whole = _woven(level)
    np.testing.assert_array_equal(part, whole[y : y + h, x : x + w])
    np.testing.assert_allclose(sum(masks.values()), 1, atol=1e-4)


def test_blocks_meet_without_a_joint() -> None:
    """What is left of a wave that ends at a block's rim is far below what an eye sees."""
    frames, _ = _two_planes()
    laid, gates = _laid(frames, _known())
    picture, _ = weave_box(laid, gates, Weaving(), [], WHOLE, 0)
    cut = [f[:, 37:] for f in frames]
    moved, gates = _laid(cut, _known())
    other, _ = weave_box(moved, gates, Weaving(), [], (0, 0, SIZE[0] - 37, SIZE[1]), 0)
    # the same pixels lie in other blocks
    inner = np.s_[64:-64, BLOCK - 100 : BLOCK + 40]
    assert np.abs(other[:, : SIZE[0] - 37][inner] - picture[:, 37:][inner]).max() < 4e-3


def test_crisp_seams_stand_in_where_things_moved() -> None:
    """A stone that lies elsewhere in one frame is not woven of both places."""
    frames = [_texture(1) * 0.6 for _ in PLACES]
    for k, frame in enumerate(frames):
        cv2.circle(frame, (300 + 30 * (k == 0), 280), 40, (0.9, 0.85, 0.8), -1)
    laid, gates = _laid(frames, _known())
    gates[:] = 0
    gates[1] = 1
    picture, _ = weave_box(laid, gates, Weaving(), [], WHOLE, 0)
    doubled = np.mean([root_of(f) for f in frames], axis=0)
    ring = np.s_[262:298, 336:364]
    assert np.abs(picture[ring] - root_of(frames[1])[ring]).mean() < 0.35 * np.abs(doubled[ring] - root_of(frames[1])[ring]).mean()


def test_what_stands_in_is_of_one_moment() -> None:
    """Whatever labels say, a stone that lies elsewhere in frames focused as the reference is stands once, where the reference has it; a frame
    focused far away keeps its part."""
    frames = [_texture(1) * 0.6 for _ in PLACES]
    for k, frame in enumerate(frames):
        cv2.circle(frame, (300 + 30 * (k != 1), 280), 40, (0.9, 0.85, 0.8), -1)
    (laid, gates), (far, _) = (_laid(frames, _known(places)) for places in ((2.0, 1.0, 0.0), (12.0, 6.0, 0.0)))
    gates[:] = np.array([0.9, 0.05, 0.05], np.float32)[:, None, None]
    reference, ring = root_of(frames[1]), np.s_[262:298, 336:364]
    (one, _), (judged, _) = (weave_box(registered, gates, Weaving(), [], WHOLE, 0) for registered in (laid, far))
    assert np.abs(one[ring] - reference[ring]).mean() < 0.01
    assert np.abs(judged[ring] - reference[ring]).mean() > 0.05


def test_where_a_hand_painted_its_frame_stands() -> None:
    frames, _ = _two_planes()
    laid, gates = _laid(frames, _known())
    stroke = Stroke(action="in", frame="f0", width=80, softness=0.3, opacity=1, points=[(200, 200)])
    plain, _ = weave_box(laid, gates, Weaving(), [], WHOLE, 0)
    painted, masks = weave_box(laid, gates, Weaving(), [stroke], WHOLE, 0)
    np.testing.assert_allclose(painted[190:210, 190:210], root_of(frames[0])[190:210, 190:210], atol=1e-3)
    assert masks[0][200, 200] == pytest.approx(1, abs=1e-3)
    np.testing.assert_array_equal(painted[300:], plain[300:])
    told = masks_in(laid, gates, Weaving(), [stroke], (150, 150, 100, 100), 0)
    np.testing.assert_allclose(told[0][50, 50], 1, atol=1e-3)


def test_frames_that_explain_nothing_are_woven_by_crisp_seams() -> None:
    frames, _ = _two_planes()
    for places in (None, Places(PLACES, NOTHING + 0.01, 1e-8, 1e-8, (1.0,) * len(PLACES))):
        laid, gates = _laid(frames, places)
        assert woven_by(laid, Weaving()) == "crisp-seams"
        np.testing.assert_array_equal(weave_box(laid, gates, Weaving(), [], WHOLE, 0)[0], weave_box(laid, gates, Weaving(way="crisp-seams"), [], WHOLE, 0)[0])


@pytest.mark.parametrize("way", ["joint-light", "crisp-seams", "fine-tangle", "gentle"])
def test_frames_that_are_alike_are_woven_into_themselves(way: str) -> None:
    frame = _texture(4)
    laid, gates = _laid([frame, frame, frame], _known((0.4, 0.2, 0.0)))
    picture, masks = weave_box(laid, gates, Weaving(way=way), [], WHOLE, 0)
    assert np.abs(picture - root_of(frame))[70:-70, 70:-70].max() < 0.02
    np.testing.assert_allclose(sum(masks.values()), 1, atol=1e-4)


def test_many_frames_are_summed_by_the_dozen_and_lose_nothing() -> None:
    count, texture = 2 * MOST_SUMMED, _texture(9)
    there = np.linspace(9, 0, count)
    rows = np.arange(SIZE[1]) * count // SIZE[1]
    frames = []
    for u in there:
        frame = np.zeros_like(texture)
        for k in range(0, count, 5):
            band = (rows >= k) & (rows < k + 5)
            frame[band] = _defocused(texture, abs(u - there[k + 2]))[band]
        frames.append(frame)
    laid, gates = _laid(frames, Places(tuple(float(u) for u in there), 0.1, 1e-9, 1e-8, (1.0,) * len(there)))
    gates[:] = 0
    for k in range(count):
        gates[k, (rows[::4] >= k - 1) & (rows[::4] <= k + 1)] = 1 / 3
    picture, _ = weave_box(laid, gates, Weaving(), [], WHOLE, 0)
    crisp, _ = weave_box(laid, gates, Weaving(way="crisp-seams"), [], WHOLE, 0)
    # both are 57 dB or better: what is summed loses nothing that anybody sees
    assert max(_error(picture, texture), _error(crisp, texture)) < 2e-6


@given(st.floats(0, 1), st.floats(0, 1), st.floats(-3, 3))
def test_a_picture_is_kept_to_what_frames_show(low: float, high: float, value: float) -> None:
    frames = [np.full((9, 9, 3), v, np.float32) for v in (low, high)]
    found = bounded(np.full((9, 9, 3), value, np.float32), frames)
    span = abs(high - low)
    assert min(low, high) - 0.16 * span - 1e-6 <= found.min() and found.max() <= max(low, high) + 0.21 * span + 1e-6


def _slope(true: Sequence[float], nearest: float | None = None, grey: bool = False, steps: int = 12) -> tuple[RegisteredFrames, np.ndarray]:
    """Frames focused at these places on a slope in steps from near (the first, or `nearest`) to far, with noise, and how much detail there is."""
    rng, texture = np.random.default_rng(2), _texture(6)
    texture = np.repeat(texture[..., :1], 3, axis=2) * np.float32([1.1, 1, 0.7]) if grey else texture
    depth = np.linspace(nearest or max(true), 0, steps)
    rows = np.minimum(np.arange(SIZE[1]) * steps // SIZE[1], steps - 1)
    frames = []
    for u in true:
        frame = np.zeros_like(texture)
        for k, z in enumerate(depth):
            frame[rows == k] = _defocused(texture, abs(u - z))[rows == k]
        frames.append(np.square(root_of(frame) + 2e-3 * rng.standard_normal(frame.shape)).astype(np.float32))
    detail = cv2.resize(np.square(cv2.Laplacian(root_of(texture).mean(axis=2).astype(np.float32), cv2.CV_32F)), (SIZE[0] // 4, SIZE[1] // 4), interpolation=cv2.INTER_AREA)
    return _laid(frames, None)[0], detail


def test_a_frame_that_was_taken_to_lie_far_off_on_the_wrong_side_is_brought_back() -> None:
    true = (10.0, 8.0, 6.0, 4.0, 2.0, 0.0)
    laid, _ = _slope(true)
    bands = evened([light_of(laid.read(k, 0, (0, 0, *SIZE))) for k in range(len(true))])[0]
    tiles = shared_energies(np.stack([bands[:, y : y + TILE, x : x + TILE] for y in range(32, 200, 48) for x in range(32, 240, 48)]), 4e-6)
    at = place_among(np.array([-14.0, 8.0, 6.0, 4.0, 2.0, 0.0]), tiles, range(len(true)))
    np.testing.assert_allclose(at - at[-1], true, atol=0.5)


def test_many_frames_of_which_half_show_nothing_sharp_are_placed_on_one_line() -> None:
    """Twenty-six close together, those in front of everything told by how they blur alone, their steps guessed three times too wide."""
    true = np.linspace(12, 0, 26)
    laid, detail = _slope(true, 6.5)
    found = locate(lambda k, box: laid.read(k, 0, box), len(true), SIZE, detail, -1.5 * np.arange(26))
    assert found is not None and found.trusted
    at = np.array(found.at) * np.sign(found.at[0] - found.at[-1])
    np.testing.assert_allclose(at - at[-1], true, atol=1.2)
    # where something is sharp they lie closer
    np.testing.assert_allclose((at - at[-1])[12:], true[12:], atol=0.35)


@pytest.mark.parametrize("true", [(5.0, 2.5, 0.0), (4.0, 3.1, 1.0, 0.0), (3.0, 0.0, 6.0, 9.0)])
def test_where_frames_are_focused_is_found_from_the_pictures(true: tuple[float, ...]) -> None:
    """A slope from near to far, rough guesses, noise, an order that was taken for the true one: differences of places to a third of a pixel."""
    laid, detail = _slope(true)
    guess = 1.2 * np.arange(len(true))
    found = locate(lambda k, box: laid.read(k, 0, box), len(true), SIZE, detail, guess)
    assert found is not None and found.trusted
    at = np.array(found.at) * np.sign((found.at[0] - found.at[-1]) * (true[0] - true[-1]))
    np.testing.assert_allclose(at - at[-1], np.array(true) - true[-1], atol=0.35)
    # noise is measured, too, as well as a picture without quiet parts allows
    assert found.evened > 0.5 * 4e-6 and found.finest > 0.5 * 4e-6
    assert locate(lambda k, box: laid.read(k, 0, box), len(true), (200, 200), detail, guess) is None


@pytest.mark.parametrize("apart", [2.0, 2.66, 3.4])
def test_how_far_two_frames_are_apart_does_not_hang_on_which_planes_are_tried(apart: float) -> None:
    laid, detail = _slope((apart, 0.0), steps=3)
    found = locate(lambda k, box: laid.read(k, 0, box), 2, SIZE, detail, 1.2 * np.arange(2))
    assert found is not None and abs(found.at[0] - found.at[1]) == pytest.approx(apart, rel=0.08)


def test_a_noisy_frame_is_told_and_a_sharp_one_is_not_taken_for_it() -> None:
    """Where nothing is plain."""
    true, rng = (5.0, 2.5, 0.0, -2.5), np.random.default_rng(4)
    laid, detail = _slope(true, grey=True)
    loud = 0.008 * rng.standard_normal((SIZE[1], SIZE[0], 3)).astype(np.float32)
    found = locate(lambda k, box: laid.read(k, 0, box), len(true), SIZE, detail, 2.0 * np.arange(4))
    assert found is not None and found.noisier == (1, 1, 1, 1)

    def read(k: int, box: tuple[int, int, int, int]) -> np.ndarray:
        return np.asarray(laid.read(k, 0, box) + (loud[box[1] : box[1] + box[3], box[0] : box[0] + box[2]] if k == 2 else 0), np.float32)

    found = locate(read, len(true), SIZE, detail, 2.0 * np.arange(4))
    assert found is not None and found.trusted
    # 8 to 2 in deviation, 17 to 1 in variance; texture is in what the others show, too
    assert found.noisier[0] == found.noisier[1] == found.noisier[3] == 1 and 4 < found.noisier[2] < 22
    at = np.array(found.at) * np.sign(found.at[0] - found.at[-1])
    np.testing.assert_allclose(at - at[-1], np.array(true) - true[-1], atol=0.4)


def test_a_noisy_frame_gives_what_it_alone_shows_and_leaves_the_rest_to_quiet_ones() -> None:
    """Wires that only the noisy frame has sharp, before a texture that all show nearly sharp."""
    rng, places, noise = np.random.default_rng(9), (8.0, 1.0, 0.0), 1.5e-3
    far = 0.6 * _texture(3)
    near = np.zeros_like(far)
    near[:, 24::48] = near[:, 25::48] = 0.25
    times = (60.0, 1.0, 1.0)
    frames = [_defocused(near, 8 - u) + _defocused(far, u) for u in places]
    frames = [np.square(np.maximum(root_of(f) + noise * np.sqrt(t) * rng.standard_normal(f.shape, np.float32), 0)) for f, t in zip(frames, times, strict=True)]

    def woven(told: tuple[float, ...]) -> np.ndarray:
        laid, gates = _laid(frames, Places(places, 0.1, noise**2 / 4, 3 * noise**2 / 2, told), 20 * noise**2)
        return np.asarray(light_of(weave_box(laid, gates, Weaving(), [], WHOLE, 0)[0])[64:-64, 64:-64])

    truth = (near + far)[64:-64, 64:-64]
    known, unknown = (np.square(woven(told) - truth) for told in (times, (1.0, 1.0, 1.0)))
    assert known.mean() < 0.7 * unknown.mean()
    wires = near[64:-64, 64:-64, 0] > 0
    beside = np.roll(wires, 8, axis=1)
    picture = woven(times)
    assert picture[wires].mean() - picture[beside].mean() == pytest.approx(truth[wires].mean() - truth[beside].mean(), rel=0.03)


def test_light_of_a_sum_is_the_sum_of_light() -> None:
    """What all this rests on: discs act on linear light, not on its root."""
    near, far = _texture(1), _texture(2)
    np.testing.assert_allclose(_defocused(near + far, 3), _defocused(near, 3) + _defocused(far, 3), atol=1e-5)
    assert np.abs(light_of(root_of(near)) - near).max() < 1e-6
