"""Materials that were made elsewhere, on the command line."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path
from typing import Annotated

import typer

from silent_loom.cli.common import Json, app, progress, sayable


@app.command()
def flatten(
    file: Annotated[Path, typer.Argument(help="A glTF, GLB or MaterialX file, its pictures beside it.", show_default=False)],
    out: Annotated[
        Path, typer.Option("--out", help="Folder for the files; each of several materials gets a folder of its own in it.")
    ],
    size: Annotated[int, typer.Option(min=0, max=8192, help="Texels along the longer side; its largest picture's if 0.")] = 0,
    profile: Annotated[str, typer.Option(help="What is made; 'silent-loom profiles' lists them.")] = "plain",
    material: Annotated[str, typer.Option(help="Only the material of this name.")] = "",
    force: Annotated[bool, typer.Option("--force", help="Write beside what is in the folder.")] = False,
    as_json: Json = False,
) -> None:
    """Work a material with factors, transforms and nested graphs out into plain textures; what cannot come along is said."""
    from silent_loom.core.base.parallel import Task
    from silent_loom.core.delivery.shelf import profile as known
    from silent_loom.core.elsewhere.flatten import bake_flat, chosen, flattened, folder_of
    from silent_loom.core.ways.bake import BakeOrder

    told = []
    with progress() as say:
        task = Task(progress=say)
        flats = chosen(flattened(file, size), material)
        for i, flat in enumerate(flats):
            folder = out / folder_of(flat.name) if len(flats) > 1 else out
            part = task.part(i / len(flats), (i + 1) / len(flats))
            with tempfile.TemporaryDirectory(prefix="silent-loom-") as beside:
                made = bake_flat(flat, known(profile), folder, Path(beside), BakeOrder(max(flat.size)), force, part)
            told.append(
                {
                    "material": flat.name,
                    "out": str(folder),
                    "size": list(made["size"]),
                    "size_mm": list(flat.size_mm),
                    "files": [f["file"] for f in made["files"]],
                    "notes": flat.notes,
                    "left_out": flat.left,
                }
            )
    if as_json:
        print(json.dumps(sayable({"materials": told}), ensure_ascii=False, allow_nan=False))
        return
    for one in told:
        print(f"{one['material']}: {len(one['files'])} files of {one['size'][0]} × {one['size'][1]} in {one['out']}")
        for words in one["notes"]:
            print(f"  {words}")
        for words in one["left_out"]:
            print(f"  left out: {words}")
