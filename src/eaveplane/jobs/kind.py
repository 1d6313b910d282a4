"""Kinds of jobs, by name."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

from ..pipeline.runner import Runner

if TYPE_CHECKING:
    from .queue import JobQueue

Carry = Callable[["JobQueue", sqlite3.Row, Runner], str]
"""Carries out a job (its row) and says what came of it. May raise Cancelled, PictureError, FileExistsError, ValueError, OSError."""


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
