"""What names of delivered files can tell of how a picture was made."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from ..core.deliver.delivery import Delivery
from ..recipe import Recipe


def recipe_facts(recipe: Recipe, output: Delivery, size: Sequence[int], density: float, counter: int) -> dict[str, str]:
    """What a recipe can tell a name of an output of a size (w, h) and a density."""
    across, down = (f"{round(v / density * 2.54)}" for v in size)
    sharpening = f"sharp{recipe.finish.sharpen:g}" if recipe.finish.sharpen else "unsharpened"
    weaving = recipe.weaving
    return {
        "date": datetime.now().strftime("%Y-%m-%d"),
        "detail": f"{weaving.detail:g}px",
        "sharpening": sharpening,
        "way": weaving.way,
        "seam": f"seam{weaving.seam:g}",
        "output": output.title,
        "width": across,
        "height": down,
        "counter": f"{counter:03d}",
    }
