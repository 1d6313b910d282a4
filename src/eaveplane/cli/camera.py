"""`shoot`: the field camera."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import get_args

import click

from ..fieldcam.order import LandscapeName, Order
from .group import main
from .shared import BAD_INPUT, Progress, options_of, stop


@main.command()
@click.option("--card", type=click.Path(path_type=Path, file_okay=False), required=True, help="Folder that stands for the card; frames go into a new folder on it.")
@click.option("--folder", help="Name of the folder on the card; default: the next number and the landscape.")
@click.option("--landscape", type=click.Choice(get_args(LandscapeName)), default="saltpan", show_default=True, help="What stands before the lens.")
@click.option("--truth", type=click.Path(path_type=Path, file_okay=False), help="Also write the all-sharp picture, distances, geometry and what was put wrong into this folder.")
@options_of(Order)
def shoot(card: Path, folder: str | None, landscape: str, truth: Path | None, **asked: float | bool | None) -> None:
    """Shoot a focus bracket with the simulated field camera: DNG files on a card folder."""
    from ..fieldcam.outing import carry_out, next_folder, next_number

    try:
        order = Order.model_validate({"landscape": landscape, **{k: v for k, v in asked.items() if v is not None}})
    except ValueError as error:
        raise click.BadParameter(str(error)) from error
    if folder and (Path(folder).name != folder or folder.startswith(".")):
        raise click.BadParameter(f"{folder} is not a name for a folder.", param_hint="--folder")
    place = card / folder if folder else next_folder(card, landscape)
    if place.exists() and any(place.iterdir()):
        raise click.BadParameter(f"{place} holds files already. Choose another name.", param_hint="--folder")
    first = 1 if order.fresh_numbers else next_number(card)
    try:
        carry_out(order, place, first, datetime.now().replace(microsecond=0), truth, Progress())
    except OSError as error:
        stop(f"{place}: {error.strerror or error}. Check the card's folder and the room on its disk.", BAD_INPUT)
    click.echo(f"The frames are in {place}", err=True)
