"""Flaws put into small made-up weaves are found, named by kind and frame, and nothing else is; remedies cover them."""

from __future__ import annotations

import math

import cv2
import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from eaveplane.core.gather.detail import LAPLACIAN, measure_detail, signal
from eaveplane.core.masks.strokes import Stroke
from eaveplane.core.mend.flaws.examine import examined, flaws_in
from eaveplane.core.mend.flaws.finding import BAD, Examined, Finding, ranked
from eaveplane.core.mend.flaws.judged import Judge, worth_offering
from eaveplane.core.mend.flaws.refused import halos
from eaveplane.core.mend.flaws.remedies import Remedy, covered_by, inside_of, is_mended, name_of, remedies, strokes_over
from eaveplane.core.mend.flaws.seams import seam_steps
from eaveplane.core.mend.flaws.specks import spots
from eaveplane.core.weave.places import Places
from eaveplane.core.weave.weave import RegisteredFrames
from eaveplane.imaging.colour import FloatArray
from eaveplane.imaging.light import root_luma
from eaveplane.imaging.placement import Placement

WIDTH, HEIGHT, NOISE, BLUR = 640, 480, 0.003, 3.0
UPPER = np.s_[: HEIGHT // 2]


def textured(seed: int) -> np.ndarray:
    """A picture in root light, textured at all sizes below and plain as a sky above a third."""
    rng = np.random.default_rng(seed)
    picture = np.zeros((HEIGHT, WIDTH), np.float32)
    for sigma, strength in ((1.0, 0.10), (3, 0.06), (12, 0.05)):
        rough = cv2.GaussianBlur(rng.standard_normal((HEIGHT, WIDTH)).astype(np.float32), (0, 0), sigma)
        picture += strength * rough / rough.std() / 2
    picture[: HEIGHT // 3] *= 0.02
    return np.repeat((0.5 + picture)[..., None], 3, axis=2)


def disc(picture: np.ndarray) -> np.ndarray:
    radius = int(BLUR)
    kernel = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * radius + 1,) * 2).astype(np.float32)
    return np.asarray(cv2.filter2D(picture, -1, kernel / kernel.sum(), borderType=cv2.BORDER_REFLECT), np.float32)


