"""The field camera: a simulated camera in front of made-up landscapes, and the card its frames land on."""

from __future__ import annotations

import json
import re
from datetime import datetime
from pathlib import Path
from typing import Any

import rawpy
from flask import Blueprint, Response, abort, redirect, render_template, request, url_for
from pydantic import ValidationError
from werkzeug.wrappers import Response as AnyResponse

from ...fieldcam.order import Order, focus_positions, frames_of
from ...parameter import controls, switches
from ...store import jobs, outings
from ..desk import desk
from ..security import refuse

blueprint = Blueprint("camera", __name__, template_folder="templates", static_folder="static", url_prefix="/camera", static_url_path="/static")
FOLDER = re.compile(r"^\d{3}[A-Z0-9_]{1,12}$")
LANDSCAPES = (
    ("saltpan", "Salt pan", "Crust at one's feet, old posts. Nothing moves: the clean case."),
    ("thistle", "Thistle terrace", "Stems a few pixels thin before a far ridge, in wind."),
    ("larch", "Larch snow", "Little texture, golden saplings, a serrated range."),
    ("lava", "Lava sunrise", "Deep shadow and the sun: bracket the exposure."),
)
LARGEST_MP = 4000
"""Megapixels of all frames of one order."""


def _order(values: Any) -> Order:
    """The order that a form or an address holds. Refuses what is out of range."""
    found: dict[str, Any] = {c.name: values[c.name] for c in controls(Order) if values.get(c.name)}
    if values.get("landscape"):
        found["landscape"] = values["landscape"]
    if "form" in values:
        found |= {name: name in values for name, _, _ in switches(Order) if name != "preview"}
    if values.get("planned"):
        found["planned"] = values["planned"].split()
    try:
        return Order.model_validate(found)
    except ValidationError as error:
        first = error.errors()[0]
        field = Order.model_fields.get(str(first["loc"][0]))
        refuse(f"{field.title if field else first['loc'][0]}: {first['msg'].lower()}.")


def _megapixels(order: Order) -> float:
    """Of all its frames together."""
    return frames_of(order) * order.long_side_px**2 * 2 / 3e6


def _card() -> list[dict[str, Any]]:
    """The folders on the card, newest first, with their frames."""
    card = desk().library.card
    known = {row["path"] for outing in outings.outings(desk().db) if Path(outing["folder"]) == card for row in outings.files_of(desk().db, outing["id"])}
    folders = sorted((p for p in card.iterdir() if p.is_dir() and FOLDER.match(p.name)), reverse=True) if card.is_dir() else []
    found = []
    for folder in folders:
        files = sorted(folder.glob("FIELD*.dng"))
        found.append({"name": folder.name, "files": [f.name for f in files], "fresh": sum(str(f) not in known for f in files)})
    return found


def _parts(order: Order) -> dict[str, Any]:
    frames, megapixels = frames_of(order), _megapixels(order)
    return {
        "order": order,
        "frames": frames,
        "size": megapixels / max(frames, 1),
        "seconds": jobs.expected_seconds(desk().db, "shoot", megapixels),
        "positions": [1 / d if abs(d) > 1e-9 else float("inf") for d in focus_positions(order)],
    }


@blueprint.get("/")
def page() -> str:
    order = _order(request.args)
    return render_template(
        "camera/page.html", landscapes=LANDSCAPES, controls=controls(Order), switches=switches(Order), start=Order(), card=_card(), shootings=jobs.shootings(desk().db), **_parts(order)
    )


@blueprint.get("/cost")
def cost() -> str:
    """What the form's order will take."""
    return render_template("camera/cost.html", **_parts(_order(request.args)))


@blueprint.get("/card")
def card() -> str:
    return render_template("camera/card.html", card=_card(), shootings=jobs.shootings(desk().db))


@blueprint.post("/shoot")
def shoot() -> AnyResponse:
    """Queue an order; its folder and first number are settled now, so that after a crash it goes on where it was."""
    order = _order(request.form)
    if _megapixels(order) > LARGEST_MP:
        refuse(f"{frames_of(order)} frames of {order.long_side_px:.0f} px would fill the card. Take fewer frames or fewer pixels.")
    _queue(order)
    return Response(card()) if "HX-Request" in request.headers else redirect(url_for("camera.page"))


def _queue(order: Order) -> None:
    """Note the next free folder and number, those of waiting orders counted."""
    db, place = desk().db, desk().library.card
    waiting = [json.loads(row["arguments"]) for row in jobs.shootings(db) if row["state"] in ("queued", "running")]
    names = [p.name for p in place.iterdir()] if place.is_dir() else []
    taken = [int(n[:3]) for n in [*names, *(w["folder"] for w in waiting)] if n[:3].isdigit()]
    numbers = [int(p.stem[-4:]) for p in place.rglob("FIELD*.dng") if p.stem[-4:].isdigit()] if place.is_dir() else []
    last = max([0, *numbers, *(w["first"] + w["frames"] - 1 for w in waiting)])
    desk().queue.add(
        "shoot",
        megapixels=_megapixels(order),
        order=order.model_dump_json(),
        folder=f"{max([100, *taken]) + 1:03d}{order.landscape.upper()}",
        first=1 if order.fresh_numbers else last % 9999 + 1,
        frames=frames_of(order),
        start=datetime.now().isoformat(timespec="seconds"),
    )


@blueprint.post("/bring-in")
def bring_in() -> AnyResponse:
    """The card onto the shelf; what came in before stays as it is."""
    db, place = desk().db, desk().library.card
    if not any(place.rglob("*.dng")):
        refuse("The card is empty. Shoot some frames first.")
    same = next((o for o in outings.outings(db) if Path(o["folder"]) == place), None)
    number = same["id"] if same else outings.add_outing(db, "Field camera", place)
    desk().queue.bring_in(number, place)
    return redirect(url_for("shelf.page"))


@blueprint.get("/frame/<folder>/<int:number>.jpg")
def frame(folder: str, number: int) -> Response:
    """The preview that the camera put into a file."""
    path = desk().library.card / folder / f"FIELD{number:04d}.dng"
    if not FOLDER.match(folder) or not path.is_file():
        abort(404)
    try:
        with rawpy.imread(str(path)) as raw:
            data = bytes(raw.extract_thumb().data)
    except (rawpy.LibRawError, OSError):
        abort(404)
    response = Response(data, mimetype="image/jpeg")
    response.headers["Cache-Control"] = "private, max-age=86400"
    return response
