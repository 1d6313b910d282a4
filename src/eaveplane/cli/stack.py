"""`stack`: frames of one scene to a finished picture."""

from __future__ import annotations

import json
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any, get_args

import click

from ..core.deliver.delivery import ALSO, SUFFIX, SUFFIXES_TOLD
from ..core.weave.laid import WAYS, WayName, Weaving
from ..imaging.errors import PictureError
from ..imaging.rows import CORES
from ..imaging.write import put_in_place, writes
from ..pipeline import headless
from ..pipeline.cache import Cache
from ..pipeline.runner import Runner
from ..pipeline.steps import FRAME_SUFFIX, LEGEND, MASK_SUFFIX, ORIGINS
from ..pipeline.taking import recipe_from
from ..recipe import Recipe, read_recipe
from .group import main
from .shared import BAD_INPUT, DONE, DOUBTFUL, WRONG_CALL, Progress, options_of, peak_bytes, places_for, stop

WAY = "How frames are woven; joint-light is the default. " + " ".join(f"{name}: {line}" for name, (_, line) in WAYS.items())
VEIL = "lift (default): take away what near things out of focus lay over farther frames, where the frames bear it out. leave: weave as they are."
LEAVE_OUT = "auto: set aside markers, and frames that are shaken, overshot or foreign and without which nothing is lost; others are kept and told in the report."


CANVAS = "common (default): the area all frames cover, at their aspect ratio. free: all of it, at any ratio. reference: the reference frame's grid."


@main.command()
@click.argument("frames", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="FRAME...")
@click.option("--out", type=click.Path(path_type=Path), required=True, help=f"Where the picture goes: {SUFFIXES_TOLD}.")
@click.option("--report", type=click.Path(path_type=Path), help="Write what was done as JSON.")
@click.option("--develop", type=click.Choice(["auto", "none"]), default="auto", show_default=True, help="auto: the look of --recipe, else a default for raw files. none: colours as they came.")
@click.option("--canvas", type=click.Choice(["common", "free", "reference"]), default=None, help=CANVAS)
@click.option("--reference", default="auto", show_default=True, help="auto, or the number of a frame, counted from 0 in the order given.")
@click.option("--even-out", type=click.Choice(["on", "off"]), default=None, help="Remove measured exposure and colour drift between frames; default on.")
@click.option("--leave-out", type=click.Choice(["auto", "none"]), default="auto", show_default=True, help=LEAVE_OUT)
@click.option("--way", type=click.Choice(get_args(WayName)), default=None, help=WAY)
@click.option("--veil", type=click.Choice(["lift", "leave"]), default=None, help=VEIL)
@click.option("--recipe", "recipe_file", type=click.Path(path_type=Path), help="Take the decisions from this recipe, or from a delivered picture with its recipe inside.")
@click.option("--save-recipe", type=click.Path(path_type=Path), help="Write the decisions as a recipe.")
@click.option("--masks", type=click.Path(path_type=Path, exists=True, file_okay=False), help="Take masks of frames from this folder: grey TIFFs of 16 bits, FRAME.mask.tif.")
@click.option("--save-masks", type=click.Path(path_type=Path, exists=True, file_okay=False), help="Write the masks of all frames into this folder, as such files.")
@click.option("--save-frames", type=click.Path(path_type=Path, exists=True, file_okay=False), help="Write the registered frames, developed alike, into this folder as TIFFs of 16 bits.")
@click.option("--profile", type=click.Path(path_type=Path, exists=True, dir_okay=False), help="Write the picture for a paper or printer: its ICC profile, an .icc or .icm file.")
@click.option("--provenance", is_flag=True, help="Also write which frame each pixel came from, and what was lifted or painted: OUT origins.tif and .json.")
@click.option("--force", is_flag=True, help="Replace files that stand where results go.")
@options_of(Weaving)
def stack(
    frames: tuple[Path, ...],
    out: Path,
    report: Path | None,
    develop: str,
    canvas: str | None,
    reference: str,
    even_out: str | None,
    leave_out: str,
    veil: str | None,
    recipe_file: Path | None,
    save_recipe: Path | None,
    masks: Path | None,
    save_masks: Path | None,
    save_frames: Path | None,
    profile: Path | None,
    provenance: bool,
    force: bool,
    **weaving: float | str | None,
) -> None:
    """Weave frames of one scene, in any order, into one finished picture."""
    started = time.monotonic()
    if reference != "auto" and not (reference.isdigit() and int(reference) < len(frames)):
        raise click.BadParameter(f"it is auto or a number from 0 to {len(frames) - 1}.", param_hint="--reference")
    if ALSO.get(out.suffix.lower(), out.suffix.lower()) not in SUFFIX.values():
        raise click.BadParameter(f"{out.name}: results are written as {SUFFIXES_TOLD}.", param_hint="--out")
    beside = [save_masks / (frame.stem + MASK_SUFFIX) for frame in frames] if save_masks else []
    beside += [save_frames / (frame.stem + FRAME_SUFFIX) for frame in frames] if save_frames else []
    beside += [out.with_name(out.stem + ending) for ending in (ORIGINS, LEGEND)] if provenance else []
    places_for((out, report, save_recipe, *beside), force, frames)
    try:
        # a picture that was delivered with its recipe inside will do
        pictured = recipe_file and ALSO.get(recipe_file.suffix.lower(), recipe_file.suffix.lower()) in SUFFIX.values()
        recipe = (recipe_from(recipe_file) if pictured else read_recipe(recipe_file)) if recipe_file else Recipe()
    except (PictureError, ValueError) as error:
        raise click.BadParameter(str(error), param_hint="--recipe") from error
    if reference == "auto" and not recipe_file:
        recipe = recipe.model_copy(update={"reference": ""})
    chosen: dict[str, Any] = {"weaving": recipe.weaving.model_copy(update={k: v for k, v in weaving.items() if v is not None})}
    if provenance:
        chosen["outputs"] = [output.model_copy(update={"provenance": True}) for output in recipe.outputs]
    if canvas:
        chosen["canvas"] = canvas
    if veil:
        chosen["veil"] = veil
    if even_out:
        chosen["even_out"] = even_out == "on"
    recipe = recipe.model_copy(update=chosen)
    progress = Progress()
    with tempfile.TemporaryDirectory(prefix="eaveplane-") as scratch, ThreadPoolExecutor(CORES) as pool:
        cache = Cache(Path(scratch) / "cache")
        runner = Runner(pool, Path(scratch) / "tickets", progress)
        try:
            asked = headless.Stack(frames, out, develop, reference, leave_out == "auto", recipe, bool(recipe_file), force, masks, save_masks, save_frames, profile)
            result = headless.stack(asked, cache, runner)
        except PictureError as error:
            stop(str(error), BAD_INPUT)
        except FileExistsError as error:
            stop(f"{error} stands there already. Choose another name, or replace it with --force.", WRONG_CALL)
    used, facts, warned = result
    facts["seconds"]["total"] = time.monotonic() - started
    facts["peak_bytes"] = peak_bytes()
    if save_recipe:
        put_in_place(save_recipe, writes(used.to_json()), force)
    if report:
        put_in_place(report, writes(json.dumps(facts, indent=1)), force)
    for line in warned:
        click.echo(line, err=True)
    sys.exit(DOUBTFUL if warned else DONE)
