"""A camera that moved, as the steps that register and label its frames take it."""

from __future__ import annotations

from dataclasses import replace
from types import SimpleNamespace
from typing import Any

import cv2
import numpy as np
import pytest

from eaveplane.core.even.drift import Drift
from eaveplane.core.gather.detail import measure_detail
from eaveplane.core.register.trust import REFERENCE
from eaveplane.core.weave.places import Places
from eaveplane.imaging.placement import Placement
from eaveplane.pipeline.steps import register as registering
from eaveplane.pipeline.steps.label import evidence
from eaveplane.pipeline.steps.register import Registration

SIZE = (360, 240)
EXPLAINED, UNEXPLAINED = (Places((1.0, 0.0), left, 1e-8, 1e-8, (1.0, 1.0)) for left in (0.3, 0.95))


def _frame(luma: np.ndarray) -> Any:
    detail = measure_detail(luma)
    return SimpleNamespace(size=SIZE, detail=lambda: detail, luma=lambda: luma, fine_noise=lambda: 1e-7)


@pytest.mark.parametrize(("focus", "places", "shut"), [([1.0, 0.0], None, True), ([1.0, 0.0], UNEXPLAINED, True), ([1.0, 0.0], EXPLAINED, False), (None, None, False)])
def test_a_frame_has_no_part_in_what_is_elsewhere_only_where_nothing_else_explains_it(focus: list[float] | None, places: Places | None, shut: bool) -> None:
    ground = cv2.GaussianBlur(np.random.default_rng(2).random(SIZE[::-1], np.float32), (0, 0), 1.2)
    moved, standard = ground.copy(), ground.copy()
    moved[40:200, 118:124] = 0.05
    standard[40:200, 100:106] = 0.05
    laid = Registration(1, [Placement(np.eye(3), SIZE)] * 2, [REFERENCE] * 2, "similarity", focus, [Drift()] * 2, [None] * 2, SIZE)
    told = evidence([_frame(moved), _frame(standard)], laid, (0, 1), places)
    assert told.reach[1].all() and (told.reach[0][20:45, 25:31].mean() < 0.2) == shut
    assert told.reach[0][:, 60:].mean() > 0.95


def test_a_dark_frame_is_as_sharp_as_it_would_be_in_the_others_light() -> None:
    ground = cv2.GaussianBlur(np.random.default_rng(3).random(SIZE[::-1], np.float32), (0, 0), 1.0)
    soft = cv2.GaussianBlur(ground, (0, 0), 1.6)
    gains = [Drift(gain=(4.0, 4.0, 4.0)), Drift()]
    laid = Registration(1, [Placement(np.eye(3), SIZE)] * 2, [REFERENCE] * 2, "similarity", [3.2, 0.0], gains, [None] * 2, SIZE)
    told = evidence([_frame(ground / 2), _frame(soft)], laid, (0, 1), None)
    alike = evidence([_frame(ground), _frame(soft)], replace(laid, drifts=[Drift()] * 2), (0, 1), None)
    assert alike.reach[0].mean() > 0.9
    np.testing.assert_allclose(told.cost, alike.cost, atol=1e-3)
    assert (told.cost.argmin(axis=0) == 0).mean() > 0.7 and told.reach[0].mean() == alike.reach[0].mean()


def test_a_step_is_looked_for_in_the_pixels_of_what_is_looked_at(monkeypatch: pytest.MonkeyPatch) -> None:
    """Luma halved twice shows a quarter of the blur: frames are compared at the focus it has there, and in one light."""
    luma = np.ones((60, 90), np.float32)
    detail = SimpleNamespace(level=2, energy=np.zeros((3, 60, 90), np.float32), noise=np.zeros(3, np.float32))
    octaves = measure_detail(luma).octaves
    frame = SimpleNamespace(meta=SimpleNamespace(focus_m=None), octaves=lambda: octaves, detail=lambda: detail, fine_noise=lambda: 1e-6, luma=lambda: luma, features=lambda: None, size=SIZE)
    seen: list[tuple[Any, ...]] = []
    monkeypatch.setattr(registering, "focus_of", lambda *told: np.array([12.0, 4.0]))
    monkeypatch.setattr(registering, "moved", lambda *told: seen.append(told))
    registering._moved([frame, frame], SimpleNamespace(fits=[np.eye(3)] * 2, reference=1), [], [4.0, 1.0], lambda share: None)  # type: ignore[list-item, arg-type]
    np.testing.assert_array_equal(seen[0][5], [-3.0, -1.0])
    assert [float(seen[0][0](k).max()) for k in (0, 1)] == [2.0, 1.0]
