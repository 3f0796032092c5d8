"""The package never imports upward, and the core knows nothing of the web or the store."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent / "silent_loom"
LEVEL = {"core": 0, "store": 1, "demo": 2, "work": 2, "web": 3, "cli": 3}
FORBIDDEN = {
    "core": {"fastapi", "starlette", "sqlalchemy", "alembic", "jinja2", "typer", "rich", "uvicorn"},
    "store": {"fastapi", "starlette"},
}
# The command line starts the web application; nothing else crosses sideways at the top.
SIDEWAYS = {("cli", "web"), ("web", "demo"), ("cli", "demo"), ("web", "work")}


FLOORS = (
    "base",
    "files",
    "moving",
    "maps",
    "reading",
    "form",
    "patterns",
    "look",
    "look.motif",
    "look.meters",
    "weave",
    "tiling.cutting",
    "tiling.joining",
    "tiling.pieces",
    "screen",
    "steps",
    "words",
    "report",
    "opening",
    "delivery",
    "ways",
    "elsewhere",
)
"""Floors of the core, the lowest first: a module imports from its own floor and from those below."""


def floor_of(name: str) -> str:
    """The floor of a module of the core, by its dotted name below ``silent_loom.core``."""
    parts = name.split(".")
    return ".".join(parts[:2]) if ".".join(parts[:2]) in FLOORS else parts[0]


def imports(path: Path) -> set[str]:
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"{path}: relative import"
            found.add(node.module or "")
    return found


@pytest.mark.parametrize("path", sorted(ROOT.rglob("*.py")), ids=lambda p: str(p.relative_to(ROOT)))
def test_imports_only_downward(path: Path) -> None:
    part = path.relative_to(ROOT).parts[0].removesuffix(".py")
    if part not in LEVEL:
        return
    for name in imports(path):
        assert name.split(".")[0] not in FORBIDDEN.get(part, set()), f"{path} imports {name}"
        if not name.startswith("silent_loom."):
            continue
        other = name.split(".")[1]
        if other not in LEVEL or other == part:
            continue
        allowed = LEVEL[other] < LEVEL[part] or (part, other) in SIDEWAYS
        assert allowed, f"{path} imports upward: {name}"


@pytest.mark.parametrize("path", sorted((ROOT / "core").rglob("*.py")), ids=lambda p: str(p.relative_to(ROOT / "core")))
def test_the_floors_of_the_core_import_only_downward(path: Path) -> None:
    mine = floor_of(".".join(path.relative_to(ROOT / "core").with_suffix("").parts))
    if mine == "__init__":
        return
    for name in imports(path):
        if name.startswith("silent_loom.core."):
            other = floor_of(name.removeprefix("silent_loom.core."))
            assert FLOORS.index(other) <= FLOORS.index(mine), f"{path} imports upward: {name}"


def test_the_house_stays_clear() -> None:
    for folder in [ROOT, *(p for p in ROOT.rglob("*") if p.is_dir() and "vendor" not in p.parts)]:
        modules = [p for p in folder.glob("*.py") if p.name != "__init__.py"]
        assert len(modules) <= 15, f"{folder} holds {len(modules)} modules"
    for path in ROOT.rglob("*.py"):
        assert len(path.read_text("utf-8").splitlines()) <= 500, path
    for path in (ROOT / "web" / "static" / "js").rglob("*.js"):
        lines = path.read_text("utf-8").splitlines()
        assert len(lines) <= 500, path
        assert max(map(len, lines)) <= 120, path


def test_the_check_sees_an_upward_import(tmp_path: Path) -> None:
    bad = tmp_path / "bad.py"
    bad.write_text("from silent_loom.web import app\nimport fastapi\n")
    assert imports(bad) == {"silent_loom.web", "fastapi"}
