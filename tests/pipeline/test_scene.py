"""What a recipe asks for, before anything is computed."""

from __future__ import annotations

from typing import Any, cast

import pytest

from eaveplane.core.mend.veil import MOST_LIFTED
from eaveplane.pipeline import scene
from eaveplane.pipeline.steps import Lift, Weave
from eaveplane.recipe import FrameChoice, Recipe


@pytest.mark.parametrize(("count", "changed", "lifted"), [(MOST_LIFTED, {}, True), (MOST_LIFTED + 1, {}, False), (3, {"veil": "leave"}, False), (3, {"weaving": {"way": "crisp-seams"}}, False)])
def test_veils_are_lifted_of_what_joint_light_weaves_of_few_frames(count: int, changed: dict[str, Any], lifted: bool) -> None:
    recipe = Recipe(frames=[FrameChoice(id=f"{k:04x}") for k in range(count)], **changed)
    planned = scene.plan(recipe, cast(Any, {f.id: f"frame {f.id}" for f in recipe.frames}), {})
    assert planned is not None and type(planned.result) is (Lift if lifted else Weave)
    told = scene.why_veils_stay(recipe.weaving.way, count)
    assert bool(told) == (not lifted and recipe.veil == "lift")
    # the message says how many there may be and what to do
    assert count <= MOST_LIFTED or (f"{MOST_LIFTED} frames" in told and f"these are {count}" in told and "Leave out" in told)
