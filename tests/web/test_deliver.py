"""Deliver on its page: outputs ticked, changed, kept as sets; a paper's profile; what files say; provenance; a recipe taken over; results compared."""

from __future__ import annotations

import io
import json
import re
import zipfile
from pathlib import Path
from typing import Any

import cv2
import imagecodecs
import numpy as np
import pytest
import tifffile
from PIL import Image

from eaveplane.core.deliver.provenance import DRAWN, FRAME, HEALED, LIGHT
from eaveplane.fieldcam.paper import NAME, paper_profile
from eaveplane.imaging.carried import read_carried
from eaveplane.imaging.cms import to_profile
from eaveplane.imaging.exif import read_metadata
from eaveplane.pipeline.taking import recipe_from
from eaveplane.recipe import Recipe
from eaveplane.store import jobs, scenes
from tests.conftest import Set, delivering, done
from tests.test_cli import run
from tests.web.conftest import Page

pytestmark = pytest.mark.slow


def put(page: Page, k: int, **values: Any) -> Any:
    answer = None
    for name, value in values.items():
        answer = page.post(page.at(f"/deliver/set/{k}"), {"name": name, "value": value})
        assert answer.status_code == 200, answer.text
    return answer


def delivered(page: Page) -> dict[str, Path]:
    """Files that are delivered now by the title of their output."""
    before = len(scenes.results_of(page.library.db, page.scene))
    page.post(page.at("/deliver/go"))
    job = jobs.latest(page.library.db, page.scene)
    assert job is not None and done(page.library, job["id"])["state"] == "done", done(page.library, job["id"])["message"]
    found: dict[str, Path] = {}
    rows = scenes.results_of(page.library.db, page.scene)
    for row in rows[: len(rows) - before]:
        found.setdefault(scenes.recipe_of_result(page.library.db, row).delivery.title, Path(row["path"]))
    return found


def test_outputs_are_added_copied_ticked_and_taken_away(page: Page) -> None:
    for does, output, wanted in (("add", "", ["Picture", "Output 2"]), ("copy", 0, ["Picture", "Picture 2", "Output 2"]), ("remove", 0, ["Picture 2", "Output 2"])):
        html = page.post(page.at("/deliver/outputs"), {"does": does, "output": output}).text
        assert [o.title for o in page.recipe().outputs] == wanted and all(title in html for title in wanted)
    put(page, 0, ticked="0")
    assert "Write the picture" in put(page, 1, format="jpeg", most_kb="200").text and [o.ticked for o in page.recipe().outputs] == [False, True]
    put(page, 1, ticked="0")
    assert page.post(page.at("/deliver/go")).status_code == 400
    page.post(page.at("/deliver/outputs"), {"does": "remove", "output": 1})
    for bad in ({"does": "remove", "output": 0}, {"does": "remove", "output": 7}, {"does": "copy", "output": "x"}, {"does": "burn", "output": 0}):
        assert page.post(page.at("/deliver/outputs"), bad).status_code in (400, 404)
    for name, value in (("bits", "12"), ("density", "1e9"), ("paper", "A9"), ("profile_file", "abc"), ("size", "huge"), ("most_kb", "many"), ("title", "")):
        assert page.post(page.at("/deliver/set/0"), {"name": name, "value": value}).status_code == 400, name
    assert page.post(page.at("/deliver/set/9"), {"name": "format", "value": "png"}).status_code == 404
    while page.post(page.at("/deliver/outputs"), {"does": "add", "output": ""}).status_code == 200:
        assert len(page.recipe().outputs) <= 12


