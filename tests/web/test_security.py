"""Who is answered, and with what: hosts, tokens, policies, names of uploads, ids of other things."""

from __future__ import annotations

import io
import re
from pathlib import Path

import pytest

from eaveplane.store import outings
from tests.web.conftest import Page


@pytest.mark.parametrize("host", ["evil.example", "127.0.0.1.evil.example", "192.168.1.5", "localhost.evil.example:80"])
def test_other_names_for_this_machine_are_not_answered(page: Page, host: str) -> None:
    assert page.get("/", headers={"Host": host}).status_code == 421


@pytest.mark.parametrize("host", ["127.0.0.1:8420", "localhost", "localhost:1", "[::1]:8420"])
def test_this_machine_is_answered(page: Page, host: str) -> None:
    assert page.get("/queue/head", headers={"Host": host}).status_code == 200


def test_every_change_needs_the_token_and_the_page_itself(page: Page) -> None:
    urls = [re.sub("<int:[a-z]+>", "1", r.rule).replace("<slug>", "gather") for r in page.client.application.url_map.iter_rules() if "POST" in (r.methods or ())]
    assert len(urls) > 25
    for url in urls:
        assert page.client.post(url).status_code == 400, url
        assert page.post(url, headers={"Origin": "http://evil.example"}).status_code == 403, url


def test_nothing_but_our_own_is_loaded(page: Page) -> None:
    for url in ("/", page.at("/weave"), "/static/shell/page.js", page.at("/histogram.svg"), "/nothing"):
        policy = page.get(url).headers["Content-Security-Policy"]
        assert "default-src 'none'" in policy and "script-src 'self';" in policy and "unsafe" not in policy
        assert page.get(url).headers["X-Content-Type-Options"] == "nosniff"


@pytest.mark.parametrize("name", ["../../evil.dng", "..\\..\\evil.dng", "/etc/evil.dng", "a\0b.dng", "x" * 400 + ".dng", "<script>.dng", ".dng.dng"])
def test_names_of_uploads_are_never_paths(page: Page, name: str) -> None:
    number = page.post("/shelf/upload", {"name": "Sent"}).json["outing"]
    place = page.library.uploads / str(number)
    answer = page.post(f"/shelf/upload/{number}/file", query_string={"name": name}, input_stream=io.BytesIO(b"12345"), content_length=5, content_type="application/octet-stream")
    assert answer.status_code in (200, 415)
    assert [p.name for p in place.iterdir()] in ([], ["00001.dng"])
    assert not list(page.library.home.parent.rglob("evil*")) and not Path("/etc/evil.dng").exists()
    if answer.status_code == 200:
        (row,) = outings.files_of(page.library.db, number)
        assert "/" not in row["name"] and len(row["name"]) <= 200
        assert "<script>.dng" not in page.get(f"/outing/{number}").text


def test_uploads_that_are_no_pictures_or_break_off_leave_nothing(page: Page) -> None:
    number = page.post("/shelf/upload", {"name": "Sent"}).json["outing"]
    refused = page.post(f"/shelf/upload/{number}/file", query_string={"name": "virus.exe"}, data=b"x")
    assert refused.status_code == 415 and "virus.exe" in refused.text
    broken_off = {"CONTENT_LENGTH": "9"}
    short = page.post(f"/shelf/upload/{number}/file", query_string={"name": "a.dng"}, input_stream=io.BytesIO(b"123"), environ_overrides=broken_off, content_type="application/octet-stream")
    assert short.status_code == 400
    assert list((page.library.uploads / str(number)).iterdir()) == []
    assert page.post("/shelf/upload/1/file", query_string={"name": "a.dng"}, data=b"x").status_code == 404


@pytest.mark.parametrize(
    "url",
    [
        "/scene/999/weave",
        "/scene/1/tile/weave/x/99/0/0.jpg",
        "/scene/1/tile/weave/x/0/500/0.jpg",
        "/scene/1/tile/frame:nobody/x/0/0/0.jpg",
        "/scene/1/tile/..%2f..%2fetc/x/0/0/0.jpg",
        "/scene/1/deliver/result/77",
        "/outing/999",
        "/scene/1/pieces/nowhere",
        "/static/shell/../../app.py",
    ],
)
def test_what_is_not_there_is_404_in_words(page: Page, url: str) -> None:
    answer = page.get(url)
    assert answer.status_code == 404 and "Traceback" not in answer.text


@pytest.mark.parametrize("query", ["", "x=0&y=0&w=10&h=nan&wide=10", "x=0&y=0&w=0&h=1&wide=10", "x=0&y=0&w=9&h=9&wide=999999", "x=inf&y=0&w=9&h=9&wide=9", "x=0&y=0&w=1&h=99999&wide=4000"])
def test_impossible_views_are_refused(page: Page, query: str) -> None:
    assert page.get(page.at(f"/viewport/weave.jpg?{query}")).status_code == 400


def test_look_values_out_of_range_are_refused(page: Page) -> None:
    good = "x=0&y=0&w=400&h=300&wide=200"
    assert page.post(page.at(f"/viewport/weave.jpg?{good}"), data='{"exposure": 1}').status_code == 200
    for bad in ('{"exposure": 99}', '{"exposure": NaN}', "x", "[]", '{"areas": [{"parts": [{"kind": "graduated"}]}]}'):
        assert page.post(page.at(f"/viewport/weave.jpg?{good}"), data=bad).status_code == 400
    assert page.client.post(page.at(f"/viewport/weave.jpg?{good}"), data="{}").status_code in (400, 403)
