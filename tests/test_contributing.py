"""CONTRIBUTING.md and the page on architecture walked: what they name is there, and what they say of adding things is how those are added."""

from __future__ import annotations

import doctest
import importlib
import re
import sys
from pathlib import Path
from typing import get_args

import pytest
from click.testing import CliRunner

from eaveplane.cli import main
from eaveplane.core.finish.settings import Finish
from eaveplane.core.weave.laid import WAYS, WayName, Weaving
from eaveplane.fieldcam.landscapes import LANDSCAPES
from eaveplane.fieldcam.order import LandscapeName
from eaveplane.imaging.formats.registry import FORMATS, WRITTEN
from eaveplane.jobs.kind import KINDS
from eaveplane.parameter import controls
from eaveplane.pipeline.view.overlays import OVERLAYS
from eaveplane.recipe import Recipe
from tests.test_house import ROOT, SOURCE

PROGRAM = "\n".join(p.read_text() for p in SOURCE.rglob("*") if p.suffix in (".py", ".html", ".js") and "vendor" not in p.parts)
PAGES = {name: (ROOT / name).read_text() for name in ("CONTRIBUTING.md", "docs/architecture.md")}


def _named(page: str) -> set[str]:
    return set(re.findall(r"`([^`\n]+)`", PAGES[page]))


@pytest.mark.parametrize("page", PAGES)
def test_what_a_page_names_is_there(page: str) -> None:
    for name in _named(page):
        if name.startswith("make "):
            assert re.search(rf"^{name.split()[1]}:", (ROOT / "Makefile").read_text(), re.M), name
        elif re.search(r"[a-z]/|\.(py|md|js|html)$", name) and not re.search(r"[<…{ ]|000N", name):
            path = name.removeprefix(".venv/bin/").rstrip("/")
            assert any((place / path).exists() for place in (ROOT, SOURCE, SOURCE / "core", SOURCE / "web")) or ("/" not in path and list(SOURCE.rglob(path))), name
        elif re.fullmatch(r"[A-Z][A-Za-z]+(\.\w+)*|[A-Z]{3,}", name):
            assert re.search(rf"\b{name.split('.')[0]}\b", PROGRAM) and re.search(rf"\b{name.split('.')[-1]}\b", PROGRAM), name


def test_every_module_stands_in_the_page_on_architecture() -> None:
    """By its own name, its folder's where that is told as a whole, or both."""
    told = PAGES["docs/architecture.md"]
    for folder in ("imaging", "optics", "core", "fieldcam", "pipeline", "jobs", "store"):
        for inside in (SOURCE / folder).iterdir():
            if inside.is_dir() and inside.name != "__pycache__":
                assert f"{inside.name}/" in told, inside
    for stage in (SOURCE / "core").iterdir():
        for module in stage.glob("*.py") if stage.name in ("gather", "even", "register", "weave", "mend", "depth", "masks", "develop") else ():
            words = [f"{module.stem}.py", f"{module.stem} ", f"{module.stem},"]
            assert module.stem in ("__init__", "detail", "laid", "lines") or any(word in told for word in words), module


@pytest.mark.parametrize("parameters", [Weaving, Finish])
def test_a_parameter_is_one_line(parameters: type) -> None:
    """Its control, its schema, its check and, for weaving, its option on the command line come from its definition."""
    schema = Recipe.model_json_schema()["$defs"][parameters.__name__]["properties"]
    told = CliRunner().invoke(main, ["stack", "--help"]).output
    for control in controls(parameters):
        assert control.name in schema
        with pytest.raises(ValueError, match=control.name):
            parameters(**{control.name: control.high + 1})
        assert parameters is not Weaving or f"--{control.name}" in told


def test_a_way_a_landscape_a_format_a_kind_and_an_overlay_are_where_the_page_says() -> None:
    ways = {p.stem.replace("_", "-") for p in (SOURCE / "core" / "weave" / "ways").glob("[a-z]*.py")}
    assert ways == set(get_args(WayName)) == set(WAYS)
    scapes = {p.stem for p in (SOURCE / "fieldcam" / "landscapes").glob("[a-z]*.py")}
    assert scapes == set(get_args(LandscapeName)) == set(LANDSCAPES) == {p.stem for p in (SOURCE / "web" / "camera" / "static").glob("*.jpg")}
    for format in FORMATS:
        module = importlib.import_module(f"eaveplane.imaging.formats.{format.name}")
        assert any(value is format for value in vars(module).values())
    assert set(WRITTEN) == {suffix for format in FORMATS if format.write for suffix in format.suffixes}
    assert {p.stem for p in (SOURCE / "jobs").glob("[a-z]*.py")} >= set(KINDS)
    # an overlay that no page asks for would be dead
    for kind in OVERLAYS:
        assert re.search(rf'data-view="{kind}"|["\']{kind}["\']', PROGRAM.replace(f'"{kind}": _', "")), kind


def _with_examples() -> list[str]:
    return [".".join(p.relative_to(SOURCE.parent).with_suffix("").parts) for p in sorted(SOURCE.rglob("*.py")) if ">>> " in p.read_text()]


@pytest.mark.parametrize("module", _with_examples())
def test_examples_in_docstrings_are_true(module: str) -> None:
    found = importlib.import_module(module)
    assert doctest.testmod(found).failed == 0
    assert doctest.testmod(found).attempted > 0


def test_examples_are_given_where_an_outsider_begins() -> None:
    """Geometry, optics, colour and names of files are what others would use by themselves."""
    assert len(_with_examples()) >= 8, _with_examples()


def test_stages_of_the_core_have_tests_of_their_name() -> None:
    for stage in ("gather", "even", "register", "weave", "mend", "finish", "develop", "depth"):
        assert list((Path(__file__).parent / "core" / stage).glob("test_*.py")), stage
    assert sys.version_info >= (3, 11)
