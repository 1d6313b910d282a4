"""The planner: focus distances for a lens and a place, and which aperture serves them best."""

from __future__ import annotations

import math
from typing import Any

from flask import Blueprint, render_template, request
from pydantic import ValidationError

from ...optics.plan import Plan, Question, answer
from ...parameter import controls

blueprint = Blueprint("planner", __name__, template_folder="templates", url_prefix="/planner")
GROUND = (46.0, 384.0)
"""Rows of the drawing in which infinity and the nearest point lie."""
MIDDLE = 186
CHART = (56.0, 476.0, 14.0, 196.0)
"""Left, right, top and bottom of the chart's field."""


def _asked() -> tuple[Question, Plan | None, str]:
    """What the address asks, the plan, and why there is none."""
    values = {c.name: request.args[c.name] for c in controls(Question) if request.args.get(c.name)}
    try:
        question = Question.model_validate(values)
    except ValidationError as error:
        first = error.errors()[0]
        return Question(), None, f"{Question.model_fields[str(first['loc'][0])].title}: {first['msg'].lower()}."
    try:
        return question, answer(question), ""
    except ValueError as error:
        return question, None, str(error)


@blueprint.get("/")
def page() -> str:
    question, plan, problem = _asked()
    return render_template("planner/page.html", controls=controls(Question), question=question, start=Question(), problem=problem, plan=plan, **_drawings(plan))


@blueprint.get("/answer")
def answered() -> str:
    """The plan for what the form holds."""
    question, plan, problem = _asked()
    return render_template("planner/answer.html", question=question, problem=problem, plan=plan, **_drawings(plan))


def _drawings(plan: Plan | None) -> dict[str, Any]:
    return {"ground": _ground(plan), "chart": _chart(plan)} if plan else {}


def _ground(plan: Plan) -> dict[str, Any]:
    """The ground as it lies in the picture: level ground's rows go with one over the distance, far above near."""
    top, bottom = GROUND
    near, far = plan.question.ends()

    def row(metres: float) -> float:
        place = 0.0 if math.isinf(metres) else 1 / metres
        return top + (bottom - top) * min(place / near, 1.06)

    def half(y: float) -> float:
        return 24 + 0.36 * (y - top)

    bands: list[dict[str, Any]] = []
    last = row(plan.question.nearest_m)
    count = len(plan.positions)
    for k, position in enumerate(plan.positions):
        following = plan.positions[k + 1] if k + 1 < count else None
        # where two shots are equally sharp one hands over to the next
        edge = row(2 / (1 / position.focus_m + (0 if math.isinf(following.focus_m) else 1 / following.focus_m))) if following else row(max(position.far_m, 1e9) if far == 0 else 1 / far)
        a, b = half(last), half(edge)
        outline = f"{MIDDLE - a:.1f},{last:.1f} {MIDDLE + a:.1f},{last:.1f} {MIDDLE + b:.1f},{edge:.1f} {MIDDLE - b:.1f},{edge:.1f}"
        y = row(position.focus_m)
        bands.append({"outline": outline, "focus": y, "half": half(y), "near": row(position.near_m), "far": row(position.far_m), "position": position})
        last = edge
    label = -99.0
    for band in reversed(bands):
        band["labelled"] = abs(band["focus"] - label) >= 15
        label = band["focus"] if band["labelled"] else label
    marks = [(m, row(m), half(row(m))) for m in (0.3, 0.5, 0.7, 1, 1.5, 2, 3, 5, 10, 30) if 1 / m < near]
    return {"middle": MIDDLE, "top": top, "bottom": bottom, "bands": bands, "marks": marks, "nearest": row(plan.question.nearest_m)}


def _chart(plan: Plan) -> dict[str, Any]:
    """Blur against aperture, both on even steps: apertures by half stops, blur up to three times the best."""
    left, right, top, bottom = CHART
    stops = plan.stops
    ceiling = 3.2 * plan.best.both_um

    def x(k: float) -> float:
        return left + (right - left) * k / (len(stops) - 1)

    def y(micrometres: float) -> float:
        return bottom - (bottom - top) * min(micrometres / ceiling, 1.08)

    def line(name: str) -> str:
        return " ".join(f"{x(k):.1f},{y(getattr(s, name)):.1f}" for k, s in enumerate(stops))

    step = next(s for s in (1, 2, 5, 10, 20, 50, 100, 200) if ceiling / s <= 6)
    ticks = [(v, y(v)) for v in range(0, int(ceiling) + 1, step)]
    return {
        "box": CHART,
        "lines": {name: line(f"{name}_um") for name in ("defocus", "diffraction", "both")},
        "ticks": ticks,
        "stops": [(s, x(k), not (s.f_number not in WHOLE and s.f_number != plan.question.f_number)) for k, s in enumerate(stops)],
        "best": (x(stops.index(plan.best)), y(plan.best.both_um)),
        "now": x(next(k for k, s in enumerate(stops) if s.f_number == plan.question.f_number)),
        "allowed": y(1000 * plan.question.blur_mm()) if 1000 * plan.question.blur_mm() < ceiling else None,
    }


WHOLE = (2.0, 2.8, 4.0, 5.6, 8.0, 11.0, 16.0, 22.0)
