"""From an empty shelf to a file on disk, by hand, in a real browser."""

from __future__ import annotations

import json
import re
import shutil
from collections.abc import Iterator
from pathlib import Path

import cv2
import numpy as np
import pytest
import tifffile
from playwright.sync_api import APIResponse, Page, Route, expect

from eaveplane.pipeline.pictures import recipe_beside
from tests.browser.conftest import Server
from tests.conftest import Set
from tests.test_cli import run


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    started = Server(tmp_path_factory.mktemp("browser") / "library")
    yield started
    started.stop()


@pytest.fixture(scope="module")
def card(small: Set, tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("shot") / "card"
    folder.mkdir()
    for path in small.paths:
        shutil.copy(path, folder)
    return folder


def mat(page: Page, name: str) -> str:
    return page.eval_on_selector(".mat", f"e => e.dataset.{name} || ''")


def whole(page: Page) -> None:
    """Wait until the tiles of what is asked for are all there."""
    page.wait_for_function("() => { const m = document.querySelector('.mat'); return m?.dataset.whole && m.querySelector('canvas'); }")


def drawn(page: Page) -> None:
    """Wait until the tiles on screen are those of the look that was decided last."""
    page.wait_for_function(
        "() => { const { look } = JSON.parse(document.getElementById('state').dataset.state);"
        " return document.querySelector('.mat')?.dataset.whole?.includes(String(look).replace(/[^a-z0-9.-]/gi, '')); }"
    )


def changed(page: Page, act, name: str = "fresh") -> None:  # type: ignore[no-untyped-def]
    """Do something and wait until the picture has been renewed by it."""
    before = mat(page, name)
    act()
    page.wait_for_function(f"b => (document.querySelector('.mat').dataset.{name} || '') !== b", arg=before)


def pixels(page: Page) -> np.ndarray:
    return cv2.imdecode(np.frombuffer(page.locator("#viewer").screenshot(caret="initial"), np.uint8), cv2.IMREAD_COLOR).astype(int)


def place(page: Page, selector: str) -> tuple[float, float]:
    """Middle of something on screen that may be drawn anew at any moment."""
    find = "s => { const b = document.querySelector(s)?.getBoundingClientRect(); return b?.width ? [b.x + b.width / 2, b.y + b.height / 2] : null; }"
    x, y = page.wait_for_function(find, arg=selector).json_value()
    return x, y


def registered(page: Page, gathered: Server) -> None:
    """At Register, all four frames registered, by whichever test came first."""
    page.goto(f"{gathered.address}/scene/1/register")
    whole(page)
    if page.get_by_role("button", name="Register 4 frames").count():
        page.get_by_role("button", name="Register 4 frames").click()
    expect(page.locator(".fits tr[data-nudge]")).to_have_count(4, timeout=180_000)


def drawn_anew(page: Page, selector: str) -> None:
    """Put something anew in its own place, as what renews itself is: without what a hand that holds a frame has marked in it."""
    page.evaluate(
        "s => { const old = document.querySelector(s), anew = old.cloneNode(true);"
        " for (const marked of anew.querySelectorAll('.drop, .dragged')) marked.classList.remove('drop', 'dragged');"
        " old.replaceWith(anew); }",
        selector,
    )


def corner(page: Page, selector: str) -> tuple[float, float]:
    """Upper left corner of something on screen that may be drawn anew at any moment."""
    x, y = page.wait_for_function("s => { const b = document.querySelector(s)?.getBoundingClientRect(); return b?.width ? [b.x, b.y] : null; }", arg=selector).json_value()
    return x, y


def to(page: Page, stage: str) -> None:
    page.click(f"#route a[aria-label^='{stage}']")
    expect(page.locator("#route a[aria-current=step]")).to_have_attribute("aria-label", __import__("re").compile(f"^{stage}"))


@pytest.fixture
def empty(tmp_path: Path) -> Iterator[Server]:
    """A server that nobody has brought anything."""
    started = Server(tmp_path / "library")
    yield started
    started.stop()


def test_from_an_empty_shelf_to_a_delivered_picture(page: Page, empty: Server, card: Path, small: Set, tmp_path: Path) -> None:
    page.goto(empty.address)
    expect(page.get_by_text("The shelf is empty")).to_be_visible()
    page.fill("#folder", "/not/there")
    page.get_by_role("button", name="Bring in").click()
    expect(page.get_by_text("not a folder that can be read")).to_be_visible()
    page.goto(empty.address)
    page.fill("#folder", str(card))
    page.get_by_role("button", name="Bring in").click()
    page.locator(".scene-strip h2 a").click()

    # Gather: four frames, far on top; one is named, left out and brought back
    whole(page)
    expect(page.locator("#rail .frame")).to_have_count(4)
    assert page.locator("#rail .frame b").all_inner_texts() == ["4 · Far", "3 · Mid", "2", "1 · Near"]
    page.locator("#rail .face").nth(2).click()
    page.fill("#frame-name", "Crust")
    page.keyboard.press("Enter")
    expect(page.locator("#rail .frame b").nth(2)).to_have_text("2 · Crust")
    page.locator("#rail .face").nth(0).click()
    page.keyboard.press("l")
    expect(page.locator("#rail .frame.left-out")).to_have_count(1)
    page.keyboard.press("l")
    expect(page.locator("#rail .frame.left-out")).to_have_count(0)
    page.keyboard.press("1")
    expect(page.locator("#caption")).to_have_text("frame 1, Near")
    page.keyboard.press("k")
    expect(page.locator("#caption")).to_have_text("frame 2, Crust")

    # Even out: the screen follows the slider; undo takes it back
    expect(page.locator("#bench")).to_contain_text("Nothing against any frame", timeout=180_000)
    page.get_by_role("button", name="Even out 4 frames").click()
    exposure = page.locator("#c-exposure")
    dark = pixels(page)
    changed(page, lambda: exposure.fill("1.5"))
    expect(page.get_by_role("button", name="Undo")).to_have_attribute("title", "Undo: Exposure +1.5 EV")
    drawn(page)
    assert pixels(page).mean() > dark.mean() + 15
    changed(page, lambda: page.keyboard.press("Control+z"))
    expect(exposure).to_have_js_property("value", "0")
    expect(page.locator("#histogram [data-line=luma]")).to_have_attribute("points", re.compile(r"^0,.* 255,"))

    # Register, Weave: jobs run, the page tells when they are done
    page.get_by_role("button", name="On to Register").click()
    expect(page.locator(".fits tr[data-nudge]")).to_have_count(4, timeout=180_000)
    page.get_by_role("button", name="Weave 4 frames").click()
    to(page, "Weave")
    expect(page.locator("#bench-main a.main")).to_have_text("On to Mend", timeout=180_000)
    expect(page.locator("#caption")).to_have_text("weave")
    page.keyboard.press("o")
    expect(page.locator("#caption")).to_contain_text("share map: which frame is sharpest where, plain where none is")
    page.keyboard.press("0")

    # paint frame 1 in where the horizon is: it blurs, and undo brings it back
    page.keyboard.press("1")
    page.keyboard.press("0")
    whole(page)
    if page.locator("[data-panel=hand]").count():
        page.click("[data-panel=hand]")
    page.get_by_role("button", name="Brush", exact=True).click()
    box = page.locator("#viewer").bounding_box()
    assert box
    x, y = box["x"] + box["width"] * 0.55, box["y"] + box["height"] * 0.3
    calm = pixels(page)
    page.mouse.move(x - 60, y)
    page.mouse.down()
    page.mouse.move(x + 60, y + 5, steps=8)
    changed(page, page.mouse.up, "strokes")
    expect(page.get_by_text("1 stroke", exact=True)).to_be_visible()
    print(f"stroke to weave: {mat(page, 'strokeMs')} ms")
    page.mouse.move(5, 5)
    painted = pixels(page)
    spot = np.s_[int(y - box["y"]) - 12 : int(y - box["y"]) + 12, int(x - box["x"]) - 40 : int(x - box["x"]) + 40]
    assert np.abs(painted - calm)[spot].mean() > 1.5
    changed(page, lambda: page.keyboard.press("Control+z"))
    expect(page.locator(".brush-column").get_by_text("stroke")).to_have_count(0)
    changed(page, lambda: page.keyboard.press("Control+Shift+z"))
    changed(page, lambda: page.keyboard.press("Control+z"))

    # Mend: draw from frame 3, with its own brush
    page.locator("#bench-main a.main").click()
    expect(page.locator("#bench.bench-mend")).to_be_visible()
    page.keyboard.press("3")
    page.keyboard.press("0")
    if page.locator("[data-panel=hand]").count():
        page.click("[data-panel=hand]")
    page.get_by_role("button", name="Brush", exact=True).click()
    page.mouse.move(x - 100, y + 120)
    page.mouse.down()
    page.mouse.move(x - 40, y + 150, steps=5)
    changed(page, page.mouse.up, "strokes")
    expect(page.get_by_text("1 stroke", exact=True)).to_be_visible()

    # Finish: light painted on a map, air in the distance, crop at a ratio, straighten
    page.locator("#bench-main a.main").click()
    page.click("[data-new-map=lighter]")
    expect(page.locator("[data-tool=brush]")).to_have_attribute("aria-pressed", "true")
    x, y = place(page, ".mat")
    page.mouse.move(x - 60, y + 60)
    page.mouse.down()
    page.mouse.move(x + 40, y + 70, steps=6)
    changed(page, page.mouse.up, "strokes")
    expect(page.locator("#history [data-do=undo]")).to_have_attribute("title", "Undo: Lighter painted")
    expect(page.locator("#maps small")).to_have_text("lighter, 1")
    page.click("[data-panel=air]")
    page.locator("#c-air-far-haze").fill("40")
    expect(page.locator("#history [data-do=undo]")).to_have_attribute("title", "Undo: Air, far: haze 40 %")
    expect(page.locator(".panels [data-panel=air] i")).to_be_visible()
    page.click("[data-panel=crop]")
    page.select_option("#ratio", "16:9")
    expect(page.locator("#history [data-do=undo]")).to_have_attribute("title", "Undo: Cropped at 16:9")
    page.locator("#c-straighten").fill("1")
    expect(page.locator("#history [data-do=undo]")).to_have_attribute("title", "Undo: Straighten 1 °")
    expect(page.locator("#route a[aria-current=step]")).to_have_attribute("aria-label", "Finish, done")
    x, y = place(page, ".reach[data-edge=se]")
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x - 65, y - 35, steps=4)
    page.mouse.up()
    expect(page.locator("#history [data-do=undo]")).to_have_attribute("title", "Undo: Cropped at 16:9")

    # Deliver: the file is beside the originals, and headless makes the same one of its recipe
    page.locator("#bench-main a.main").click()
    page.get_by_role("button", name="Write the picture").click()
    link = page.locator(".delivered a")
    expect(link).to_have_count(1, timeout=180_000)
    page.click(".bench-deliver [data-panel=delivered]")
    with page.expect_download() as download:
        link.click()
    (out,) = card.glob("card 1*.tif")
    assert download.value.suggested_filename == out.name and Path(download.value.path()).read_bytes() == out.read_bytes()
    picture = tifffile.imread(out)
    assert picture.dtype == np.uint16 and picture.shape[1] / picture.shape[0] == pytest.approx(16 / 9, abs=0.01)
    recipe = json.loads(recipe_beside(out).read_text())
    assert [s["action"] for s in recipe["strokes"]] == ["draw"] and recipe["finish"]["straighten"] == 1
    assert len(recipe["finish"]["light"][0]["lines"]) == 1 and recipe["finish"]["air"]["far"]["haze"] == 40
    done = run("stack", *[card / p.name for p in small.paths], "--out", tmp_path / "o.tif", "--recipe", recipe_beside(out))
    assert done.exit_code == 0
    np.testing.assert_array_equal(tifffile.imread(tmp_path / "o.tif"), picture)


