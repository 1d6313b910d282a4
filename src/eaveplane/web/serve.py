"""Running the page: a server on loopback and the worker behind it."""

from __future__ import annotations

import logging
import socket
import threading
import webbrowser
from collections.abc import Callable
from pathlib import Path

import waitress

from ..fieldcam.demo import CARD
from ..fieldcam.order import frames_of
from ..fieldcam.outing import carry_out
from ..fieldcam.paper import paper_profile
from ..imaging.write import put_in_place
from ..jobs.queue import JobQueue
from ..jobs.worker import Worker
from ..pipeline.library import Library
from ..pipeline.warm import warm_up
from ..store import outings
from ..store.painted import sweep
from .app import create_app

LARGEST_REQUEST = 5 << 30


def run(home: Path, port: int, open_page: bool, before: Callable[[Library], None] | None = None) -> None:
    """Serve the page until stopped. Raises LibraryInUse, OSError where the port is taken."""
    logging.basicConfig(level=logging.INFO, format="%(asctime)s %(name)s: %(message)s")
    library = Library(home.absolute())
    library.claim()
    listener = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    listener.bind(("127.0.0.1", port))
    # from here on a browser waits instead of being refused
    listener.listen(128)
    worker = Worker(library)
    with library.db.write() as connection:
        sweep(connection)
    if before:
        before(library)
    worker.start()
    threading.Thread(target=warm_up, name="warm-up", daemon=True).start()
    address = f"http://127.0.0.1:{listener.getsockname()[1]}/"
    print(f"Eaveplane is at {address}  (Ctrl+C ends it)", flush=True)
    if open_page:
        threading.Timer(0.5, webbrowser.open, (address,)).start()
    try:
        waitress.serve(create_app(library, worker), sockets=[listener], threads=8, max_request_body_size=LARGEST_REQUEST, channel_timeout=600, ident=None, _quiet=True)
    finally:
        worker.stop()


def run_demo(home: Path, port: int, open_page: bool, told: Callable[[str], None]) -> None:
    """Serve a library of its own with the demo's outing on its shelf: the field camera's card.

    The first landscape is shot before the page opens, the others while it is looked at; each comes in when it is done.
    """

    def write_paper(part: Path) -> None:
        part.write_bytes(paper_profile())

    def fill(library: Library) -> None:
        if outings.outings(library.db):
            return
        # a paper to try prints on
        put_in_place(home / "matt paper.icc", write_paper, replace=True)
        first, *others = CARD
        told("Field camera: setting up the first landscape …")
        carry_out(first.order, library.card / first.folder, first.first, first.start, told=lambda what, share: told(f"Field camera: {what}"))
        number = outings.add_outing(library.db, "A morning with the field camera", library.card)
        queue = JobQueue(library)
        queue.bring_in(number, library.card)
        for roll in others:
            frames, order = frames_of(roll.order), roll.order
            size = frames * order.long_side_px**2 * 2 / 3e6
            queue.add("shoot", number, megapixels=size, order=order.model_dump_json(), folder=roll.folder, first=roll.first, frames=frames, start=roll.start.isoformat())

    run(home / "library", port, open_page, fill)
