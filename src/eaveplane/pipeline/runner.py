"""Submitting steps to an executor, hearing how far they are, calling them off."""

from __future__ import annotations

import copy
import time
import uuid
from collections.abc import Callable, Sequence
from concurrent.futures import FIRST_COMPLETED, BrokenExecutor, Executor, Future, wait
from functools import partial
from pathlib import Path
from typing import Any

from .ticket import Cancelled, Ticket

Call = tuple[Callable[..., Any], tuple[Any, ...]]
"""A function and its arguments but the last, which is a ticket's path."""
PATIENCE = 0.6
"""Seconds that steps are given to end by themselves once they are called off."""


class Runner:
    """Submits steps to an executor, passes on how far they are, and calls them off when that is asked for."""

    def __init__(self, executor: Executor, tickets: Path, tell: Callable[[str, float], None], cancelled: Callable[[], bool] = lambda: False, renewed: Callable[[], Executor] | None = None) -> None:
        self._executors, self.tickets, self._tell, self.cancelled, self.renewed = [executor], tickets, tell, cancelled, renewed
        self._span = (0.0, 1.0)
        tickets.mkdir(parents=True, exist_ok=True)

    @property
    def executor(self) -> Executor:
        """What steps are submitted to now."""
        return self._executors[-1]

    def parts(self, *weights: float) -> list[Runner]:
        """Runners for the parts of this one's work, one after the other, each taking its weight of the time."""
        begin, end = self._span
        found, at = [], 0.0
        for weight in weights:
            part = copy.copy(self)
            part._span = (begin + (end - begin) * at / sum(weights), begin + (end - begin) * (at + weight) / sum(weights))
            found.append(part)
            at += weight
        return found

    def tell(self, what: str, share: float) -> None:
        """Say what is being done, and how much of this runner's work (0..1) is."""
        self._tell(what, self._span[0] + (self._span[1] - self._span[0]) * share)

    def run(self, what: str, calls: Sequence[Call], follow: Callable[[Any], Call | None] = lambda result: None, landed: Callable[[int, Any], None] = lambda number, result: None) -> list[Any]:
        """Results, or the exceptions that were raised, of functions that take a ticket's path as their last argument.

        `follow` may name a second call for the result of a first one; it is submitted behind all first ones, and its
        result stands for both. `landed` hears of each result as it comes. Where the executor breaks, as when a worker process was
        ended from outside, calls that were lost are made once more on a new one. Raises Cancelled.
        """
        if self.cancelled():
            raise Cancelled
        outcome = self._run(what, calls, follow, landed)
        lost = [k for k, result in enumerate(outcome) if isinstance(result, BrokenExecutor)]
        if lost and self.renewed:
            self._executors.append(self.renewed())
            again = self._run(what, [calls[k] for k in lost], follow, lambda k, result: landed(lost[k], result))
            for k, result in zip(lost, again, strict=True):
                outcome[k] = result
        return outcome

    def _run(self, what: str, calls: Sequence[Call], follow: Callable[[Any], Call | None], landed: Callable[[int, Any], None]) -> list[Any]:
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
                self.tell(what, sum(parts) / max(1, len(parts)))
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

    def named(self, ticket: Ticket) -> str:
        """How a step is told where its ticket is."""
        return str(ticket.path)

    def _submit(self, call: Call, ticket: Ticket) -> Future[Any]:
        """A call on its way; one that a broken executor refuses is one that it lost."""
        try:
            return self.executor.submit(call[0], *call[1], self.named(ticket))
        except BrokenExecutor as error:
            lost: Future[Any] = Future()
            lost.set_exception(error)
            return lost

    def all(self, what: str, calls: Sequence[Call], follow: Callable[[Any], Call | None] = lambda result: None) -> list[Any]:
        """Results of calls; raises what the first of them raised that failed."""
        results = self.run(what, calls, follow)
        for result in results:
            if isinstance(result, BaseException):
                raise result
        return results

    def one(self, what: str, step: Callable[..., Any], *args: Any) -> Any:
        """The result of a single call; raises what it raised."""
        return self.all(what, [(step, args)])[0]


def _cleared(ticket: Ticket, future: Future[Any]) -> None:
    """A step has ended: nobody looks at its ticket any more."""
    ticket.clear()
