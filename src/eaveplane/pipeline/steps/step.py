"""A step: a value that says what its result is made of, names it and makes it, in whatever process it is given to."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass, fields
from functools import cached_property
from pathlib import Path
from typing import Any, ClassVar, TypeVar
from zipfile import BadZipFile

from pydantic import BaseModel

from ..cache import Cache, key_of
from ..ticket import Ticket

UNREADABLE = (OSError, ValueError, KeyError, TypeError, EOFError, BadZipFile)
"""What reading a damaged result may raise."""


@dataclass(frozen=True)
class Step(ABC):
    """Base of all steps. Fields are values, or the steps whose results this one needs: raising the version of one makes the
    results of all that follow new. Fields that do not compare say how to make a result and do not tell results apart."""

    name: ClassVar[str]
    version: ClassVar[int]

    @cached_property
    def key(self) -> str:
        """Under which the result is kept."""
        return key_of(self.name, self.version, *self.inputs())

    def inputs(self) -> list[Any]:
        """What the result is made of, as JSON."""
        return [_told(getattr(self, f.name)) for f in fields(self) if f.compare]

    @abstractmethod
    def build(self, cache: Cache, folder: Path, ticket: Ticket) -> None:
        """Make the result, in a folder of its own."""

    def is_there(self, cache: Cache) -> bool:
        """Whether the result is kept."""
        return cache.has(self.key)

    def folder(self, cache: Cache) -> Path:
        """Where the result is or will be."""
        return cache.path(self.key)


def _told(value: Any) -> Any:
    if isinstance(value, Step):
        return value.key
    if isinstance(value, BaseModel):
        # defaults are whole numbers until they have been through JSON; a key must not tell them apart
        return type(value)(**value.model_dump()).model_dump()
    return [_told(part) for part in value] if isinstance(value, list | tuple) else value


Made = TypeVar("Made", bound=Step)


def make(root: str, step: Made, ticket: str) -> Made:
    """Make the result of a step unless it is kept in the cache at `root`; what workers are given. `ticket` is a Ticket's path."""
    cache = Cache(Path(root))
    cache.make(step.key, lambda folder: step.build(cache, folder, Ticket(ticket)))
    return step
