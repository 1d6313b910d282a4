"""The job without a page: `eaveplane COMMAND --help`."""

from __future__ import annotations

import json
import resource
import sys
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from pathlib import Path
from typing import Any, get_args

import click
import numpy as np

from .core.even.look import NEUTRAL, RAW_LOOK
from .core.weave.weave import Weaving
from .fieldcam.order import LandscapeName, Order
from .imaging.errors import PictureError
from .imaging.rows import CORES
from .imaging.write import SUFFIXES, put_in_place, writes
from .optics.plan import Question, in_metres
from .parameter import Parameters, controls, switches
from .pipeline import scene, steps
from .pipeline.cache import Cache, hash_file
from .recipe import FrameChoice, Recipe, read_recipe

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


def _peak_bytes() -> int:
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


@click.group(context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(package_name="eaveplane")
def main() -> None:
    """Weave focus stacks of landscapes into pictures that are sharp throughout."""


@main.command()
@click.argument("frames", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="FRAME...")
@click.option("--out", type=click.Path(path_type=Path), required=True, help="Where the picture goes: .tif (16 bits), .png (16 bits) or .jpg.")
@click.option("--report", type=click.Path(path_type=Path), help="Write what was done as JSON. Its list of flaws is empty: they are not looked for yet.")
@click.option("--develop", type=click.Choice(["auto", "none"]), default="auto", show_default=True, help="auto: the look of --recipe, else a default for raw files. none: colours as they came.")
@click.option("--canvas", type=click.Choice(["common", "reference"]), default=None, help="common (default): the area all frames cover, at their aspect ratio. reference: the reference frame's grid.")
@click.option("--reference", default="auto", show_default=True, help="auto, or the number of a frame, counted from 0 in the order given.")
@click.option("--even-out", type=click.Choice(["on", "off"]), default=None, help="Remove measured exposure and colour drift between frames; default on.")
@click.option("--leave-out", type=click.Choice(["auto", "none"]), default="auto", show_default=True, help="auto: set aside frames without a part of their own and frames that do not fit.")
@click.option("--recipe", "recipe_file", type=click.Path(path_type=Path), help="Take the decisions from this recipe.")
@click.option("--save-recipe", type=click.Path(path_type=Path), help="Write the decisions as a recipe.")
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
    recipe_file: Path | None,
    save_recipe: Path | None,
    force: bool,
    **weaving: float | None,
) -> None:
    """Weave frames of one scene, in any order, into one finished picture."""
    started = time.monotonic()
    if reference != "auto" and not (reference.isdigit() and int(reference) < len(frames)):
        raise click.BadParameter(f"it is auto or a number from 0 to {len(frames) - 1}.", param_hint="--reference")
    if out.suffix.lower() not in SUFFIXES:
        raise click.BadParameter(f"{out.name}: results are written as .tif, .png or .jpg.", param_hint="--out")
    for file in (out, report, save_recipe):
        if file and file.exists() and not force:
            raise click.BadParameter(f"{file} stands there already. Choose another name, or replace it with --force.")
        if file and not file.absolute().parent.is_dir():
            raise click.BadParameter(f"{file.absolute().parent} is not a folder. Make it first.")
        if file and any(file.exists() and f.exists() and file.samefile(f) for f in frames):
            raise click.BadParameter(f"{file} is one of the frames; originals are never touched.")
    try:
        recipe = read_recipe(recipe_file) if recipe_file else Recipe()
    except ValueError as error:
        raise click.BadParameter(str(error), param_hint="--recipe") from error
    if reference == "auto" and not recipe_file:
        recipe = recipe.model_copy(update={"reference": ""})
    chosen: dict[str, Any] = {"weaving": recipe.weaving.model_copy(update={k: v for k, v in weaving.items() if v is not None})}
    if canvas:
        chosen["canvas"] = canvas
    if even_out:
        chosen["even_out"] = even_out == "on"
    recipe = recipe.model_copy(update=chosen)
    progress = Progress()
    with tempfile.TemporaryDirectory(prefix="eaveplane-") as scratch, ThreadPoolExecutor(CORES) as pool:
        cache = Cache(Path(scratch) / "cache")
        runner = scene.Runner(pool, Path(scratch) / "tickets", progress)
        try:
            result = _stack(frames, out, develop, reference, leave_out, recipe, bool(recipe_file), force, cache, runner)
        except PictureError as error:
            _stop(str(error), BAD_INPUT)
        except FileExistsError as error:
            _stop(f"{error} stands there already. Choose another name, or replace it with --force.", WRONG_CALL)
    used, facts, warned = result
    facts["seconds"]["total"] = time.monotonic() - started
    facts["peak_bytes"] = _peak_bytes()
    if save_recipe:
        put_in_place(save_recipe, writes(used.to_json()), force)
    if report:
        put_in_place(report, writes(json.dumps(facts, indent=1)), force)
    for line in warned:
        click.echo(line, err=True)
    sys.exit(DOUBTFUL if warned else DONE)