def test_sets_are_kept_and_offered_with_author_and_rights(page: Page) -> None:
    page.post(page.at("/deliver/set"), {"does": "use", "set": "Archive and web"})
    page.post(page.at("/deliver/about"), {"name": "author", "value": "A. Walker"})
    put(page, 1, long_edge="600", name="{scene} {counter}")
    assert "My set" in page.post(page.at("/deliver/set"), {"does": "save", "set": "My set"}).text
    page.post(page.at("/deliver/set"), {"does": "use", "set": "Print"})
    page.post(page.at("/deliver/about"), {"name": "author", "value": ""})
    page.post(page.at("/deliver/set"), {"does": "use", "set": "My set"})
    recipe = page.recipe()
    assert [o.title for o in recipe.outputs] == ["Archive", "Web"] and recipe.outputs[1].long_edge == 600 and recipe.about.author == "A. Walker"
    page.post(page.at("/deliver/set"), {"does": "forget", "set": "My set"})
    assert page.post(page.at("/deliver/set"), {"does": "use", "set": "My set"}).status_code == 404
    assert page.post(page.at("/deliver/set"), {"does": "save", "set": " "}).status_code == 400
    assert page.post(page.at("/deliver/about"), {"name": "title", "value": "x" * 900}).status_code == 400


def test_a_set_is_delivered_with_what_it_says_and_where_its_pixels_come_from(page: Page, small: Set, tmp_path: Path) -> None:
    ids = [f.id for f in page.recipe().kept()]
    stroke = {"width": 60, "softness": 0.1, "opacity": 1.0, "points": [[100, 100], [200, 100]]}
    for drawn in ({**stroke, "action": "draw", "frame": ids[0]}, {**stroke, "action": "heal", "points": [[400, 300]], "source": [60, 0]}):
        assert page.post(page.at("/mend/stroke"), {"stroke": json.dumps(drawn)}).status_code == 200
    page.post(page.at("/finish/map/add"), {"kind": "lighter"})
    page.post(page.at("/finish/stroke"), {"map": 0, "stroke": json.dumps({"width": 80, "softness": 0.2, "opacity": 1.0, "points": [[600, 400]]})})
    for name, value in (("title", "Dawn"), ("caption", "Salt & light"), ("rights", "© 2026 A. Walker"), ("keywords", "salt, pan")):
        page.post(page.at("/deliver/about"), {"name": name, "value": value})
    put(page, 0, title="Archive", packing="deflate", provenance="1", folder=str(tmp_path), name="archive")
    for _ in range(2):
        page.post(page.at("/deliver/outputs"), {"does": "copy", "output": 0})
    put(page, 1, title="Web", format="jpeg", provenance="0", recipe_inside="0", position="0", size="edge", long_edge="400", name="web")
    put(page, 2, title="Layers", format="ora", name="layers")
    files = delivered(page)
    assert {k: v.name for k, v in files.items()} == {"Archive": "archive.tif", "Web": "web.jpg", "Layers": "layers.ora"}
    # a job that is taken up again, as after a server was killed, finds what it has written
    before, job = len(scenes.results_of(page.library.db, page.scene)), jobs.latest(page.library.db, page.scene)
    with page.library.db.write() as connection:
        connection.execute("UPDATE job SET state = 'queued' WHERE id = ?", (job["id"],))  # type: ignore[index]
    assert done(page.library, job["id"])["state"] == "done" and len(scenes.results_of(page.library.db, page.scene)) == before  # type: ignore[index]
    assert not list((page.library.home / "delivering").iterdir())
    # what they say
    archive, web = files["Archive"], files["Web"]
    assert read_metadata(archive).rights == "© 2026 A. Walker" and read_metadata(web).camera == read_metadata(small.paths[0]).camera
    xmp = read_carried(archive).xmp.decode()
    assert all(word in xmp for word in ("Dawn", "Salt &amp; light", "<rdf:li>pan</rdf:li>", 'Frames="4"', "Distances"))
    # the recipe inside is the one beside it, but for where it lies here
    assert recipe_from(archive) == delivering(recipe_from(Path(f"{archive}.recipe.json")), folder="") and str(tmp_path) not in recipe_from(archive).to_json()
    assert "Recipe=" not in read_carried(web).xmp.decode()
    assert cv2.imread(str(web)).shape[1] == 400
    # the same recipe gives the same pixels headless
    assert run("stack", *small.paths, "--out", tmp_path / "headless.tif", "--recipe", f"{archive}.recipe.json").exit_code in (0, 4)
    picture = tifffile.imread(archive)
    np.testing.assert_array_equal(tifffile.imread(tmp_path / "headless.tif"), picture)
    # where pixels come from: as the hand painted, and as the shares tell
    codes, told = tifffile.imread(tmp_path / "archive origins.tif"), json.loads((tmp_path / "archive origins.json").read_text())
    assert codes.shape == picture.shape[:2] and sum([*told["shares"]["frames"].values(), *(told["shares"][k] for k in ("lifted", "painted", "drawn", "healed"))]) == pytest.approx(1)
    assert (codes[100, 110:190] & DRAWN).all() and (codes[100, 110:190] & FRAME == 1).all() and codes[300, 400] & HEALED and codes[400, 600] & LIGHT and not codes[450, 100] & (DRAWN | HEALED | LIGHT)
    assert told["shares"]["drawn"] == pytest.approx((160 * 60 - 900 + np.pi * 900) / codes.size, rel=0.25)
    assert "drawn by hand" in told["told"] and next(iter(told["low byte"].values())) == small.paths[0].name
    # the layers are the same picture, frames under their masks, and what was painted
    with zipfile.ZipFile(files["Layers"]) as layers:
        np.testing.assert_array_equal(imagecodecs.png_decode(layers.read("mergedimage.png")), picture)
        names = re.findall(r'name="([^"]+)"', layers.read("stack.xml").decode())
        assert names[0] == "Result" and "Where pixels come from" in names and "Strokes: heal" in names and sum((name[0].isdecimal() and "FIELD" in name) or "Near" in name for name in names) >= 1
        alphas = [imagecodecs.png_decode(layers.read(f"data/layer{k:02d}.png")) for k, name in enumerate(names) if re.match(r"\d (Near|Mid|Far|FIELD)", name)]
        assert len(alphas) == 4 and all(a.dtype == np.uint16 and a.shape[2] == 4 for a in alphas)
    # on the list, with settings and a thumbnail; two of them beside each other at 1:1
    html = page.get(page.at("/deliver/results")).text
    numbers = [int(n) for n in re.findall(r'data-result="(\d+)"', html)]
    assert "drawn by hand" in html and page.get(page.at(f"/deliver/result/{numbers[0]}/thumbnail.jpg")).status_code == 200
    by_name = {Path(row["path"]).name: row["id"] for row in scenes.results_of(page.library.db, page.scene)}
    assert "archive.tif" in page.get(page.at(f"/deliver/compare/{by_name['archive.tif']}/{by_name['web.jpg']}")).text
    piece = cv2.imdecode(np.frombuffer(page.get(page.at(f"/deliver/result/{by_name['archive.tif']}/piece.jpg?x=0.5&y=0.5&w=64&h=48")).data, np.uint8), 1)
    assert piece.shape == (48, 64, 3)
    for bad in ("x=nan&y=0&w=9&h=9", "x=0&y=0&w=9", "x=a&y=0&w=9&h=9", "x=0&y=0&w=1e9&h=9"):
        assert page.get(page.at(f"/deliver/result/{by_name['archive.tif']}/piece.jpg?{bad}")).status_code == 400, bad
    assert page.get(page.at(f"/deliver/compare/{by_name['archive.tif']}/{by_name['layers.ora']}")).status_code == 404
    page.post(page.at(f"/deliver/result/{by_name['web.jpg']}/again"))
    again = done(page.library, jobs.latest(page.library.db, page.scene)["id"])  # type: ignore[index]
    assert again["state"] == "done" and (tmp_path / "web 2.jpg").read_bytes() == web.read_bytes()
    page.post(page.at(f"/deliver/result/{by_name['web.jpg']}/forget"), {"sure": "1"})
    assert web.exists() and page.get(page.at(f"/deliver/result/{by_name['web.jpg']}")).status_code == 404


