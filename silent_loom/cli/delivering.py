"""Commands about deliveries: profiles, unpacking, packing for another receiver, proof."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated

import typer

from silent_loom.cli.common import app, count, loaded, progress, sayable

Json = Annotated[bool, typer.Option("--json", help="Print JSON.")]


@app.command()
def profiles(as_json: Json = False) -> None:
    """List what receivers want: every profile with its files."""
    from silent_loom.core.delivery.profile import profiles as known

    loaded()
    if as_json:
        print(json.dumps([p.model_dump() for p in known().values()], ensure_ascii=False))
        return
    for p in known().values():
        print(f"{p.name}: {p.says}")
        for f in p.files:
            print(
                f"    {f.suffix}: {', '.join(f.channels)} ({f.format}, {f.depth} bits{', if there is any' if f.optional else ''})"
            )


@app.command()
def unpack(
    folder: Annotated[Path, typer.Argument(help="The folder of a delivery.", show_default=False)],
    out: Annotated[Path, typer.Option("--out", help="Folder for the maps; new or empty.", show_default=False)],
    profile: Annotated[str, typer.Option(help="How it was packed, where it has no manifest.")] = "",
    as_json: Json = False,
) -> None:
    """Write every map of packed files into a file of its own."""
    from silent_loom.core.ways.repack import unpack_files

    loaded()
    files = unpack_files(folder, out, profile)
    print(json.dumps(files, ensure_ascii=False) if as_json else f"{count(files)} in {out}: {', '.join(files)}")


@app.command()
def proof(
    delivery: Annotated[Path, typer.Argument(help="The folder of a delivery.", show_default=False)],
    against: Annotated[Path, typer.Option(help="The delivery that it is held against.", show_default=False)],
    profile: Annotated[str, typer.Option(help="How it was packed, where it has no manifest.")] = "",
    as_json: Json = False,
) -> None:
    """Say whether a receiver gets what was meant, and what went wrong; exit code 0 only when it is the same."""
    from silent_loom.core.ways.repack import prove_folder

    loaded()
    found = prove_folder(delivery, against, profile)
    if as_json:
        print(json.dumps(sayable(found), ensure_ascii=False, allow_nan=False))
    else:
        for m in found["maps"]:
            d = m["difference"]
            far = "" if d is None else f", most {d['max_code']:.2f} codes, mean {d['mean']:.3g} {d['measure']}".rstrip()
            print(f"{m['map']}: {'the same' if m['same'] else m['mistake'] or 'different'}{far}")
    if not found["same"]:
        raise typer.Exit(1)


@app.command()
def deliver(
    folder: Annotated[Path, typer.Argument(help="The folder of a delivery, or of files named as a profile names them.")],
    out: Annotated[Path, typer.Option("--out", help="Folder for the files; new or empty.", show_default=False)],
    profile: Annotated[str, typer.Option(help="What the receiver wants; 'silent-loom profiles' lists them.")] = "plain",
    packed_as: Annotated[str, typer.Option(help="How the folder was packed, where it has no manifest.")] = "",
    depth_mm: Annotated[float | None, typer.Option(help="Depth of a height, where no manifest says so.")] = None,
    name: Annotated[str, typer.Option(help="First part of the new names; the folder's if none is given.")] = "",
    as_json: Json = False,
) -> None:
    """Pack the maps of one delivery for another receiver."""
    from silent_loom.core.base.parallel import Task
    from silent_loom.core.ways.repack import deliver_folder

    with progress() as say:
        files = deliver_folder(folder, out, profile, packed_as=packed_as, depth_mm=depth_mm, name=name, task=Task(progress=say))
    print(json.dumps(files, ensure_ascii=False) if as_json else f"{count(files)} in {out}: {', '.join(files)}")
