"""The sharp span: the part of near to far that is to be sharp. What lies beyond keeps the blur it has in the last frame within.

That frame is sharp where the span ends and grows softer beyond by itself, as one that was focused there does, so nothing is blurred by
computing and the passage has no edge.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from pydantic import Field, model_validator

from ...parameter import Parameters

LEAST = 0.01
"""Part of the way from near to far that a span is long at least."""


class Span(Parameters):
    """Where the span begins and ends, from 0 (the nearest frame) to 1 (the farthest), frames evenly apart."""

    near: float = Field(0.0, ge=0, le=1)
    far: float = Field(1.0, ge=0, le=1)

    @model_validator(mode="after")
    def _in_order(self) -> Span:
        if self.far - self.near < LEAST - 1e-9:
            raise ValueError("the sharp span ends before it begins")
        return self

    @property
    def whole(self) -> bool:
        """Whether it leaves nothing out."""
        return self.near == 0 and self.far == 1


@dataclass(frozen=True)
class Limits:
    """A span among frames that stand `at` (n,), from 0 for the nearest to 1."""

    span: Span
    at: tuple[float, ...]

    @property
    def passage(self) -> float:
        """How far beyond the span its passage reaches: half a step between frames."""
        return 0.5 / max(1, len(self.at) - 1)

    def last(self) -> list[tuple[int, float, float]]:
        """The frames that show what lies beyond, each with the place from which it is mixed in and the one from which it stands alone."""
        found = []
        within = [k for k, u in enumerate(self.at) if self.span.near <= u <= self.span.far]
        middle = (self.span.near + self.span.far) / 2
        spare = min(range(len(self.at)), key=lambda k: abs(self.at[k] - middle))
        if self.span.near > 0:
            found.append((min(within, key=lambda k: self.at[k], default=spare), self.span.near, self.span.near - self.passage))
        if self.span.far < 1:
            found.append((max(within, key=lambda k: self.at[k], default=spare), self.span.far, self.span.far + self.passage))
        return found


def limits_of(span: Span, order: Sequence[str], found: Sequence[str]) -> Limits | None:
    """The limits that a span sets to frames `found` of all in `order`, near to far; None where it sets none."""
    if span.whole or len(order) < 2 or not found:
        return None
    places = {id: k / (len(order) - 1) for k, id in enumerate(order)}
    return Limits(span, tuple(places[id] for id in found))