def test_a_picture_that_nobody_touches_asks_for_no_frames(page: Page, gathered: Server) -> None:
    page.add_init_script("{ const ask = window.requestAnimationFrame; window.asked = 0; window.requestAnimationFrame = (work) => { window.asked += 1; return ask(work); }; }")
    page.goto(f"{gathered.address}/scene/1/gather")
    whole(page)
    page.evaluate("() => setInterval(() => { window.lately = window.asked; window.asked = 0; }, 400)")
    page.wait_for_function("() => window.lately < 2", timeout=20_000)
    page.mouse.move(600, 300)
    page.mouse.wheel(0, -300)
    page.wait_for_function("() => window.lately > 2", timeout=20_000)
    page.wait_for_function("() => window.lately < 2", timeout=20_000)


def test_the_picture_is_handled_by_keys(page: Page, gathered: Server) -> None:
    # so small that the picture does not fit at 1:1
    page.set_viewport_size({"width": 1024, "height": 640})
    registered(page, gathered)
    page.mouse.move(640, 300)
    page.keyboard.press("h")
    expect(page.locator("#zoom")).to_have_text("1:1")
    page.keyboard.press("h")
    expect(page.locator("#zoom")).to_have_text("2.0:1")
    page.keyboard.press("f")
    expect(page.locator("#zoom")).to_have_text(__import__("re").compile(r"^1:\d"))
    page.keyboard.press("m")
    expect(page.locator("#picture")).to_have_attribute("data-mat", "1")
    page.keyboard.press("c")
    expect(page.locator(".wipe")).to_have_count(1)
    page.keyboard.press("c")
    expect(page.locator(".wipe")).to_have_count(0)
    page.keyboard.press("v")
    expect(page.locator("[data-before=whole]")).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("v")
    page.click("[data-view=difference] >> nth=0")
    expect(page.locator("#caption")).to_contain_text("difference of frame")
    page.keyboard.press("b")
    expect(page.locator("#bench [data-do=blink]")).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("b")
    page.keyboard.press("?")
    expect(page.locator("#keys")).to_be_visible()
    page.keyboard.press("Escape")
    page.click("[data-do=theme]")
    expect(page.locator("html")).to_have_attribute("data-bs-theme", "dark")
    page.reload()
    expect(page.locator("html")).to_have_attribute("data-bs-theme", "dark")
    page.click("[data-do=theme]")


