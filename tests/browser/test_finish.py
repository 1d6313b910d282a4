"""Finish in a real browser: maps and their strokes, air on the rail, one part before and after, level, proof."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import Server
from tests.browser.test_route import place, whole

UNDO = "#history [data-do=undo]"
RESET = """url => fetch(url, { method: "POST", headers: { "X-CSRFToken": document.querySelector("meta[name=csrf]").content }, body: new URLSearchParams({ group: "all" }) })"""


@pytest.fixture
def finish(page: Page, gathered: Server) -> Iterator[Page]:
    scene = f"{gathered.address}/scene/1"
    page.goto(f"{scene}/finish")
    whole(page)
    yield page
    page.evaluate(RESET, f"{scene}/finish/reset")


def painted(page: Page, right: int, down: int) -> None:
    x, y = place(page, ".mat")
    page.mouse.move(x + right, y + down)
    page.mouse.down()
    page.mouse.move(x + right + 90, y + down + 10, steps=5)
    page.mouse.up()


def test_maps_are_painted_gone_through_and_erased_by_keys(finish: Page) -> None:
    page = finish
    page.click("[data-new-map=warmer]")
    expect(page.locator("[data-tool=brush]")).to_have_attribute("aria-pressed", "true")
    painted(page, -80, 40)
    expect(page.locator(UNDO)).to_have_attribute("title", "Undo: Warmer painted")
    # R turns the brush round
    page.keyboard.press("r")
    expect(page.locator("[data-way=rub]")).to_have_attribute("aria-pressed", "true")
    painted(page, -40, 40)
    expect(page.locator(UNDO)).to_have_attribute("title", "Undo: Warmer rubbed out")
    page.click("[data-tool=brush]")
    page.click("[data-do=lines]")
    expect(page.locator("#line-told")).to_have_text("Click on one, or go through them.")
    page.keyboard.press("]")
    expect(page.locator("#line-told")).to_have_text(re.compile("Stroke 1 of 2: painted"))
    page.keyboard.press("]")
    expect(page.locator("#line-told")).to_have_text(re.compile("Stroke 2 of 2: rubbed out"))
    page.keyboard.press("Delete")
    expect(page.locator(UNDO)).to_have_attribute("title", "Undo: Warmer one stroke less")
    expect(page.locator("#maps small")).to_have_text("warmer, 1")
    page.keyboard.press("Escape")
    expect(page.locator("[data-do=lines]")).to_have_attribute("aria-pressed", "false")
    # O shows where the map is
    page.keyboard.press("o")
    expect(page.locator("#caption")).to_have_text("the chosen map, hatched")
    page.keyboard.press("o")
    page.click("[data-map-do=remove]")
    expect(page.locator("#maps li")).to_have_count(0)
    page.keyboard.press("Control+z")
    expect(page.locator("#maps li")).to_have_count(1)


def test_the_airs_middle_is_moved_on_the_rail(finish: Page) -> None:
    page = finish
    page.click("[data-panel=air]")
    mark = page.locator(".air-mark")
    mark.focus()
    for _ in range(5):
        page.keyboard.press("ArrowUp")
    expect(page.locator(UNDO)).to_have_attribute("title", "Undo: Middle stands at 0.55")
    expect(mark).to_have_attribute("aria-valuenow", "55")
    expect(mark).to_be_focused()
    x, y = place(page, ".air-mark")
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x, y + 40, steps=4)
    page.mouse.up()
    expect(page.locator(UNDO)).not_to_have_attribute("title", "Undo: Middle stands at 0.55")
    page.click("[data-panel=soft]")
    expect(mark).to_have_count(0)


def test_one_part_is_compared_and_switched_off(finish: Page) -> None:
    page = finish
    page.click("[data-panel=soft]")
    field = page.locator("#c-vignette-strength")
    expect(page.locator(".part-switch[data-of=vignette]")).to_be_hidden()
    field.fill("-80")
    switch = page.locator(".part-switch[data-of=vignette]")
    expect(switch).to_be_visible()
    switch.get_by_text("before").click()
    expect(page.locator("#caption")).to_have_text(re.compile(" · without vignette$"))
    page.keyboard.press("Escape")
    expect(page.locator("#caption")).not_to_have_text(re.compile("·"))
    page.keyboard.press("v")
    expect(page.locator("#caption")).to_have_text(re.compile(" · before the finish$"))
    page.keyboard.press("v")
    switch.locator("[data-do=part]").click()
    expect(page.locator(UNDO)).to_have_attribute("title", "Undo: Vignette off")
    expect(switch.locator("[data-do=part]")).to_have_text("off")


def test_a_line_drawn_levels_and_the_proof_is_seen(finish: Page) -> None:
    page = finish
    page.click("[data-panel=crop]")
    page.click("[data-do=level-line]")
    x, y = place(page, ".mat")
    page.mouse.move(x - 100, y)
    page.mouse.down()
    page.mouse.move(x + 100, y + 7, steps=5)
    expect(page.locator(".level-line")).to_have_attribute("d", re.compile("^M"))
    page.mouse.up()
    expect(page.locator(UNDO)).to_have_attribute("title", re.compile(r"Undo: Levelled by a line: -(1\.9|2)"))
    expect(page.locator("[data-do=level-line]")).to_have_attribute("aria-pressed", "false")
    page.click("[data-do=upright-line]")
    for side, lean in ((-150, 8), (150, -8)):
        expect(page.locator("[data-do=upright-line]")).to_have_attribute("aria-pressed", "true")
        page.mouse.move(x + side, y - 100)
        page.mouse.down()
        page.mouse.move(x + side + lean, y + 100, steps=5)
        page.mouse.up()
        expect(page.locator(UNDO)).to_have_attribute("title", "Undo: First upright; draw another one" if side < 0 else "Undo: Two uprights made parallel")
    expect(page.locator("[data-do=upright-line]")).to_have_attribute("aria-pressed", "false")
    expect(page.locator(".level-column")).to_contain_text("Two uprights are parallel.")
    page.get_by_role("button", name="As they came").click()
    expect(page.locator(UNDO)).to_have_attribute("title", "Undo: Uprights as they came")
    for kind in ("golden", "diagonals", "triangles", "centre", "none"):
        page.select_option("#guides", kind)
        expect(page.locator(".crop .guides")).to_have_attribute("d", re.compile("^$" if kind == "none" else "^M"))
    page.click("[data-panel=output]")
    expect(page.locator("#proof")).to_have_attribute("data-proved", re.compile(r"\d"))
    page.select_option("#sharpen-for", "paper")
    expect(page.locator("#c-sharpen")).to_have_value("100")
    expect(page.locator("#c-radius")).to_have_count(0)
