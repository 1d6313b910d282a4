"""Deliver in a real browser: outputs chosen and ticked, a set, a paper's proof by key, a recipe dropped and taken from, many scenes."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from eaveplane.fieldcam.paper import NAME, paper_profile
from eaveplane.recipe import Recipe
from tests.browser.conftest import Server
from tests.browser.test_route import whole

UNDO = "#history [data-do=undo]"


@pytest.fixture
def deliver(page: Page, gathered: Server) -> Iterator[Page]:
    page.goto(f"{gathered.address}/scene/1/deliver")
    whole(page)
    first = page.locator(UNDO).get_attribute("title")
    yield page
    page.goto(f"{gathered.address}/scene/1/deliver")
    while (title := page.locator(UNDO).get_attribute("title")) != first:
        page.click(UNDO)
        expect(page.locator(UNDO)).not_to_have_attribute("title", str(title))


def test_outputs_are_chosen_ticked_and_proofed(deliver: Page, tmp_path: Path) -> None:
    page = deliver
    page.select_option("#set-of-outputs", "Archive and web")
    page.click("[data-set-do=use]")
    rows = page.locator("#outputs li")
    expect(rows).to_have_count(2)
    expect(page.locator("#bench-main button.main")).to_have_text("Write 2 files")
    rows.nth(1).locator("small").click()
    web = page.locator("[data-output-panel='1']")
    expect(web).to_be_visible()
    expect(page.locator("[data-output-panel='0']")).to_be_hidden()
    expect(web.locator("[data-name=long_edge]")).to_have_value("2400")
    rows.nth(0).locator("[data-name=ticked]").uncheck()
    expect(page.locator("#bench-main button.main")).to_have_text("Write the picture")
    rows.nth(1).locator("small").click()
    # the chosen output stays chosen when the bench is drawn anew, and its fields have the keyboard again
    web.locator("[data-name=long_edge]").fill("300")
    web.locator("[data-name=long_edge]").press("Enter")
    expect(page.locator(UNDO)).to_have_attribute("title", "Undo: Output 2: long edge")
    expect(web).to_be_visible()
    expect(rows.nth(1).locator("small")).to_contain_text("300 × 200 px")

    (tmp_path / "paper.icc").write_bytes(paper_profile())
    web.locator("[data-bring]").set_input_files(tmp_path / "paper.icc")
    expect(web.locator("[aria-label=Profile]")).to_have_value("file")
    expect(web.locator("[aria-label=Profile] option:checked")).to_have_text(NAME)
    page.locator("#picture").hover()
    page.evaluate("() => document.activeElement.blur()")
    with page.expect_request(re.compile(r"/tile/.*printed=1")):
        page.keyboard.press("o")
    expect(web.locator("[data-do=proof-print]")).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("o")
    expect(web.locator("[data-do=proof-print]")).to_have_attribute("aria-pressed", "false")
    (tmp_path / "bad.icc").write_bytes(b"no profile")
    web.locator("[data-bring]").set_input_files(tmp_path / "bad.icc")
    expect(page.locator("#told")).to_contain_text("bad.icc is no colour profile")


def test_a_recipe_dropped_on_the_page_offers_its_parts(deliver: Page, tmp_path: Path) -> None:
    page = deliver
    text = Recipe.model_validate({"schema": 2, "look": {"exposure": 0.4}, "finish": {"straighten": 3}}).to_json()
    page.evaluate(
        """text => {
          const carried = new DataTransfer();
          carried.items.add(new File([text], "other.recipe.json"));
          for (const type of ["dragover", "drop"]) document.querySelector("#picture").dispatchEvent(new DragEvent(type, { dataTransfer: carried, bubbles: true, cancelable: true }));
        }""",
        text,
    )
    offered = page.locator("#offered")
    expect(offered).to_be_visible()
    expect(offered).to_contain_text("other.recipe.json")
    for part in ("corrections", "weaving", "finish"):
        offered.locator(f"[value={part}]").uncheck()
    offered.get_by_role("button", name="Take what is ticked").click()
    expect(page.locator(UNDO)).to_have_attribute("title", "Undo: Taken over: look")


def test_many_scenes_are_asked_for_from_the_outing(page: Page, gathered: Server) -> None:
    page.goto(f"{gathered.address}/outing/1")
    page.get_by_role("link", name="Do many scenes").click()
    page.locator("[name=scene]").uncheck()
    page.get_by_role("button", name="Do the scenes").click()
    expect(page.locator("main")).to_contain_text("Tick the scenes that are to be done")
    page.goto(f"{gathered.address}/outing/1/contact.html")
    expect(page.locator("article")).to_have_count(1)
    assert page.locator("img").evaluate_all("images => images.every((image) => image.naturalWidth > 0)")
