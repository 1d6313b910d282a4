"""What a hand paints on masks and over the weave, in pixels of the reference frame."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from ...imaging.brush import BrushLine


class Stroke(BrushLine):
    """One movement of the brush. `action` in and out change a frame's mask; draw lays the frame over the weave; way weaves what is under
    it by another `way`, or, where that is empty, as it was. With `edges` it stops at edges of the picture."""

    action: Literal["in", "out", "draw", "way"]
    frame: str = Field("", max_length=64)
    way: str = Field("", max_length=20)
    edges: bool = False
