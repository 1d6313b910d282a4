"""The real program in a process of its own, driven in headless Chromium."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import pytest
from playwright.sync_api import Browser, ConsoleMessage, Page, expect, sync_playwright

# kernels are compiled when they are first needed, and the machine may give its time elsewhere
expect.set_options(timeout=30_000)
CHROMIUM = shutil.which("chromium-headless-shell") or shutil.which("chromium") or "/usr/bin/chromium-headless-shell"
"""The one without windows of its own does with two thirds of the computing."""
QUIET = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync"]

LEFT = ("htmx:afterRequest", "htmx:sendError", "htmx:sendAbort")
"""What is logged of a request that was on its way when its page was left; where a server does not answer, the page says so itself."""


class Server:
    """`eaveplane serve`, or `demo`, on a folder; `address` is where it answers."""

    def __init__(self, home: Path, command: str = "serve", program: tuple[str, ...] = ("-m", "eaveplane.cli")) -> None:
        self.home = home
        self.log = (home.parent / f"{home.name}.log").open("ab")
        self.process = subprocess.Popen(
            [sys.executable, *program, command, "--home", str(home), "--port", "0", "--no-open"], stdout=subprocess.PIPE, stderr=self.log, text=True
        )
        assert self.process.stdout is not None
        line = self.process.stdout.readline()
        found = re.search(r"http://127\.0\.0\.1:\d+", line)
        assert found, f"the server said {line!r}"
        self.address = found[0]

    def stop(self) -> None:
        self.process.terminate()
        self.process.wait(timeout=30)
        self.log.close()


@pytest.fixture(scope="package")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        started = playwright.chromium.launch(executable_path=CHROMIUM, args=QUIET)
        yield started
        started.close()


@pytest.fixture
def page(browser: Browser) -> Iterator[Page]:
    """A page of 1280×800 on which errors of scripts and policies fail the test."""
    complaints: list[str] = []

    def heard(message: ConsoleMessage) -> None:
        # answers of 4xx, tiles that were still coming when a page was left, and what a page says when a test has ended its
        # server, are no complaints of scripts
        expected = message.text.startswith(("Failed to load resource", "Response Status Error Code 4", "Tile %s failed to load", *LEFT))
        if message.type == "error" and not expected and not getattr(opened, "server_ended", False):
            complaints.append(message.text)

    context = browser.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True)
    opened = context.new_page()
    opened.set_default_timeout(90_000)
    # asked for at every frame that is drawn, as is usual, pages are drawn for the asking
    opened.wait_for_function = partial(opened.wait_for_function, polling=50)  # type: ignore[method-assign]
    opened.on("console", heard)
    opened.on("pageerror", lambda error: complaints.append(str(error)))
    opened.on("response", lambda response: complaints.append(f"{response.status} {response.url}") if response.status >= 500 else None)
    yield opened
    told = list(complaints)
    context.close()
    assert told == []


@pytest.fixture(scope="package")
def gathered(looked_at: Callable[[Path], Path], tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    """A server on a shelf with one scene, whose frames have been looked at; tests leave it as they found it."""
    started = Server(looked_at(tmp_path_factory.mktemp("gathered") / "home") / "library")
    yield started
    started.stop()
