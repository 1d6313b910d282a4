"""What is lost without a frame: proven on made-up stacks of which the truth is known."""

from __future__ import annotations

from functools import cache

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bench.layered import Order, Stack, disc, make
from eaveplane.core.gather.consequence import Closely, laid_closely, losses
from eaveplane.core.gather.detail import measure_detail
from eaveplane.core.gather.shake import shake_of
from eaveplane.core.gather.verdicts import BEYOND, Leads, at_the_ends, borne_out, intruders
from eaveplane.imaging.colour import FloatArray, luminance
from eaveplane.imaging.placement import Placement

pytestmark = pytest.mark.slow


@cache
def stack(order: Order) -> Stack:
    return make(order)


@cache
def closely(order: Order) -> Closely:
    made = stack(order)
    roots = [np.sqrt(np.maximum(luminance(f), 0)).astype(np.float32) for f in made.frames]
    details = [measure_detail(r) for r in roots]
    size = roots[0].shape[1], roots[0].shape[0]
    placements = [Placement(fit, size) for fit in made.fits]
    return laid_closely(lambda k: details[k], placements, [1.0] * len(roots), lambda k, box: placements[k].lay(roots[k], box))


DENSE = Order(3, ("wire",), 9, 1.2, beyond=2, width=720)


def test_frames_past_everything_are_spared_and_a_wire_is_not() -> None:
    """Two wires cover under a hundredth of the picture, before ground that is sharp in other frames."""
    count = DENSE.count
    assert losses(closely(DENSE), [count - 2, count - 1], list(range(count - 2)), {}, {}) == {}
    found = losses(closely(DENSE), [0], list(range(1, count)), {}, {})
    assert found[0].part < 0.2 and found[0].box[2] > 100


def test_what_only_dropped_frames_cover_is_lost() -> None:
    """Frame by frame a dense bracket can be thinned; all of its far end at once cannot, whatever each neighbour holds."""
    dense = Order(4, ("boulder",), 12, 0.5, width=720)
    far = list(range(5, 12))
    found = losses(closely(dense), far, list(range(5)), {}, {})
    assert set(found) >= {10, 11} and found[11].energy > 2e-6
    assert set(losses(closely(dense), list(range(12)), [], {}, {})) == set(range(12))
    assert losses(closely(dense), [], [0, 1], {}, {}) == {}


@given(st.sets(st.integers(0, 8), min_size=1, max_size=5))
@settings(max_examples=6)
def test_the_more_frames_stay_the_less_is_lost(extra: set[int]) -> None:
    """A frame that can go while few stay can go while more of its neighbours do."""
    few = [k for k in range(7) if k not in extra][:4] or [0]
    last = DENSE.count - 1
    alone = losses(closely(DENSE), [last], [max(few)], {}, {})
    more = losses(closely(DENSE), [last], [max(few), *range(max(few) + 1, last)], {}, {})
    assert not (more and not alone)


def test_an_intruder_is_its_frames_own_but_nobody_minds_it() -> None:
    made = closely(DENSE)

    def with_bird(k: int, box: tuple[int, int, int, int]) -> FloatArray:
        seen = made.luma(k, box).copy()
        if k == DENSE.count - 1:
            x, y = max(0, 300 - box[0]), max(0, 60 - box[1])
            seen[y : max(0, 90 - box[1]), x : max(0, 340 - box[0])] = 0.05
        return seen

    details = [measure_detail(with_bird(k, (0, 0, *made.size))) for k in range(DENSE.count)]
    seen = laid_closely(lambda k: details[k], [Placement(np.eye(3), made.size)] * DENSE.count, [1.0] * DENSE.count, with_bird)
    last = DENSE.count - 1
    assert last in losses(seen, [last], list(range(last)), {}, {})
    assert losses(seen, [last], list(range(last)), {last: (296, 56, 48, 38)}, {}) == {}


# ---- shaken --------------------------------------------------------------------------------------------------


