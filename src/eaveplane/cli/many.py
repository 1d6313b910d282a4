"""`batch` and `schema`."""

from __future__ import annotations

import json
import os
import signal
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import click
from pydantic import ValidationError

from ..core.deliver.delivery import START, Delivery, OutputSet
from ..imaging.errors import PictureError
from ..imaging.rows import CORES
from ..imaging.write import put_in_place, writes
from ..pipeline import batch as scenes
from ..pipeline.cache import Cache
from ..pipeline.cluster import Cluster
from ..pipeline.library import default_home
from ..pipeline.pool import fewer_cores, worker_pool
from ..pipeline.runner import Runner
from ..pipeline.taking import recipe_from
from ..pipeline.ticket import Cancelled
from ..recipe import Recipe
from ..store.database import Database
from ..store.outputs import saved_set
from .group import main
from .shared import BAD_INPUT, CALLED_OFF, DONE, DOUBTFUL, Progress, places_for, stop

SET = f"What is written of each scene: {', '.join(START)}, a set kept in the page, or a file with a set of outputs as JSON. Default: the outputs of the recipe."
MAPPED = "The folder that all machines share; workers that have it mounted elsewhere say where by EAVEPLANE_SHARED. Default: the folder that holds frames and results alike."


@main.command()
@click.argument("folders", nargs=-1, required=True, type=click.Path(path_type=Path, exists=True, file_okay=False), metavar="FOLDER...")
@click.option("--out", type=click.Path(path_type=Path, file_okay=False), required=True, help="The folder for the results; it is made where it is missing. Run again, only what is missing is done.")
@click.option("--recipe", "recipe_file", type=click.Path(path_type=Path), help="Take look, corrections, weaving and finish from this recipe, or from a delivered picture with its recipe inside.")
@click.option("--set", "chosen", help=SET)
@click.option("--report", type=click.Path(path_type=Path), help="Write what was done as JSON; a report that stands there is replaced.")
@click.option("--split/--no-split", default=False, help="Split each folder into scenes by what its pictures show; else every folder that holds pictures is one scene.")
@click.option("--workers", type=click.IntRange(1, 64), default=CORES, show_default=True, help="How many scenes are done at a time on this machine, on as many processes.")
@click.option("--cluster", help="Address of the scheduler of a Dask cluster, tcp://HOST:PORT; scenes are done by its workers.")
@click.option("--shared", type=click.Path(path_type=Path, exists=True, file_okay=False), help=MAPPED)
def batch(folders: tuple[Path, ...], out: Path, recipe_file: Path | None, chosen: str | None, report: Path | None, split: bool, workers: int, cluster: str | None, shared: Path | None) -> None:
    """Do many scenes with one recipe: inspect, register, weave, look for flaws, deliver. A scene that fails stops no other."""
    started = time.monotonic()
    places_for([report], True, ())
    try:
        recipe = recipe_from(recipe_file) if recipe_file else Recipe()
    except PictureError as error:
        raise click.BadParameter(str(error), param_hint="--recipe") from error
    outputs = outputs_of(chosen, recipe)
    out.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(prefix="eaveplane-") as scratch, ThreadPoolExecutor(CORES) as threads:
        try:
            found = scenes.scenes_in(folders, Cache(Path(scratch) / "cache"), Runner(threads, Path(scratch) / "tickets", Progress()), split)
            root = shared or Path(os.path.commonpath([out.resolve(), *(folder.resolve() for folder in folders)]))
            wanted = scenes.scenes_of(found, out, root, general(recipe), outputs)
        except (PictureError, ValueError) as error:
            stop(str(error), BAD_INPUT)
    try:
        with called_off() as unwanted:
            told = on_cluster(cluster, wanted, unwanted) if cluster else here(workers, wanted, unwanted)
    except Cancelled:
        stop("Called off. What was done is kept; run it again to do the rest.", CALLED_OFF)
    if report:
        put_in_place(report, writes(json.dumps(scenes.reported(told, found, out, root, time.monotonic() - started), indent=1)), replace=True)
    for scene in told:
        for line in scene["look_at"]:
            click.echo(f"{scene['scene']}: {line}", err=True)
    if all(scene["state"] == "failed" for scene in told):
        sys.exit(BAD_INPUT)
    sys.exit(DOUBTFUL if any(scene["look_at"] for scene in told) else DONE)


def outputs_of(chosen: str | None, recipe: Recipe) -> list[Delivery]:
    """The ticked outputs of a set by name, as the page's library keeps it, or by file; those of the recipe where none is chosen."""
    if chosen is None:
        return recipe.ticked()
    kept = default_home() / "library.sqlite"
    named = saved_set(Database(kept), chosen) if kept.exists() else START.get(chosen)
    if named is not None:
        return [output for output in named.outputs if output.ticked]
    try:
        return [output for output in OutputSet.model_validate_json(Path(chosen).read_bytes()).outputs if output.ticked]
    except OSError:
        raise click.BadParameter(f"there is no set {chosen}, and no such file. Sets are {', '.join(START)}.", param_hint="--set") from None
    except ValidationError as error:
        raise click.BadParameter(f"{chosen} is not a set of outputs: {error.errors()[0]['msg']}.", param_hint="--set") from error


def general(recipe: Recipe) -> Recipe:
    """What of a recipe goes for other scenes: not its frames, nor what was decided about them."""
    start = Recipe()
    return recipe.model_copy(update={name: getattr(start, name) for name in ("frames", "reference", "strokes", "accepted", "span", "variants")})


@contextmanager
def called_off() -> Iterator[Callable[[], bool]]:
    """Whether an interrupt or an end is asked for meanwhile: steps that run elsewhere are told so and end."""
    asked = threading.Event()
    before = {kind: signal.signal(kind, lambda *_: asked.set()) for kind in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield asked.is_set
    finally:
        for kind, handler in before.items():
            signal.signal(kind, handler)


def here(workers: int, wanted: list[scenes.Scene], unwanted: Callable[[], bool]) -> list[dict[str, Any]]:
    """Scenes on processes of this machine, the cores shared out among them."""
    with fewer_cores(max(1, CORES // workers)):
        pools: list[Executor] = [worker_pool(workers, 0)]

        def renewed() -> Executor:
            pools.append(worker_pool(workers, 0))
            return pools[-1]

        try:
            return scenes.do_all(wanted, pools[0], Progress(), unwanted, renewed)
        finally:
            for pool in pools:
                pool.shutdown(wait=True, cancel_futures=True)


def on_cluster(address: str, wanted: list[scenes.Scene], unwanted: Callable[[], bool]) -> list[dict[str, Any]]:
    """Scenes on the workers of a cluster."""
    try:
        cluster = Cluster(address)
    except ValueError as error:
        stop(str(error), BAD_INPUT)
    try:
        return scenes.do_all(wanted, cluster, Progress(), unwanted)
    finally:
        cluster.shutdown()


@main.command()
def schema() -> None:
    """Print the JSON schema of recipes."""
    click.echo(json.dumps({"$schema": "https://json-schema.org/draft/2020-12/schema", **Recipe.model_json_schema(by_alias=True)}, indent=1))
