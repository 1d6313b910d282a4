"""What all pages share: the sheet, the head, styles, scripts, fonts, and words for numbers."""

from __future__ import annotations

import math

from flask import Blueprint

from ...optics.plan import in_metres
from ...pipeline.depth import HATCHES, PERIOD, depth_colour

blueprint = Blueprint("shell", __name__, template_folder="templates", static_folder="static", static_url_path="/static/shell")


@blueprint.app_template_filter("metres")
def metres(distance: float | None) -> str:
    """A distance as people say it: 0.62 m, 3.14 m, 19 m, ∞."""
    return "—" if distance is None else in_metres(distance)


@blueprint.app_template_filter("planned")
def planned(distance: float) -> str:
    """A focus distance in an address, in dioptres."""
    return f"{1 / distance:.5g}"


@blueprint.app_template_filter("seconds")
def seconds(time: float | None) -> str:
    """A stretch of time.

    >>> seconds(3.2), seconds(80 + 60), seconds(5 * 3600 + 61), seconds(None)
    ('4 s', '2 min 20 s', '5 h 01 min', '')
    """
    if time is None:
        return ""
    whole = max(1, math.ceil(time))
    if whole >= 3600:
        return f"{whole // 3600} h {whole % 3600 // 60:02d} min"
    return f"{whole} s" if whole < 90 else f"{whole // 60} min {whole % 60:02d} s"


@blueprint.app_template_filter("exposure")
def exposure(time: float) -> str:
    """An exposure time: 1/25 s, 2.5 s."""
    return f"1/{round(1 / time)} s" if time < 0.4 else f"{time:.2g} s"


@blueprint.app_template_filter("number")
def number(value: float, step: float = 0.01) -> str:
    """A number with as many decimals as its step has, and a real minus sign left to the style sheet."""
    decimals = max(0, -math.floor(math.log10(step) + 1e-9)) if step < 1 else 0
    return f"{value:.{decimals}f}"


@blueprint.app_template_global("depth_hex")
def depth_hex(place: int, count: int) -> str:
    """The depth colour of a place among frames, as #rrggbb."""
    return "#{:02x}{:02x}{:02x}".format(*depth_colour(place, count))


@blueprint.app_template_global("hatches")
def hatches() -> list[tuple[int, int, int]]:
    """(across, down, period) of the hatches, for patterns in the page."""
    return [(a, d, PERIOD) for a, d in HATCHES]
