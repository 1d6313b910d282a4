"""Plans of focus brackets: no gaps, closed forms, honest limits."""

from __future__ import annotations

import itertools
import json
import math

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from eaveplane.optics.plan import Question, answer
from eaveplane.optics.thinlens import blur_diameter, even_focus_steps

questions = st.builds(
    Question,
    focal_mm=st.floats(12, 60),
    f_number=st.floats(4, 22),
    nearest_m=st.floats(0.5, 8),
    farthest_m=st.sampled_from([0, 20, 300]),
    blur_px=st.floats(2, 8),
    overlap=st.floats(0, 40),
)


@given(questions, st.floats(0, 1))
@settings(max_examples=60)
def test_nothing_between_the_ends_is_blurred_by_more_than_is_allowed(question: Question, share: float) -> None:
    assume(question.nearest_m > 2 * question.focal_mm / 1000)
    plan = answer(question)
    near, far = question.ends()
    place = near + (far - near) * share
    metres = 1 / place if place > 1e-9 else math.inf
    least = min(blur_diameter(question.focal_mm, question.f_number, p.focus_m, metres) for p in plan.positions)
    assert least <= question.blur_mm() * 1.002
    assert plan.worst_mm <= question.blur_mm() * 1.000001
    for a, b in itertools.pairwise(plan.positions):
        assert a.focus_m < b.focus_m and b.near_m <= a.far_m * 1.000001


@given(questions)
@settings(max_examples=40)
def test_one_shot_fewer_would_leave_a_gap(question: Question) -> None:
    assume(question.nearest_m > 2 * question.focal_mm / 1000)
    bare = question.model_copy(update={"overlap": 0.0})
    plan = answer(bare)
    # depth of field of n shots cannot add up to more than n times the widest
    near, far = bare.ends()
    f, aperture, c = bare.focal_mm / 1000, bare.focal_mm / 1000 / bare.f_number, bare.blur_mm() / 1000
    widest = 2 * c / (aperture * f)
    assert len(plan.positions) >= (near - far) / widest - 1e-6
    assert len(plan.positions) <= (near - far) / (widest * (1 - f * near)) + 1.001


def test_a_single_shot_at_the_hyperfocal_distance_holds_half_of_it_to_infinity() -> None:
    question = Question(focal_mm=24, f_number=11, blur_um=30, blur_px=2, nearest_m=1.0)
    plan = answer(question.model_copy(update={"nearest_m": answer(question).hyperfocal_m / 2}))
    assert len(plan.positions) == 1
    assert plan.positions[0].focus_m == pytest.approx(plan.hyperfocal_m, rel=0.02)


def test_the_best_aperture_weighs_defocus_against_diffraction() -> None:
    plan = answer(Question(nearest_m=0.6, f_number=8))
    by_stop = {s.f_number: s for s in plan.stops}
    assert by_stop[4.0].defocus_um > by_stop[8.0].defocus_um > by_stop[16.0].defocus_um
    assert by_stop[4.0].shots >= by_stop[8.0].shots >= by_stop[16.0].shots
    assert by_stop[8.0].diffraction_um == pytest.approx(2.44 * 0.55 * 8, rel=1e-6)
    assert plan.best.both_um == min(s.both_um for s in plan.stops)
    assert by_stop[8.0].defocus_um == pytest.approx(1000 * plan.worst_mm, rel=1e-6)
    # half the gaps of even steps, as a check by another way
    steps = even_focus_steps(plan.positions[0].focus_m, math.inf, 60)
    assert max(min(blur_diameter(24, 8, p.focus_m, s) for p in plan.positions) for s in steps) <= plan.worst_mm * 1.01
    assert json.loads(json.dumps(plan.to_json()))["count"] == len(plan.positions)


def test_what_makes_no_sense_is_refused_with_what_to_do() -> None:
    with pytest.raises(ValueError, match="farthest point lies nearer"):
        answer(Question(nearest_m=5, farthest_m=2))
    with pytest.raises(ValueError, match="cannot focus as near"):
        answer(Question(focal_mm=200, nearest_m=0.2))
    with pytest.raises(ValueError, match="more than"):
        answer(Question(focal_mm=300, f_number=1.4, nearest_m=0.6, blur_px=0.3))
