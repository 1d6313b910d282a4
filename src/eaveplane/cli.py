"""The job without a page: `eaveplane COMMAND --help`."""

from __future__ import annotations

import json
import resource
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from pathlib import Path
from typing import Any, get_args

import click

from .core.weave.laid import WAYS, WayName, Weaving
from .fieldcam.order import LandscapeName, Order
from .imaging.errors import PictureError
from .imaging.formats.registry import WRITTEN
from .imaging.rows import CORES
from .imaging.write import put_in_place, writes
from .optics.plan import Question, in_metres
from .parameter import Parameters, controls, switches
from .pipeline import headless
from .pipeline.cache import Cache
from .pipeline.runner import Runner
from .pipeline.steps import MASK_SUFFIX
from .recipe import Recipe, read_recipe

DONE, WRONG_CALL, BAD_INPUT, DOUBTFUL = 0, 2, 3, 4


class Progress:
    """A bar on a terminal, plain lines otherwise; on standard error."""

    def __init__(self) -> None:
        self.terminal, self.last = sys.stderr.isatty(), ""

    def __call__(self, what: str, share: float) -> None:
        if self.terminal:
            filled = int(30 * share)
            click.echo(f"\r{what:<22} [{'#' * filled}{' ' * (30 - filled)}] {share:4.0%}", err=True, nl=share >= 1)
        elif what != self.last:
            click.echo(f"{what} …", err=True)
        self.last = what


def peak_bytes() -> int:
    """The most memory that this process held; getrusage would count what its parent held when it was started."""
    try:
        line = next(line for line in Path("/proc/self/status").read_text().splitlines() if line.startswith("VmHWM"))
        return int(line.split()[1]) * 1024
    except (OSError, StopIteration):
        return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024


def _stop(message: str, code: int) -> None:
    click.echo(message, err=True)
    sys.exit(code)


def options_of(model: type[Parameters]) -> Callable[[Any], Any]:
    """An option for every parameter of a set, made from its definition."""

    def add(command: Any) -> Any:
        for name, label, help in reversed(switches(model)):
            option = name.replace("_", "-")
            default = bool(model.model_fields[name].default)
            command = click.option(f"--{option}/--no-{option}", name, default=None, help=f"{label}. {help} Default {'on' if default else 'off'}.")(command)
        for control in reversed(controls(model)):
            text = f"{control.help} {control.low:g} to {control.high:g} {control.unit}, default {control.default:g}."
            command = click.option(f"--{control.name.replace('_', '-')}", control.name, type=click.FloatRange(control.low, control.high), default=None, help=text)(command)
        return command

    return add


WAY = "How frames are woven; joint-light is the default. " + " ".join(f"{name}: {line}" for name, (_, line) in WAYS.items())
VEIL = "lift (default): take away what near things out of focus lay over farther frames, where the frames bear it out. leave: weave as they are."
LEAVE_OUT = "auto: set aside markers, and frames that are shaken, overshot or foreign and without which nothing is lost; others are kept and told in the report."


CANVAS = "common (default): the area all frames cover, at their aspect ratio. free: all of it, at any ratio. reference: the reference frame's grid."


