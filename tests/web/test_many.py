"""Many scenes from the outing: done by themselves, what is carried over, one that fails, the report and the contact sheet."""

from __future__ import annotations

import json
import re
import shutil
from pathlib import Path
from typing import Any

import pytest

from eaveplane.recipe import FrameChoice, Recipe
from eaveplane.store import jobs, runs, scenes
from tests.conftest import done
from tests.web.conftest import Page

pytestmark = pytest.mark.slow


def test_scenes_are_done_and_told_of(page: Page, tmp_path: Path) -> None:
    db = page.library.db
    first = page.recipe()
    # a second scene of the same frames but one, and a third whose file is gone
    second = scenes.add_scene(db, 1, "Second", Recipe(frames=first.frames[1:], look=first.look))
    lost = scenes.add_scene(db, 1, "Lost", Recipe(frames=[first.frames[0], FrameChoice(id="0" * 12, file="gone.dng")]))
    scenes.decide(db, page.scene, "Look", lambda r: r.model_copy(update={"look": r.look.model_copy(update={"exposure": 0.6})}))
    html = page.get("/outing/1/many").text
    assert all(name in html for name in ("Second", "Lost", "Archive and web"))
    assert page.post("/outing/1/many/go", {"part": "look"}).status_code == 400
    assert page.post("/outing/1/many/go", {"scene": second, "part": "look", "from": "99"}).status_code == 400
    assert page.post("/outing/77/many/go", {"scene": second}).status_code == 404
    answer = page.post("/outing/1/many/go", {"scene": [second, lost], "part": "look", "from": page.scene, "set": "Archive and web", "leave_out": "1"})
    assert answer.status_code == 302
    number = int(answer.headers["Location"].rsplit("/", 1)[1])
    ended = [done(page.library, row["job_id"]) for row in runs.scenes_of(db, number)]
    assert [row["state"] for row in ended] == ["done", "failed"], [row["message"] for row in ended]
    report = json.loads(page.get(f"/outing/1/run/{number}.json").text)
    assert (report["done"], report["failed"]) == (1, 1) and "gone.dng" in report["scenes"][1]["message"]
    told: dict[str, Any] = report["scenes"][0]
    assert len(told["files"]) == 2 and all(Path(file).exists() for file in told["files"]) and "3 frames woven, 2 files delivered" in told["message"]
    recipe = scenes.recipe_of(db, second)
    assert recipe.look.exposure == 0.6 and [o.title for o in recipe.outputs] == ["Archive", "Web"] and recipe.finish == Recipe().finish
    seen = page.get(f"/outing/1/run/{number}").text
    assert "1 of 2 scenes done, 1 failed" in seen
    for look in told["look_at"]:
        assert f"/scene/{second}/{look['stage']}" in seen
    assert page.get("/outing/1/run/999").status_code == 404 and f"/outing/1/run/{number}" in page.get("/outing/1/many").text
    # the contact sheet holds all it shows
    sheet = page.get("/outing/1/contact.html")
    assert sheet.headers["Content-Security-Policy"].startswith("default-src 'none'") and "Second" in sheet.text
    sources = re.findall(r'(?:src|href)="([^"]{0,40})', sheet.text)
    assert len(sources) >= 8 and all(source.startswith("data:image/jpeg;base64,") for source in sources)
    assert "Which frame is sharpest where" in page.get(f"/outing/1/contact/{second}.html").text and page.get("/outing/1/contact/999.html").status_code == 404
    # scenes that are done once more are done as they are, and nothing is overwritten
    again = page.post("/outing/1/many/go", {"scene": second})
    done(page.library, runs.scenes_of(db, int(again.headers["Location"].rsplit("/", 1)[1]))[0]["job_id"])
    assert len({row["path"] for row in scenes.results_of(db, second)}) == 4
    assert jobs.latest(db, second)["state"] == "done"  # type: ignore[index]
    for extra in (second, lost):
        scenes.remove_scene(db, extra)
    for file in {row["path"] for row in scenes.results_of(db, page.scene)}:
        shutil.rmtree(file, ignore_errors=True)
