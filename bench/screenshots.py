"""Walks the demo from the empty library to the delivered file and keeps a picture of each main view.

Usage: screenshots.py ADDRESS FOLDER, with `eaveplane demo` running on a fresh library at ADDRESS.
"""

from __future__ import annotations

import re
import shutil
import sys
from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Page, expect, sync_playwright

ROOT = Path(__file__).parents[1]
sys.path.insert(0, str(ROOT))

from bench.layered import kept  # noqa: E402
from bench.run import HERE  # noqa: E402
from bench.ways import by_seed  # noqa: E402


def settle(page: Page) -> None:
    page.wait_for_load_state("networkidle")
    page.wait_for_function("() => !document.querySelector('.mat') || document.querySelector('.mat').dataset.whole")
    page.wait_for_timeout(900)


def finish(page: Page, stroke: Callable[[list[tuple[float, float]]], None]) -> None:
    """Light on the ground, air in the distance, a rim; left of the line as it was before."""
    box = page.locator(".mat").bounding_box()
    assert box
    at = lambda across, down: (box["x"] + across * box["width"], box["y"] + down * box["height"])  # noqa: E731
    for kind, strength, points in (("lighter", 70, [(0.32, 0.82), (0.5, 0.72), (0.66, 0.66)]), ("warmer", 40, [(0.3, 0.72), (0.7, 0.6)])):
        page.click(f"[data-new-map={kind}]")
        expect(page.locator("[data-tool=brush]")).to_have_attribute("aria-pressed", "true")
        page.locator("#b-width").fill("70")
        stroke([at(*point) for point in points])
        expect(page.locator("#maps small").last).to_contain_text(", 1")
        page.locator("[id^=c-light-][id$=-strength]:visible").fill(str(strength))
    page.click("[data-tool=brush]")
    page.click("[data-panel=soft]")
    page.locator("#c-vignette-strength").fill("-40")
    page.click("[data-panel=crop]")
    page.select_option("#ratio", "16:9")
    page.click("[data-panel=output]")
    page.locator("#c-sharpen").fill("60")
    page.click("[data-panel=air]")
    for name, value in (("far-haze", 35), ("far-contrast", -15), ("far-warmth", -20), ("near-contrast", 15)):
        page.locator(f"#c-air-{name}").fill(str(value))
    settle(page)
    page.click("[data-before=wipe]")


def walk(page: Page, address: str, folder: Path) -> None:
    def keep(name: str) -> None:
        settle(page)
        page.screenshot(path=folder / f"{name}.png", caret="initial")

    def stroke(points: list[tuple[float, float]]) -> None:
        page.mouse.move(*points[0])
        page.mouse.down()
        for point in points[1:]:
            page.mouse.move(*point, steps=6)
        page.mouse.up()

    page.goto(f"{address}/planner/")
    keep("planner")
    page.goto(address)
    # the camera takes its time for four landscapes
    expect(page.locator(".scene-card")).to_have_count(4, timeout=900_000)
    expect(page.locator(".scene-card").nth(3)).to_contain_text("looked at", timeout=900_000)
    page.goto(f"{address}/outing/1")
    page.locator(".contact-frame.proposed").first.click()
    keep("outing")
    page.goto(f"{address}/camera/?landscape=thistle&wind=0.3&blades=7")
    keep("camera")
    page.goto(address)
    page.locator(".scene-card").first.click()
    settle(page)
    page.keyboard.press("2")
    expect(page.locator("#over .zone")).to_have_count(1)
    keep("gather")
    page.get_by_role("button", name="Even out 5 frames").click()
    page.get_by_role("button", name="On to Register").click()
    expect(page.locator(".fits tr[data-nudge]")).to_have_count(5)
    page.keyboard.press("4")
    page.click("[data-panel=looking]")
    page.click("#bench [data-view=outlines]")
    settle(page)
    page.click("[data-panel=fits]")
    keep("register")
    page.click("[data-panel=looking]")
    page.click("[data-do=loupes] >> nth=0")
    expect(page.locator(".loupes[data-whole]")).to_be_visible()
    page.keyboard.press(" ")
    keep("loupes")
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Weave 5 frames").click()
    page.click("#route a[aria-label^=Weave]")
    expect(page.locator("#bench-main a.main")).to_have_text("On to Mend")
    page.click("#route a[aria-label^=Even]")
    page.locator("#c-exposure").fill("0.25")
    page.locator("#c-highlights").fill("-20")
    keep("even")
    page.click(".panels [data-panel=colour]")
    for x, y in ((0.93, 0.42), (0.2, 0.85)):
        box = page.locator("#ring").bounding_box()
        assert box
        page.mouse.click(box["x"] + x * box["width"], box["y"] + y * box["height"])
        settle(page)
    page.locator(".hue-rulers:visible input[type=number]").nth(1).fill("-40")
    page.keyboard.press("Enter")
    page.click(".panels [data-panel=areas]")
    page.get_by_role("button", name="Graduated").click()
    expect(page.locator(".area-handle")).to_have_count(3)
    page.locator("[data-name='areas.0.exposure'] input[type=number]").fill("-0.6")
    page.keyboard.press("Enter")
    settle(page)
    page.get_by_role("button", name="Distance").click()
    expect(page.locator("#areas li")).to_have_count(2)
    page.locator("[data-area-panel='1'] [data-do=area-mask]").click()
    page.wait_for_function("() => document.querySelector('.mat').dataset.whole.includes('area:')")
    page.click(".panels [data-panel=lens]")
    page.locator("[data-name=noise] input[type=number]").fill("60")
    page.keyboard.press("Enter")
    settle(page)
    page.locator("[data-without=noise]").click()
    keep("corrections")
    page.get_by_role("button", name="take all away").click()
    settle(page)
    page.click("#route a[aria-label^=Weave]")
    expect(page.locator("#route a[aria-current=step]")).to_have_attribute("aria-label", re.compile("^Weave"))
    page.keyboard.press("f")
    page.keyboard.press("2")
    page.keyboard.press("0")
    keep("weave")
    page.keyboard.press("o")
    keep("share-map")
    page.keyboard.press("0")
    page.locator("#bench-main a.main").click()
    page.click(".bench-mend [data-panel=hand]")
    page.keyboard.press("2")
    page.keyboard.press("0")
    page.mouse.move(350, 330)
    page.keyboard.press("h")
    settle(page)
    page.get_by_role("button", name="Brush", exact=True).click()
    page.wait_for_timeout(800)
    stroke([(470, 170), (480, 300), (470, 420)])
    expect(page.get_by_text("1 stroke", exact=True)).to_be_visible()
    page.mouse.move(560, 300)
    keep("mend")
    page.keyboard.press("f")
    page.locator("#bench-main a.main").click()
    finish(page, stroke)
    keep("finish")
    page.click("[data-before=wipe]")
    page.locator("#bench-main a.main").click()
    page.select_option("#set-of-outputs", "Archive and web")
    page.click("[data-set-do=use]")
    page.get_by_role("button", name="Write 2 files").click()
    expect(page.locator(".delivered a")).to_have_count(2)
    page.locator("#outputs [data-output='1'] small").click()
    keep("deliver")
    many(page, f"{address}/outing/1")
    keep("many")
    page.goto(address)
    keep("shelf")
    page.goto(f"{address}/queue/")
    keep("queue")
    flaws(page, f"{address}/scene/1")
    keep("flaws")
    page.goto(f"{address}/scene/1/weave")
    page.click("[data-do=theme]")
    page.keyboard.press("c")
    keep("dusk")