@click.group(context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(package_name="eaveplane")
def main() -> None:
    """Weave focus stacks of landscapes into pictures that are sharp throughout."""


@main.command()
@click.argument("frames", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="FRAME...")
@click.option("--out", type=click.Path(path_type=Path), required=True, help="Where the picture goes: .tif (16 bits), .png (16 bits) or .jpg.")
@click.option("--report", type=click.Path(path_type=Path), help="Write what was done as JSON. Its list of flaws is empty: they are not looked for yet.")
@click.option("--develop", type=click.Choice(["auto", "none"]), default="auto", show_default=True, help="auto: the look of --recipe, else a default for raw files. none: colours as they came.")
@click.option("--canvas", type=click.Choice(["common", "free", "reference"]), default=None, help=CANVAS)
@click.option("--reference", default="auto", show_default=True, help="auto, or the number of a frame, counted from 0 in the order given.")
@click.option("--even-out", type=click.Choice(["on", "off"]), default=None, help="Remove measured exposure and colour drift between frames; default on.")
@click.option("--leave-out", type=click.Choice(["auto", "none"]), default="auto", show_default=True, help=LEAVE_OUT)
@click.option("--way", type=click.Choice(get_args(WayName)), default=None, help=WAY)
@click.option("--veil", type=click.Choice(["lift", "leave"]), default=None, help=VEIL)
@click.option("--recipe", "recipe_file", type=click.Path(path_type=Path), help="Take the decisions from this recipe.")
@click.option("--save-recipe", type=click.Path(path_type=Path), help="Write the decisions as a recipe.")
@click.option("--masks", type=click.Path(path_type=Path, exists=True, file_okay=False), help="Take masks of frames from this folder: grey TIFFs of 16 bits, FRAME.mask.tif.")
@click.option("--save-masks", type=click.Path(path_type=Path, exists=True, file_okay=False), help="Write the masks of all frames into this folder, as such files.")
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
    force: bool,
    **weaving: float | str | None,
) -> None:
    """Weave frames of one scene, in any order, into one finished picture."""
    started = time.monotonic()
    if reference != "auto" and not (reference.isdigit() and int(reference) < len(frames)):
        raise click.BadParameter(f"it is auto or a number from 0 to {len(frames) - 1}.", param_hint="--reference")
    if out.suffix.lower() not in WRITTEN:
        raise click.BadParameter(f"{out.name}: results are written as .tif, .png or .jpg.", param_hint="--out")
    _places_for((out, report, save_recipe, *([save_masks / (frame.stem + MASK_SUFFIX) for frame in frames] if save_masks else [])), force, frames)
    try:
        recipe = read_recipe(recipe_file) if recipe_file else Recipe()
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint="--recipe") from error
    if reference == "auto" and not recipe_file:
        recipe = recipe.model_copy(update={"reference": ""})
    chosen: dict[str, Any] = {"weaving": recipe.weaving.model_copy(update={k: v for k, v in weaving.items() if v is not None})}
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
            asked = headless.Stack(frames, out, develop, reference, leave_out == "auto", recipe, bool(recipe_file), force, masks, save_masks)
            result = headless.stack(asked, cache, runner)
        except PictureError as error:
            _stop(str(error), BAD_INPUT)
        except FileExistsError as error:
            _stop(f"{error} stands there already. Choose another name, or replace it with --force.", WRONG_CALL)
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


@main.command()
@click.argument("frames", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="FRAME...")
@click.option("--report", type=click.Path(path_type=Path), required=True, help="Where what was found goes, as JSON.")
@click.option("--force", is_flag=True, help="Replace the report where one stands there.")
def inspect(frames: tuple[Path, ...], report: Path, force: bool) -> None:
    """Look at the frames of one scene, in any order, before anything is blended: which are better left out, and where
    none is sharp."""
    _places_for([report], force, frames)
    _report(lambda cache, runner: headless.inspect(frames, cache, runner), report, force)


@main.command()
@click.argument("folder", type=click.Path(path_type=Path, exists=True, file_okay=False))
@click.option("--report", type=click.Path(path_type=Path), required=True, help="Where the scenes go, as JSON.")
@click.option("--force", is_flag=True, help="Replace the report where one stands there.")
def sets(folder: Path, report: Path, force: bool) -> None:
    """Split a folder of pictures into scenes, near to far, with their exposure brackets and markers."""
    _places_for([report], force, ())
    _report(lambda cache, runner: headless.sets(folder, cache, runner), report, force)


