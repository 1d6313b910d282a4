"""Submitting steps to an executor, hearing how far they are, calling them off."""

from __future__ import annotations

import time
import uuid
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, BrokenExecutor, Executor, Future, wait
from functools import partial
from pathlib import Path
from typing import Any

from .ticket import Cancelled, Ticket

Call = tuple[Callable[..., Any], tuple[Any, ...]]
"""A step and its arguments but the last, which is a ticket's path."""
PATIENCE = 0.6
"""Seconds that steps are given to end by themselves once they are called off."""


class Runner:
    """Submits steps to an executor, passes on how far they are, and calls them off when that is asked for."""

    def __init__(self, executor: Executor, tickets: Path, tell: Callable[[str, float], None], cancelled: Callable[[], bool] = lambda: False, renewed: Callable[[], Executor] | None = None) -> None:
        self.executor, self.tickets, self.tell, self.cancelled, self.renewed = executor, tickets, tell, cancelled, renewed
        tickets.mkdir(parents=True, exist_ok=True)

    def run(
        self, what: str, span: tuple[float, float], calls: Sequence[Call], follow: Callable[[Any], Call | None] = lambda result: None, landed: Callable[[int, Any], None] = lambda number, result: None
    ) -> list[Any]:
        """Results, or the exceptions that were raised, of steps that take a ticket's path as their last argument.

        `follow` may name a second step for the result of a first one; it is submitted behind all first ones, and its
        result stands for both. `landed` hears of each result as it comes. Where the executor breaks, as when a worker process was
        ended from outside, steps that were lost are done once more on a new one. Raises Cancelled.
        """
        if self.cancelled():
            raise Cancelled
        outcome = self._run(what, span, calls, follow, landed)
        lost = [k for k, result in enumerate(outcome) if isinstance(result, BrokenExecutor)]
        if lost and self.renewed:
            self.executor = self.renewed()
            again = self._run(what, span, [calls[k] for k in lost], follow, lambda k, result: landed(lost[k], result))
            for k, result in zip(lost, again, strict=True):
                outcome[k] = result
        return outcome

    def _run(self, what: str, span: tuple[float, float], calls: Sequence[Call], follow: Callable[[Any], Call | None], landed: Callable[[int, Any], None]) -> list[Any]:
        tickets = [Ticket(str(self.tickets / f"{uuid.uuid4().hex[:12]}-{i}")) for i in range(len(calls))]
        futures = [self._submit(call, ticket) for call, ticket in zip(calls, tickets, strict=True)]
        first, asked, since = [True] * len(calls), False, 0.0
        try:
            while True:
                wait([f for f in futures if not f.done()], timeout=0.2, return_when=FIRST_COMPLETED)
                for k, future in enumerate(futures):
                    if first[k] and future.done() and not asked:
                        first[k] = False
                        second = None if future.exception() else follow(future.result())
                        if not future.exception():
                            landed(k, future.result())
                        if second:
                            tickets[k].clear()
                            futures[k] = self._submit(second, tickets[k])
                parts = [1.0 if f.done() else t.read() if now else 0.5 + t.read() / 2 for f, t, now in zip(futures, tickets, first, strict=True)]
                self.tell(what, span[0] + (span[1] - span[0]) * sum(parts) / max(1, len(parts)))
                # one that ended just now has still to be heard
                if all(f.done() for f in futures) and (asked or not any(first)):
                    break
                if not asked and self.cancelled():
                    asked, since = True, time.monotonic()
                    for future, ticket in zip(futures, tickets, strict=True):
                        future.cancel()
                        ticket.cancel()
                # a library call in the middle of a file is not waited for: its step ends when it looks at its ticket
                if asked and time.monotonic() - since > PATIENCE:
                    break
        finally:
            for future, ticket in zip(futures, tickets, strict=True):
                future.add_done_callback(partial(_cleared, ticket))
        if asked:
            raise Cancelled
        outcome = []
        for future in futures:
            error = future.exception()
            if isinstance(error, Cancelled):
                raise error
            outcome.append(error if error is not None else future.result())
        return outcome

    def _submit(self, call: Call, ticket: Ticket) -> Future[Any]:
        """A step on its way; one that a broken executor refuses is one that it lost."""
        try:
            return self.executor.submit(call[0], *call[1], str(ticket.path))
        except BrokenExecutor as error:
            lost: Future[Any] = Future()
            lost.set_exception(error)
            return lost

    def one(self, what: str, span: tuple[float, float], step: Callable[..., Any], *args: Any) -> Any:
        """The result of a single step; raises what it raised."""
        (result,) = self.run(what, span, [(step, args)])
        if isinstance(result, BaseException):
            raise result
        return result


def _cleared(ticket: Ticket, future: Future[Any]) -> None:
    """A step has ended: nobody looks at its ticket any more."""
    ticket.clear()
