"""Even out by hand: sliders held, curve, hue ring, areas with mouse and keys, corrections compared, before and after."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import Server
from tests.browser.test_route import changed, drawn, pixels, place, whole


@pytest.fixture(scope="module")
def server(looked_at: Callable[[Path], Path], tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    started = Server(looked_at(tmp_path_factory.mktemp("even") / "home") / "library")
    yield started
    started.stop()


@pytest.fixture
def even(page: Page, server: Server) -> Page:
    """The page of Even out on a scene whose frames have been looked at."""
    page.goto(f"{server.address}/scene/1/even")
    whole(page)
    return page


def look(page: Page) -> dict[str, Any]:
    found: dict[str, Any] = json.loads(page.locator("#state").get_attribute("data-state") or "{}")["lookValues"]
    return found


def panel(page: Page, name: str) -> None:
    page.click(f".panels [data-panel={name}]")
    expect(page.locator(f".panels [data-panel={name}]")).to_have_attribute("aria-pressed", "true")


def told(page: Page, what: str) -> None:
    """Wait until the last decision is this one."""
    expect(page.get_by_role("button", name="Undo")).to_have_attribute("title", re.compile(f"^Undo: {what}"))


HELD = """async ([wanted, most]) => { const s = document.getElementById('c-exposure'), mat = document.querySelector('.mat');
    const shown = () => Number(mat.dataset.fresh || 0), first = shown(), end = performance.now() + most; let k = 0;
    while (shown() - first < wanted && performance.now() < end) { s.value = Math.sin(k++ / 8); s.dispatchEvent(new Event('input', { bubbles: true })); await new Promise(requestAnimationFrame); }
    return shown() - first; }"""
"""Moves a slider on every frame of the screen, as a hand would, until the picture has been renewed so often."""


def test_the_picture_follows_a_held_slider(even: Page) -> None:
    # how often a second is measured by bench/test_large.py; here it is renewed while the slider is held, and not only after it
    assert even.evaluate(HELD, [8, 60_000]) >= 8


def test_lost_tones_are_hatched_while_an_end_is_held(even: Page) -> None:
    page = even
    asked: list[str] = []
    page.on("request", lambda request: asked.append(request.url) if "/viewport/" in request.url else None)

    def hold(name: str) -> None:
        changed(page, lambda: page.evaluate(f"() => {{ const s = document.getElementById('c-{name}'); s.value = 100; s.dispatchEvent(new Event('input', {{ bubbles: true }})); }}"))

    hold("exposure")
    assert not any("clipping=1" in url for url in asked)
    hold("white_end")
    assert "clipping=1" in asked[-1]
    page.evaluate("() => document.getElementById('c-white_end').dispatchEvent(new Event('change', { bubbles: true }))")
    told(page, r"White end \+100 %")
    expect(page.locator("#lost-white")).to_have_text(re.compile(r"white \d"))
    page.keyboard.press("Control+z")
    expect(page.locator("#c-white_end")).to_have_js_property("value", "0")


def test_a_curve_is_dragged_on_itself_and_in_the_picture(even: Page) -> None:
    page = even
    box = page.locator("#curve").bounding_box()
    assert box
    page.mouse.move(box["x"] + box["width"] * 0.5, box["y"] + box["height"] * 0.5)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] * 0.5, box["y"] + box["height"] * 0.3, steps=4)
    page.mouse.up()
    told(page, "Tone curve")
    points = look(page)["curve"]
    assert len(points) == 3 and points[1] == pytest.approx([0.5, 0.7], abs=0.02)
    # the point has a name and obeys keys
    page.locator("#curve .point").nth(1).focus()
    page.keyboard.press("Shift+ArrowDown")
    page.wait_for_function("() => JSON.parse(document.getElementById('state').dataset.state).lookValues.curve[1][1] < 0.67")
    page.keyboard.press("Delete")
    expect(page.locator("#curve .point")).to_have_count(2)
    page.get_by_role("button", name="Curve", exact=True).click()
    expect(page.locator("#curve .point")).to_have_count(0)
    page.get_by_role("button", name="Drag tones in the picture").click()
    x, y = place(page, "#viewer")
    page.mouse.move(x, y + 100)
    page.mouse.down()
    expect(page.locator("#curve .point")).to_have_count(3)
    page.mouse.move(x, y + 60, steps=3)
    page.mouse.up()
    told(page, "Tone curve")
    low, dragged, _ = look(page)["curve"]
    assert low == [0, 0] and dragged[1] > dragged[0] + 0.1
    page.get_by_role("button", name="Drag tones in the picture").click()
    page.get_by_role("button", name="Reset the look").click()
    told(page, "Look reset")


def test_hues_are_put_on_the_ring_and_moved(even: Page) -> None:
    page = even
    panel(page, "colour")
    box = page.locator("#ring").bounding_box()
    assert box
    page.mouse.click(box["x"] + box["width"] * 0.08, box["y"] + box["height"] * 0.5)
    expect(page.locator("#ring .point")).to_have_count(1)
    page.locator(".hue-rulers:visible input[type=number]").nth(1).fill("-100")
    page.keyboard.press("Enter")
    page.wait_for_function("() => JSON.parse(document.getElementById('state').dataset.state).lookValues.hues[0].strength === -100")
    page.locator("#ring .point").focus()
    page.keyboard.press("Shift+ArrowLeft")
    page.wait_for_function("() => JSON.parse(document.getElementById('state').dataset.state).lookValues.hues[0].hue > 185")
    expect(page.locator("#ring .point")).to_be_focused()
    page.get_by_role("button", name="Pick in the picture").click()
    x, y = place(page, "#viewer")
    page.mouse.click(x, y - 120)
    expect(page.locator("#ring .point")).to_have_count(2)
    page.get_by_role("button", name="Remove", exact=True).click()
    expect(page.locator("#ring .point")).to_have_count(1)
    page.get_by_role("button", name="Hue ring").click()
    expect(page.locator("#ring .point")).to_have_count(0)


def test_areas_are_made_moved_painted_and_named(even: Page) -> None:
    page = even
    panel(page, "areas")
    page.get_by_role("button", name="Elliptical").click()
    expect(page.locator(".area-handle")).to_have_count(3)
    start = look(page)["areas"][0]["parts"][0]
    x, y = place(page, ".area-handle[data-handle=middle]")
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 60, y - 30, steps=3)
    page.mouse.up()
    told(page, "Elliptical moved")
    moved = look(page)["areas"][0]["parts"][0]
    assert moved["x"] > start["x"] + 20 and moved["y"] < start["y"] - 10 and moved["rx"] == start["rx"]
    page.locator(".area-handle[data-handle=rx]").focus()
    page.keyboard.press("ArrowRight")
    page.wait_for_function(f"() => JSON.parse(document.getElementById('state').dataset.state).lookValues.areas[0].parts[0].rx > {start['rx']}")
    expect(page.locator(".area-handle[data-handle=rx]")).to_be_focused()
    drawn(page)
    before = pixels(page)
    page.locator("[data-name='areas.0.exposure'] input[type=number]").fill("-2")
    page.keyboard.press("Enter")
    page.wait_for_function("() => JSON.parse(document.getElementById('state').dataset.state).lookValues.areas[0].exposure === -2")
    drawn(page)
    assert pixels(page).mean() < before.mean() - 1
    page.get_by_label("Name of area 1").fill("Rocks")
    page.keyboard.press("Enter")
    told(page, "Area named Rocks")
    page.get_by_role("button", name="Brushed").click()
    expect(page.locator("[data-do=area-paint]").last).to_have_attribute("aria-pressed", "true")
    expect(page.locator("#areas li.chosen input[type=text]")).to_have_value("Brushed")
    x, y = place(page, "#viewer")
    page.mouse.move(x - 100, y + 100)
    page.mouse.down()
    page.mouse.move(x + 100, y + 100, steps=6)
    page.mouse.up()
    told(page, "Brushed painted")
    assert len(look(page)["areas"][1]["parts"][0]["lines"][0]["points"]) > 2
    page.locator("[data-area-panel='1'] [data-new-part]").select_option("tones")
    expect(page.locator("[data-area-panel='1'] .part")).to_have_count(2)
    page.locator("[data-area-panel='1'] [data-part-do=join]").select_option("intersect")
    told(page, "Part of Brushed changed")
    changed(page, lambda: page.locator("[data-area-panel='1'] [data-do=area-mask]").click(), "whole")
    expect(page.locator("#caption")).to_have_text("the chosen area, hatched")
    page.locator("#areas [data-area-do=on]").first.uncheck()
    told(page, "Rocks off")
    page.locator("#areas [data-area='0'] [data-area-do=remove]").click()
    expect(page.locator("#areas li")).to_have_count(1)
    page.keyboard.press("Control+z")
    expect(page.locator("#areas li")).to_have_count(2)


def test_corrections_are_compared_at_full_size(even: Page) -> None:
    page = even
    panel(page, "lens")
    page.locator("[data-name=noise] input[type=number]").fill("60")
    page.keyboard.press("Enter")
    told(page, "Noise: 60")
    page.locator("[data-without=noise]").click()
    expect(page.locator("#caption")).to_contain_text("left noise as it came, right as set")
    expect(page.locator("#zoom")).to_have_text("1:1")
    expect(page.locator(".wipe")).to_have_count(1)
    page.get_by_role("button", name="edge mask").click()
    expect(page.locator("#caption")).to_contain_text("white is where capture sharpening acts")
    expect(page.locator("#bench-main .main")).to_have_text("Register 4 frames")
    page.locator("[data-capture=vignetting]").select_option("hand")
    expect(page.locator("[data-name=falloff]")).to_be_visible()
    page.get_by_role("button", name="take all away").click()
    told(page, "Capture corrections taken away")


def test_a_trim_is_marked_on_the_rail(even: Page) -> None:
    page = even
    panel(page, "frames")
    page.keyboard.press("1")
    expect(page.locator("#trim-of")).to_have_text("1")
    page.locator("#trim [data-name='trim.exposure'] input[type=number]").fill("0.3")
    page.keyboard.press("Enter")
    expect(page.locator("#rail .trimmed")).to_have_text("trim +0.30 EV")
    page.keyboard.press("Escape")
    page.keyboard.press("2")
    expect(page.locator("#trim [data-name='trim.exposure'] input[type=number]")).to_have_value("0.00")
    page.keyboard.press("1")
    page.get_by_role("button", name="Take it away").click()
    expect(page.locator("#rail .trimmed")).to_have_count(0)


def test_before_and_after_in_three_ways(even: Page) -> None:
    page = even
    page.locator("#c-exposure").fill("1.5")
    told(page, r"Exposure \+1.5")
    drawn(page)
    after = pixels(page).mean()
    page.keyboard.press("v")
    page.wait_for_function("() => document.querySelector('.mat').dataset.whole.includes('before')")
    assert pixels(page).mean() < after - 15
    page.keyboard.press("v")
    page.get_by_role("button", name="Wipe").click()
    expect(page.locator(".wipe")).to_have_count(1)
    expect(page.locator("#caption")).to_contain_text("left before the look")
    page.get_by_role("button", name="Beside").click()
    expect(page.locator(".wipe")).to_have_count(0)
    page.wait_for_function("() => document.querySelector('.mat').dataset.beside")
    expect(page.locator("#beside canvas").first).to_be_visible()
    page.get_by_role("button", name="Beside").click()
    expect(page.locator("#beside")).to_be_hidden()
    page.keyboard.press("Control+z")