def _report(work: Callable[[Cache, Runner], dict[str, Any]], report: Path, force: bool) -> None:
    """Do something in a scratch cache and write what was found."""
    started = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="eaveplane-") as scratch, ThreadPoolExecutor(CORES) as pool:
        try:
            facts = work(Cache(Path(scratch) / "cache"), Runner(pool, Path(scratch) / "tickets", Progress()))
        except (PictureError, ValueError) as error:
            _stop(str(error), BAD_INPUT)
    facts |= {"seconds": time.monotonic() - started, "peak_bytes": peak_bytes()}
    put_in_place(report, writes(json.dumps(facts, indent=1)), force)


def _places_for(files: Sequence[Path | None], force: bool, frames: Sequence[Path]) -> None:
    """Refuse places that are taken, not there, or an original's."""
    for file in files:
        if file and file.exists() and not force:
            raise click.BadParameter(f"{file} stands there already. Choose another name, or replace it with --force.")
        if file and not file.absolute().parent.is_dir():
            raise click.BadParameter(f"{file.absolute().parent} is not a folder. Make it first.")
        if file and any(file.exists() and f.exists() and file.samefile(f) for f in frames):
            raise click.BadParameter(f"{file} is one of the frames; originals are never touched.")


@main.command()
@options_of(Question)
@click.option("--json", "as_json", is_flag=True, help="Print the plan as JSON; infinity is null.")
def plan(as_json: bool, **asked: float | None) -> None:
    """Plan a focus bracket: where to focus so that nothing is blurred by more than is allowed."""
    from .optics.plan import answer

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


@main.command()
@click.option("--card", type=click.Path(path_type=Path, file_okay=False), required=True, help="Folder that stands for the card; frames go into a new folder on it.")
@click.option("--folder", help="Name of the folder on the card; default: the next number and the landscape.")
@click.option("--landscape", type=click.Choice(get_args(LandscapeName)), default="saltpan", show_default=True, help="What stands before the lens.")
@click.option("--truth", type=click.Path(path_type=Path, file_okay=False), help="Also write the all-sharp picture, distances, geometry and what was put wrong into this folder.")
@options_of(Order)
def shoot(card: Path, folder: str | None, landscape: str, truth: Path | None, **asked: float | bool | None) -> None:
    """Shoot a focus bracket with the simulated field camera: DNG files on a card folder."""
    from .fieldcam.outing import carry_out, next_folder, next_number

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
        _stop(f"{place}: {error.strerror or error}. Check the card's folder and the room on its disk.", BAD_INPUT)
    click.echo(f"The frames are in {place}", err=True)


@main.command()
@click.option("--home", type=click.Path(path_type=Path), help="Folder of the library; default: EAVEPLANE_HOME or the user's data folder.")
@click.option("--port", type=click.IntRange(0, 65535), default=8420, show_default=True, help="On 127.0.0.1; 0 takes a free one.")
@click.option("--open/--no-open", "open_page", default=True, help="Open the page in the browser.")
def serve(home: Path | None, port: int, open_page: bool) -> None:
    """Run the page on this machine."""
    from .pipeline.library import default_home
    from .web.serve import run

    _serve(lambda: run(home or default_home(), port, open_page))


@main.command()
@click.option("--home", type=click.Path(path_type=Path), default=Path(".demo"), show_default=True, help="Folder for the demo's library and its card.")
@click.option("--port", type=click.IntRange(0, 65535), default=8420, show_default=True, help="On 127.0.0.1; 0 takes a free one.")
@click.option("--open/--no-open", "open_page", default=True, help="Open the page in the browser.")
def demo(home: Path, port: int, open_page: bool) -> None:
    """Shoot a made-up scene with the field camera, and run the page on it."""
    from .web.serve import run_demo

    _serve(lambda: run_demo(home, port, open_page, lambda line: click.echo(line, err=True)))


def _serve(run: Callable[[], None]) -> None:
    from .pipeline.library import LibraryInUse

    try:
        run()
    except LibraryInUse as error:
        _stop(str(error), BAD_INPUT)
    except OSError as error:
        _stop(f"The page cannot be served: {error.strerror or error}. Choose another port with --port or another folder with --home.", BAD_INPUT)


if __name__ == "__main__":
    main()
