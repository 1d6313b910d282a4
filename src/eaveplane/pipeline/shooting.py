"""The field camera's work as a step, as others run it: in a process of its own, with a ticket."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path

from ..fieldcam.order import Order
from .ticket import Ticket


def shoot(order: str, folder: str, first_number: int, start: str, ticket: str) -> int:
    """Carry out an order (JSON) into a folder; how many frames are there. Frames that landed before stay.

    Raises Cancelled, OSError where the card cannot be written.
    """
    # compiled landscapes are loaded only where a camera is used
    from ..fieldcam.outing import carry_out

    told = Ticket(ticket)
    return len(carry_out(Order.model_validate_json(order), Path(folder), first_number, datetime.fromisoformat(start), told=lambda what, share: told.tell(min(share, 0.999))))
