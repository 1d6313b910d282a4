"""Frames of a camera that moved: the motion from matches of which the truth is known, depth by search, and when it is believed."""

from __future__ import annotations

import math

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from eaveplane.core.register.features import Features
from eaveplane.core.register.moved import LITTLE, UNSURE, Moved, moved
from eaveplane.core.register.parallax import depth_from_focus, solve
from eaveplane.core.register.sweep import band, sweep
from eaveplane.core.weave.contradiction import contradicts, unlike
from eaveplane.imaging.placement import Placement, Shift, unit

SIZE = (480, 320)
FOCUS = np.array([6.0, 3.0, 0.0])
"""Frames near, mid and far; the middle one is the reference."""


def _true_depth(points: np.ndarray) -> np.ndarray:
    """Ground that comes nearer towards the lower edge."""
    return np.clip(points[:, 1] / (SIZE[1] - 1), 0, 1)


def _matches(seed: int, steps: np.ndarray, turn: float, noise: float) -> tuple[np.ndarray, dict[int, tuple[np.ndarray, np.ndarray]], list[Placement], list[np.ndarray]]:
    """Features of the reference, where frames 0 and 2 see them, where these truly lie, and detail maps that tell depth by focus, roughly."""
    rng = np.random.default_rng(seed)
    points = rng.uniform((10, 10), (SIZE[0] - 10, SIZE[1] - 10), (400, 2))
    grid = np.full((40, 60), 0.0, np.float32)
    grid += np.linspace(0, 1, 40, dtype=np.float32)[:, None]
    c, s = math.cos(math.radians(turn)), math.sin(math.radians(turn))
    placements = [Placement(np.array([[c, -s, 4.0 * k], [s, c, -3.0 * k], [0, 0, 1]]), SIZE, Shift(steps[k], grid, SIZE)) for k in range(3)]
    seen = {}
    for k in (0, 2):
        index = np.flatnonzero(rng.random(400) < 0.8)
        there = placements[k].back(points[index]) + rng.normal(0, noise, (len(index), 2))
        stray = rng.random(len(index)) < 0.1
        there[stray] += rng.uniform(-12, 12, (int(stray.sum()), 2))
        seen[k] = there, index
    # a frame is sharp where its focus is
    details = [np.exp(-(((grid - f) / 0.35) ** 2)).astype(np.float32) for f in (1.0, 0.5, 0.0)]
    return points, seen, placements, details


@given(st.integers(0, 99), st.floats(-8, 8), st.floats(-8, 8), st.floats(-4, 4), st.floats(-1, 1))
@settings(max_examples=12)
def test_a_step_is_found_through_strays(seed: int, across: float, up: float, forward: float, turn: float) -> None:
    steps = np.array([[across, up, forward], [0, 0, 0], [-up, across, -forward / 2]])
    points, seen, placements, details = _matches(seed, steps, turn, 0.2)
    flat = [placement.matrix for placement in placements]
    motion = solve(points, seen, flat, FOCUS, details, SIZE, 8.0)
    depth = motion.depth[:, None]
    for k, (_, index) in seen.items():
        found = Placement(motion.matrices[k], SIZE).back(points) + (motion.steps[k][:2] + motion.steps[k][2] * unit(points, SIZE)) * depth
        error = np.linalg.norm(found - placements[k].back(points), axis=1)[index]
        assert np.median(error) < 0.3


def test_of_a_frame_that_shows_one_depth_alone_a_step_is_no_more_than_a_guess() -> None:
    """What lies at one depth shifts by a step as it does by a turn: then nothing is known of what is far."""
    points, seen, placements, details = _matches(3, np.array([[3.0, 1, 0], [0, 0, 0], [-2.0, 1, 0]]), 0.2, 0.2)
    near = {k: (there[low], index[low]) for k, (there, index) in seen.items() for low in [(points[index, 1] > 270) if k == 0 else np.ones(len(index), bool)]}
    motion = solve(points, near, [placement.matrix for placement in placements], FOCUS, details, SIZE, 8.0)
    assert motion.unsure[0] > UNSURE > 2 * motion.unsure[2] and motion.unsure[1] == 0


