"""Requests and stored things that nobody meant well with, and results that were damaged: pages stay, in words."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from eaveplane.core.deliver.delivery import Delivery
from eaveplane.core.deliver.names import WORDS, file_name, of_frames, unknown_words
from eaveplane.core.finish.settings import Finish
from eaveplane.imaging.exif import Metadata
from eaveplane.pipeline.naming import recipe_facts
from eaveplane.recipe import Recipe
from eaveplane.store import jobs, scenes
from eaveplane.web.even import _together
from tests.conftest import done, settled
from tests.web.conftest import Page


@pytest.mark.parametrize("number", [2**63, 2**64, 10**30])
@pytest.mark.parametrize("url", ["/scene/{}/gather", "/outing/{}", "/scene/1/deliver/result/{}", "/scene/{}/zones.json"])
def test_ids_that_no_library_holds_are_not_found(page: Page, url: str, number: int) -> None:
    assert page.get(url.format(number)).status_code == 404
    assert page.post(f"/queue/{number}/cancel").status_code == 404


@pytest.mark.parametrize("folder", ["~nobody-of-this-name", "~nobody/x", "\0", "/" + "a" * 5000])
def test_folders_that_cannot_be_are_refused_in_words(page: Page, folder: str) -> None:
    assert page.post("/shelf/folder", {"folder": folder}).status_code == 400
    assert page.get("/shelf/folders", query_string={"folder": folder}).status_code == 200
    assert page.post(page.at("/deliver/set/0"), {"name": "folder", "value": folder}).status_code == 400
    assert page.post("/outing/1/again", {"folder": folder}).status_code == 400


@pytest.mark.parametrize(
    ("url", "values"),
    [
        ("/even/set", {"name": "areas.².exposure", "value": "1"}),
        ("/even/looks/copy", {"scene": "²"}),
        ("/even/looks/copy", {"scene": "9" * 40}),
        ("/even/change", {"said": "x", "patch": "[" * 100_000}),
        ("/even/change", {"said": "x", "patch": "{}", "was": "[" * 100_000}),
        ("/weave/stroke", {"stroke": '{"a":' * 50_000}),
        ("/gather/leave-out", {"frame": "FIRST", "stage": "nowhere"}),
        ("/deliver/set/0", {"name": "name", "value": "{scene} {shutter}"}),
    ],
)
def test_what_cannot_be_meant_is_refused_before_anything_is_decided(page: Page, url: str, values: dict[str, str]) -> None:
    before = page.recipe()
    values = {k: before.frames[0].id if v == "FIRST" else v for k, v in values.items()}
    answer = page.post(page.at(url), values)
    assert answer.status_code == 400 and "Traceback" not in answer.text and page.recipe() == before


def test_a_name_in_any_script_can_be_downloaded(page: Page) -> None:
    name = scenes.scene(page.library.db, page.scene)["name"]  # type: ignore[index]
    page.post(page.at("/rename"), {"name": "хребет 山 “1”", "stage": "gather"})
    for url in ("/deliver/recipe.json", "/even/look.json"):
        answer = page.get(page.at(url))
        assert answer.status_code == 200 and "filename*=UTF-8''" in answer.headers["Content-Disposition"] and json.loads(answer.text)
    page.post(page.at("/rename"), {"name": name, "stage": "gather"})


def test_a_recipe_that_cannot_be_read_costs_itself_alone(page: Page) -> None:
    db = page.library.db
    before = page.recipe()
    page.post(page.at("/gather/name"), {"frame": before.frames[0].id, "name": "spoilt"})
    with db.write() as connection:
        connection.execute("UPDATE decision SET recipe = '{' WHERE scene_id = ? AND number = (SELECT current FROM scene WHERE id = ?)", (page.scene, page.scene))
        connection.execute("UPDATE file SET meta = '{\"taken\": \"0001-13-99\"}' WHERE id = 1")
    for url in ("/", "/outing/1", page.at("/gather"), page.at("/deliver"), "/queue/"):
        assert page.get(url).status_code == 200, url
    assert page.recipe() == before
    page.post(page.at("/undo/gather"))


@pytest.mark.parametrize("damage", ["empty", "cut", "garbled"])
def test_a_damaged_result_is_made_again(page: Page, damage: str) -> None:
    settled(page.library)
    key = next(iter(page.library.cache.root.glob("measure-*"))).name
    victim = page.library.cache.root / key / "luma.npy"
    decoded = next(p for p in page.library.cache.root.glob("decode-*") if json.loads((p / "frame.json").read_text()))
    if damage == "garbled":
        (decoded / "frame.json").write_bytes(b"x" * (decoded / "frame.json").stat().st_size)
    else:
        victim.write_bytes(b"" if damage == "empty" else victim.read_bytes()[: victim.stat().st_size // 2])
    for kept in ("kept", "views"):
        getattr(page.client.application.extensions["eaveplane"], kept).clear()
    page.library.cache._sound.clear()
    assert page.get(page.at("/gather")).status_code == 200 and page.get(page.at("/weave")).status_code == 200
    job = jobs.latest(page.library.db, page.scene)
    assert job is not None and job["kind"] == "inspect"
    page.client.application.extensions["eaveplane"].worker.wake()
    assert done(page.library, job["id"])["state"] == "done"
    assert page.state(page.get(page.at("/gather")).text)["size"] == [720, 480]
    if damage != "garbled":
        assert np.load(victim).ndim == 2


def test_names_tell_what_they_are_asked_for_and_nothing_else() -> None:
    recipe = Recipe(finish=Finish(sharpen=60))
    facts = {"outing": "Pan", "scene": "Pan 1", **of_frames(["FIELD0001.dng", "FIELD0005.dng"], [Metadata(f_number=8, focal_mm=24)] * 2)}
    facts |= recipe_facts(recipe, Delivery(title="Wall"), (3000, 2000), 254.0, 7)
    assert set(facts) == set(WORDS)
    assert file_name("{scene} {aperture} {focal} {first}-{last} {sharpening}", facts) == "Pan 1 f8 24mm FIELD0001-FIELD0005 sharp60"
    assert file_name("{output} {width}x{height} {way} {counter}", facts) == "Wall 30x20 joint-light 007"
    assert unknown_words("{scene} {lens} {}") == ["lens", ""] and not unknown_words("plain {date}")
    assert len(file_name("山" * 100, {}).encode()) <= 120


def test_two_pages_that_change_different_entries_lose_nothing() -> None:
    assert _together([1, 2, 3], [9, 2, 3], [1, 2, 7]) == [9, 2, 7]
    assert _together([1, 2], [1, 5], [1, 2]) == [1, 5] and _together([1], [2], [3]) == [2]


def test_two_tabs_change_noise_and_sharpening_at_once(page: Page) -> None:
    for name, value in (("noise", 40), ("sharpen", 25)):
        assert page.post(page.at("/even/capture"), {"name": name, "value": value}).status_code == 200
    assert (page.recipe().capture.noise, page.recipe().capture.sharpen) == (40, 25)
    page.post(page.at("/even/capture/reset"))
    frame = page.recipe().frames[0].id
    for name, value in (("exposure", 0.2), ("warmth", 0.1)):
        assert page.post(page.at("/even/trim"), {"frame": frame, "name": name, "value": value}).status_code == 200
    trim = page.recipe().frames[0].trim
    assert (trim.exposure, trim.warmth) == (0.2, 0.1)
    page.post(page.at("/even/trim"), {"frame": frame, "reset": "1"})


def test_the_route_says_what_was_done_by_somebody(page: Page) -> None:
    text = page.get(page.at("/gather")).text
    assert "Gather, done" in text and "Deliver, not yet" in text
    untouched = Path(__file__).name and scenes.scene(page.library.db, page.scene)
    assert untouched is not None
    if not untouched["registered"]:
        assert "Register, not yet" in text and "Even out, not yet" in text
