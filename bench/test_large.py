"""How fast the page answers at 24 megapixels: measured and printed, not asserted."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np
from playwright.sync_api import Page, expect

from eaveplane.imaging.exif import Metadata
from eaveplane.imaging.formats.registry import write_picture
from tests.browser.conftest import Server, browser, page  # noqa: F401
from tests.browser.test_even import HELD
from tests.browser.test_route import changed, mat, whole


def _large_frames(folder: Path) -> None:
    """Three frames of 6000×4000, each sharp in a third of the picture."""
    folder.mkdir()
    rng = np.random.default_rng(3)
    small = sum(cv2.resize(rng.random((rows, rows * 3 // 2, 3), np.float32), (6000, 4000), interpolation=cv2.INTER_CUBIC) for rows in (20, 500)) / 2
    fine = cv2.resize(rng.random((2000, 3000, 3), np.float32), (6000, 4000), interpolation=cv2.INTER_LINEAR)
    sharp = np.clip(0.25 + 0.3 * small + 0.25 * fine, 0, 1)
    soft = cv2.GaussianBlur(sharp, (0, 0), 5)
    for k in range(3):
        frame = soft.copy()
        rows = slice(4000 * (2 - k) // 3, 4000 * (3 - k) // 3)
        frame[rows] = sharp[rows]
        write_picture(folder / f"{k}.tif", (frame * 60000).astype(np.uint16), None, Metadata(focus_m=float(k + 1)))


def _spread(times: list[float]) -> str:
    return f"{statistics.median(times):.0f} ms (95th percentile {np.percentile(times, 95):.0f}, first {times[0]:.0f})"


def _hold(page: Page, ruler: str, value: float) -> None:  # noqa: F811
    page.eval_on_selector(ruler, f"e => {{ e.value = {value}; e.dispatchEvent(new Event('input', {{ bubbles: true }})); }}")


def _told(page: Page, name: str, do: Callable[[], None]) -> float:  # noqa: F811
    """What the page says that something took that was done now."""
    page.evaluate(f"() => {{ delete document.querySelector('.mat').dataset.{name}; }}")
    do()
    page.wait_for_function(f"() => document.querySelector('.mat').dataset.{name}")
    return float(mat(page, name))


def _finish(page: Page) -> dict[str, list[float]]:  # noqa: F811
    """Rulers of Finish one after the other, each with those before it set, then strokes on a map."""
    page.click("#route a[aria-label^='Finish']")
    expect(page.locator("[data-new-map=lighter]")).to_be_visible()
    page.click("[data-do=fit]")
    whole(page)
    times: dict[str, list[float]] = {}
    for panel, name in (("soft", "vignette-strength"), ("air", "air-far-haze"), ("soft", "glow-strength"), ("grain", "detail-strength")):
        page.click(f"[data-panel={panel}]")
        found = times[name] = []
        for value in range(20, 44, 2):
            changed(page, lambda name=name, value=value: _hold(page, f"#c-{name}", value))
            found.append(float(mat(page, "freshMs")))
        page.eval_on_selector(f"#c-{name}", "e => e.dispatchEvent(new Event('change', { bubbles: true }))")
        whole(page)
    page.click("[data-panel=light]")
    page.click("[data-new-map=lighter]")
    expect(page.locator("[data-tool=brush]")).to_have_attribute("aria-pressed", "true")
    strokes = times["painted stroke"] = []
    for i in range(10):
        page.mouse.move(450 + 12 * i, 180 + 25 * i)
        page.mouse.down()
        page.mouse.move(550 + 12 * i, 200 + 25 * i, steps=5)
        changed(page, page.mouse.up, "strokes")
        strokes.append(float(mat(page, "strokeMs")))
    page.click("[data-tool=brush]")
    return times


def test_speed_of_the_page_at_24_megapixels(page: Page, tmp_path: Path) -> None:  # noqa: F811
    _large_frames(tmp_path / "card")
    server = Server(tmp_path / "library")
    try:
        page.set_default_timeout(120_000)
        page.goto(server.address)
        page.fill("#folder", str(tmp_path / "card"))
        page.get_by_role("button", name="Bring in").click()
        page.locator(".scene-strip h2 a").click()
        whole(page)
        expect(page.locator("#bench")).to_contain_text("The frames meet", timeout=240_000)
        page.get_by_role("button", name="Even out 3 frames").click()
        page.get_by_role("button", name="On to Register").click()
        expect(page.locator(".fits tr[data-nudge]")).to_have_count(3, timeout=240_000)
        page.get_by_role("button", name="Weave 3 frames").click()
        page.click("#route a[aria-label^='Weave']")
        expect(page.locator("#bench-main a.main")).to_have_text("On to Mend", timeout=240_000)

        page.click("#route a[aria-label^='Even']")
        expect(page.locator("#c-exposure")).to_be_visible()
        whole(page)
        sliders = []
        for value in range(1, 13):
            changed(page, lambda value=value: page.eval_on_selector("#c-exposure", f"e => {{ e.value = {value / 20}; e.dispatchEvent(new Event('input', {{ bubbles: true }})); }}"))
            sliders.append(float(mat(page, "freshMs")))
        held = max(int(page.evaluate(HELD, [1000, 2000])) for _ in range(3))
        page.click("#route a[aria-label^='Weave']")
        expect(page.locator("#c-detail")).to_be_visible()
        whole(page)
        tried = [_told(page, "triedMs", lambda v=v: _hold(page, "#c-detail", v)) for v in np.linspace(2.2, 6, 12)]
        quiet = [_told(page, "triedMs", lambda v=v: _hold(page, "#c-quiet", v)) for v in np.linspace(1.2, 3.5, 8)]
        grab = page.locator(".span-end.far .grab").bounding_box()
        assert grab
        page.mouse.move(grab["x"] + 6, grab["y"] + 12)
        page.mouse.down()
        spans = [_told(page, "spanMs", lambda k=k: page.mouse.move(grab["x"] + 6, grab["y"] + 30 + 5 * k)) for k in range(12)]
        page.mouse.move(grab["x"] + 6, grab["y"])
        page.mouse.up()
        page.locator(".span-end.far").focus()
        page.keyboard.press("Delete")
        page.keyboard.press("2")
        page.keyboard.press("0")
        page.click("[data-panel=hand]")
        page.get_by_role("button", name="Brush", exact=True).click()
        whole(page)
        strokes = {}
        for where in ("whole", "1:1"):
            if where == "1:1":
                page.click("[data-do=one]")
                whole(page)
            times = strokes[where] = []
            for i in range(10):
                page.mouse.move(450 + 12 * i, 180 + 25 * i)
                page.mouse.down()
                page.mouse.move(550 + 12 * i, 200 + 25 * i, steps=5)
                changed(page, page.mouse.up, "strokes")
                times.append(float(mat(page, "strokeMs")))
        page.keyboard.press("Escape")
        finish = _finish(page)
        page.click("#route a[aria-label^='Weave']")
        page.click("[data-panel=way]")
        page.select_option("#way", "crisp-seams")
        page.get_by_role("button", name="Weave 3 frames").click()
        expect(page.locator("#cancel-first")).to_be_visible()
        page.wait_for_function("() => Number(document.querySelector('#work progress')?.value) > 0.45")
        begin = time.monotonic()
        page.click("#cancel-first")
        expect(page.locator("#work")).to_contain_text("Nothing is being computed")
        cancelled = time.monotonic() - begin
        print(f"24 MP: slider to screen {_spread(sliders)}, renewed {held / 2:.0f} times a second while held")
        print("stroke to weave, the first of each cold: " + "; ".join(f"{where} {_spread(times)}" for where, times in strokes.items()))
        print("finish: " + "; ".join(f"{what} {_spread(times)}" for what, times in finish.items()))
        print(f"seams tried beside a ruler {_spread(tried)}; quiet areas {_spread(quiet)}; the span's end followed {_spread(spans)}; weaving cancelled after {cancelled:.1f} s")
        assert len(sliders) == 12 and len(spans) == 12
    finally:
        page.goto("about:blank")
        server.stop()
