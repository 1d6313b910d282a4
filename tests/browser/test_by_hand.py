"""Weave by hand, in the page: masks from nothing, strokes picked and erased, the sharp span, weaves beside each other."""

from __future__ import annotations

import re
from collections.abc import Callable

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import Server
from tests.browser.test_route import place, whole


@pytest.fixture
def weave(page: Page, gathered: Server) -> Page:
    """At Weave, all woven by crisp seams, nothing by hand."""
    page.goto(f"{gathered.address}/scene/1/weave")
    whole(page)
    page.select_option("#way", "crisp-seams")
    expect(page.get_by_text("Takes every pixel from the sharpest frame there")).to_be_visible()
    _woven(page)
    return page


def _woven(page: Page) -> None:
    """Woven as is decided, which may be so already: then the button goes on to Mend."""
    page.wait_for_function("() => { const m = document.querySelector('.bench-main .main'); if (!m || m.disabled) return false; if (m.matches('button')) m.click(); return true; }")
    expect(page.locator(".bench-main .main")).to_have_text("On to Mend", timeout=180_000)


def _history(page: Page, words: str) -> None:
    expect(page.locator("#history [data-do=undo]")).to_have_attribute("title", f"Undo: {words}")


def _at(page: Page, across: float, down: float) -> tuple[float, float]:
    """A place of the picture, by parts of it, on the page."""
    mat, (width, height) = page.locator(".mat").bounding_box(), (720, 480)
    assert mat
    scale = min(mat["width"] / width, mat["height"] / height)
    return mat["x"] + mat["width"] / 2 + (across - 0.5) * width * scale, mat["y"] + mat["height"] / 2 + (down - 0.5) * height * scale


def _stroke(page: Page, *places: tuple[float, float]) -> None:
    before = int(page.locator(".mat").get_attribute("data-strokes") or 0)
    page.mouse.move(*_at(page, *places[0]))
    page.mouse.down()
    for at in places[1:]:
        page.mouse.move(*_at(page, *at), steps=5)
    page.mouse.up()
    page.wait_for_function("n => Number(document.querySelector('.mat').dataset.strokes || 0) > n", arg=before)


def _undo_all(page: Page, until: Callable[[], bool]) -> None:
    undo = page.locator("#history [data-do=undo]")
    while not until():
        words = undo.get_attribute("title") or ""
        undo.click()
        expect(undo).not_to_have_attribute("title", words)


def test_a_picture_is_painted_from_hidden_masks(weave: Page) -> None:
    page = weave
    page.click("[data-panel=hand]")
    page.get_by_role("button", name="All hidden").click()
    _history(page, "All masks hidden")
    expect(page.locator("#rail .why", has_text="mask hidden")).to_have_count(4)
    _woven(page)
    page.keyboard.press("1")
    page.get_by_role("button", name="Brush", exact=True).click()
    _stroke(page, (0.3, 0.85), (0.7, 0.85))
    _history(page, "Frame 1 painted in")
    page.keyboard.press("4")
    _stroke(page, (0.3, 0.2), (0.7, 0.2))
    _history(page, "Frame 4 painted in")
    page.keyboard.press("r")
    expect(page.locator("[data-way=out]")).to_have_attribute("aria-pressed", "true")
    _stroke(page, (0.5, 0.2))
    _history(page, "Frame 4 painted out")
    page.get_by_role("button", name="Brush", exact=True).click()
    # strokes are shown, gone through by keys, given to another frame, erased
    page.get_by_role("button", name="Show", exact=True).click()
    expect(page.locator(".strokes .line")).to_have_count(3)
    page.keyboard.press("]")
    expect(page.locator("#stroke-told")).to_contain_text("Stroke 1 of 3: frame 1 in")
    page.mouse.click(*_at(page, 0.4, 0.2))
    expect(page.locator("#stroke-told")).to_contain_text("Stroke 2 of 3: frame 4 in")
    page.keyboard.press("2")
    page.get_by_role("button", name="To chosen frame").click()
    _history(page, "A stroke given to frame 2")
    page.keyboard.press("[")
    page.keyboard.press("Delete")
    _history(page, "A stroke erased")
    expect(page.locator(".strokes .line")).to_have_count(2)
    page.keyboard.press("Escape")
    expect(page.locator(".strokes .line")).to_have_count(0)
    _undo_all(page, lambda: page.locator("#rail .why", has_text="mask hidden").count() == 0)
    expect(page.get_by_role("button", name="All found")).to_be_disabled()


