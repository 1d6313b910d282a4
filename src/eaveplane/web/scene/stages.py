"""The route of a scene: its stages, each entered by the package that holds it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from .opened import ScenePage


@dataclass(frozen=True)
class Stage:
    """A stage of the route: where it is found, what it is called, what its bench needs beside the scene."""

    slug: str
    label: str
    bench: Callable[[ScenePage], dict[str, Any]]


ROUTE = ("gather", "even", "register", "weave", "mend", "finish", "deliver")
STAGES: dict[str, Stage] = {}


def stage(slug: str, label: str) -> Callable[[Callable[[ScenePage], dict[str, Any]]], Callable[[ScenePage], dict[str, Any]]]:
    """Enter a stage in the route."""

    def enter(bench: Callable[[ScenePage], dict[str, Any]]) -> Callable[[ScenePage], dict[str, Any]]:
        STAGES[slug] = Stage(slug, label, bench)
        return bench

    return enter
