"""A card with two scenes: strips split, joined, moved and undone; proposals in Gather; files that moved."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from datetime import datetime, timedelta
from pathlib import Path

import cv2
import numpy as np
import pytest
from playwright.sync_api import Browser, Page, expect

from bench.cards import composition, noisy
from bench.faults import shaken
from eaveplane.imaging.colour import FloatArray
from eaveplane.imaging.exif import Metadata
from eaveplane.imaging.formats.registry import write_picture
from eaveplane.imaging.icc import standard_encoding
from eaveplane.imaging.light import root_of, to_codes
from tests.browser.conftest import Server
from tests.browser.test_route import corner, drawn_anew, whole

BEGIN = datetime(2026, 4, 11, 6, 0)


def write(path: Path, light: FloatArray, seconds: float) -> None:
    large = cv2.resize(light, None, fx=2, fy=2, interpolation=cv2.INTER_CUBIC)
    codes = to_codes(root_of(np.clip(large, 0, 1)), standard_encoding("srgb"))
    write_picture(path, codes, None, Metadata(taken=BEGIN + timedelta(seconds=seconds), focal_mm=24.0))


@pytest.fixture(scope="module")
def server(browser: Browser, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    """A card of two scenes and a note, brought in."""
    home = tmp_path_factory.mktemp("outing")
    card = home / "card"
    card.mkdir()
    rng = np.random.default_rng(4)
    pan, hands, _ = composition("saltpan", 17.0)
    snow, _, _ = composition("larch", 17.0)
    write(card / "a0.tif", noisy(hands[0], 0, rng), 0)
    for k in range(5):
        light = shaken(pan[k + 1], 5, 3) if k == 2 else pan[k + 1]
        write(card / f"a{k + 1}.tif", noisy(light, 0, rng), 6 + 3 * k)
    for k in range(4):
        write(card / f"b{k + 1}.tif", noisy(snow[2 * k], 0, rng), 900 + 3 * k)
    (card / "notes.txt").write_text("no picture")
    started = Server(home / "library")
    page = browser.new_page()
    page.goto(started.address)
    page.fill("#folder", str(card))
    page.get_by_role("button", name="Bring in").click()
    become(page, [PAN, SNOW])
    page.close()
    yield started
    started.stop()


def strips(page: Page) -> list[list[str]]:
    """File names of the frames of each strip."""
    return page.evaluate("() => [...document.querySelectorAll('.scene-strip[data-scene]')].map((s) => [...s.querySelectorAll('.contact-frame')].map((f) => f.dataset.file.replace('.tif', '')))")


def become(page: Page, wanted: list[list[str]]) -> None:
    page.wait_for_function(
        "w => JSON.stringify([...document.querySelectorAll('.scene-strip[data-scene]')].map((s) => [...s.querySelectorAll('.contact-frame')].map((f) => f.dataset.file.replace('.tif', '')))) === w",
        arg=__import__("json").dumps(wanted, separators=(",", ":")),
    )


PAN, SNOW = ["a0", "a1", "a2", "a3", "a4", "a5"], ["b1", "b2", "b3", "b4"]


def chosen(page: Page) -> str:
    return str(page.locator(".contact-frame[aria-selected=true]").get_attribute("data-file"))


def test_a_card_falls_into_scenes_and_is_dealt_out_anew_by_keyboard(page: Page, server: Server) -> None:
    page.goto(f"{server.address}/outing/1")
    become(page, [PAN, SNOW])
    expect(page.locator(".strips-head")).to_contain_text("notes.txt")
    expect(page.locator(".contact-frame.marks")).to_have_attribute("data-file", "a0.tif")
    expect(page.locator(".contact-frame.proposed em")).to_have_text("shaken?", timeout=180_000)

    page.locator(".contact-frame").first.click()
    for _ in range(3):
        page.keyboard.press("ArrowRight")
    assert chosen(page) == "a3.tif"
    expect(page.locator("#loupe-about")).to_contain_text("direction")
    page.keyboard.press("t")
    become(page, [PAN[:3], PAN[3:], SNOW])
    page.keyboard.press("u")
    become(page, [PAN, SNOW])
    page.keyboard.press("Control+z")
    become(page, [PAN[:3], PAN[3:], SNOW])
    page.keyboard.press("Control+z")
    become(page, [PAN, SNOW])
    page.keyboard.press("Control+Shift+z")
    become(page, [PAN[:3], PAN[3:], SNOW])
    page.keyboard.press("Control+z")
    become(page, [PAN, SNOW])

    page.keyboard.press("ArrowDown")
    assert chosen(page) == "b4.tif"
    page.keyboard.press("Shift+ArrowUp")
    become(page, [[*PAN, "b4"], SNOW[:3]])
    page.keyboard.press("Control+z")
    become(page, [PAN, SNOW])
    page.keyboard.press("g")
    expect(page.locator(".contact-frame.marks")).to_have_count(2)
    page.keyboard.press("g")
    expect(page.locator(".contact-frame.marks")).to_have_count(1)
    page.keyboard.press("l")
    expect(page.locator(".contact-frame.left-out")).to_have_count(2)
    page.keyboard.press("Control+z")
    expect(page.locator(".contact-frame.left-out")).to_have_count(1)


def test_a_frame_is_dragged_to_another_strip(page: Page, server: Server) -> None:
    page.goto(f"{server.address}/outing/1")
    become(page, [PAN, SNOW])
    frame, strip = corner(page, ".contact-frame[data-file='b1.tif']"), corner(page, ".scene-strip")
    page.mouse.move(frame[0] + 30, frame[1] + 30)
    page.mouse.down()
    page.mouse.move(strip[0] + 200, strip[1] + 60, steps=5)
    drawn_anew(page, "#strips")
    page.mouse.up()
    become(page, [[*PAN, "b1"], SNOW[1:]])
    page.get_by_role("button", name="Undo").click()
    become(page, [PAN, SNOW])


def test_proposals_are_taken_at_once_and_brought_back(page: Page, server: Server) -> None:
    page.goto(f"{server.address}/scene/1/gather")
    whole(page)
    proposal = page.get_by_role("button", name="Leave out 1 as proposed")
    expect(proposal).to_be_enabled(timeout=180_000)
    expect(page.locator("#notebook")).to_contain_text("while the shutter was open")
    page.keyboard.press("1")
    expect(page.locator("#over .zone")).to_have_count(1)
    page.keyboard.press("o")
    expect(page.locator("#over .zone")).to_have_count(0)
    page.keyboard.press("o")
    expect(page.locator("#over .zone")).to_have_count(1)
    proposal.click()
    expect(page.locator("#rail .left-out .why")).to_have_text("left out: shaken")
    page.get_by_role("button", name="Bring all back").click()
    expect(page.locator("#rail .left-out")).to_have_count(0)
    page.keyboard.press("Control+z")
    expect(page.locator("#rail .left-out")).to_have_count(1)
    page.keyboard.press("Control+Shift+z")
    expect(page.locator("#rail .left-out")).to_have_count(0)


def test_files_that_moved_are_asked_for_and_found_by_what_they_hold(page: Page, server: Server) -> None:
    card, moved = server.home.parent / "card", server.home.parent / "elsewhere"
    shutil.move(card, moved)
    (moved / "b1.tif").rename(moved / "another name.tif")
    page.goto(f"{server.address}/outing/1")
    expect(page.locator(".missing")).to_contain_text("10 files are not where they were")
    page.get_by_label("Folder in which the files are now").fill(str(moved))
    page.get_by_role("button", name="Look there").click()
    expect(page.locator(".missing")).to_have_count(0, timeout=180_000)
    become(page, [PAN, SNOW])
