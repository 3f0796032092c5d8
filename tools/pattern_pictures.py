"""A picture of every pattern, for the sheet in the library and for docs/patterns.md, which this writes as well.

Run with ``python -m tools.pattern_pictures [NAME …]``; without names all of them are made.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PIL import Image as Pillow

from silent_loom.core.screen.picture import lit
from silent_loom.core.ways.sources import FileSources
from silent_loom.core.weave import registry, threads
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.beginnings import beginnings, woven_from
from silent_loom.core.weave.rows.model import Weave

ROOT = Path(__file__).parents[1]
OUT = ROOT / "silent_loom/web/static/patterns"
PAGE = ROOT / "docs" / "patterns.md"
FOLDER = "../silent_loom/web/static/patterns"
SIZE = (400, 300)
MAPS = 768


Find = Callable[[str], tuple[Path, str, str]]


def _no_file(digest: str) -> tuple[Path, str, str]:
    raise KeyError(digest)


def picture(weave: Weave, find: Find = _no_file) -> Pillow.Image:
    """The material under light, as the library shows it."""
    evaluator = Evaluator(FileSources(find), Cache(700 << 20))
    plan = evaluator.plan(weave)
    if (error := plan.error()) is not None:
        raise error
    maps = evaluator.ask_many(weave, [t.name for t in threads.THREADS.values() if t.lights and t.name in plan.threads], MAPS)
    return Pillow.fromarray(np.ascontiguousarray(lit(maps, *SIZE, 1.0)[..., :3]))


def page() -> str:
    """The page of all patterns."""
    lines = [
        "# Patterns to begin from",
        "",
        "Made by `python -m tools.pattern_pictures`. Every one repeats exactly, at any size, and begins as a complete material:",
        "colour, height, normal, roughness, metallic, occlusion. *Begin from a pattern* in the library, or",
        "`silent-loom bake PATTERN --size N [--seed N] [--set SETTING=VALUE] --out DIR`;",
        "`silent-loom patterns --json` lists all.",
        "The settings of each step stand in [steps.md](steps.md).",
    ]
    family = ""
    for b in beginnings().values():
        if b.family != family:
            family = b.family
            lines += ["", f"## {family}", "", "| | pattern | what it is | repeat | step |", "|---|---|---|---|---|"]
        size = f"{b.size_mm[0]:g} × {b.size_mm[1]:g} mm"
        step = registry.step(b.step).title
        lines.append(f"| ![{b.title}]({FOLDER}/{b.name}.webp) | `{b.name}` | **{b.title}.** {b.says} | {size} | {step} |")
    return "\n".join([*lines, ""])


def main(names: list[str]) -> int:
    OUT.mkdir(parents=True, exist_ok=True)
    for name in names or list(beginnings()):
        picture(woven_from(name)).save(OUT / f"{name}.webp", quality=82, method=6)
    PAGE.write_text(page(), "utf-8")
    print(PAGE)
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
