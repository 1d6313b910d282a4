"""What is put right in each frame, and drift between frames."""

from __future__ import annotations

from typing import Any

import numpy as np
from flask import request
from pydantic import ValidationError

from ...core.even.capture.settings import Capture
from ...core.even.drift import Trim
from ...parameter import controls
from ...recipe import FrameChoice
from ..desk import desk
from ..scene import decided, pieces, posted
from ..scene.opened import ScenePage, opened
from ..security import refuse
from . import blueprint


def drift_rows(scene: ScenePage) -> list[dict[str, Any]]:
    """What each frame that takes part differs by, as the table shows it."""
    rows: list[dict[str, Any]] = []
    place = {f.id: i + 1 for i, f in enumerate(scene.recipe.frames)}
    trims = {f.id: f.trim for f in scene.recipe.frames}
    if scene.view is None or scene.view.registered is None or scene.plan is None:
        return [{"number": place[f.id], "id": f.id, "trim": f.trim if f.trim != Trim() else None, "measured": False} for f in scene.recipe.kept()]
    registered = scene.view.registered
    for k, (id, measured, light) in enumerate(zip(scene.plan.ids, registered.drifts, registered.passing, strict=True)):
        stops = -np.log2(measured.gain)
        rows.append(
            {
                "number": place[id],
                "id": id,
                "measured": True,
                "reference": k == scene.plan.reference,
                "ev": float(stops[1]),
                "red": float(stops[0] - stops[1]),
                "blue": float(stops[2] - stops[1]),
                # what the corners of this frame are brighter by
                "corner": -float(np.log2(1 + measured.falloff)),
                "passing": light.most_ev() if light else None,
                "before": measured.before,
                "left": light.left if light else measured.left,
                "trim": trims[id] if trims[id] != Trim() else None,
            }
        )
    return rows


@blueprint.post("/drift")
def drift(number: int) -> str:
    on = posted("on") == "1"
    return decided(number, "even", f"Drift {'evened out' if on else 'left in'}", lambda recipe: recipe.model_copy(update={"even_out": on}), bench=True)


@blueprint.post("/trim")
def trim(number: int) -> str:
    """Trim one frame; `reset` takes its trim away."""
    scene = opened(number)
    frame = scene.choice(posted("frame"))
    place = [f.id for f in scene.recipe.frames].index(frame.id) + 1
    name, value = None, 0.0
    if request.form.get("reset"):
        said = f"Trim of frame {place} taken away"
    else:
        known = {c.name: c for c in controls(Trim)}
        name = posted("name")
        try:
            value = float(posted("value"))
            Trim(**{name: value})
        except (ValueError, TypeError):
            refuse("That is outside of what a trim can do." if name in known else "There is no such control.")
        said = f"Frame {place}: {known[name].label.lower()} {value:+g} EV"

    def trimmed(other: FrameChoice) -> FrameChoice:
        if other.id != frame.id:
            return other
        return other.model_copy(update={"trim": Trim() if name is None else other.trim.model_copy(update={name: value})})

    return decided(number, "even", said, lambda recipe: recipe.model_copy(update={"frames": [trimmed(f) for f in recipe.frames]}), bench=True)


@blueprint.post("/capture")
def capture(number: int) -> str:
    """Change a capture correction of all frames. What has to be read anew is read at once."""
    name, value = posted("name"), posted("value")
    scene = opened(number)
    before = scene.recipe.capture
    try:
        after = Capture.model_validate({**before.model_dump(), name: value})
    except ValidationError:
        refuse("That is outside of what this correction can do." if name in Capture.model_fields else "There is no such correction.")
    said = f"{(Capture.model_fields[name].title or name.replace('_', ' ')).capitalize()}: {getattr(after, name)}"
    answer = decided(number, "even", said, lambda recipe: recipe.model_copy(update={"capture": recipe.capture.model_copy(update={name: getattr(after, name)})}), bench=True)
    if (before.demosaic, before.highlights) != (after.demosaic, after.highlights) and not scene.busy:
        desk().queue.inspect(number)
        return pieces(opened(number), "even", bench=True, head=True)
    return answer


@blueprint.post("/capture/reset")
def capture_reset(number: int) -> str:
    return decided(number, "even", "Capture corrections taken away", lambda recipe: recipe.model_copy(update={"capture": Capture()}), bench=True)
