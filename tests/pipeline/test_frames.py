"""Frames of a scene fall into focus positions: real brackets stay together, a camera or a sky that changes its light makes none."""

from __future__ import annotations

from datetime import datetime, timedelta
from itertools import product

import cv2
import numpy as np
import pytest

from bench.cards import composition, noisy
from eaveplane.core.gather.composition import Glimpse, glimpse
from eaveplane.imaging.exif import Metadata
from eaveplane.pipeline.frames import exposure_groups

BEGIN = datetime(2026, 4, 11, 6, 0)


def shot(landscape: str, places: list[int], bright: list[float], by_hand: bool = False) -> list[Glimpse]:
    """Frames at places of the row of focus, so bright as they came out; a hand moves by about half a hundredth of the width."""
    rng = np.random.default_rng(3)
    pictures, _, _ = composition(landscape, 17.0)

    def seen(place: int) -> np.ndarray:
        picture = pictures[place]
        h, w = picture.shape[:2]
        held = cv2.getRotationMatrix2D((w / 2, h / 2), float(rng.normal(0, 0.3)) * by_hand, 1)
        held[:, 2] += rng.normal(0, 0.005 * w, 2) * by_hand
        return np.maximum(cv2.warpAffine(picture, held, (w, h), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT), 0)

    return [glimpse(noisy(seen(place), stops, rng)) for place, stops in zip(places, bright, strict=True)]


def told(stops: list[float]) -> list[Metadata]:
    return [Metadata(taken=BEGIN + timedelta(seconds=2 * k), seconds=0.01 * 2**ev, f_number=8, iso=100) for k, ev in enumerate(stops)]


@pytest.mark.parametrize("landscape", ["saltpan", "thistle", "larch", "lava"])
@pytest.mark.parametrize("stops", [[0.0, 1 / 3, -1 / 3], [0.0, -0.5, -1.0], [1.0, 0.0, -1.0], [0.0, 0.6, -0.6, 1.2]])
def test_a_camera_that_follows_the_light_takes_no_bracket(landscape: str, stops: list[float]) -> None:
    """Aperture priority: the time changes with the light, so frames come out alike; or the light stays and they do not."""
    each = [[k] for k in range(len(stops))]
    places = [1, 3, 5, 6][: len(stops)]
    for bright in (stops, [-1.0] * len(stops)):
        assert exposure_groups(told(stops), shot(landscape, places, [b - 1 for b in bright])) == each
    assert exposure_groups([Metadata()] * len(stops), shot(landscape, places, [b - 1 for b in stops])) == each


@pytest.mark.parametrize("landscape", ["saltpan", "thistle", "larch", "lava"])
@pytest.mark.parametrize("step", [0.7, 2.0])
def test_brackets_are_found_with_and_without_what_files_say(landscape: str, step: float) -> None:
    stops = [0.0, -step, step] * 2
    bright, places = [s - 1 for s in stops], [1, 1, 1, 4, 4, 4]
    for metas, seen in product((told(stops), [Metadata()] * 6), (shot(landscape, places, bright), shot(landscape, places, bright, by_hand=True))):
        assert exposure_groups(metas, seen) == [[1, 0, 2], [4, 3, 5]]
