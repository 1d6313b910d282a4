"""What a hand paints on masks and over the weave, in pixels of the reference frame."""

from __future__ import annotations

from typing import Any, Literal, Self

import numpy as np
from pydantic import Field, SerializerFunctionWrapHandler, model_serializer

from ...imaging.brush import BrushLine, Coordinate
from ...imaging.placement import Carry, carried

RARE: dict[str, Any] = {"way": "", "edges": False, "source": (0.0, 0.0), "fitted": False}
"""What a stroke is not told to be, it is not; these are left out where a recipe is written."""


class Stroke(BrushLine):
    """One movement of the brush. `action` in and out change a frame's mask; draw lays the frame over the weave; way weaves what is under
    it by another `way`, or, where that is empty, as it was; heal lays the picture itself there, from `source` (right, down) away. With `edges` it
    stops at edges of the picture; what is drawn and `fitted` takes the tone of what lies around."""

    action: Literal["in", "out", "draw", "way", "heal"]
    frame: str = Field("", max_length=64)
    way: str = Field("", max_length=20)
    edges: bool = False
    source: tuple[Coordinate, Coordinate] = (0.0, 0.0)
    fitted: bool = False

    @model_serializer(mode="wrap")
    def _without_what_few_have(self, write: SerializerFunctionWrapHandler) -> dict[str, Any]:
        # a decision holds all strokes: what is not set would be most of what is stored of many short ones
        told: dict[str, Any] = write(self)
        return {k: v for k, v in told.items() if k not in RARE or (tuple(v) if isinstance(v, list) else v) != RARE[k]}

    @property
    def mends(self) -> bool:
        """Whether it lies over the weave rather than in its masks."""
        return self.action in ("draw", "heal")

    def moved(self, carry: Carry) -> Self:
        """The same stroke, with its source, on a picture into which `carry` leads."""
        found = super().moved(carry)
        if self.action != "heal":
            return found
        x, y = (float(np.mean(of)) for of in zip(*self.points, strict=True))
        (x0, y0), (x1, y1) = carried([(x, y), (x + self.source[0], y + self.source[1])], carry)
        return found.model_copy(update={"source": (x1 - x0, y1 - y0)})
