"""The part of the reference grid that becomes the picture."""

from __future__ import annotations

from collections.abc import Mapping

from ..core.register.area import common_area
from ..imaging.placement import Points
from ..imaging.pyramid import Box, Size
from ..recipe import Recipe


def canvas_of(recipe: Recipe, corners: Mapping[str, Points], size: Size) -> Box:
    """The canvas (x, y, w, h) that a recipe asks for, of a reference frame of `size` (w, h); `corners` (4, 2) are those of frames by id on its grid.
    Raises ValueError where frames have no part in common."""
    if recipe.canvas == "reference":
        return (0, 0, *size)
    return common_area([corners[f.id] for f in recipe.kept() if f.counts and f.id in corners], size, recipe.canvas == "free")