@pytest.mark.parametrize("width", [1024, 1280, 1920])
def test_nothing_is_cut_off_at_any_width(page: Page, gathered: Server, width: int) -> None:
    page.set_viewport_size({"width": width, "height": 800})
    for stage in ("gather", "even", "register", "weave", "mend", "finish", "deliver"):
        page.goto(f"{gathered.address}/scene/1/{stage}")
        expect(page.locator("#bench-main .main")).to_be_visible()
        beyond = page.evaluate(
            """() => [...document.querySelectorAll('.head > *, #bench .column, #bench input, #bench button, #bench-main')]
                .filter(e => { const b = e.getBoundingClientRect(); return b.width && (b.right > innerWidth + 1 || b.bottom > innerHeight + 1); })
                .map(e => e.id || e.className || e.tagName)"""
        )
        assert beyond == [], f"{stage} at {width}"
        units = page.evaluate(
            """() => [...document.querySelectorAll('#bench .unit')].filter(e => {
                const words = document.createRange(); words.selectNodeContents(e);
                const { width, right } = words.getBoundingClientRect();
                return width && right > e.closest('.column').getBoundingClientRect().right - 1; }).map(e => e.parentElement.textContent.trim())"""
        )
        assert units == [], f"{stage} at {width}"


def test_two_tabs_see_each_other_s_decisions(page: Page, gathered: Server) -> None:
    page.goto(f"{gathered.address}/scene/1/even")
    other = page.context.new_page()
    other.goto(f"{gathered.address}/scene/1/even")
    whole(page)
    other.locator("#c-contrast").fill("33")
    expect(other.locator("#history [data-do=undo]")).to_have_attribute("title", "Undo: Contrast +33 %")
    page.locator("#c-shadows").fill("21")
    expect(page.locator("#history [data-do=undo]")).to_have_attribute("title", "Undo: Shadows +21 %")
    page.reload()
    expect(page.locator("#c-contrast")).to_have_js_property("value", "33")
    expect(page.locator("#c-shadows")).to_have_js_property("value", "21")
    for _ in range(2):
        changed(page, lambda: page.keyboard.press("Control+z"))
    other.close()