class Made:
    """Two frames of a picture, the first sharp below, the second sharp above, their label weights and their plain weave."""

    def __init__(self, seed: int = 1) -> None:
        rng = np.random.default_rng([seed, 2])
        sharp = textured(seed)
        self.frames = []
        for k in range(2):
            frame = disc(sharp)
            part = np.s_[: HEIGHT // 2] if k else np.s_[HEIGHT // 2 :]
            frame[part] = sharp[part]
            self.frames.append(frame + NOISE * rng.standard_normal(frame.shape).astype(np.float32))
        self.gates = np.zeros((2, HEIGHT // 4, WIDTH // 4), np.float32)
        self.gates[1, : HEIGHT // 8], self.gates[0, HEIGHT // 8 :] = 1, 1

    def woven(self) -> np.ndarray:
        owner = cv2.resize(self.gates[1], (WIDTH, HEIGHT), interpolation=cv2.INTER_NEAREST)[..., None]
        return owner * self.frames[1] + (1 - owner) * self.frames[0]

    def found(self, picture: np.ndarray | None = None, shift: float = 0.0, aside: float = 0.0) -> list[Finding]:
        woven = self.woven() if picture is None else picture
        placements = [Placement(np.array([[1, 0, k * shift + (1 - k) * aside], [0, 1, 0], [0, 0, 1.0]]), (WIDTH, HEIGHT)) for k in range(2)]
        laid = RegisteredFrames(["a", "b"], 0, (WIDTH, HEIGHT), placements, 20 * NOISE**2, lambda k, level, box: cut(self.frames[k], box), Places((BLUR, 0.0), 0.1, 1e-6, 1e-6, (1.0, 1.0)))
        contrasts = np.stack([np.sqrt(signal(measure_detail(root_luma(frame)))) for frame in self.frames]).astype(np.float16)
        seen, luma = examined(laid, self.gates, contrasts, lambda box: cut(woven, box), only_full_size=True)
        return flaws_in(seen, luma, laid.placements)


def cut(picture: np.ndarray, box: tuple[int, int, int, int]) -> np.ndarray:
    x, y, w, h = box
    return np.ascontiguousarray(picture[y : y + h, x : x + w])


def holds(finding: Finding, x: float, y: float) -> bool:
    left, top, w, h = finding.box
    return left <= x <= left + w and top <= y <= top + h


def test_a_weave_without_flaws_has_no_findings() -> None:
    for seed in range(3):
        assert Made(seed).found() == []


def test_a_place_given_to_a_blurred_frame_is_soft_and_the_sharp_one_is_named() -> None:
    made = Made()
    made.gates[:, 90:105, 60:90] = 0
    made.gates[1, 90:105, 60:90] = 1
    (flaw,) = made.found()
    assert flaw.kind == "soft" and flaw.frames[0] == 0 and holds(flaw, 300, 390) and flaw.severity > 0.3
    assert flaw.told(["near", "far"]) == "Frame near is sharper here."
    x, y, w, h = flaw.box
    assert abs(x - 240) < 24 and abs(y - 360) < 24 and abs(w - 120) < 48 and abs(h - 60) < 48


def test_what_no_frame_shows_sharper_is_no_finding_though_it_is_soft() -> None:
    made = Made()
    made.frames = [frame.copy() for frame in made.frames]
    for frame in made.frames:
        frame[330:420, 200:360] = disc(disc(frame))[330:420, 200:360]
    assert made.found() == []


def test_a_bright_place_from_a_blurred_frame_is_a_wrong_source() -> None:
    made = Made()
    made.frames = [frame + np.float32(0.4) for frame in made.frames]
    made.gates[:, 90:105, 60:90] = 0
    made.gates[1, 90:105, 60:90] = 1
    (flaw,) = made.found()
    assert flaw.kind == "source" and flaw.frames[0] == 0


@pytest.mark.parametrize("gain", [0.97, 1.04])
def test_a_step_of_tone_between_frames_is_told_by_how_much(gain: float) -> None:
    made = Made()
    made.frames[1] = made.frames[1] * np.float32(gain)
    found = made.found()
    (flaw,) = found
    assert flaw.kind == "seam" and flaw.frames == (0, 1) and abs(flaw.box[1] + flaw.box[3] / 2 - HEIGHT / 2) < 12
    # of light, which is the square of what is compared
    assert f"{100 * math.expm1(2 * abs(math.log(gain))):.0f} %" in flaw.said and flaw.stops == pytest.approx(2 * math.log2(gain), abs=0.01)
    # the reference keeps its tone; the other is trimmed back
    trim, spread = remedies(flaw, ["a", "b"], 0)
    assert (trim.frame, trim.strokes, trim.stops) == (1, (), pytest.approx(-2 * math.log2(gain), abs=0.01))
    assert [r.frame for r in remedies(flaw, ["a", "b"], 1)] == [0, None]
    # or the step is spread where it was seen
    assert not spread.heals and {(s.action, s.way, s.frame) for s in spread.strokes} == {("way", "broad-seams", "")} and is_mended(flaw, spread.strokes)


@pytest.mark.parametrize("given_by_a_third", [False, True])
def test_no_step_is_told_between_frames_of_which_the_weave_has_nothing(given_by_a_third: bool) -> None:
    """Labels name two frames on either side, both of which the weave departs from by a step; where it is a third frame all along, that says nothing."""
    rng, shape = np.random.default_rng(4), (48, 96)
    small = np.repeat((0.5 + 0.05 * rng.standard_normal(shape)).astype(np.float32)[..., None], 3, axis=2)
    below = (np.arange(shape[0]) >= 30).astype(np.float32)[:, None, None]
    apart = [0.02 + 0.05 * below, 0.01 + 0.05 * below, 0 * below]
    frames = np.stack([small * np.exp(step + spread * rng.standard_normal((*shape, 1))) for step, spread in zip(apart, (0.03, 0.03, 0.001), strict=True)]).astype(np.float16)
    gates = np.zeros((3, *shape), np.float32)
    gates[0], gates[1] = 1 - below[..., 0], below[..., 0]
    count = 3 if given_by_a_third else 2
    seen = Examined(
        np.zeros((count, 3, *shape), np.float16), np.zeros((3, *shape), np.float32), np.ones((count, *shape), np.bool_), small, frames[:count], gates[:count], None,
        (4 * shape[1], 4 * shape[0]), 1e-6, lambda k, box: small,
    )  # fmt: skip
    assert len(list(seam_steps(seen))) == (0 if given_by_a_third else 1)


def rough(shape: tuple[int, int], gains: list[float], owner: np.ndarray, texture: float) -> Examined:
    """Frames of one rough picture, on the pooled grid, each with its own texture, made lighter by gains, and the weave of them by owner (h, w)."""
    rng = np.random.default_rng(6)
    ground = np.repeat((0.5 + 0.05 * rng.standard_normal(shape)).astype(np.float32)[..., None], 3, axis=2)
    frames = np.stack([gain * ground * np.exp(texture * rng.standard_normal((*shape, 1))) for gain in gains]).astype(np.float16)
    gates = np.stack([owner == k for k in range(len(gains))]).astype(np.float32)
    small = np.asarray((gates[..., None] * frames).sum(axis=0), np.float32)
    full = np.zeros((len(gains), 3, *shape), np.float16)
    return Examined(full, full[0].astype(np.float32), np.ones((len(gains), *shape), np.bool_), small, frames, gates, None, (4 * shape[1], 4 * shape[0]), 1e-6, lambda k, box: small)


STRIPES = np.repeat(np.repeat(np.arange(4), 30)[:, None], 200, axis=1)


@pytest.mark.parametrize("wrong", range(4))
@pytest.mark.parametrize("texture", [0.002, 0.1])
def test_a_frame_out_of_tune_with_the_others_is_named_once_however_rough_the_ground(wrong: int, texture: float) -> None:
    (flaw,) = seam_steps(rough((120, 200), [0.96 if k == wrong else 1.0 for k in range(4)], STRIPES, texture))
    assert flaw.frames[1] == wrong and flaw.stops == pytest.approx(2 * math.log2(0.96), abs=0.02)
    # it is the one that is trimmed first, the reference, too
    first = remedies(flaw, ["a", "b", "c", "d"], wrong)[0]
    assert first.frame == wrong and first.stops == pytest.approx(-2 * math.log2(0.96), abs=0.02)
    # where it gives nothing there is no step
    assert not list(seam_steps(rough((120, 200), [1.0, 1.0, 1.0, 1.0, 0.96], STRIPES, texture)))
    assert not list(seam_steps(rough((120, 200), [1.0] * 4, STRIPES, texture)))


def test_a_step_that_no_frame_bears_out_is_told_but_never_alone_a_doubt() -> None:
    seen = rough((120, 200), [1.0] * 4, STRIPES, 0.002)
    seen.small[STRIPES == 1] *= 1.06
    found = list(seam_steps(seen))
    assert found and all(flaw.kind == "seam" and 1 in flaw.frames and flaw.severity < BAD for flaw in found)
    assert "12 %" in found[0].said, "of light, which is the square of what is compared"
    (all_over,) = seam_steps(rough((120, 200), [1.0, 1.06, 1.0, 1.0], STRIPES, 0.002))
    assert all_over.severity > BAD


def test_two_frames_are_out_of_tune_with_each_other_and_the_reference_is_trusted() -> None:
    (flaw,) = seam_steps(rough((120, 200), [1.0, 1.04], STRIPES // 2, 0.1))
    assert set(flaw.frames) == {0, 1}
    for reference in (0, 1):
        (only,) = (remedy for remedy in remedies(flaw, ["a", "b"], reference) if remedy.frame is not None)
        assert only.frame == 1 - reference and only.stops == pytest.approx((-1 if reference == 0 else 1) * 2 * math.log2(1.04), abs=0.02)


def spot(frame: np.ndarray, x: int, y: int, radius: float, strength: float) -> None:
    down, across = np.mgrid[:HEIGHT, :WIDTH].astype(np.float32)
    frame += (strength * np.exp(-((across - x) ** 2 + (down - y) ** 2) / (2 * radius**2)))[..., None]


@pytest.mark.parametrize(("radius", "strength"), [(2.0, -0.08), (5.0, -0.05), (3.0, 0.06)])
def test_a_spot_of_one_frame_is_a_speck_and_one_of_the_scene_is_not(radius: float, strength: float) -> None:
    made = Made()
    spot(made.frames[1], 200, 80, radius, strength)
    # what stands in the scene is in both frames
    for frame in made.frames:
        spot(frame, 420, 80, radius, strength)
    (flaw,) = made.found()
    assert flaw.kind == "speck" and flaw.frames == (1,) and holds(flaw, 200, 80)


@pytest.mark.parametrize("noise", [0.0008, 0.003, 0.04])
def test_a_faint_spot_is_told_on_quiet_ground_and_noise_is_never_taken_for_one(noise: float) -> None:
    ground = (0.5 + noise * np.random.default_rng(9).standard_normal((HEIGHT, WIDTH, 1))).astype(np.float32)
    assert not spots(ground[..., 0], noise**2)
    # its contrast after both blurs is 0.3 of its depth: under what is told on any ground
    spot(ground, 200, 80, 2.5, -0.03)
    found = spots(ground[..., 0], noise**2)
    assert [(round(x), round(y)) for x, y, *_ in found] == ([(200, 80)] if noise < 0.01 else [])


def test_a_spot_that_swayed_in_other_frames_or_that_no_other_reaches_is_no_speck() -> None:
    made = Made()
    spot(made.frames[1], 200, 80, 2.0, -0.08)
    spot(made.frames[0], 203, 80, 3.5, -0.08 * (2.0 / 3.5) ** 2)
    assert made.found() == []
    made = Made()
    spot(made.frames[1], 30, 80, 2.0, -0.08)
    assert [f.kind for f in made.found()] == ["speck"]
    # the first frame lies 60 px farther right
    assert made.found(aside=60.0) == []


def test_a_spot_of_the_sensor_is_told_from_one_of_the_scene() -> None:
    made = Made()
    # frames as they are laid: the second moved by 14 pixels, and its dust with it
    spot(made.frames[0], 200, 80, 2.5, -0.08)
    spot(made.frames[1], 214, 80, 2.5, -0.08)
    found = made.found(shift=14.0)
    assert {f.kind for f in found} == {"speck"} and any("place of the sensor" in f.said or "alone" in f.said for f in found)
    assert any(holds(f, 214, 80) for f in found)


def test_a_thing_that_moved_and_is_cut_off_is_a_ghost() -> None:
    made = Made(4)
    rng = np.random.default_rng(8)
    stem = cv2.GaussianBlur(rng.standard_normal((120, 60)).astype(np.float32), (0, 0), 2.0)
    stem = 0.18 * stem / stem.std() / 2
    for k, x in enumerate((300, 312)):
        made.frames[k][280:400, x : x + 60] = 0.5 + (stem if k == 0 else cv2.GaussianBlur(stem, (0, 0), 1.0))[..., None]
    picture = made.woven()
    # half of either moment: the thing stands twice
    picture[270:410, 290:385] = (made.frames[0][270:410, 290:385] + made.frames[1][270:410, 290:385]) / 2
    found = made.found(picture)
    assert any(f.kind == "ghost" and holds(f, 340, 340) and f.frames[0] == 0 for f in found)
    assert not [f for f in made.found() if f.kind == "ghost"]


@pytest.mark.parametrize(("width", "height"), [(36, 34), (64, 40), (70, 66)])
def test_small_pictures_are_looked_at_without_complaint(width: int, height: int) -> None:
    frames = [np.random.default_rng(k).random((height, width, 3)).astype(np.float32) for k in range(2)]
    placements = [Placement(np.eye(3), (width, height))] * 2
    laid = RegisteredFrames(["a", "b"], 0, (width, height), placements, 1e-6, lambda k, level, box: cut(frames[k], box), Places((3.0, 0.0), 0.1, 1e-6, 1e-6, (1.0, 1.0)))
    contrasts = np.stack([np.sqrt(signal(measure_detail(root_luma(frame)))) for frame in frames]).astype(np.float16)
    gates = np.full((2, -(-height // 4), -(-width // 4)), 0.5, np.float32)
    seen, luma = examined(laid, gates, contrasts, lambda box: cut(frames[0], box), only_full_size=True)
    assert all(f.kind != "ghost" for f in flaws_in(seen, luma, laid.placements))


def test_halos_are_where_wide_veils_were_refused() -> None:
    shape = (60, 80)
    contrasts = np.zeros((2, 3, *shape), np.float16)
    contrasts[0] = 0.1
    refused = np.zeros(shape, np.float32)
    refused[20:30, 40:50] = 1

    def seen(blur: float) -> Examined:
        small, gates = np.full((*shape, 3), 0.5, np.float32), np.ones((2, *shape), np.float32)
        frames = np.stack([small, small]).astype(np.float16)
        return Examined(contrasts, contrasts[0].astype(np.float32), gates > 0, small, frames, gates, [blur, 0.0], (320, 240), 1e-6, lambda k, box: small)

    (flaw,) = halos(seen(9.0), refused)
    assert flaw.kind == "halo" and flaw.box == (160, 80, 40, 40) and "about 9 px" in flaw.said and 0 < flaw.severity < 0.5
    assert not list(halos(seen(1.0), refused)) and not list(halos(seen(9.0), np.zeros(shape, np.float32)))


def test_the_worst_comes_first_and_one_place_is_reported_once() -> None:
    flaws = [Finding("soft", (0, 0, 40, 40), (), 0.3, (0,), ""), Finding("ghost", (4, 4, 36, 36), (), 0.6, (0,), ""), Finding("seam", (200, 0, 40, 40), (), 0.2, (0, 1), "")]
    assert [f.kind for f in ranked(flaws)] == ["ghost", "seam"]


# ---- remedies --------------------------------------------------------------------------------------------------


def flaw_of(outline: list[tuple[float, float]]) -> Finding:
    points = np.array(outline)
    (x, y), (x1, y1) = points.min(axis=0).astype(int), np.ceil(points.max(axis=0)).astype(int)
    return Finding("soft", (int(x), int(y), int(x1 - x) + 1, int(y1 - y) + 1), tuple(outline), 0.5, (1, 0), "Frame {0} is sharper here.")


@given(st.integers(0, 10_000), st.floats(12, 900), st.integers(3, 12))
@settings(max_examples=60)
def test_strokes_cover_whatever_was_outlined_and_little_beside_it(seed: int, size: float, corners: int) -> None:
    rng = np.random.default_rng(seed)
    turns = np.sort(rng.uniform(0, 2 * np.pi, corners))
    reach = size * rng.uniform(0.4, 1.0, corners)
    flaw = flaw_of([(1000 + float(r * np.cos(t)), 1000 + float(r * np.sin(t))) for r, t in zip(reach, turns, strict=True)])
    inside = inside_of(flaw)
    assume(inside.sum() >= 4)
    strokes = strokes_over(flaw.outline, "f")
    assert is_mended(flaw, strokes) and float(covered_by(flaw, strokes)[inside].mean()) > 0.93
    assert all(s.action == "draw" and s.frame == "f" and s.fitted for s in strokes)
    far = np.array(flaw.outline)
    for stroke in strokes:
        x, y, w, h = stroke.bounds()
        assert x > far[:, 0].min() - 120 and y > far[:, 1].min() - 120 and x + w < far[:, 0].max() + 120 and y + h < far[:, 1].max() + 120


def test_a_flaw_is_mended_by_any_brush_over_most_of_it_but_not_by_one_beside_it() -> None:
    flaw = flaw_of([(100, 100), (180, 100), (180, 160), (100, 160)])
    assert not is_mended(flaw, [])
    across = Stroke(action="in", frame="a", width=80, softness=0.2, opacity=1, points=[(100, 130), (180, 130)])
    assert is_mended(flaw, [across]) and not is_mended(flaw, [across.model_copy(update={"points": [(100, 300), (180, 300)]})])
    ways = [[across.model_copy(update={"action": "way", "frame": "", "way": way})] for way in ("gentle", "")]
    assert [is_mended(flaw, strokes) for strokes in ways] == [True, False], "a way that is taken back leaves it as it was"


def test_remedies_draw_from_the_frames_named_and_specks_are_healed_first() -> None:
    flaw = flaw_of([(100, 100), (180, 100), (180, 160), (100, 160)])
    assert [(r.frame, {s.frame for s in r.strokes}) for r in remedies(flaw, ["a", "b", "c"], 0)] == [(1, {"b"}), (0, {"a"})]
    ways = remedies(flaw, ["a", "b", "c"], 0, ["gentle", "crisp-seams"])[2:]
    assert [(r.way, {(s.action, s.way, s.frame) for s in r.strokes}) for r in ways] == [(way, {("way", way, "")}) for way in ("gentle", "crisp-seams")]
    assert all(is_mended(flaw, r.strokes) and not r.heals for r in ways)
    speck = Finding("speck", (50, 50, 10, 10), tuple((55 + 5 * math.cos(t), 55 + 5 * math.sin(t)) for t in range(6)), 0.4, (2,), "")
    found = remedies(speck, ["a", "b", "c"], 0)
    assert [r.frame for r in found] == [None, 1] and found[0].strokes[0].action == "heal"
    assert all(is_mended(speck, r.strokes) for r in found)
    assert name_of(speck) == name_of(Finding("speck", (51, 52, 10, 10), (), 0.9, (1,), "")) == "speck-1-1"


# ---- whether they make it better -------------------------------------------------------------------------------


def texture(seed: int, blur: float) -> FloatArray:
    grain = cv2.GaussianBlur(np.random.default_rng(seed).normal(0.5, 1.2, (96, 128)).astype(np.float32), (0, 0), max(blur, 0.7))
    return np.repeat(grain[..., None], 3, axis=2)


ALL = np.ones((96, 128), np.bool_)


def test_what_brings_detail_back_comes_first_and_what_takes_more_is_not_offered() -> None:
    sharp, soft, softer = (texture(1, blur) for blur in (0, 2, 5))
    # what lies behind is sharp in another frame: the first, drawn over all, would lose it
    left = np.s_[:, :64]
    near, far = softer.copy(), sharp.copy()
    near[left], far[left] = sharp[left], softer[left]
    judge = Judge.of([near, far], [ALL, ALL], soft, 1e-9)
    assert judge.something_is_lost and judge.left(soft) == pytest.approx(1) and judge.left(sharp) < 0.01 and judge.left(softer) > 1.1
    frames = [Remedy(k, (Stroke(action="draw", frame=str(k), width=9, softness=0, opacity=1, points=[(1, 1)]),)) for k in range(3)]
    way = Remedy(None, frames[0].strokes, way="joint-light")
    under = {0: near, 1: softer, 2: soft, None: sharp}
    offered = worth_offering("soft", [*frames, way], judge, lambda remedy: under[remedy.frame])
    assert [remedy for remedy, _ in offered] == [way, frames[0]] and offered[0][1] < 0.01 < offered[1][1] < 0.95
    # moments stay in their order, and a thing that is as sharp elsewhere is no worse
    assert [remedy.frame for remedy, _ in worth_offering("ghost", frames, judge, lambda remedy: under[remedy.frame])] == [0, 2]
    # a picture that has all that any frame has cannot be made better
    assert not worth_offering("soft", [*frames, way], Judge.of([near, far], [ALL, ALL], sharp, 1e-9), lambda remedy: under[remedy.frame])


def test_a_speck_is_healed_whatever_frames_show_and_drawn_over_only_by_what_is_sharp() -> None:
    sharp, softer = texture(2, 0), texture(2, 5)
    judge = Judge.of([sharp], [ALL], sharp, 1e-9)
    stroke = Stroke(action="heal", width=9, softness=0, opacity=1, points=[(1, 1)])
    tried = [Remedy(None, (stroke,)), *(Remedy(k, (stroke,)) for k in range(2))]
    assert [remedy.frame for remedy, _ in worth_offering("speck", tried, judge, lambda remedy: [sharp, softer][remedy.frame or 0])] == [None, 0]


@given(st.floats(1e-4, 3e-3), st.integers(0, 99))
@settings(max_examples=20)
def test_noise_is_no_detail(variance: float, seed: int) -> None:
    rng, plain = np.random.default_rng(seed), np.full((96, 128, 3), 0.5, np.float32)
    noisy = [plain + rng.normal(0, np.sqrt(variance), (96, 128, 1)).astype(np.float32) for _ in range(3)]
    told, taken = (float(np.square(Judge.of(noisy, [ALL] * 3, plain, LAPLACIAN * known).best).sum()) for known in (variance, 0.0))
    assert told < 0.1 * taken


def test_where_a_frame_is_not_it_shows_nothing() -> None:
    sharp, soft = texture(3, 0), texture(3, 3)
    assert not Judge.of([sharp, soft], [~ALL, ALL], soft, 1e-9).something_is_lost