def _shakes(order: Order, which: tuple[int, ...]) -> list[bool]:
    frames = closely(order)
    found = []
    for k in which:
        near = sorted((j for j in range(order.count) if j != k), key=lambda j: abs(j - k))[:4]
        shake = shake_of(k, near, frames.luma, frames.size, float(frames.noise[k, 0]))
        found.append(shake is not None and shake.believed())
    return found


@pytest.mark.parametrize("seed", [11])
def test_a_shaken_frame_is_told_from_stems_and_cut_discs(seed: int) -> None:
    assert _shakes(Order(seed, ("stems", "boulder"), 6, 1.5, shaken=3, width=720), (2, 3, 5)) == [False, True, False]
    assert not any(_shakes(Order(seed + 20, ("stems",), 6, 2.5, cut=0.4, rim=0.5, width=720), (0, 3)))


def test_the_stroke_is_measured() -> None:
    rng = np.random.default_rng(1)
    sharp = cv2.GaussianBlur(rng.random((600, 900), np.float32), (0, 0), 1.0)
    stroke = np.zeros((13, 13), np.float32)
    for t in np.linspace(-5, 5, 200):
        stroke[6, round(6 + t)] += 1 / 200
    frames = [sharp, cv2.filter2D(sharp, -1, stroke), cv2.filter2D(sharp, -1, disc(2.0, Order(0)))]
    cut = lambda k, box: frames[k][box[1] : box[1] + box[3], box[0] : box[0] + box[2]]  # noqa: E731
    found = shake_of(1, [0, 2], cut, (900, 600), 1e-6)
    assert found is not None and found.believed() and found.length == pytest.approx(10, abs=2.6) and min(found.angle, np.pi - found.angle) < 0.3
    round_one = shake_of(2, [0], cut, (900, 600), 1e-6)
    assert round_one is None or not round_one.believed()


# ---- what blocks propose -------------------------------------------------------------------------------------


def _leads(sharpness: np.ndarray) -> Leads:
    """Leads of frames (n) whose log energy is given block by block."""
    energies = [np.exp(s)[None].repeat(2, axis=0).astype(np.float32) for s in sharpness]
    return Leads(energies, [np.zeros_like(e) for e in energies], np.ones(sharpness.shape[1:], bool))


def test_a_chain_of_frames_that_are_hardly_ahead_is_not_eaten_from_its_end() -> None:
    """Each frame leads the next by less than can be told, the first the last by a great deal."""
    depth = np.tile(np.linspace(0, 1, 40)[:, None], (1, 60))
    focus = np.linspace(0, 1, 20)
    sharp = -6 * np.abs(depth[None] - focus[:, None, None])
    assert len(at_the_ends(_leads(sharp), list(range(20)))) <= 4
    beyond = np.concatenate([sharp, -6 * np.abs(depth[None] - np.array([1.4, 1.8])[:, None, None])])
    found = at_the_ends(_leads(beyond), list(range(22)))
    assert {20, 21} <= set(found) and found[21] == BEYOND and len(found) <= 6


def test_what_a_needed_frame_parts_from_the_end_is_not_past_everything() -> None:
    past, spare = borne_out({0: "nearer than", 1: "nearer than", 5: BEYOND}, {3: "spare"}, list(range(6)), {0})
    assert set(past) == {5} and set(spare) == {1, 3}
    assert borne_out({5: BEYOND}, {3: "spare"}, list(range(6)), {5, 3}) == ({}, {})


def test_what_moved_aside_is_no_intruder_and_what_is_nowhere_else_is() -> None:
    def frame(stem: int, bird: bool) -> FloatArray:
        light = np.full((200, 300, 3), 0.4, np.float32)
        light[60:, stem : stem + 6] = 0.08
        if bird:
            light[20:40, 200:230] = 0.03
        return cv2.GaussianBlur(light, (0, 0), 1)

    known, blur = [np.ones((200, 300), bool)] * 4, [np.ones((20, 30), np.float32)] * 4
    assert intruders([frame(100 + dx, False) for dx in (0, 4, -3, 2)], known, blur, 1.0) == {}
    found = intruders([frame(100 + dx, dx == 4) for dx in (0, 4, -3, 2)], known, blur, 1.0)
    assert list(found) == [1] and 190 < found[1][1][0] < 210