def test_a_bench_made_while_work_ran_is_made_anew_after_it(page: Page, gathered: Server) -> None:
    page.goto(f"{gathered.address}/scene/1/gather")
    whole(page)
    expect(page.locator("#bench")).to_have_attribute("data-busy", "false")
    # as it is left when pieces without a bench were the first to tell that the work had ended
    page.evaluate("() => { const b = document.getElementById('bench'); b.dataset.busy = 'true'; b.insertAdjacentHTML('beforeend', '<i class=\"stale\"></i>'); }")
    expect(page.locator("#bench .stale")).to_have_count(0)
    expect(page.locator("#bench")).to_have_attribute("data-busy", "false")


ASKED = "url => htmx.ajax('GET', url, { swap: 'none', source: document.getElementById('told') })"
CONTRAST = "Undo: Contrast +33 %"


def held(page: Page, where: str, act) -> Route:  # type: ignore[no-untyped-def]
    """What `act` asks for first at an address, on its way to the server."""
    first: list[Route] = []
    page.route(where, lambda route: route.fallback() if first else first.append(route))
    act()
    while not first:
        page.evaluate("1")
    return first[0]


def late(page: Page, where: str, act) -> tuple[Route, APIResponse]:  # type: ignore[no-untyped-def]
    """What `act` asks for at an address, and its answer, which has not come yet."""
    route = held(page, where, act)
    return route, route.fetch()


