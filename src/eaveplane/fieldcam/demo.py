"""The demo's card: one morning with the field camera, all four landscapes, with what goes wrong in the field."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from .order import Order

LONG_SIDE = 1800
BEGIN = datetime(2026, 4, 11, 6, 14, 3)
_LENS = {"long_side_px": LONG_SIDE, "f_number": 4.0, "marker": True, "blades": 7, "cats_eye": 0.3, "rim": 0.15, "falloff_ev": 0.6, "fringes": 0.15}


@dataclass(frozen=True)
class Roll:
    """An order with its place on the card: folder, number of its first file, time of its first frame."""

    folder: str
    first: int
    start: datetime
    order: Order


# in the second folder files are numbered from 1 again
CARD = (
    Roll("101FIELD", 1, BEGIN, Order(landscape="saltpan", count=5, drift_ev=0.05, seed=11, **_LENS)),
    Roll("101FIELD", 7, BEGIN + timedelta(minutes=21), Order(landscape="thistle", nearest_m=0.6, count=6, wind=0.25, bumped=True, seed=12, **_LENS)),
    Roll("102FIELD", 1, BEGIN + timedelta(minutes=74), Order(landscape="larch", nearest_m=0.75, count=4, by_hand=True, drift_ev=0.1, overshoot=1, seed=13, **_LENS)),
    Roll("102FIELD", 7, BEGIN + timedelta(minutes=96), Order(landscape="lava", nearest_m=0.75, count=3, brackets=3, bracket_ev=2.5, ev=0.5, seed=14, **_LENS)),
)
