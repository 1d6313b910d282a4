"""The house: who may use whom, and that nothing is fetched or written into pages."""

from __future__ import annotations

import ast
import re
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src" / "eaveplane"
FLOORS = [{"imaging", "optics", "parameter"}, {"core", "fieldcam"}, {"recipe"}, {"pipeline", "store"}, {"jobs"}, {"web", "cli"}]
LEVEL = {part: level for level, parts in enumerate(FLOORS) for part in parts}
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
            assert STAGES.index(target[1]) <= STAGES.index(inside[0])


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