def late_pieces(page: Page) -> tuple[Route, APIResponse]:
    return late(page, "**/pieces/even?late", lambda: page.evaluate(f"url => {{ ({ASKED})(url); }}", "/scene/1/pieces/even?late"))


def contrast(page: Page) -> None:
    page.locator("#c-contrast").fill("33")


def undo_is(page: Page, title: str) -> None:
    expect(page.locator("#history [data-do=undo]")).to_have_attribute("title", title)


def comes(page: Page, answer: tuple[Route, APIResponse], stage: str) -> None:
    """The answer comes now, and the page asks anew."""
    with page.expect_response(f"**/pieces/{stage}?bench=1"):
        answer[0].fulfill(response=answer[1])
    undo_is(page, CONTRAST)


def test_an_answer_asked_for_before_a_decision_does_not_take_it_back(page: Page, gathered: Server) -> None:
    page.goto(f"{gathered.address}/scene/1/even")
    whole(page)
    answer = late_pieces(page)
    contrast(page)
    undo_is(page, CONTRAST)
    comes(page, answer, "even")
    changed(page, lambda: page.keyboard.press("Control+z"))


def test_an_answer_read_before_a_decision_and_asked_for_after_it_does_not_take_it_back(page: Page, gathered: Server) -> None:
    page.goto(f"{gathered.address}/scene/1/even")
    whole(page)
    decision = held(page, "**/scene/1/even/set", lambda: contrast(page))
    answer = late_pieces(page)
    decision.continue_()
    undo_is(page, CONTRAST)
    comes(page, answer, "even")
    changed(page, lambda: page.keyboard.press("Control+z"))


def test_a_stage_is_reached_though_a_decision_is_answered_on_the_way(page: Page, gathered: Server) -> None:
    page.goto(f"{gathered.address}/scene/1/even")
    whole(page)
    decision = held(page, "**/scene/1/even/set", lambda: contrast(page))
    answer = late(page, "**/scene/1/register", lambda: page.click("#route a[aria-label^='Register']"))
    decision.continue_()
    undo_is(page, CONTRAST)
    comes(page, answer, "register")
    expect(page.locator("#route a[aria-current=step]")).to_have_attribute("aria-label", re.compile("^Register"))
    page.keyboard.press("Control+z")
    expect(page.locator("#history [data-do=undo]")).not_to_have_attribute("title", CONTRAST)


def test_a_button_is_not_drawn_anew_while_it_is_pressed(page: Page, gathered: Server) -> None:
    page.goto(f"{gathered.address}/scene/1/weave")
    whole(page)
    page.click("[data-panel=hand]")
    box = page.get_by_role("button", name="All hidden").bounding_box()
    assert box
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    page.mouse.down()
    page.evaluate("() => document.querySelector('#bench [data-panel]').classList.add('stale')")
    page.evaluate(ASKED, "/scene/1/pieces/weave?bench=1")
    expect(page.locator("#bench .stale")).to_have_count(1)
    page.mouse.up()
    expect(page.locator("#history [data-do=undo]")).to_have_attribute("title", "Undo: All masks hidden")
    expect(page.locator("#bench .stale")).to_have_count(0)
    changed(page, lambda: page.keyboard.press("Control+z"))


def test_files_are_sent_and_bad_ones_told(page: Page, server: Server, small: Set, tmp_path: Path) -> None:
    (tmp_path / "broken.tif").write_text("no picture at all")
    page.goto(server.address)
    page.set_input_files("#files", [*small.paths[:2], tmp_path / "broken.tif"])
    page.locator("#upload button").click()
    page.wait_for_url("**/outing/*")
    page.goto(server.address)
    card = page.locator(".outing", has_text="Sent").locator(".scene-card")
    expect(card).to_have_count(1, timeout=180_000)
    card.click()
    expect(page.locator("#notebook")).to_contain_text("broken.tif: is not a picture")