def test_depth_follows_the_sharpest_frames() -> None:
    details = [np.full((8, 8), v, np.float32) for v in (0.1, 1.0, 0.1)]
    at = [np.array([[10.0, 10.0]])] * 3
    assert depth_from_focus(details, at, FOCUS, 4.0)[0] == pytest.approx(0.5, abs=1e-3)
    details[0][:] = 3.0
    assert depth_from_focus(details, at, FOCUS, 4.0)[0] == pytest.approx(1.0, abs=1e-2)


def test_features_that_no_frame_shows_lie_in_the_middle() -> None:
    dark = [np.zeros((8, 8), np.float32)] * 3
    assert depth_from_focus(dark, [np.array([[10.0, 10.0]])] * 3, FOCUS, 4.0)[0] == pytest.approx(0.5)


def _pictures(steps: np.ndarray) -> tuple[list[np.ndarray], list[Placement], np.ndarray]:
    """Three frames of ground, each as blurred as its focus makes it, taken by a camera that stepped; where they lie; true depth."""
    rng = np.random.default_rng(4)
    texture = np.clip(0.5 + 0.25 * cv2.GaussianBlur(rng.standard_normal((SIZE[1], SIZE[0])).astype(np.float32), (0, 0), 1.0) * 3.5, 0, 1).astype(np.float32)
    depth = np.repeat(np.linspace(0, 1, SIZE[1], dtype=np.float32)[:, None], SIZE[0], axis=1)
    frames, placements = [], []
    for k in range(3):
        placements.append(Placement(np.eye(3), SIZE, Shift(steps[k], depth, SIZE) if k != 1 else None))
        # the frame's pixel is where `back` leads: undone by looking the other way
        ys, xs = np.mgrid[: SIZE[1], : SIZE[0]]
        places = np.stack([xs, ys], -1).reshape(-1, 2).astype(np.float64)
        there = placements[k].onto(places).reshape(SIZE[1], SIZE[0], 2).astype(np.float32)
        rows = cv2.remap(texture, there[..., 0], there[..., 1], cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
        blur = np.abs(depth - (1.0, 0.5, 0.0)[k]) * 6
        levels = [rows] + [cv2.GaussianBlur(rows, (0, 0), r / 2) for r in (1.5, 3.0, 4.5, 6.0)]
        frames.append(np.choose(np.clip(np.round(blur / 1.5), 0, 4).astype(int), levels).astype(np.float32))
    return frames, placements, depth


STEPS = np.array([[4.0, -3.0, 1.0], [0, 0, 0], [-5.0, 2.0, 0.0]])


def _features(frames: list[np.ndarray], placements: list[Placement]) -> list[Features]:
    """The same made-up features in all frames, told apart by their descriptors."""
    rng = np.random.default_rng(9)
    points = rng.uniform((12, 12), (SIZE[0] - 12, SIZE[1] - 12), (300, 2))
    names = rng.random((300, 128)).astype(np.float32)
    names = np.sqrt(names / names.sum(axis=1, keepdims=True))
    return [Features((points if k == 1 else placements[k].back(points)).astype(np.float32), names) for k in range(len(frames))]


def test_depth_is_found_by_search_where_a_frame_is_sharp() -> None:
    frames, placements, depth = _pictures(STEPS)
    features = _features(frames, placements)
    points = features[1].points.astype(np.float64)
    seen = {k: (features[k].points.astype(np.float64), np.arange(300)) for k in (0, 2)}
    details = [np.exp(-(((depth[::8, ::8] - f) / 0.35) ** 2)).astype(np.float32) for f in (1.0, 0.5, 0.0)]
    motion = solve(points, seen, [np.eye(3)] * 3, FOCUS, details, SIZE, 8.0)
    found = sweep(0, band(frames[0]), band(frames[1]), motion, FOCUS, 1, 1e-6)
    # depth is known but for its scale, which goes with that of the step: what counts is where things come to lie
    box = (0, 0, *SIZE)
    error = Placement(motion.matrices[0], SIZE, Shift(motion.steps[0], found, SIZE)).looks(box) - placements[0].looks(box)
    assert np.median(np.linalg.norm(error, axis=2)[depth > 0.75]) < 0.25


def _tried(steps: np.ndarray) -> Moved | None:
    frames, placements, depth = _pictures(steps)
    details = [np.exp(-(((depth[::8, ::8] - f) / 0.35) ** 2)).astype(np.float32) for f in (1.0, 0.5, 0.0)]
    return moved(lambda k: frames[k], _features(frames, placements), details, 8.0, [np.eye(3)] * 3, FOCUS, 1, 1e-6, SIZE)


def test_a_camera_that_moved_is_believed_and_one_that_stood_is_not() -> None:
    found = _tried(STEPS)
    assert found is not None and found.believed() and min(found.gains[0], found.gains[2]) > 0.2
    _, placements, depth = _pictures(STEPS)
    for k, zone in ((0, depth > 0.8), (2, depth < 0.2)):
        error = np.linalg.norm(found.placements[k].looks((0, 0, *SIZE)) - placements[k].looks((0, 0, *SIZE)), axis=2)
        assert np.median(error[zone]) < 0.25
    assert _tried(np.zeros((3, 3))) is None


def test_a_frame_that_gains_nothing_stays_where_its_fit_puts_it() -> None:
    """Thin stems half a pixel aside cost more than a depth that is nearly right brings."""
    steps = STEPS.copy()
    steps[2] = 0
    found = _tried(steps)
    assert found is not None and found.gains[0] > 0.2 and found.placements[0].shift is not None
    assert found.gains[2] <= LITTLE and found.placements[2].shift is None
    np.testing.assert_allclose(found.placements[2].matrix, np.eye(3), atol=1e-12)


def test_what_is_said_for_a_movement_counts_as_a_whole() -> None:
    assert not Moved([], [-0.001, -0.002, 0.0, 0.003], []).believed()
    assert Moved([], [0.05, 0.0, 0.01], []).believed()
    # one frame can neither bring it about nor prevent it by itself, however loud
    assert not Moved([], [0.003] * 60, []).believed(), "a little of many frames says nothing"
    assert not Moved([], [0.9, 0.0, -0.05], []).believed() and Moved([], [0.05, 0.05, 0.05, -0.9], []).believed()


def test_too_few_matches_say_nothing() -> None:
    empty = Features(np.zeros((0, 2), np.float32), np.zeros((0, 128), np.float32))
    flat = np.zeros((SIZE[1], SIZE[0]), np.float32)
    assert moved(lambda k: flat, [empty] * 3, [flat[::8, ::8]] * 3, 8.0, [np.eye(3)] * 3, FOCUS, 1, 1e-6, SIZE) is None


def test_what_is_elsewhere_contradicts_and_blur_does_not() -> None:
    rng = np.random.default_rng(2)
    ground = cv2.GaussianBlur(rng.random((240, 360), np.float32), (0, 0), 1.2)
    blurry = cv2.GaussianBlur(ground, (0, 0), 1.0)
    assert np.median(unlike(blurry, ground, 2.5, 1e-7)) < 0.1
    with_stem, elsewhere = ground.copy(), ground.copy()
    with_stem[40:200, 100:106] = 0.05
    elsewhere[40:200, 118:124] = 0.05
    out = contradicts(elsewhere, with_stem, 1.0, 1e-7, (60, 90))
    assert out[20:45, 25:31].mean() > 0.8 and out[:, 60:].mean() < 0.02
    # frames so far apart are judged at half the size, blur and all, and of what is left of a picture at an eighth nothing is told
    far_off = cv2.GaussianBlur(elsewhere, (0, 0), 2.5)
    assert contradicts(far_off, with_stem, 5.0, 1e-7, (60, 90))[20:45, 25:31].mean() > 0.8
    assert not contradicts(cv2.GaussianBlur(with_stem, (0, 0), 2.5), with_stem, 5.0, 1e-7, (60, 90)).any()
    assert not contradicts(far_off, with_stem, 20.0, 1e-7, (60, 90)).any()