def many(page: Page, outing: str) -> None:
    """Do two more scenes with what the first delivers, and wait for the report."""
    page.goto(f"{outing}/many")
    for k, box in enumerate(page.locator("[name=scene]").all()):
        box.set_checked(k in (1, 2))
    page.select_option("[name=set]", "Archive and web")
    page.get_by_role("button", name="Do the scenes").click()
    expect(page.locator("h1")).to_have_text("2 of 2 scenes done", timeout=900_000)


def flaws(page: Page, scene: str) -> None:
    """Provoke some, with one frame made too bright and its seams left hard, and go to the first."""
    page.goto(f"{scene}/even")
    page.click(".panels [data-panel=frames]")
    page.keyboard.press("2")
    page.locator("#trim [data-name='trim.exposure'] input[type=number]").fill("0.25")
    page.keyboard.press("Enter")
    settle(page)
    page.goto(f"{scene}/weave")
    page.select_option("#way", "crisp-seams")
    settle(page)
    page.locator(".bench-main .main").click()
    expect(page.locator("#bench-main a.main")).to_have_text("On to Mend", timeout=300_000)
    page.locator("#bench-main a.main").click()
    expect(page.locator("[data-flaw]").first).to_be_visible()
    page.keyboard.press("t")
    expect(page.locator(".remedies figure")).not_to_have_count(0)
    page.wait_for_function("() => [...document.querySelectorAll('.remedies img')].every((picture) => picture.complete && picture.naturalWidth)")


def veil(page: Page, address: str, paths: list[Path]) -> None:
    """Weave stems before their ground, and show where their veil was lifted."""
    page.goto(address)
    page.set_input_files("#files", paths)
    page.locator("#upload button").click()
    page.wait_for_url("**/outing/*")
    page.goto(address)
    page.locator(".outing", has_text="Sent").locator(".scene-card").click(timeout=300_000)
    settle(page)
    page.goto(re.sub("/gather.*", "/weave", page.url))
    settle(page)
    page.locator(".bench-main .main").click()
    expect(page.locator("#bench-main a.main")).to_have_text("On to Mend", timeout=600_000)
    expect(page.locator("#work")).to_contain_text("Nothing is being computed", timeout=300_000)
    page.click("[data-view=veils]")
    page.wait_for_function("() => document.querySelector('.mat').dataset.whole.startsWith('veils')")


def main() -> None:
    address, folder = sys.argv[1].rstrip("/"), Path(sys.argv[2])
    folder.mkdir(parents=True, exist_ok=True)
    expect.set_options(timeout=60_000)
    with sync_playwright() as playwright:
        found = shutil.which("chromium-headless-shell") or shutil.which("chromium")
        browser = playwright.chromium.launch(executable_path=found, args=["--no-sandbox", "--disable-gpu", "--disable-background-networking"])
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.set_default_timeout(90_000)
        walk(page, address, folder)
        veil(page, address, kept("seed_345", by_seed(345), HERE / "ways")[0])
        settle(page)
        page.screenshot(path=folder / "veil.png", caret="initial")
        browser.close()


if __name__ == "__main__":
    main()
