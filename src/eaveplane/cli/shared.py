"""What commands have in common: progress, messages and exit codes, places for results, options made of parameters."""

from __future__ import annotations

import json
import resource
import signal
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any, NoReturn

import click

from ..imaging.errors import PictureError
from ..imaging.rows import CORES
from ..imaging.write import put_in_place, writes
from ..parameter import Parameters, controls, switches
from ..pipeline.cache import Cache
from ..pipeline.runner import Runner

DONE, WRONG_CALL, BAD_INPUT, DOUBTFUL = 0, 2, 3, 4
CALLED_OFF = 128 + signal.SIGINT


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


def stop(message: str, code: int) -> NoReturn:
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


def reported(work: Callable[[Cache, Runner], dict[str, Any]], report: Path, force: bool) -> None:
    """Do something in a scratch cache and write what was found."""
    started = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="eaveplane-") as scratch, ThreadPoolExecutor(CORES) as pool:
        try:
            facts = work(Cache(Path(scratch) / "cache"), Runner(pool, Path(scratch) / "tickets", Progress()))
        except (PictureError, ValueError) as error:
            stop(str(error), BAD_INPUT)
    facts |= {"seconds": time.monotonic() - started, "peak_bytes": peak_bytes()}
    put_in_place(report, writes(json.dumps(facts, indent=1)), force)


def places_for(files: Sequence[Path | None], force: bool, frames: Sequence[Path]) -> None:
    """Refuse places that are taken, not there, or an original's."""
    for file in files:
        if file and file.exists() and not force:
            raise click.BadParameter(f"{file} stands there already. Choose another name, or replace it with --force.")
        if file and not file.absolute().parent.is_dir():
            raise click.BadParameter(f"{file.absolute().parent} is not a folder. Make it first.")
        if file and any(file.exists() and f.exists() and file.samefile(f) for f in frames):
            raise click.BadParameter(f"{file} is one of the frames; originals are never touched.")
