"""Kinds of jobs, by name."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

Carry = Callable[..., str]
"""Carries out a job and says what came of it: called with the JobQueue, the job's row and a Runner. May raise Cancelled, PictureError, FileExistsError, ValueError, OSError."""


@dataclass(frozen=True)
class Kind:
    """`lane` is what works on it; what is in the `background` makes way for what somebody waits for."""

    name: str
    lane: str
    background: bool
    carry: Carry


KINDS: dict[str, Kind] = {}


def kind(name: str, lane: str = "work", background: bool = False) -> Callable[[Carry], Carry]:
    """Register a function as what carries out jobs of a kind."""

    def registered(carry: Carry) -> Carry:
        KINDS[name] = Kind(name, lane, background, carry)
        return carry

    return registered
