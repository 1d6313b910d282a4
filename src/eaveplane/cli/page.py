"""`serve` and `demo`: the page."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import click

from .group import main
from .shared import BAD_INPUT, stop


@main.command()
@click.option("--home", type=click.Path(path_type=Path), help="Folder of the library; default: EAVEPLANE_HOME or the user's data folder.")
@click.option("--port", type=click.IntRange(0, 65535), default=8420, show_default=True, help="On 127.0.0.1; 0 takes a free one.")
@click.option("--open/--no-open", "open_page", default=True, help="Open the page in the browser.")
def serve(home: Path | None, port: int, open_page: bool) -> None:
    """Run the page on this machine."""
    from ..pipeline.library import default_home
    from ..web.serve import run

    _serve(lambda: run(home or default_home(), port, open_page))


@main.command()
@click.option("--home", type=click.Path(path_type=Path), default=Path(".demo"), show_default=True, help="Folder for the demo's library and its card.")
@click.option("--port", type=click.IntRange(0, 65535), default=8420, show_default=True, help="On 127.0.0.1; 0 takes a free one.")
@click.option("--open/--no-open", "open_page", default=True, help="Open the page in the browser.")
def demo(home: Path, port: int, open_page: bool) -> None:
    """Shoot a made-up scene with the field camera, and run the page on it."""
    from ..web.serve import run_demo

    _serve(lambda: run_demo(home, port, open_page, lambda line: click.echo(line, err=True)))


def _serve(run: Callable[[], None]) -> None:
    from ..pipeline.library import LibraryInUse

    try:
        run()
    except LibraryInUse as error:
        stop(str(error), BAD_INPUT)
    except OSError as error:
        stop(f"The page cannot be served: {error.strerror or error}. Choose another port with --port or another folder with --home.", BAD_INPUT)