def test_the_span_is_set_by_mouse_and_by_keys(weave: Page) -> None:
    page = weave
    far = page.get_by_role("slider", name="Sharp as far as")
    expect(far).to_have_attribute("aria-valuenow", "100")
    fresh = int(page.locator(".mat").get_attribute("data-fresh") or 0)
    # the rail may be drawn anew at any moment
    (x, y), (_, second) = place(page, ".span-end.far .grab"), place(page, "#rail li.frame ~ li.frame")
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x, second, steps=6)
    page.wait_for_function("n => Number(document.querySelector('.mat').dataset.fresh) > n", arg=fresh)
    page.mouse.up()
    expect(page.locator("#history [data-do=undo]")).to_have_attribute("title", re.compile(r"Undo: Sharp from frame 1\.0 to [23]\.\d"))
    expect(page.locator("#rail li.beyond")).not_to_have_count(0)
    expect(far).to_have_attribute("aria-valuetext", re.compile(r"m$"))
    now = int(far.get_attribute("aria-valuenow") or 0)
    far.focus()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("ArrowDown")
    expect(far).to_have_attribute("aria-valuenow", str(now - 2))
    expect(page.locator("#history [data-do=undo]")).to_have_attribute("title", re.compile("Undo: Sharp from"))
    # the end keeps the keyboard though the rail was drawn anew
    expect(far).to_be_focused()
    page.keyboard.press("Delete")
    _history(page, "Sharp from the nearest to the farthest")
    expect(page.locator("#rail li.beyond")).to_have_count(0)


def test_two_weaves_are_kept_and_held_against_each_other(weave: Page) -> None:
    page = weave
    page.click("[data-panel=variants]")
    page.get_by_role("button", name="Keep this one").click()
    _history(page, "Crisp seams kept")
    page.click("[data-panel=way]")
    page.select_option("#way", "gentle")
    _history(page, "Woven by gentle")
    page.click("[data-panel=variants]")
    page.select_option("#against", "variant:0")
    expect(page.locator("#apart")).to_contain_text("They differ in")
    page.get_by_role("button", name="Side by side").click()
    expect(page.locator("#caption")).to_have_text("left the weave, right Crisp seams")
    page.wait_for_function("() => document.querySelector('.mat').dataset.beside?.includes('variant:0')")
    page.keyboard.press("g")
    expect(page.locator("#zoom")).to_have_text("1:1")
    page.wait_for_function("() => document.querySelector('.mat').dataset.besideZoom === '1.00'")
    page.get_by_role("button", name="Blink", exact=True).click()
    expect(page.locator("#caption")).to_have_text("Crisp seams")
    page.get_by_role("button", name="Wipe", exact=True).last.click()
    expect(page.locator("#caption")).to_have_text("left Crisp seams, right the weave")
    page.get_by_role("button", name="Choose Crisp seams").click()
    _history(page, "Crisp seams chosen")
    expect(page.locator(".variants-column b")).to_have_text("Crisp seams")
    page.get_by_role("button", name="Take Crisp seams away").click()
    expect(page.locator(".variants-column .empty")).to_be_visible()


def test_edges_are_walked_by_keys_and_a_spot_is_healed_by_the_brush(weave: Page) -> None:
    page = weave
    page.locator(".bench-main .main").click()
    expect(page.locator("#bench.bench-mend")).to_be_visible()
    page.keyboard.press("e")
    expect(page.locator("#edge-told")).to_contain_text("1 of")
    expect(page.locator("#zoom")).to_have_text("1:1")
    page.keyboard.press("Shift+E")
    expect(page.locator("#edge-told")).to_contain_text(re.compile(r"^(\d+) of \1:"))
    page.keyboard.press("f")
    whole(page)
    page.click("[data-way=heal]")
    for _ in range(5):
        page.keyboard.press(",")
    _stroke(page, (0.5, 0.8))
    _history(page, "A spot healed")
    page.get_by_role("button", name="Brush", exact=True).click()
    page.get_by_role("button", name="Show", exact=True).click()
    page.keyboard.press("]")
    expect(page.locator("#stroke-told")).to_contain_text("healed")
    expect(page.locator(".strokes .source")).to_have_count(1)
    page.keyboard.down("d")
    expect(page.locator("#caption")).to_have_text("weave, without strokes")
    page.keyboard.up("d")
    expect(page.locator("#caption")).to_have_text("weave")
    page.keyboard.press("Delete")
    _history(page, "A stroke erased")
    _undo_all(page, lambda: page.locator("#stroke-told").inner_text().startswith(("0 strokes", "Nothing")) and "heal" not in (page.locator("#history [data-do=undo]").get_attribute("title") or ""))