def test_a_print_on_a_papers_profile_and_its_proof(page: Page, tmp_path: Path) -> None:
    def bring(data: bytes, name: str) -> Any:
        return page.post(page.at("/deliver/profile/0"), data={"file": (io.BytesIO(data), name)}, content_type="multipart/form-data")

    put(page, 0, title="Wide", profile="rec2020", folder=str(tmp_path), name="wide")
    wide = tifffile.imread(delivered(page)["Wide"])
    assert bring(b"nonsense", "x.icc").status_code == 400 and "x.icc is no colour profile" in bring(b"nonsense", "x.icc").text
    assert NAME in bring(paper_profile(), "paper.icc").text and page.recipe().outputs[0].profile == "file"
    put(page, 0, title="Print", name="{output}", intent="perceptual", size="full")
    picture = delivered(page)["Print"]
    np.testing.assert_array_equal(tifffile.imread(picture), to_profile(wide, paper_profile(), "perceptual", True))
    with Image.open(picture) as image:
        assert image.info["icc_profile"] == paper_profile()
    plain, proof = (page.get(page.at(f"/viewport/weave.jpg?x=0&y=0&w=720&h=480&wide=720&finished=1{more}")).data for more in ("", "&printed=0"))
    darkest = [cv2.imdecode(np.frombuffer(data, np.uint8), 0).min() for data in (plain, proof)]
    assert darkest[1] > darkest[0] + 10
    # on paper, with white around it
    put(page, 0, title="Sheet", size="print", paper="A4", border="2", density="50", name="sheet", profile="srgb")
    sheet = tifffile.imread(delivered(page)["Sheet"])
    assert sheet.shape[:2] == (round(21 / 2.54 * 50), round(29.7 / 2.54 * 50)) and (sheet[:38] == 65535).all() and (sheet[:, :38] == 65535).all()
    # a profile that is gone is named
    put(page, 0, profile="file")
    for file in page.library.profiles.iterdir():
        file.unlink()
    page.post(page.at("/deliver/go"))
    gone = done(page.library, jobs.latest(page.library.db, page.scene)["id"])  # type: ignore[index]
    assert gone["state"] == "failed" and NAME in gone["message"]


