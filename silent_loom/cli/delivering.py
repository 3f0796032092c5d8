"""Commands about deliveries: profiles, bakes, packing, unpacking, proof, archives of materials."""

from __future__ import annotations

import json
import sys
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any

import typer

from silent_loom.cli.common import Json, app, count, loaded, progress, sayable

Data = Annotated[Path | None, typer.Option("--data", help="Folder of the library; the user's data folder otherwise.")]
Force = Annotated[
    bool, typer.Option("--force", help="Write beside what is in the folder; only an earlier run's own files are replaced.")
]
Out = Annotated[Path, typer.Option("--out", help="Folder for the files; new or empty.", show_default=False)]
Memory = Annotated[float, typer.Option(min=0, help="GB of memory that may be used; three quarters of what is free if 0.")]
Leave = Annotated[list[str] | None, typer.Option(metavar="MAP", help="A map to leave out, as if the material had none of it.")]
Anyway = Annotated[bool, typer.Option("--anyway", help="Write even what goes beyond the limits of its receiver.")]
Fitting = Annotated[bool, typer.Option("--fitting", help="Take the packing that fits, where the profile's own is too much.")]
Packed = Annotated[str, typer.Option(help="How the folder was packed, where it has no manifest.")]


def _tell(manifest: dict[str, Any], out: Path, as_json: bool) -> None:
    if as_json:
        print(json.dumps(sayable({**manifest, "out": str(out)}), ensure_ascii=False, allow_nan=False))
        return
    for warning in manifest["warnings"]:
        print(f"note: {warning}", file=sys.stderr)
    files = [f["file"] for f in manifest["files"]]
    print(f"{count(files)} of {manifest['size'][0]} × {manifest['size'][1]} in {out}: {', '.join(files)}")


@app.command()
def profiles(as_json: Json = False) -> None:
    """List what receivers want: every profile with its files."""
    from silent_loom.core.delivery.shelf import known

    loaded()
    if as_json:
        print(json.dumps([p.model_dump(mode="json") for p in known().values()], ensure_ascii=False))
        return
    for p in known().values():
        print(f"{p.name}: {p.says}")
        for f in p.files:
            more = ", if there is any" if f.optional else ""
            channels = [c.short() for c in f.channels] + ([f"{f.alpha_if_any.short()} if any"] if f.alpha_if_any else [])
            print(f"    {f.suffix}: {', '.join(channels)} ({f.format}, {f.depth} bits{more})")
        if p.models:
            print(f"    with the material as {', '.join(p.models)}")


@app.command()
def bake(
    material: Annotated[
        str,
        typer.Argument(help="A material of the library (name or id), its archive, a recipe, or a pattern.", show_default=False),
    ],
    out: Out,
    size: Annotated[int, typer.Option(min=16, max=16384, help="Texels along the longer side.")] = 1024,
    profile: Annotated[str, typer.Option(help="What is made; separate files of 16 bits by default.")] = "master",
    supersample: Annotated[int, typer.Option(min=1, max=4, help="1, 2 or 4 times as large while it is computed.")] = 1,
    lit: Annotated[bool, typer.Option("--lit", help="The base colour as the surface looks under light.")] = False,
    skip_constant: Annotated[
        bool, typer.Option("--skip-constant", help="Maps that are the same everywhere get no file, but a value in the manifest.")
    ] = False,
    two_sided: Annotated[bool, typer.Option("--two-sided", help="The surface is seen from both sides.")] = False,
    leave: Leave = None,
    photo: Annotated[list[Path] | None, typer.Option(help="A photo for the slot of a recipe; again for the next one.")] = None,
    seed: Annotated[int | None, typer.Option(min=0, help="Another one of the same kind.")] = None,
    sets: Annotated[
        list[str] | None,
        typer.Option("--set", metavar="DIAL=VALUE", help="A dial, a setting of a pattern, or STEP.SETTING=VALUE of any row."),
    ] = None,
    forecast: Annotated[
        bool, typer.Option("--forecast", help="Only say what would be made, how long it takes, what is lost.")
    ] = False,
    anyway: Anyway = False,
    fitting: Fitting = False,
    memory: Memory = 0.0,
    data: Data = None,
    force: Force = False,
    as_json: Json = False,
) -> None:
    """Bake a material, a recipe or a pattern at a size: every map in a file of its own, unless another profile is named."""
    _made(
        material,
        out,
        profile,
        size,
        (supersample, lit, skip_constant, two_sided, tuple(leave or ()), anyway, fitting),
        memory,
        data,
        force,
        as_json,
        forecast,
        changed=(seed, tuple(sets or ()), tuple(photo or ())),
    )


