"""Gather: scenes of made-up outings, and the hands that mark where they begin."""

from __future__ import annotations

from collections import defaultdict
from datetime import datetime, timedelta
from functools import lru_cache

import cv2
import numpy as np
import pytest

from bench.cards import SIZE, Card, composition, deal, noisy
from eaveplane.core.gather.composition import alike, exposure_between, glimpse
from eaveplane.core.gather.exposures import exposure_step
from eaveplane.core.gather.split import Taken, split

pytestmark = pytest.mark.slow

BEGIN = datetime(2026, 4, 11, 6, 0)


@lru_cache
def dealt(seed: int) -> Card:
    rng = np.random.default_rng(seed)
    return deal(seed, int(rng.integers(1, 5)), int(rng.choice([1, 1, 3])), bool(seed % 2))


@pytest.mark.parametrize("known", [True, False], ids=["with times", "pictures alone"])
def test_outings_fall_into_their_scenes(known: bool) -> None:
    right = total = found = markers = accused = 0
    for seed in range(2):
        card = dealt(seed)
        taken = [Taken(f.taken, SIZE, f.focal_mm) if known else Taken() for f in card.frames]
        seen = split([glimpse(f.light) for f in card.frames], taken)
        true = defaultdict(list)
        for i, frame in enumerate(card.frames):
            if not frame.marker:
                true[frame.scene].append(i)
        total += len(true)
        right += sum(frames in seen.scenes for frames in true.values())
        real = {i for i, frame in enumerate(card.frames) if frame.marker}
        markers += len(real)
        found += len(real & set(seen.markers()))
        accused += len(set(seen.markers()) - real)
        assert sorted([i for s in seen.scenes for i in s] + seen.markers()) == list(range(len(card.frames)))
    print(f"scenes right: {right} of {total}; markers found: {found} of {markers}, {accused} accused")
    assert right >= (0.98 if known else 0.90) * total and found >= 0.95 * markers and accused == 0


def test_a_long_pause_ends_a_scene_and_a_slow_rhythm_does_not() -> None:
    pictures, _, _ = composition("saltpan", 17.0)
    glimpses = [glimpse(p) for p in pictures[:6]]
    slow = split(glimpses, [Taken(BEGIN + timedelta(seconds=90 * i)) for i in range(6)])
    assert slow.scenes == [[0, 1, 2, 3, 4, 5]]
    twice = split(glimpses, [Taken(BEGIN + timedelta(seconds=2 * i + 900 * (i > 2))) for i in range(6)])
    assert twice.scenes == [[0, 1, 2], [3, 4, 5]]
    assert split([], []).scenes == []
    zoomed = split(glimpses, [Taken(None, None, 24.0 if i < 2 else 35.0) for i in range(6)])
    assert zoomed.scenes == [[0, 1], [2, 3, 4, 5]]


def test_exposure_is_told_apart_from_composition() -> None:
    rng = np.random.default_rng(3)
    pictures, _, _ = composition("thistle", 17.0)
    others, _, _ = composition("larch", 17.0)
    plain, brighter = glimpse(noisy(pictures[3], 0, rng)), glimpse(noisy(pictures[4], 1.5, rng))
    assert exposure_between(plain, brighter) == pytest.approx(1.5, abs=0.1)
    assert alike(plain, brighter) > 0.93 and alike(plain, glimpse(noisy(others[3], 0, rng))) < 0.8
    assert np.isnan(alike(plain, glimpse(np.ones((120, 180, 3), np.float32))))


@pytest.mark.parametrize("landscape", ["saltpan", "thistle", "larch", "lava"])
def test_a_cloud_that_passes_leaves_a_composition_what_it_is_and_a_hand_does_not(landscape: str) -> None:
    rng = np.random.default_rng(5)
    pictures, hands, _ = composition(landscape, 17.0)
    plain = glimpse(noisy(pictures[2], 0, rng))
    for _ in range(4):
        cells = cv2.GaussianBlur(rng.standard_normal((48, 72)).astype(np.float32), (0, 0), 9)
        shade = 0.7 + 0.3 * np.tanh(2 * cv2.resize(cells / cells.std(), pictures[4].shape[1::-1], interpolation=cv2.INTER_CUBIC))
        assert alike(plain, glimpse(noisy(np.asarray(pictures[4] * shade[..., None], np.float32), 0, rng))) > 0.9
    assert all(alike(plain, glimpse(noisy(hand, 0, rng))) < 0.9 for hand in hands)


def test_a_step_of_exposure_is_the_same_everywhere_and_a_shadow_or_another_focus_is_none() -> None:
    rng = np.random.default_rng(6)
    pictures, _, _ = composition("thistle", 17.0)

    def curved(light: np.ndarray) -> np.ndarray:
        """As a camera's own curve renders it."""
        root = np.sqrt(np.clip(light, 0, 1))
        return np.asarray((0.4 * root + 0.6 * root**2 * (3 - 2 * root)) ** 2, np.float32)

    for render in (lambda light: light, curved):
        plain = glimpse(render(noisy(pictures[3], -1, rng)))
        for ev in (-2.5, -0.3, 0.7):
            step = exposure_step(plain, glimpse(render(noisy(pictures[3], ev, rng))))
            assert np.sign(step) == np.sign(ev + 1) and abs(step) > 0.6
        assert exposure_step(plain, glimpse(render(noisy(pictures[5], 0.5, rng)))) == 0
    dark = np.ones(pictures[3].shape[:2], np.float32)
    dark[:, : dark.shape[1] // 2] = 0.5
    plain, shaded = (glimpse(noisy(np.asarray(pictures[3] * shade[..., None], np.float32), -1, rng)) for shade in (np.ones_like(dark), dark))
    assert exposure_step(plain, shaded) == 0