def test_a_flaw_is_gone_to_and_mended_by_keys(weave: Page) -> None:
    """One frame too bright: its seams are found, and what mends them is shown and taken."""
    page, address = weave, weave.url.rsplit("/", 1)[0]
    page.goto(f"{address}/even")
    whole(page)
    page.click(".panels [data-panel=frames]")
    page.keyboard.press("2")
    expect(page.locator("#trim-of")).to_have_text("2")
    page.locator("#trim [data-name='trim.exposure'] input[type=number]").fill("0.4")
    page.keyboard.press("Enter")
    _history(page, "Frame 2: exposure +0.4 EV")
    page.goto(f"{address}/weave")
    whole(page)
    _woven(page)
    page.locator(".bench-main .main").click()
    expect(page.locator("[data-flaw]").first).to_contain_text("Seam step")
    expect(page.locator("#route a[aria-current=step]")).to_have_attribute("aria-label", re.compile("Mend, (not yet|done), [0-9]+ flaws? open"))
    page.keyboard.press("t")
    expect(page.locator("#flaw-told")).to_contain_text(re.compile(r"^1 of \d+. Seam step: Tone steps by"))
    expect(page.locator("#zoom")).to_have_text("1:1")
    expect(page.locator(".flaws .line.here")).to_have_count(1)
    figures = page.locator(".remedies figure")
    expect(figures.first).to_contain_text("As it is")
    expect(figures.nth(1)).to_contain_text("trimmed by")
    page.wait_for_function("() => [...document.querySelectorAll('.remedies img')].every((picture) => picture.complete && picture.naturalWidth)")
    page.keyboard.press("a")
    expect(page.locator("[data-flaw].here")).to_contain_text("accepted")
    page.keyboard.press("a")
    expect(page.locator("[data-flaw].here")).to_contain_text("open")
    page.keyboard.press("y")
    expect(page.locator("#history [data-do=undo]")).to_have_attribute("title", re.compile("^Undo: Frame [0-9] trimmed by"))
    # with another tone the weave is out of date: nothing is found in it that would still be there
    expect(page.locator(".flaws-column")).to_contain_text("Once the frames are woven")
    expect(page.locator(".remedies")).to_be_hidden()
    _undo_all(page, lambda: page.locator("#rail .trimmed").count() == 0)


def test_what_moved_is_asked_for_by_pointing_and_by_key(weave: Page) -> None:
    page = weave
    page.locator(".bench-main .main").click()
    expect(page.locator("[data-do=moment]")).to_be_visible()
    whole(page)
    told, shown = page.locator("#flaw-told"), page.locator(".remedies figure")
    page.click("[data-do=moment]")
    expect(page.locator("[data-do=moment]")).to_have_attribute("aria-pressed", "true")
    page.mouse.click(*_at(page, 0.5, 0.7))
    # on a tripod nothing moved, and the page says so
    expect(told).to_contain_text("No frame that is sharp here shows it otherwise")
    expect(page.locator("[data-do=moment]")).to_have_attribute("aria-pressed", "false")
    expect(shown).to_have_count(1)
    expect(page.locator("[data-do=flaw-accept]")).to_be_disabled()
    # with the tool put away a click asks nothing
    page.mouse.click(*_at(page, 0.3, 0.6))
    expect(page.locator(".pins g")).to_have_count(1)
    page.mouse.move(*_at(page, 0.4, 0.8))
    page.keyboard.press("q")
    expect(told).to_contain_text("No frame that is sharp here shows it otherwise")
    expect(shown.first).to_contain_text("As it is")


def test_a_frame_that_is_left_out_is_registered_and_drawn_from(weave: Page, gathered: Server) -> None:
    page = weave
    far = page.locator("#rail .frame").first.get_attribute("data-frame")
    page.goto(f"{gathered.address}/scene/1/gather")
    whole(page)
    page.click(f"#rail [data-frame='{far}'] button")
    page.keyboard.press("l")
    expect(page.locator("#rail .frame.left-out")).to_have_count(1)
    page.goto(f"{gathered.address}/scene/1/weave")
    whole(page)
    _woven(page)
    page.goto(f"{gathered.address}/scene/1/mend")
    whole(page)
    page.click("[data-panel=hand]")
    page.click(f"#rail [data-frame='{far}'] button")
    expect(page.locator("#draw-told")).to_contain_text("has no part in the weave")
    page.get_by_role("button", name="Brush", exact=True).click()
    expect(page.locator("#told")).to_contain_text("Register it under By hand")
    page.get_by_role("button", name="Register it", exact=True).click()
    # its button is hidden for a moment whenever the bench is drawn anew; only these words tell
    expect(page.locator("#draw-told span")).to_have_text(re.compile(r"^Frame 4[^:]*\.$"), timeout=60_000)
    page.get_by_role("button", name="Brush", exact=True).click()
    _stroke(page, (0.4, 0.3), (0.5, 0.32))
    _history(page, "Drawn from frame 4")
    _undo_all(page, lambda: "Woven by crisp seams" in (page.locator("#history [data-do=undo]").get_attribute("title") or "crisp"))