def _stack(
    frames: tuple[Path, ...], out: Path, develop: str, reference: str, leave_out: str, recipe: Recipe, from_file: bool, force: bool, cache: Cache, runner: scene.Runner
) -> tuple[Recipe, dict[str, Any], list[str]]:
    """Do it; the recipe that was carried out, the report, and what should not be trusted."""
    clock = [time.monotonic()]
    files: list[scene.File] = []
    for path in frames:
        if not path.is_file():
            raise PictureError(path, "is not there.", "Check the name.")
    for path, sha256 in zip(frames, runner.executor.map(hash_file, frames), strict=True):
        file = scene.File(path, sha256, str(path))
        if all(file.sha256 != f.sha256 for f in files):
            files.append(file)
    analysed = scene.analyse(cache, files, runner, (0.0, 0.45), full_only=True)
    for problem in analysed.problems.values():
        raise problem
    for problem in scene.same_size(cache, files, analysed.keys).values():
        raise problem
    clock.append(time.monotonic())

    order = scene.in_order(cache, [analysed.keys[f.id] for f in files])
    recipe = _with_frames(recipe, [files[i] for i in order])
    if reference != "auto":
        wanted = hash_file(frames[int(reference)])[:12]
        recipe = recipe.model_copy(update={"reference": wanted})
    first = steps.open_decoded(cache, analysed.keys[files[0].id])
    if develop == "none":
        recipe = recipe.model_copy(update={"look": NEUTRAL})
    elif not from_file:
        recipe = recipe.model_copy(update={"look": RAW_LOOK if first.raw else NEUTRAL})

    planned = scene.plan(recipe, analysed.keys, full_only=True)
    assert planned is not None
    registered = scene.register(cache, planned, runner, (0.45, 0.6))
    zones = scene.label(cache, planned, recipe.weaving.quiet, runner, (0.6, 0.64))
    if leave_out == "auto" and not from_file:
        reasons = {planned.ids[k]: why for k, why in scene.without_part(zones, registered).items()}
        if reference != "auto":
            reasons.pop(recipe.reference, None)
        if reasons:
            recipe = scene.leave_out(recipe, reasons)
            planned = scene.plan(recipe, analysed.keys, full_only=True)
            assert planned is not None
            registered = scene.register(cache, planned, runner, (0.45, 0.6))
            scene.label(cache, planned, recipe.weaving.quiet, runner, (0.6, 0.64))
    clock.append(time.monotonic())
    shares = scene.weave(cache, planned, recipe, runner, (0.64, 0.85), full_only=True)
    clock.append(time.monotonic())
    scene.deliver(cache, planned, recipe, out, force, runner, (0.85, 1.0))
    clock.append(time.monotonic())

    place = {id: k for k, id in enumerate(planned.ids)}
    states = {f.id: f for f in recipe.frames}
    listed = []
    for path in frames:
        id = next(f.id for f in files if f.path == path) if any(f.path == path for f in files) else hash_file(path)[:12]
        k = place.get(id)
        listed.append(
            {
                "file": str(path),
                "homography": registered.fits[k].tolist() if k is not None else None,
                "gain": list(registered.gains[k]) if k is not None and recipe.even_out else [1.0, 1.0, 1.0],
                "residual_px": registered.residual[k] if k is not None else None,
                "share": shares[k] if k is not None else 0.0,
                "state": "used" if k is not None else "left_out",
                "reason": states[id].reason,
            }
        )
    x, y, w, h = registered.area
    spent = np.diff(clock)
    by_id = {f.id: f.path for f in files}
    facts = {
        "schema": 1,
        "reference": list(frames).index(by_id[planned.ids[planned.reference]]),
        "frames": listed,
        "area": {"x": x, "y": y, "w": w, "h": h},
        "model": registered.model,
        "flaws": [],
        "seconds": {"read": spent[0], "register": spent[1], "weave": spent[2], "write": spent[3]},
    }
    warned = [f"{by_id[planned.ids[k]].name}: {text}" for k, text in enumerate(registered.warnings) if text]
    return recipe, facts, warned


def _with_frames(recipe: Recipe, files: list[scene.File]) -> Recipe:
    """The recipe for these files, in order: its own frames where it knows them, all of them where it knows none."""
    known = {f.id: f for f in recipe.frames}
    if any(f.id in known for f in files):
        by_id = {f.id: f for f in files}
        ordered = [entry.model_copy(update={"file": by_id[entry.id].name}) for entry in recipe.frames if entry.id in by_id]
        ordered += [FrameChoice(id=f.id, file=f.name, state="leave_out", reason="by hand") for f in files if f.id not in known]
        return recipe.model_copy(update={"frames": ordered})
    fresh = [FrameChoice(id=f.id, file=f.name) for f in files]
    return recipe.model_copy(update={"frames": fresh, "reference": "", "strokes": []})


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
