"""What the documents list is what there is."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from silent_loom.core.weave import registry

ROOT = Path(__file__).parent.parent
FORMAT = (ROOT / "docs" / "weave-format.md").read_text("utf-8")


@pytest.mark.parametrize("name", list(registry.steps()))
def test_every_step_and_setting_is_in_the_format(name: str) -> None:
    row = next((line for line in FORMAT.splitlines() if line.startswith(f"| {name} |")), None)
    assert row is not None, f"docs/weave-format.md does not list {name}"
    told = set(re.findall(r"[a-z_]+", row))
    assert set(registry.step(name).Settings.model_fields) <= told


def test_no_step_is_listed_that_is_not_there() -> None:
    listed = re.findall(r"^\| ([a-z]+) \| (?!what)", FORMAT.split("## Threads")[0], re.M)
    assert set(listed) - {"step"} == set(registry.steps())


@pytest.mark.parametrize("page", sorted(p.name for p in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]))
def test_every_link_leads_somewhere(page: str) -> None:
    path = ROOT / page if page == "README.md" else ROOT / "docs" / page
    for target in re.findall(r"\]\(([^)#]+)\)", path.read_text("utf-8")):
        assert "://" not in target
        assert (path.parent / target).exists(), f"{page}: {target}"
