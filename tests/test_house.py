"""The house: who may use whom, and that nothing is fetched or written into pages."""

from __future__ import annotations

import ast
import re
from pathlib import Path

import pytest

from eaveplane import jobs  # noqa: F401  (its import registers the kinds)
from eaveplane.jobs.kind import KINDS
from eaveplane.pipeline.steps import FrameStep, Step

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src" / "eaveplane"
FLOORS = [{"imaging", "optics", "parameter"}, {"core", "fieldcam"}, {"recipe"}, {"pipeline", "store"}, {"jobs"}, {"web", "cli"}]
LEVEL = {part: level for level, parts in enumerate(FLOORS) for part in parts}
SHARED = ["masks", "depth", "develop"]
"""What the stages of the core share; it lies below them."""
STAGES = ["gather", "even", "register", "weave", "mend", "finish", "deliver"]


def _imports(path: Path) -> set[tuple[str, ...]]:
    """Modules of the project that a file imports, as paths from the package."""
    inside = path.relative_to(SOURCE).parts
    package = inside[:-1]
    found: set[tuple[str, ...]] = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and node.level:
            base = package[: len(package) - node.level + 1]
            stem = (*base, *(node.module.split(".") if node.module else ()))
            found |= {(*stem, alias.name) for alias in node.names}
        elif isinstance(node, ast.ImportFrom | ast.Import):
            names = [node.module or ""] if isinstance(node, ast.ImportFrom) else [a.name for a in node.names]
            found |= {tuple(n.split(".")[1:]) for n in names if n.startswith("eaveplane.")}
    return found


@pytest.mark.parametrize("path", sorted(SOURCE.rglob("*.py")), ids=lambda p: str(p.relative_to(SOURCE)))
def test_a_floor_uses_only_what_stands_below(path: Path) -> None:
    own = path.relative_to(SOURCE).parts[0].removesuffix(".py")
    if own == "__init__":
        return
    for target in _imports(path):
        assert LEVEL[target[0]] <= LEVEL[own], f"{own} uses {'.'.join(target)}"


@pytest.mark.parametrize("path", sorted((SOURCE / "core").rglob("*.py")), ids=lambda p: str(p.relative_to(SOURCE)))
def test_a_stage_of_the_core_never_uses_a_later_one(path: Path) -> None:
    inside = path.relative_to(SOURCE / "core").parts
    if len(inside) < 2:
        return
    for target in _imports(path):
        if target[0] == "core" and len(target) > 1 and target[1] in STAGES:
            assert inside[0] in STAGES and STAGES.index(target[1]) <= STAGES.index(inside[0]), f"{path.name} uses {'.'.join(target)}"


def test_nobody_waits_for_scipy_before_it_is_needed() -> None:
    """Its parts take as long to load as all else: a page, a worker and a command that says what is wrong begin without them."""
    early = [
        f"{path.name} loads {name}"
        for path in sorted(SOURCE.rglob("*.py"))
        for node in ast.parse(path.read_text()).body
        if isinstance(node, ast.ImportFrom | ast.Import)
        for name in ([node.module or ""] if isinstance(node, ast.ImportFrom) else [a.name for a in node.names])
        if name.startswith("scipy")
    ]
    assert early == []


MOST_IMPORTS, MOST_LINES, LONGEST = 20, 350, 70
TOO_LONG = {"develop_rows": 88, "_warp_in_two": 81, "inspect": 93}
"""Functions that are longer still, and by how much: two compiled loops, and the order of an inspection."""


@pytest.mark.parametrize("path", [p for p in sorted(SOURCE.rglob("*.py")) if "fieldcam" not in p.parts], ids=lambda p: str(p.relative_to(SOURCE)))
def test_no_room_is_too_large(path: Path) -> None:
    text = path.read_text()
    tree = ast.parse(text)
    assert len(text.splitlines()) <= MOST_LINES
    assert sum(isinstance(node, ast.ImportFrom) and node.level > 0 for node in ast.walk(tree)) <= MOST_IMPORTS
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef):
            assert (node.end_lineno or 0) - node.lineno < TOO_LONG.get(node.name, LONGEST), node.name


def test_a_step_is_named_once_and_a_kind_of_job_has_a_file_of_its_own() -> None:
    names = [f"{step.name}" for step in Step.__subclasses__() + FrameStep.__subclasses__() if step is not FrameStep]
    assert len(names) == len(set(names)) >= 8
    for kind in KINDS.values():
        assert kind.carry.__module__ == f"eaveplane.jobs.{kind.name}"


def test_the_core_knows_neither_pages_nor_tables() -> None:
    for part in ("core", "imaging", "optics", "fieldcam"):
        for path in (SOURCE / part).rglob("*.py"):
            assert not re.search(r"^\s*(import|from) (flask|sqlite3|click|jinja2|werkzeug)", path.read_text(), re.M), path


def test_pages_carry_no_script_or_style_of_their_own() -> None:
    for path in (SOURCE / "web").rglob("*.html"):
        text = path.read_text()
        assert not re.search(r"<script(?![^>]*src=)|<style|\sstyle=|\son[a-z]+=[\"']", text), path


def test_nothing_is_fetched_from_elsewhere() -> None:
    for path in [*(SOURCE / "web").rglob("*.html"), *(SOURCE / "web").rglob("*.css"), *(SOURCE / "web").rglob("*.js")]:
        if "vendor" not in path.parts:
            assert "https://" not in path.read_text() and "//cdn" not in path.read_text(), path
    assert "http" not in (ROOT / "requirements.lock").read_text()


def test_the_lock_pins_what_the_project_needs() -> None:
    pinned = {line.split("==")[0].lower().replace("_", "-") for line in (ROOT / "requirements.lock").read_text().split()}
    wanted = re.search(r"^dependencies = \[(.*?)\]", (ROOT / "pyproject.toml").read_text(), re.S | re.M)
    assert wanted
    for name in re.findall(r'"([^"]+)"', wanted[1]):
        assert name in pinned
