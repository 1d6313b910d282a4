"""Frames laid by hand and looked at on each other, as a photographer does it."""

from __future__ import annotations

from playwright.sync_api import Page, expect

from tests.browser.conftest import Server
from tests.browser.test_route import registered, whole


def _at_register(page: Page, gathered: Server) -> None:
    registered(page, gathered)
    page.keyboard.press("1")
    expect(page.locator(".fits tr.chosen td").first).to_have_text("1")


def test_a_frame_is_nudged_by_keys_and_by_dragging_and_undone(page: Page, gathered: Server) -> None:
    _at_register(page, gathered)
    page.click("[data-panel=hand]")
    right, down = page.locator("[data-nudge=x][type=number]"), page.locator("[data-nudge=y][type=number]")
    for key in ("ArrowRight", "ArrowRight", "Shift+ArrowDown", "]"):
        page.keyboard.press(key)
    undo = page.locator("#history [data-do=undo]")
    # keys pressed one after the other are one decision
    expect(undo).to_have_attribute("title", "Undo: Frame 1 nudged")
    expect(right).to_have_value("0.2")
    expect(down).to_have_value("1")
    expect(page.locator("[data-nudge=turn][type=number]")).to_have_value("0.01")
    page.click("[data-do=drag-frame]")
    box = page.locator(".mat").bounding_box()
    assert box is not None
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 30, y - 20, steps=4)
    page.mouse.up()
    expect(right).not_to_have_value("0.2")
    assert float(right.input_value()) > 5 and float(down.input_value()) < -2
    undo.click()
    expect(right).to_have_value("0.2")
    undo.click()
    expect(right).to_have_value("0")
    # the reference stays where it is, and its fields say so
    page.keyboard.press("3")
    expect(right).to_be_disabled()
    expect(page.locator("[data-do=pin]")).to_be_disabled()


def test_a_frame_is_laid_by_pins(page: Page, gathered: Server) -> None:
    _at_register(page, gathered)
    page.click("[data-panel=hand]")
    page.click("[data-do=pin]")
    box = page.locator(".mat").bounding_box()
    assert box is not None
    for number, (across, down) in enumerate(((0.35, 0.3), (0.65, 0.35), (0.5, 0.7)), 1):
        for aside, words in ((0, "Now the same thing in the reference"), (12, f"{number} pair")):
            expect(page.locator("#caption")).to_contain_text("frame 3" if aside else "frame 1")
            page.mouse.click(box["x"] + across * box["width"] + aside, box["y"] + down * box["height"])
            expect(page.locator("#pins-told")).to_contain_text(words)
    expect(page.locator(".pins g")).to_have_count(3)
    page.click("[data-do=pin-fit]")
    expect(page.locator("#history [data-do=undo]")).to_have_attribute("title", "Undo: Frame 1 laid by 3 pins, 0.0 px apart on average")
    assert float(page.locator("[data-nudge=x][type=number]").input_value()) > 3
    expect(page.locator(".pins g")).to_have_count(0)
    page.locator("#history [data-do=undo]").click()
    expect(page.locator("[data-nudge=x][type=number]")).to_have_value("0")


def test_all_frames_are_looked_at_in_turn(page: Page, gathered: Server) -> None:
    _at_register(page, gathered)
    page.click("[data-panel=looking]")
    page.select_option("#rhythm", "150")
    page.keyboard.press("a")
    expect(page.locator("[data-do=blink-all]")).to_have_attribute("aria-pressed", "true")
    for number in (2, 4, 1, 3):
        expect(page.locator("#caption")).to_have_text(f"frame {number}", use_inner_text=True) if number == 2 else expect(page.locator("#caption")).to_contain_text(f"frame {number}")
    page.keyboard.press("a")
    expect(page.locator("[data-do=blink-all]")).to_have_attribute("aria-pressed", "false")
    page.click("#bench [data-view=matched]")
    expect(page.locator("#caption")).to_contain_text("blur matched, × 4")
    page.select_option("#amplified", "16")
    expect(page.locator("#caption")).to_contain_text("× 16")
    whole(page)
    page.click("[data-do=loupes][data-magnify='2']")
    expect(page.locator(".loupes[data-whole='2'] figure")).to_have_count(7)
    page.keyboard.press(" ")
    expect(page.locator(".loupes p")).to_contain_text("halted")
    page.keyboard.press("Escape")
    expect(page.locator(".loupes")).to_be_hidden()
