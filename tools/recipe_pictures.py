"""A picture of every recipe, for the sheet in the library and for docs/recipes.md, which this writes as well.

Recipes for photos are shown on photos that are made of patterns. Run with ``python -m tools.recipe_pictures [NAME …]``.
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

import numpy as np
from PIL import Image as Pillow

from silent_loom.core.files import read
from silent_loom.core.screen.picture import lit
from silent_loom.core.ways.recipe_photos import through
from silent_loom.core.ways.sources import FileSources, digest_of, reference
from silent_loom.core.weave import threads
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.beginnings import woven_from
from silent_loom.core.weave.rows.saved import SavedRecipe, shipped
from tools.pattern_pictures import ROOT, picture

OUT = ROOT / "silent_loom/web/static/recipes"
PAGE = ROOT / "docs" / "recipes.md"
FOLDER = "../silent_loom/web/static/recipes"
PHOTOS = {
    "photo-stone": "polygonal-paving",
    "photo-plaster": "cracked-plaster",
    "photo-bricks": "bricks",
    "photo-planks": "old-boards",
    "photo-gravel": "gravel",
    "photo-cloth": "linen",
    "photo-grain": "leather",
    "photo-bark": "rock",
    "photo-painted-metal": "riveted-plate",
    "photo-glazed-tile": "square-tiles",
    "photo-concrete": "pored-concrete",
}
"""What is on the photo that a recipe is shown with."""


def photo_of(pattern: str, folder: Path) -> Path:
    """A photo of a pattern: its maps under light, more of it across than one repeat, so that it does not close by itself."""
    weave = woven_from(pattern, seed=5)
    evaluator = Evaluator(FileSources(lambda d: (folder, d, "")), Cache(700 << 20))
    plan = evaluator.plan(weave)
    maps = evaluator.ask_many(weave, [t.name for t in threads.THREADS.values() if t.lights and t.name in plan.threads], 1024)
    path = folder / f"{pattern}.png"
    Pillow.fromarray(np.ascontiguousarray(lit(maps, 1440, 1080, 1.3)[..., :3])).save(path)
    return path


def picture_of(told: SavedRecipe) -> Pillow.Image:
    """A recipe under light; one for photos on a photo made for it."""
    if not told.slots:
        return picture(told.weave)
    with tempfile.TemporaryDirectory() as folder:
        photo = photo_of(PHOTOS[told.name], Path(folder))
        digest = digest_of(photo)

        def find(_: str) -> tuple[Path, str, str]:
            return photo, photo.name, "png"

        evaluator = Evaluator(FileSources(find), Cache(700 << 20))
        weave, _ = through(evaluator, told.weave, [(digest, reference(photo, read(photo)))])
        return picture(weave, find)


def page() -> str:
    """The page of all recipes."""
    lines = [
        "# Recipes",
        "",
        "Made by `python -m tools.recipe_pictures`. *From a recipe* in the library, or",
        "`silent-loom bake RECIPE [--photo FILE] [--set DIAL=VALUE] [--seed N] --size N --out DIR`;",
        "`silent-loom batch FOLDER --recipe RECIPE --profile PROFILE --out DIR` puts a folder of photos through one;",
        "`silent-loom recipes --json` lists all. Any weave can be kept as a recipe: *Save as a recipe* on the bench.",
    ]
    family = ""
    for r in shipped().values():
        if r.family != family:
            family = r.family
            lines += ["", f"## {family}", "", "| | recipe | what it is | dials |", "|---|---|---|---|"]
        dials = ", ".join(f"`{d['name']}`" for d in r.facts()["dials"])
        lines.append(f"| ![{r.title}]({FOLDER}/{r.name}.webp) | `{r.name}` | **{r.title}.** {r.says} | {dials} |")
    return "\n".join([*lines, ""])


def main(names: list[str]) -> int:
    OUT.mkdir(parents=True, exist_ok=True)
    for name in names or list(shipped()):
        picture_of(shipped()[name]).save(OUT / f"{name}.webp", quality=82, method=6)
    PAGE.write_text(page(), "utf-8")
    print(PAGE)
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
