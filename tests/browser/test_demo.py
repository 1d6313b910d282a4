"""The demo from nothing, and the finer handling of the page on it."""

from __future__ import annotations

import time
from collections.abc import Iterator

import numpy as np
import pytest
from playwright.sync_api import Browser, Page, expect

from eaveplane.imaging.cms import name_of
from tests.browser.conftest import Server
from tests.browser.test_route import changed, corner, drawn, drawn_anew, pixels, place, whole

# the demo's own card in smaller frames, since drawing them is most of the time that these tests take: as large as what went wrong in the
# field needs to be seen, and smaller still where nothing did
SMALLER = """
from dataclasses import replace
from eaveplane.fieldcam import demo
sides = {"thistle": 1080, "larch": 1080}
demo.CARD = tuple(replace(roll, order=roll.order.model_copy(update={"long_side_px": sides.get(roll.order.landscape, 720)})) for roll in demo.CARD)
from eaveplane.cli import main
main()
"""


@pytest.fixture(scope="module")
def demo(browser: Browser, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    """The demo, its four scenes shot and looked at one after the other."""
    begin = time.monotonic()
    started = Server(tmp_path_factory.mktemp("demo") / "demo", "demo", ("-c", SMALLER))
    print(f"demo: first start, frames shot, page up after {time.monotonic() - begin:.0f} s")
    page = browser.new_page()
    page.goto(started.address)
    # the first is there while the camera goes on
    page.locator(".scene-card").first.click(timeout=180_000)
    whole(page)
    page.goto(started.address)
    expect(page.locator(".scene-card")).to_have_count(4, timeout=480_000)
    expect(page.locator(".scene-card").nth(3)).to_contain_text("looked at", timeout=180_000)
    page.close()
    yield started
    started.stop()


def frames(page: Page) -> list[str]:
    return page.locator("#rail .frame b").all_inner_texts()


def test_the_demo_stands_on_its_shelf_and_starts_again_at_once(page: Page, demo: Server) -> None:
    page.goto(demo.address)
    expect(page.get_by_role("link", name="A morning with the field camera", exact=True)).to_be_visible()
    page.locator(".scene-card").first.click()
    whole(page)
    # the hand before the lens is set aside, with the reason
    assert frames(page) == ["5 · Far", "4", "3 · Mid", "2", "1 · Near"]
    expect(page.locator(".rail-markers")).to_have_text("1 marker: FIELD0001.dng")
    page.goto(demo.address)
    expect(page.locator(".scene-card").nth(3)).to_contain_text("3 frames")
    # what went wrong in the field is found: a bumped tripod, a frame past infinity
    page.goto(f"{demo.address}/outing/1")
    expect(page.locator(".contact-frame.marks")).to_have_count(4)
    expect(page.locator(".contact-frame.proposed em")).to_have_text(["shaken?", "overshot?"], timeout=240_000)
    card = demo.home / "library" / "card"
    assert {p.name: len(list(p.glob("FIELD*.dng"))) for p in card.iterdir()} == {"101FIELD": 13, "102FIELD": 16}
    assert name_of((demo.home / "matt paper.icc").read_bytes()) == "Made-up matt paper"
    page.goto("about:blank")
    demo.stop()
    begin = time.monotonic()
    again = Server(demo.home, "demo", ("-c", SMALLER))
    demo.process, demo.log, demo.address = again.process, again.log, again.address
    print(f"demo: second start, page up after {time.monotonic() - begin:.1f} s")
    page.goto(f"{demo.address}/scene/1/gather")
    expect(page.locator("#rail .frame")).to_have_count(5)


def test_the_shelf_renews_itself_without_taking_what_is_held(page: Page, demo: Server) -> None:
    page.goto(demo.address)
    card = page.locator(".scene-card").first
    card.focus()
    renew = "() => { const o = document.getElementById('outings'); return htmx.ajax('GET', o.getAttribute('hx-get'), { source: o, target: o, swap: 'outerHTML' }); }"
    page.evaluate(renew)
    expect(card).to_be_focused()
    page.evaluate("() => { window.stood = document.getElementById('outings'); }")
    page.evaluate(renew)
    assert page.evaluate("() => window.stood.isConnected"), "nothing had changed, yet it was drawn anew"
    page.route("**/shelf/outings", lambda route: route.fulfill(body=route.fetch().text().replace(" frames", " pictures")))
    x, y = corner(page, ".scene-card")
    page.mouse.move(x + 60, y + 60)
    page.mouse.down()
    page.evaluate(renew)
    assert page.evaluate("() => window.stood.isConnected"), "it went from under the finger"
    page.mouse.move(x - 8, y - 8)
    page.mouse.up()
    expect(card).to_contain_text("pictures")
    page.mouse.move(x + 60, y + 60)
    page.mouse.down()
    page.unroute_all()
    page.evaluate(renew)
    page.mouse.up()
    page.wait_for_url("**/scene/1/**")


def test_frames_are_dragged_on_the_rail(page: Page, demo: Server) -> None:
    page.goto(f"{demo.address}/scene/1/gather")
    whole(page)
    first, third = (place(page, f"#rail .frame:nth-of-type({i}) .words") for i in (1, 3))
    before = frames(page)
    # one that is called off, by a key or by the browser, has no consequence
    for call_off in (lambda: page.keyboard.press("Escape"), lambda: page.evaluate("document.dispatchEvent(new PointerEvent('pointercancel'))")):
        page.mouse.move(*first)
        page.mouse.down()
        page.mouse.move(*third, steps=6)
        expect(page.locator("#rail .dragged")).to_have_count(1)
        expect(page.locator("#rail .drop")).to_have_count(1)
        call_off()
        expect(page.locator("#rail .dragged, #rail .drop")).to_have_count(0)
        page.mouse.up()
        assert frames(page) == before
    # the rail may be drawn anew at any moment, also under a frame that is held
    page.mouse.move(*first)
    page.mouse.down()
    page.mouse.move(third[0], third[1] - 8, steps=6)
    page.mouse.move(*third)
    drawn_anew(page, "#rail")
    page.mouse.up()
    expect(page.locator("#rail .frame b").nth(0)).to_have_text("5")
    assert [name.split(" · ")[-1] for name in frames(page)] == ["5", "Mid", "Far", "2", "Near"]
    page.get_by_role("button", name="Order near to far").click()
    expect(page.locator("#rail .frame b").filter(has_text="5 · Far")).to_be_visible()


def test_numbers_are_typed_reset_and_refused(page: Page, demo: Server) -> None:
    page.goto(f"{demo.address}/scene/1/even")
    whole(page)
    undo = page.locator("#history [data-do=undo]")
    ruler = page.locator(".ruler[data-name=highlights]")
    ruler.locator("[type=number]").fill("-40")
    page.keyboard.press("Enter")
    expect(undo).to_have_attribute("title", "Undo: Highlights -40 %")
    expect(ruler).to_have_class("ruler changed")
    ruler.locator("[type=number]").fill("900")
    page.keyboard.press("Tab")
    expect(ruler.locator("[type=number]")).to_have_value("100")
    ruler.locator("[type=range]").focus()
    page.keyboard.press("ArrowLeft")
    expect(undo).to_have_attribute("title", "Undo: Highlights +99 %")
    page.keyboard.press("Delete")
    expect(ruler.locator("[type=number]")).to_have_value("0")
    ruler.locator("[type=number]").fill("12")
    page.keyboard.press("Tab")
    expect(undo).to_have_attribute("title", "Undo: Highlights +12 %")
    page.get_by_role("button", name="Tone", exact=True).click()
    expect(undo).to_have_attribute("title", "Undo: Tone reset")


def test_lost_tones_are_hatched_and_before_is_before(page: Page, demo: Server) -> None:
    page.goto(f"{demo.address}/scene/1/even")
    whole(page)
    page.locator("#c-exposure").fill("3")
    expect(page.locator("#history [data-do=undo]")).to_have_attribute("title", "Undo: Exposure +3 EV")
    # the decision is told before its picture is there, and what is hatched then would be the one before it
    drawn(page)

    def rust() -> float:
        return float((np.abs(pixels(page) - np.array([20, 60, 200])).max(axis=2) < 60).mean())

    plain = rust()
    changed(page, lambda: page.keyboard.press("o"))
    page.wait_for_function("() => document.querySelector('.mat').dataset.whole.includes('clipping')")
    drawn(page)
    hatched = rust()
    assert hatched > plain + 0.006
    changed(page, lambda: page.keyboard.press("v"))
    page.wait_for_function("() => document.querySelector('.mat').dataset.whole.includes('before')")
    expect(page.locator("#caption")).to_contain_text("before the look")
    assert rust() < 0.5 * hatched
    page.keyboard.press("o")
    page.keyboard.press("v")
    page.keyboard.press("Control+z")


def test_the_chosen_frame_is_seen_through_the_brush(page: Page, demo: Server) -> None:
    page.goto(f"{demo.address}/scene/1/even")
    page.get_by_role("button", name="On to Register").click()
    page.wait_for_url("**/register")
    expect(page.locator(".fits tr[data-nudge]")).to_have_count(5, timeout=180_000)
    page.click("#route a[aria-label^='Mend']")
    page.keyboard.press("1")
    page.keyboard.press("0")
    whole(page)
    page.mouse.move(640, 230)
    looked = "() => { const c = document.getElementById('brush'); return c.getContext('2d').getImageData(0, 0, c.width, c.height).data.filter((v, i) => i % 4 === 3 && v > 200).length; }"
    empty = page.evaluate(looked)
    page.keyboard.down("s")
    page.wait_for_function(f"n => ({looked})() > n + 300", arg=empty)
    page.keyboard.up("s")
    page.wait_for_function(f"() => ({looked})() === 0")
    page.keyboard.press(".")
    page.keyboard.press(";")
    expect(page.locator("#b-softness")).to_have_js_property("value", "80")
    page.keyboard.press("c")
    x, y = place(page, ".wipe .grip")
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x - 150, y, steps=4)
    page.mouse.up()
    assert place(page, ".wipe .grip")[0] < x - 120


def test_a_server_that_is_gone_is_told_and_what_was_decided_is_there_again(page: Page, demo: Server) -> None:
    page.goto(f"{demo.address}/scene/1/even")
    whole(page)
    page.locator("#c-highlights").fill("31")
    expect(page.locator("#history [data-do=undo]")).to_have_attribute("title", "Undo: Highlights +31 %")
    page.server_ended = True  # type: ignore[attr-defined]
    demo.process.kill()
    demo.process.wait()
    page.locator("#c-highlights").fill("5")
    expect(page.locator("#told")).to_contain_text("does not answer")
    again = Server(demo.home, "demo", ("-c", SMALLER))
    demo.process, demo.log, demo.address = again.process, again.log, again.address
    page.goto(f"{demo.address}/scene/1/even")
    expect(page.locator("#c-highlights")).to_have_js_property("value", "31")
