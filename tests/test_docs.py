"""What the documents list is what there is."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from silent_loom.core.weave import registry
from tools.step_docs import page

ROOT = Path(__file__).parent.parent


def test_the_page_of_steps_is_made_from_what_there_is() -> None:
    told = page()
    assert (ROOT / "docs" / "steps.md").read_text("utf-8") == told, "run: make docs"
    for step in registry.steps().values():
        row = next(line for line in told.splitlines() if line.startswith(f"| {step.name} |"))
        assert set(step.Settings.model_fields) <= set(re.findall(r"[a-z_0-9]+", row))


@pytest.mark.parametrize("page", sorted(p.name for p in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]))
def test_every_link_leads_somewhere(page: str) -> None:
    path = ROOT / page if page == "README.md" else ROOT / "docs" / page
    for target in re.findall(r"\]\(([^)#]+)\)", path.read_text("utf-8")):
        assert "://" not in target
        assert (path.parent / target).exists(), f"{page}: {target}"
