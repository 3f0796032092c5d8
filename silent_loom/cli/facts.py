"""Commands about single files: what one is, whether it is plausible, one map out of another."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Annotated

import typer

from silent_loom.cli.common import app, loaded, progress, sayable


@app.command()
def inspect(
    file: Annotated[Path, typer.Argument(help="An image file.", show_default=False)],
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON.")] = False,
) -> None:
    """Say what a file is and how it would repeat."""
    from silent_loom.core.files import read
    from silent_loom.core.opening.inspection import inspect as run

    loaded()
    facts = run(read(file))
    if as_json:
        print(json.dumps(sayable(facts), ensure_ascii=False, allow_nan=False))
        return
    from rich.console import Console
    from rich.table import Table

    table = Table(show_header=False, box=None)
    for key, value in facts.items():
        table.add_row(key.replace("_", " "), ", ".join(value) if isinstance(value, list) else str(value))
    Console().print(table)


@app.command()
def check(
    files: Annotated[list[Path], typer.Argument(help="Finished maps.", show_default=False)],
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON.")] = False,
    depth_mm: Annotated[float, typer.Option(help="Depth of a height, from black to white.")] = 10.0,
) -> None:
    """Say what is odd about finished maps; exit code 1 when something is."""
    from silent_loom.core.ways.single import check_files

    loaded()
    found = check_files(files, depth_mm)
    if as_json:
        print(json.dumps(sayable(found), ensure_ascii=False, allow_nan=False))
    else:
        for line in found:
            print(f"{line['file']} ({line['map']}): {', '.join(line['odd']) or 'nothing odd'}")
    if any(line["odd"] for line in found):
        raise typer.Exit(1)


def _list_kinds(asked: bool) -> None:
    """Every map that a step makes out of others, as the registry has it now."""
    if asked:
        from silent_loom.core.ways.single import makeable

        print(", ".join([*makeable(), "combined"]))
        raise typer.Exit


@app.command("map")
def make_map(
    kind: Annotated[str, typer.Argument(help="What to make, or 'combined'; --list names everything that can be made.")],
    source: Annotated[Path, typer.Option("--from", help="The finished map that it is made from.", show_default=False)],
    out: Annotated[Path, typer.Option("--out", help="File to write; its ending says the format.", show_default=False)],
    other: Annotated[Path | None, typer.Option("--with", help="A second map, to be combined with the first.")] = None,
    set_: Annotated[
        list[str] | None, typer.Option("--set", metavar="SETTING=VALUE", help="Any setting of the step; may be given again.")
    ] = None,
    extent_mm: Annotated[float, typer.Option(help="Real width of the map.")] = 1000.0,
    depth_mm: Annotated[float, typer.Option(help="Depth of a height, from black to white.")] = 10.0,
    open_: Annotated[bool, typer.Option("--open", help="Its edges do not meet.")] = False,
    green_down: Annotated[bool, typer.Option("--green-down", help="Green of normal maps points down, in and out.")] = False,
    force: Annotated[bool, typer.Option("--force", help="Replace the file that is there.")] = False,
    list_: Annotated[
        bool, typer.Option("--list", callback=_list_kinds, is_eager=True, help="Name everything that can be made, and end.")
    ] = False,
) -> None:
    """Make one map from finished maps."""
    from silent_loom.core.base.parallel import Task
    from silent_loom.core.ways.single import one_map
    from silent_loom.core.ways.woven import pairs_from

    values = {name: value for _, name, value in pairs_from([f"{kind}.{text}" for text in set_ or []])}
    with progress() as say:
        made = one_map(
            kind,
            source,
            out,
            other=other,
            settings=values,
            extent_mm=extent_mm,
            depth_mm=depth_mm,
            repeats=not open_,
            green_down=green_down,
            force=force,
            task=Task(progress=say),
        )
    for note in made["notes"]:
        print(f"note: {note}", file=sys.stderr)
    print(f"{made['map']} of {made['size'][0]} × {made['size'][1]} in {out}")
