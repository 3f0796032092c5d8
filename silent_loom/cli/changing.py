"""The command that changes a material of the library, as the bench does."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Annotated

import typer

from silent_loom.cli.common import Json, app, loaded
from silent_loom.cli.delivering import Data

BYTES = 4 << 20
"""Of the changes that are taken at once, at most."""


@app.command()
def change(
    material: Annotated[str, typer.Argument(help="A material of the library: name or id.", show_default=False)],
    changes: Annotated[
        str, typer.Argument(help="One change or a list of them, in JSON: a file, '-' for standard input, or the JSON itself.")
    ],
    data: Data = None,
    as_json: Json = False,
) -> None:
    """Change a material as the bench does, each change an entry of its history; rows are named by ids or paths."""
    from silent_loom.core.base.bounded_json import loads
    from silent_loom.core.base.errors import FileError, SettingError
    from silent_loom.work.changes.making import make_all, read_changes
    from silent_loom.work.giving.alone import evaluator_of, found, library

    loaded()
    text, called = changes, "changes"
    if changes == "-":
        text = sys.stdin.read()
    elif changes.lstrip()[:1] not in ("{", "["):
        if not Path(changes).is_file():
            raise FileError("there is no such file", changes, "Check the path.")
        text, called = Path(changes).read_text("utf-8"), Path(changes).name
    try:
        wanted = read_changes(loads(text, called, most_bytes=BYTES))
    except ValueError as error:
        raise SettingError(f"this is no JSON: {error}", called, "Write a change as it is sent to the bench.") from None
    with library(data) as store:
        before = store.get(found(store, material))
        state = make_all(store, evaluator_of(store), before.id, wanted)
        entries = [h for h in store.history(before.id) if before.head < h.id <= state.head]
    if as_json:
        print(json.dumps({"id": state.id, "head": state.head, "entries": [h.label for h in entries]}, ensure_ascii=False))
        return
    for entry in entries:
        print(entry.label)
    if not entries:
        print("Nothing changed: all of it was so already.")