@app.command()
def deliver(
    what: Annotated[
        str, typer.Argument(help="A material (name or id), its archive, or the folder of a bake or delivery.", show_default=False)
    ],
    out: Out,
    profile: Annotated[str, typer.Option(help="What the receiver wants; 'silent-loom profiles' lists them.")] = "plain",
    size: Annotated[int, typer.Option(min=0, max=16384, help="Texels along the longer side; a folder's own, or 1024.")] = 0,
    supersample: Annotated[int, typer.Option(min=1, max=4, help="1, 2 or 4 times as large while it is computed.")] = 1,
    skip_constant: Annotated[
        bool, typer.Option("--skip-constant", help="Maps that are the same everywhere get no file, but a value in the manifest.")
    ] = False,
    two_sided: Annotated[bool, typer.Option("--two-sided", help="The surface is seen from both sides.")] = False,
    leave: Leave = None,
    packed_as: Packed = "",
    depth_mm: Annotated[float | None, typer.Option(help="Depth of a height, where no manifest says so.")] = None,
    name: Annotated[str, typer.Option(help="First part of the new names; the folder's or material's if none is given.")] = "",
    anyway: Anyway = False,
    fitting: Fitting = False,
    memory: Memory = 0.0,
    data: Data = None,
    force: Force = False,
    as_json: Json = False,
) -> None:
    """Pack a material, or the maps of an earlier bake or delivery, for a receiver."""
    if not Path(what).is_dir():
        flags = (supersample, False, skip_constant, two_sided, tuple(leave or ()), anyway, fitting)
        _made(what, out, profile, size or 1024, flags, memory, data, force, as_json, False, name)
        return
    from silent_loom.core.base.parallel import Task
    from silent_loom.core.delivery.files import Order
    from silent_loom.core.delivery.shelf import profile as known
    from silent_loom.core.ways.repack import deliver_folder

    with progress() as say:
        manifest = deliver_folder(
            Path(what),
            out,
            known(profile),
            size=size,
            packed_as=packed_as,
            depth_mm=depth_mm,
            name=name,
            order=Order(None, True, 1, skip_constant, two_sided, (), tuple(leave or ()), anyway),
            fitting=fitting,
            force=force,
            task=Task(progress=say),
        )
    _tell(manifest, out, as_json)


def _made(
    what: str,
    out: Path,
    wanted: str,
    size: int,
    flags: tuple[int, bool, bool, bool, tuple[str, ...], bool, bool],
    memory: float,
    data: Path | None,
    force: bool,
    as_json: bool,
    only_forecast: bool,
    name: str = "",
    changed: tuple[int | None, tuple[str, ...], tuple[Path, ...]] = (None, (), ()),
) -> None:
    from silent_loom.core.base.parallel import Task
    from silent_loom.core.delivery.baking.makers import How
    from silent_loom.core.delivery.shelf import profile as known
    from silent_loom.core.ways.bake import BakeOrder
    from silent_loom.work.giving.alone import Changed, bake_material, forecast_material

    supersample, lit, skip_constant, two_sided, leave, anyway, fitting = flags
    order = BakeOrder(size, How(supersample, True, lit), skip_constant, two_sided, memory=round(memory * 1e9), leave=leave)
    order = replace(order, anyway=anyway, fitting=fitting)
    found = known(wanted)
    with progress() as say:
        task = Task(progress=say)
        if only_forecast:
            told = forecast_material(what, data, found, order, Changed(*changed), task)
        else:
            manifest = bake_material(what, data, found, out, order, name=name, force=force, changed=Changed(*changed), task=task)
    if not only_forecast:
        _tell(manifest, out, as_json)
    elif as_json:
        print(json.dumps(sayable(told), ensure_ascii=False, allow_nan=False))
    else:
        _say_forecast(told)


def _say_forecast(told: dict[str, Any]) -> None:
    print(f"{told['size'][0]} × {told['size'][1]}, about {told['seconds']:.0f} s, {told['memory'] / 1e9:.1f} GB of memory, "
          f"{told['disk'] / 1e6:.0f} MB of files")  # fmt: skip
    lost = {m["thread"]: m["share"] for m in told["losses"]["maps"]}
    for m in told["maps"]:
        value = f" ({', '.join(f'{v:g}' for v in m['value'])})" if m["value"] else ""
        print(f"  {m['title']}: {m['state']}{value}, {100 * lost.get(m['thread'], 0):.1f} % of its detail is lost")
    for f in told["files"]:
        more = " (skipped)" if f["skipped"] else ""
        sides = f"{f['width']} × {f['height']}, {f['bits']} bits, " if f["width"] else ""
        print(f"  {f['file']}: {sides}{f['bytes'] / 1e6:.1f} MB{more}")
    for w in told["words"]:
        print(w)
    for line in told["limits"]:
        print(f"{'Within' if line['fits'] else 'Beyond'} what its receiver takes: {line['limit']}; there would be {line['has']}.")


