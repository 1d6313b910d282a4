"""One definition a parameter: name, unit, range, default, a line of help.

From it come the control on the bench, the check of what a form posts, the command line's option and the schema.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel, ConfigDict, Field


class Parameters(BaseModel):
    """Base of all parameter sets: unknown names are refused, values are checked when they are set."""

    model_config = ConfigDict(extra="forbid", validate_assignment=True, frozen=True)


def parameter(default: float, low: float, high: float, step: float, label: str, help: str, unit: str = "", group: str = "") -> Any:
    """A number with its range, for a pydantic model."""
    return Field(default, ge=low, le=high, title=label, description=help, json_schema_extra={"unit": unit, "step": step, "group": group})


@dataclass(frozen=True)
class Control:
    """What a page or a command line needs to offer a number."""

    name: str
    label: str
    help: str
    unit: str
    group: str
    low: float
    high: float
    step: float
    default: float


def switches(model: type[Parameters]) -> list[tuple[str, str, str]]:
    """The yes-or-no parameters of a set: name, label, help."""
    return [(name, field.title or name, field.description or "") for name, field in model.model_fields.items() if field.annotation is bool]


def controls(model: type[Parameters]) -> list[Control]:
    """The numbers of a parameter set, in the order in which they are defined."""
    found = []
    for name, field in model.model_fields.items():
        extra = field.json_schema_extra
        if not isinstance(extra, dict) or "step" not in extra:
            continue
        low = next(float(m.ge) for m in field.metadata if hasattr(m, "ge"))
        high = next(float(m.le) for m in field.metadata if hasattr(m, "le"))
        found.append(
            Control(
                name,
                field.title or name,
                field.description or "",
                str(extra["unit"]),
                str(extra["group"]),
                low,
                high,
                float(extra["step"]),  # type: ignore[arg-type]
                float(field.default),
            )
        )
    return found


def control_at(of: Parameters, path: str) -> Control | None:
    """The control at a path such as `exposure` or `areas.0.parts.1.soft`; None where there is none."""
    at: Any = of
    *way, name = path.split(".")
    try:
        for step in way:
            at = at[_index(step)] if isinstance(at, list) else getattr(at, step)
    except (IndexError, AttributeError, ValueError):
        return None
    return next((c for c in controls(type(at)) if c.name == name), None) if isinstance(at, Parameters) else None


def with_value(dumped: dict[str, Any], path: str, value: float) -> dict[str, Any]:
    """Dumped parameters with the value at a path exchanged, in place."""
    at: Any = dumped
    *way, name = path.split(".")
    for step in way:
        at = at[_index(step)] if isinstance(at, list) else at[step]
    at[name] = value
    return dumped


def _index(step: str) -> int:
    if not (step.isascii() and step.isdecimal() and len(step) < 6):
        raise ValueError(step)
    return int(step)
