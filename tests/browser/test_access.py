"""Every main page against WCAG 2.2 AA and best practice, by day and at dusk, wide and narrow: nothing is found."""

from __future__ import annotations

from pathlib import Path

import pytest
from playwright.sync_api import Browser

from tests.browser.conftest import Server
from tests.browser.test_route import whole

AXE = Path(__file__).parent / "vendor" / "axe.min.js"
RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]
STAGES = ["gather", "even", "register", "weave", "mend", "finish", "deliver", "deliver/results"]
PAGES = ["/", "/outing/1", "/outing/1/many", "/planner/", "/camera/", "/queue/", *(f"/scene/1/{stage}" for stage in STAGES)]


@pytest.mark.parametrize(("width", "theme"), [(1280, "light"), (1024, "dark")])
def test_nothing_stands_in_anybodys_way(gathered: Server, browser: Browser, width: int, theme: str) -> None:
    # the checker is put in from outside, which the page's own policy would not let
    context = browser.new_context(viewport={"width": width, "height": 800}, bypass_csp=True)
    page = context.new_page()
    page.add_init_script(f"localStorage.setItem('theme', '{theme}')")
    found = []
    for url in PAGES:
        page.goto(gathered.address + url)
        if page.locator(".mat").count():
            whole(page)
        page.add_script_tag(path=AXE)
        panels = page.locator(", ".join(f".bench-{stage} .panels button" for stage in ("register", "weave", "mend", "deliver")))
        for panel in range(max(1, panels.count())):
            if panels.count():
                panels.nth(panel).click()
            result = page.evaluate("rules => axe.run(document, { runOnly: rules, resultTypes: ['violations'] })", RULES)
            found += [(url, panel, v["id"], v["nodes"][0]["html"][:160], v["nodes"][0]["failureSummary"][:200]) for v in result["violations"]]
    context.close()
    assert found == []


def test_the_checker_finds_what_is_wrong(browser: Browser) -> None:
    page = browser.new_page()
    page.set_content("<html><body><img src='x.png'><p>text</p></body></html>")
    page.add_script_tag(path=AXE)
    assert {v["id"] for v in page.evaluate("rules => axe.run(document, { runOnly: rules })", RULES)["violations"]} >= {"image-alt", "html-has-lang"}
    page.close()