@app.command()
def unpack(
    folder: Annotated[Path, typer.Argument(help="The folder of a delivery.", show_default=False)],
    out: Annotated[Path, typer.Option("--out", help="Folder for the maps; new or empty.", show_default=False)],
    profile: Annotated[str, typer.Option(help="How it was packed, where it has no manifest.")] = "",
    file: Annotated[
        list[str] | None,
        typer.Option(metavar="NAME=CHANNEL,…", help="The same by hand: masks.png=occlusion,roughness,metallic."),
    ] = None,
    green: Annotated[str, typer.Option(help="Where green of normals points that are told by hand: up or down.")] = "up",
    as_json: Json = False,
) -> None:
    """Write every map of packed files into a file of its own."""
    from silent_loom.core.ways.repack import unpack_files

    loaded()
    files = unpack_files(folder, out, profile, told=file or [], green=green)
    print(json.dumps(files, ensure_ascii=False) if as_json else f"{count(files)} in {out}: {', '.join(files)}")


@app.command()
def proof(
    delivery: Annotated[Path, typer.Argument(help="The folder or zip of a delivery.", show_default=False)],
    against: Annotated[
        str,
        typer.Option(help="What was meant: a material, its archive, or a folder; the weave in the manifest if none is named."),
    ] = "",
    profile: Annotated[str, typer.Option(help="How it was packed, where it has no manifest.")] = "",
    photo: Annotated[
        list[Path] | None, typer.Option(help="A file that the weave in the manifest begins with, if it lies elsewhere.")
    ] = None,
    depth_mm: Annotated[float | None, typer.Option(help="Depth of a height, where no manifest says so.")] = None,
    data: Data = None,
    as_json: Json = False,
) -> None:
    """Say whether a receiver gets what was meant, and what went wrong; exit code 0 only when it shows the same."""
    from silent_loom.core.base.parallel import Task
    from silent_loom.work.giving.proving import prove_against

    with progress() as say:
        found = prove_against(delivery, against, data, profile, photos=photo or [], depth_mm=depth_mm, task=Task(progress=say))
    if as_json:
        print(json.dumps(sayable(found), ensure_ascii=False, allow_nan=False))
    else:
        for m in found["maps"]:
            d = m["difference"]
            far = "" if d is None else f", most {d['max_code']:.2f} codes, mean {d['mean']:.3g} {d['measure']}".rstrip()
            psnr = "" if d is None or d["psnr"] is None else f", {d['psnr']:.0f} dB"
            near = m["same"] or d is None or d["max_code"] <= 1.15
            closest = "" if near else f", closest after times {m['factor']:.3g} plus {m['offset']:.2g}"
            verdict = "the same" if m["same"] else m["mistake"] or m["explained"] or "different"
            print(f"{m['map']}: {verdict}{far}{psnr}{closest}")
        if found["picture"]:
            print(f"under light: mean {found['picture']['mean']:.2f}, 99 % below {found['picture']['p99']:.2f} ΔE00")
        if found["responsible"]:
            print(f"responsible: {found['responsible']}")
        for file in found["damaged"]:
            print(f"{file}: changed since it was delivered")
    if not found["same"]:
        raise typer.Exit(1)


@app.command()
def archive(
    material: Annotated[str, typer.Argument(help="A material of the library: name or id.", show_default=False)],
    out: Annotated[Path, typer.Option("--out", help="The file to write; its name ends in .material.zip.", show_default=False)],
    data: Data = None,
) -> None:
    """Write a material into one portable file: weave, sources, snapshots, origin."""
    from silent_loom.store.archive import write_archive
    from silent_loom.work.giving.alone import found, library

    loaded()
    with library(data) as store:
        lost = write_archive(store, found(store, material), out)
    for name in lost:
        print(f"note: the state of the snapshot '{name}' cannot be read any more and was left out", file=sys.stderr)
    print(f"{material} in {out}")


@app.command("take-in")
def take_in(
    file: Annotated[Path, typer.Argument(help="An archive of a material.", show_default=False)], data: Data = None
) -> None:
    """Bring a material from its archive into the library."""
    from silent_loom.core.base.errors import FileError
    from silent_loom.store.archive import read_archive
    from silent_loom.work.giving.alone import library

    loaded()
    if not file.is_file():
        raise FileError("there is no such file", str(file), "Check the path.")
    with library(data, new=True) as store, file.open("rb") as stream:
        state = read_archive(store, stream, file.name)
    print(f"{state.name} ({state.id})")
