"""Recipes, and many photos through one."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Annotated

import typer

from silent_loom.cli.common import Json, app, loaded, progress, sayable
from silent_loom.cli.delivering import Data


@app.command()
def recipes(data: Data = None, as_json: Json = False) -> None:
    """List recipes: 'silent-loom bake RECIPE [--photo FILE] [--set DIAL=VALUE] --out DIR' makes the maps of one."""
    from silent_loom.core.base.errors import LoomError
    from silent_loom.core.weave.rows.saved import shipped
    from silent_loom.store.recipes import Recipes
    from silent_loom.work.giving.alone import library

    loaded()
    own = []
    try:
        with library(data) as store:
            own = Recipes(store).all()
    except LoomError:
        if data is not None:
            raise
    told = [r.facts() for r in (*own, *shipped().values())]
    if as_json:
        print(json.dumps(told, ensure_ascii=False))
        return
    family = None
    for r in told:
        if r["family"] != family:
            family = r["family"]
            print(f"{family}:")
        takes = "takes a photo" if r["photos"] == 1 else f"takes {r['photos']} photos" if r["photos"] else "from nothing"
        dials = ", ".join(f"{d['name']}={d['value']:g}" for d in r["dials"])
        print(f"  {r['name']}: {r['says'] or r['title']} ({takes}; {dials or 'no dials'})")


@app.command()
def batch(
    photos: Annotated[list[Path], typer.Argument(help="A folder of photos, or photos.", show_default=False)],
    recipe: Annotated[str, typer.Option(help="'silent-loom recipes' lists them.", show_default=False)],
    out: Annotated[Path, typer.Option(help="Folder for the results; a folder a photo. The same one goes on after a stop.")],
    profile: Annotated[
        list[str] | None, typer.Option(help="What is made of each; again for another. 'plain' by default.")
    ] = None,
    size: Annotated[int, typer.Option(min=16, max=16384, help="Texels along the longer side.")] = 1024,
    seed: Annotated[int, typer.Option(min=0, help="Another one of the same kind.")] = 0,
    sets: Annotated[
        list[str] | None, typer.Option("--set", metavar="DIAL=VALUE", help="A dial, or STEP.SETTING=VALUE of any row.")
    ] = None,
    data: Data = None,
    as_json: Json = False,
) -> None:
    """Put a folder of photos through a recipe. What needs a human look comes first; exit code 1 when one failed."""
    from silent_loom.core.base.parallel import Task
    from silent_loom.core.delivery.shelf import profile as known
    from silent_loom.work.giving.alone import Changed, recipe_named, recipe_sources
    from silent_loom.work.many.folder import order_of, photos_in, run

    told = recipe_named(recipe, data)
    if told is None:
        from silent_loom.core.weave.rows.saved import shipped_recipe

        told = shipped_recipe(recipe)
    changed = Changed(seed, tuple(sets or ()))
    weave = changed.on(told.weave, changed.plain())
    if not told.slots:
        from silent_loom.core.base.errors import SettingError

        raise SettingError("this recipe takes no photo", recipe, "Choose one that does: 'silent-loom recipes' lists them.")
    found = photos_in(photos)
    with progress() as say, recipe_sources(told, data) as find:
        order = order_of(
            weave, told.title, [known(p) for p in profile or ["plain"]], size, suggest=not changed.closes(weave), find=find
        )
        results = run(found, out, order, Task(progress=say), each=lambda r: None if as_json else print(_line(r.as_dict())))
    rows = [r.as_dict() for r in results]
    if as_json:
        print(json.dumps(sayable({"recipe": told.name, "out": str(out), "results": rows}), ensure_ascii=False, allow_nan=False))
    else:
        look = [r for r in rows if r["look"]]
        print(f"{len(rows)} photos in {out}, {len(look)} want a look:" if look else f"{len(rows)} photos in {out}")
        for r in look:
            print(f"  {r['photo']}: {'; '.join(r['look'][:3])}")
    failed = [r for r in rows if r["state"] == "failed"]
    if failed:
        print(f"note: {len(failed)} of {len(rows)} failed", file=sys.stderr)
        raise typer.Exit(1)


def _line(row: dict[str, object]) -> str:
    if row["state"] == "failed":
        return f"{row['photo']}: failed: {row['error']}"
    return f"{row['photo']}: seam {row['seam']}, evenness {row['evenness']}, {row['files']} files, {row['seconds']} s"


@app.command()
def describe(
    words: Annotated[str, typer.Argument(help="For example: 'wet black slate with pale lichen'.", show_default=False)],
    out: Annotated[Path | None, typer.Option(help="Folder for the maps; without it only what is understood is said.")] = None,
    which: Annotated[int, typer.Option(min=1, max=24, help="Which of the results is made.")] = 1,
    size: Annotated[int, typer.Option(min=16, max=16384, help="Texels along the longer side.")] = 1024,
    profile: Annotated[str, typer.Option(help="What is made; 'silent-loom profiles' lists them.")] = "master",
    data: Data = None,
    force: Annotated[bool, typer.Option("--force", help="Write beside what is in the folder.")] = False,
    as_json: Json = False,
) -> None:
    """Make a surface out of words, with no network: what was understood, what is there already, and all its maps."""
    from silent_loom.core.base.parallel import Task
    from silent_loom.core.delivery.shelf import profile as known
    from silent_loom.core.ways.bake import BakeOrder
    from silent_loom.core.words.describer import LocalDescriber
    from silent_loom.work.giving.alone import bake_weave, materials_like, own_recipes

    loaded()
    said = LocalDescriber(own_recipes(data)).describe(words, max(which, 4))
    told = {**said.as_dict(), "in_the_library": materials_like(words, data)}
    if out is not None:
        if not said.suggestions:
            from silent_loom.core.base.errors import LoomError

            raise LoomError("no surface is named in these words", words[:80], "Bake one of those that are there already.")
        chosen = said.suggestions[which - 1]
        with progress() as say:
            made = bake_weave(chosen.weave, chosen.title, known(profile), out, BakeOrder(size), force, Task(progress=say))
        told |= {"made": chosen.from_, "out": str(out), "files": [f["file"] for f in made["files"]]}
    if as_json:
        print(json.dumps(sayable(told), ensure_ascii=False, allow_nan=False))
        return
    for u in told["understood"]:
        print(f"  {u['words']}: {u['part']}, {u['means']}")
    if told["not_understood"]:
        print(f"not understood: {', '.join(told['not_understood'])}")
    there = [*told["in_the_library"], *(f"{h['name']} ({h['kind']})" for h in told["there_already"][:6])]
    if there:
        print(f"there already: {', '.join(there)}")
    print("results: " + ", ".join(f"{i}. {r['made_of']}" for i, r in enumerate(told["results"], 1)))
    if out is not None:
        print(f"{len(told['files'])} files in {out}: {', '.join(told['files'])}")