def test_parts_of_a_recipe_are_taken_over(page: Page, tmp_path: Path) -> None:
    line = {"width": 40, "softness": 0.5, "opacity": 1, "points": [[100, 200]]}
    parts = {"look": {"exposure": 0.7}, "weaving": {"detail": 3}, "finish": {"straighten": 2, "light": [{"name": "m", "lines": [line]}]}, "about": {"author": "B"}}
    other = Recipe.model_validate({"schema": 2, "size": [1440, 960], **parts})

    def offer(data: bytes, name: str) -> Any:
        return page.post(page.at("/deliver/offer"), data={"file": (io.BytesIO(data), name)}, content_type="multipart/form-data")

    answer = offer(other.to_json().encode(), "other.recipe.json").json
    assert [part["part"] for part in answer["parts"]] == ["corrections", "look", "weaving", "finish", "delivery"]
    before = page.recipe()
    page.post(page.at("/deliver/take"), {"token": answer["token"], "parts": "look,finish"})
    after = page.recipe()
    # maps keep their place in a frame of half the size
    assert after.look.exposure == 0.7 and after.weaving == before.weaving and after.about == before.about
    assert after.finish.light[0].lines[0].points == [(50.0, 100.0)] and after.finish.light[0].lines[0].width == pytest.approx(20)
    for bad in ({"token": answer["token"], "parts": ""}, {"token": answer["token"], "parts": "look,frames"}, {"token": "../../secret", "parts": "look"}, {"token": "0" * 16, "parts": "look"}):
        assert page.post(page.at("/deliver/take"), bad).status_code in (400, 404)
    for data, name, said in ((b"{}}", "a.json", "not a recipe"), (b"", "b.json", "holds no recipe"), (Path(__file__).read_bytes(), "c.tif", "holds no recipe")):
        refused = offer(data, name)
        assert refused.status_code >= 400 and name in refused.text and said in refused.text
