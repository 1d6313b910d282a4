"""Flaws of a weave as a recipe stands to them: open, mended or accepted; and as a report tells them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

from ..core.mend.flaws.finding import BAD, KINDS, Finding
from ..core.mend.flaws.remedies import is_mended, name_of
from ..recipe import Recipe


@dataclass(frozen=True)
class Flaw:
    """A flaw of the weave under its name, and what became of it."""

    found: Finding
    name: str
    state: Literal["open", "mended", "accepted"]


def standing(found: Sequence[Finding], recipe: Recipe) -> list[Flaw]:
    """What became of flaws, in their order."""
    return [Flaw(f, name_of(f), "accepted" if name_of(f) in recipe.accepted else "mended" if is_mended(f, recipe.strokes) else "open") for f in found]


def reported(flaws: Sequence[Flaw], names: Sequence[str]) -> list[dict[str, Any]]:
    """Flaws as a report tells them; frames by `names`."""
    return [
        {"kind": f.found.kind, "box": list(f.found.box), "severity": round(f.found.severity, 3), "frames": [names[k] for k in f.found.frames], "said": f.found.told(names), "state": f.state}
        for f in flaws
    ]


def doubts(flaws: Sequence[Flaw], names: Sequence[str]) -> list[str]:
    """What should not be delivered unseen, in words."""
    bad = [flaw.found for flaw in flaws if flaw.state == "open" and flaw.found.severity >= BAD]
    if not bad:
        return []
    x, y, w, h = bad[0].box
    more = f", and {len(bad) - 1} more" if len(bad) > 1 else ""
    return [f"A flaw should be looked at, {KINDS[bad[0].kind].lower()} around {x + w // 2}, {y + h // 2}{more}: {bad[0].told(names)} The report lists all."]
