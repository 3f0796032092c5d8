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


def test_the_check_sees_an_upward_import(tmp_path: Path) -> None:
    bad = tmp_path / "bad.py"
    bad.write_text("from silent_loom.web import app\nimport fastapi\n")
    assert imports(bad) == {"silent_loom.web", "fastapi"}
