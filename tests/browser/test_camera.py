"""Planner and field camera as their user has them: from a plan to a card to a scene on the shelf."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import Server


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    started = Server(tmp_path_factory.mktemp("camera") / "home")
    yield started
    started.stop()


def test_a_plan_follows_its_rulers_and_goes_to_the_camera(page: Page, server: Server) -> None:
    page.goto(f"{server.address}/planner/")
    heading = page.locator("#answer h1")
    expect(heading).to_have_text("6 shots, focused from 0.66 m to 6.49 m")
    page.locator(".ruler[data-name=f_number] [type=number]").fill("16")
    page.keyboard.press("Tab")
    expect(heading).to_contain_text("3 shots")
    expect(page.locator(".shots-table tbody tr")).to_have_count(3)
    expect(page.locator(".ground-drawing polygon")).to_have_count(6)
    expect(page.locator(".chart-drawing")).to_contain_text("would be sharper than f/16")
    ruler = page.locator(".ruler[data-name=f_number] [type=range]")
    ruler.focus()
    page.keyboard.press("Delete")
    expect(heading).to_contain_text("6 shots")
    page.locator(".ruler[data-name=farthest_m] [type=number]").fill("12")
    page.keyboard.press("Tab")
    expect(heading).to_contain_text("to 4.36 m")
    page.get_by_role("link", name="Send to the field camera").click()
    expect(page.get_by_text("6 shots as planned")).to_be_visible()
    expect(page.locator("#cost")).to_contain_text("6 frames")


def test_a_shooting_fills_the_card_and_one_click_brings_it_in(page: Page, server: Server) -> None:
    page.goto(f"{server.address}/camera/")
    expect(page.get_by_text("The card is empty")).to_be_visible()
    page.get_by_label("Larch snow").check()
    for name, value in (("long_side_px", "480"), ("count", "3"), ("nearest_m", "0.8")):
        page.locator(f".ruler[data-name={name}] [type=number]").fill(value)
        page.keyboard.press("Tab")
    page.get_by_label("Hand before the lens").check()
    expect(page.locator("#cost")).to_contain_text("4 frames of 0.2 MP")
    page.get_by_role("button", name="Shoot").click()
    expect(page.locator("#card .roll h3")).to_contain_text("101LARCH", timeout=180_000)
    expect(page.locator("#card figure")).to_have_count(4, timeout=180_000)
    page.wait_for_function("[...document.querySelectorAll('#card img')].every((i) => i.complete && i.naturalWidth > 0)")
    expect(page.locator("#card")).to_contain_text("4 not on the shelf yet")
    page.get_by_role("button", name="Bring the card in").click()
    card = page.locator(".scene-card")
    expect(card).to_have_count(1, timeout=180_000)
    expect(card).to_contain_text("3 frames")
    card.click()
    expect(page.locator(".rail-markers")).to_contain_text("1 marker")


def test_what_cannot_be_shot_is_told(page: Page, server: Server) -> None:
    page.goto(f"{server.address}/camera/")
    for name, value in (("long_side_px", "12000"), ("count", "200")):
        page.locator(f".ruler[data-name={name}] [type=number]").fill(value)
        page.keyboard.press("Tab")
    page.get_by_role("button", name="Shoot").click()
    expect(page.locator("#told")).to_contain_text("would fill the card")


def test_what_is_renewed_under_a_pressed_button_waits_for_its_release(page: Page, server: Server) -> None:
    """The cost comes back while Shoot is held down: the click counts, and the cost is drawn after it, in its own place."""
    page.goto(f"{server.address}/camera/")
    for name, value in (("long_side_px", "12000"), ("count", "200")):
        page.locator(f".ruler[data-name={name}] [type=number]").fill(value)
        page.keyboard.press("Tab")
    expect(page.locator("#cost")).to_contain_text("200 frames of 96.0 MP")
    page.get_by_role("button", name="Shoot").hover()
    page.mouse.down()
    with page.expect_response(lambda answer: "/camera/cost" in answer.url):
        page.get_by_label("Hand before the lens").dispatch_event("click")
    page.evaluate("() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)))")
    with page.expect_response(lambda answer: "/camera/cost" in answer.url):
        page.mouse.up()
    expect(page.locator("#told")).to_contain_text("would fill the card")
    expect(page.locator("#cost")).to_contain_text("201 frames of 96.0 MP")
    expect(page.locator("#cost")).to_have_count(1)
