"""The page by keys alone: what has the keyboard keeps it, and what is drawn on the picture can be moved without a pointer."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import Server
from tests.browser.test_route import whole


@pytest.fixture
def scene(page: Page, gathered: Server) -> Iterator[str]:
    yield f"{gathered.address}/scene/1"


def test_the_keyboard_stays_where_it_was(page: Page, scene: str) -> None:
    page.goto(f"{scene}/gather")
    whole(page)
    face = page.locator("#rail .frame .face").nth(1)
    face.focus()
    frame = page.evaluate("document.activeElement.parentElement.dataset.frame")
    for out, main in ((True, "Even out 3 frames"), (False, "Even out 4 frames")):
        page.keyboard.press("l")
        # the whole answer is there before anything else is asked
        expect(page.locator(f"#rail [data-frame='{frame}'].left-out")).to_have_count(int(out))
        expect(page.locator(".bench-main .main")).to_have_text(main)
        page.wait_for_function("() => !document.querySelector('.htmx-request, .htmx-swapping, .htmx-settling')")
        expect(page.locator(f"#rail [data-frame='{frame}'] .face")).to_be_focused()
    page.locator(".bench-main .main").focus()
    expect(page.locator(".bench-main .main")).to_be_focused()
    page.keyboard.press("Enter")
    page.wait_for_url("**/even")
    expect(page.locator(".bench-even .bench-main .main")).to_be_focused()
    page.locator("#history [data-do=undo]").focus()
    page.keyboard.press("Enter")
    expect(page.locator("#history [data-do=undo]")).to_be_focused()
    expect(page.locator("#history [data-do=redo]")).to_be_enabled()
    # as it was found, for those that come after
    page.locator("#history [data-do=redo]").click()
    expect(page.locator("#history [data-do=redo]")).to_be_disabled()


def test_escape_gives_the_keyboard_back(page: Page, scene: str) -> None:
    page.goto(f"{scene}/even")
    whole(page)
    face = page.locator("#rail .frame .face").first
    face.focus()
    page.locator("#c-exposure").click()
    page.keyboard.press("Escape")
    expect(page.locator("#c-exposure")).not_to_be_focused()
    expect(face).to_be_focused()


LATE = """() => { const soon = window.setTimeout; window.late = [];
    window.setTimeout = (does, wait, ...values) => wait ? soon(does, wait, ...values) : window.late.push(does); }"""
"""What the page does "at once, but later" waits until a test lets it: a busy machine does the same."""


def test_keys_that_come_while_a_piece_is_drawn_anew(page: Page, scene: str) -> None:
    page.goto(f"{scene}/even")
    whole(page)
    page.click(".panels [data-panel=frames]")
    page.keyboard.press("1")
    expect(page.locator("#trim-of")).to_have_text("1")
    field = page.locator("#trim [data-name='trim.exposure'] input[type=number]")
    field.evaluate("field => field.classList.add('old')")
    field.fill("0.3")
    page.evaluate(LATE)
    page.keyboard.press("Enter")
    expect(page.locator("#trim .old")).to_have_count(0)
    page.keyboard.press("Escape")
    page.evaluate("() => window.late.splice(0).forEach((does) => does())")
    page.keyboard.press("2")
    expect(page.locator("#trim-of")).to_have_text("2")
    expect(field).not_to_be_focused()
    expect(field).to_have_value("0.00")
    page.locator("#history [data-do=undo]").click()
    expect(page.locator("#rail .trimmed")).to_have_count(0)


def test_the_crop_box_is_moved_by_arrows(page: Page, scene: str) -> None:
    page.goto(f"{scene}/finish")
    whole(page)
    page.click("[data-panel=crop]")
    size = page.locator("#crop-size")
    before = size.inner_text()
    corner = page.locator(".crop [data-edge=se]")
    corner.focus()

    def taken(wanted: str) -> float:
        """How much of the width is cropped away, once that is so."""
        told = "JSON.parse(document.getElementById('state').dataset.state).crop.w"
        return float(page.wait_for_function(f"() => {{ const taken = 1 - {told}; return taken {wanted} && taken; }}").json_value())

    page.keyboard.press("Shift+ArrowLeft")
    step = taken("> 0")
    expect(page.locator("#history [data-do=undo]")).to_have_attribute("title", re.compile("Crop"))
    # none is lost while an earlier one is on its way
    for _ in range(3):
        page.keyboard.press("Shift+ArrowLeft")
    assert taken(f"> {3.9 * step}") < 4.1 * step
    expect(size).not_to_have_text(before)
    expect(corner).to_be_focused()
    cropped = size.inner_text()
    page.locator(".crop .box").focus()
    page.keyboard.press("Shift+ArrowRight")
    crop = page.wait_for_function("() => { const { crop } = JSON.parse(document.getElementById('state').dataset.state); return crop.x > 0 && crop; }").json_value()
    # moved, not resized
    assert crop["y"] == 0 and crop["w"] < 1
    expect(size).to_have_text(cropped)
    for _ in range(5):
        page.keyboard.press("Control+z")
