"""What the report of a stack says."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from ...core.gather.verdicts import Verdict
from ...core.register.movement import movement_of
from ...core.register.nudge import STILL
from ...core.register.trust import Trust
from ...imaging.placement import Placement
from ...recipe import FrameChoice, Recipe
from ..cache import Cache
from ..frames import File
from ..scene import Plan, why_veils_stay
from ..steps import Registration, Written, veils_of


def written_told(done: Written) -> dict[str, Any]:
    """What a report says of what was written."""
    origin = done.provenance
    told: dict[str, Any] = {"size": list(done.size), "density": done.density, "enlarged": done.enlarged}
    return told if origin is None else {**told, "provenance": {**origin._asdict(), "told": origin.told()}}


def why_not(wanted: str, way: str, count: int) -> str:
    """Why frames, `count` of which are not masked by hand, were not woven by the way that was wanted; empty where they were."""
    if way == wanted:
        return ""
    return f"{wanted} needs to know where the frames are focused, and they do not tell." if count > 1 else "One frame has nothing to be joined with." if count else "All masks are made by hand."


def of_veils(recipe: Recipe, planned: Plan, cache: Cache, way: str) -> dict[str, Any]:
    """What the report says of veils: what was wanted, the shares of the picture where they were lifted, and where near things stay as
    woven, and why none was looked for; empty where one was, or where none was to be."""
    veils = veils_of(cache, planned.result.key) if planned.result is not planned.woven else None
    count = len(recipe.found())
    why = why_veils_stay(way, count) if recipe.veil == "lift" and count > 1 else ""
    return {"veil": recipe.veil, "veil_strength": recipe.veil_strength, "veil_lifted": veils.lifted if veils else 0.0, "veil_refused": veils.refused if veils else 0.0, "veil_why": why}


def told_of(recipe: Recipe, planned: Plan, registered: Registration, shares: Sequence[float], verdicts: dict[str, Verdict], noise: Sequence[float], path: Path, file: File) -> dict[str, Any]:
    """What the report says of a file that was given."""
    frame = next(f for f in recipe.frames if file.id in f.all_files())
    k = planned.ids.index(frame.id) if frame.id in planned.ids else None
    used = k is not None and file.id in frame.sources()
    evened = k is not None and recipe.even_out
    placement = registered.placements[k] if k is not None else None
    light = registered.passing[k] if k is not None else None
    verdict = verdicts.get(frame.id)
    return {
        "file": str(path),
        "quarters_turned": file.turned,
        "homography": placement.matrix.tolist() if placement else None,
        "near_px": placement.shift.reach() if placement and placement.shift else 0.0,
        "gain": list(registered.drifts[k].gain) if k is not None and evened else [1.0, 1.0, 1.0],
        "falloff": registered.drifts[k].falloff if k is not None and evened else 0.0,
        "passing_light_ev": round(light.most_ev(), 3) if light and evened else 0.0,
        "noise_times": round(noise[k], 2) if k is not None else 1.0,
        **(_of_fit(placement, registered.trusted[k], frame) if placement and k is not None else {"residual_px": None}),
        "share": shares[k] if k is not None and used else 0.0,
        "state": "used" if used else "left_out",
        "reason": frame.reason or (verdict.flaw if verdict else None),
        "evidence": verdict.evidence if verdict else "",
    }


def _of_fit(placement: Placement, fit: Trust, frame: FrameChoice) -> dict[str, Any]:
    """What the report says of how a frame lies."""
    movement = movement_of(placement.matrix, placement.size)
    return {
        "residual_px": fit.residual,
        "own_residual_px": fit.own,
        "judged": fit.judged,
        "fit": fit.verdict,
        "fit_why": fit.said or "",
        "shift_px": [movement.right, movement.down],
        "scale_percent": movement.scale,
        "turn_degrees": movement.turn,
        "perspective_px": movement.perspective,
        "nudged": frame.nudge != STILL,
    }
