"""Before anything is woven: `inspect`, `sets` and `plan`."""

from __future__ import annotations

import json
from pathlib import Path

import click

from ..optics.plan import Question, answer, in_metres
from ..pipeline import headless
from .group import main
from .shared import options_of, places_for, reported


@main.command()
@click.argument("frames", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="FRAME...")
@click.option("--report", type=click.Path(path_type=Path), required=True, help="Where what was found goes, as JSON.")
@click.option("--force", is_flag=True, help="Replace the report where one stands there.")
def inspect(frames: tuple[Path, ...], report: Path, force: bool) -> None:
    """Look at the frames of one scene, in any order, before anything is blended: which are better left out, and where
    none is sharp."""
    places_for([report], force, frames)
    reported(lambda cache, runner: headless.inspect(frames, cache, runner), report, force)


@main.command()
@click.argument("folder", type=click.Path(path_type=Path, exists=True, file_okay=False))
@click.option("--report", type=click.Path(path_type=Path), required=True, help="Where the scenes go, as JSON.")
@click.option("--force", is_flag=True, help="Replace the report where one stands there.")
def sets(folder: Path, report: Path, force: bool) -> None:
    """Split a folder of pictures into scenes, near to far, with their exposure brackets and markers."""
    places_for([report], force, ())
    reported(lambda cache, runner: headless.sets(folder, cache, runner), report, force)


@main.command()
@options_of(Question)
@click.option("--json", "as_json", is_flag=True, help="Print the plan as JSON; infinity is null.")
def plan(as_json: bool, **asked: float | None) -> None:
    """Plan a focus bracket: where to focus so that nothing is blurred by more than is allowed."""
    try:
        found = answer(Question.model_validate({k: v for k, v in asked.items() if v is not None}))
    except ValueError as error:
        raise click.BadParameter(str(error)) from error
    if as_json:
        click.echo(json.dumps(found.to_json(), indent=1))
        return
    question = found.question
    click.echo(f"{question.focal_mm:g} mm at f/{question.f_number:g}: hyperfocal distance {found.hyperfocal_m:.2f} m for a blur of {1000 * question.blur_mm():.1f} µm.")
    click.echo(f"{len(found.positions)} shots, blurred by {1000 * found.worst_mm:.1f} µm at the worst distance:")
    for k, position in enumerate(found.positions, 1):
        click.echo(f"{k:4}  focus {in_metres(position.focus_m):>8}   sharp from {in_metres(position.near_m):>8} to {in_metres(position.far_m):>8}")
    click.echo(f"As many shots are sharpest at f/{found.best.f_number:g}: {found.best.both_um:.1f} µm of defocus and diffraction together.")
