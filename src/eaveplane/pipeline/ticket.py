"""How a step that runs elsewhere tells how far it is, and learns that it is no longer wanted.

A ticket is a path: steps exchange files and small values, so it works between threads, processes and machines.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path


class Cancelled(Exception):
    """The step's result is not wanted any more."""


class Ticket:
    """`tell` writes the part done (0..1) at most five times a second and raises Cancelled once that was asked for."""

    def __init__(self, path: str) -> None:
        self.path = Path(path)
        self._last = 0.0

    def tell(self, share: float) -> None:
        now = time.monotonic()
        if now - self._last < 0.2 and share < 1:
            return
        self._last = now
        if self._flag().exists():
            raise Cancelled
        part = self.path.with_suffix(".new")
        part.write_text(f"{share:.4f}")
        part.replace(self.path)

    def within(self, first: float, last: float) -> Callable[[float], None]:
        """`tell` for a part of the step that lasts from `first` to `last`."""
        return lambda share: self.tell(first + (last - first) * share)

    def read(self) -> float:
        """The part done as last told."""
        try:
            return float(self.path.read_text())
        except (OSError, ValueError):
            return 0.0

    def cancel(self) -> None:
        self._flag().touch()

    def clear(self) -> None:
        self.path.unlink(missing_ok=True)
        self._flag().unlink(missing_ok=True)

    def _flag(self) -> Path:
        return self.path.with_suffix(".cancel")
