"""Commands about models: checked, unwrapped, baked, dressed, written out again."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from silent_loom.cli.common import Json, app, count, loaded, progress, sayable

if TYPE_CHECKING:
    from silent_loom.core.form.lay.laying import Laying
    from silent_loom.core.form.model import Model

models = typer.Typer(
    no_args_is_help=True, help="Models: check UVs, unwrap, carry detail over, lay materials on, write out again."
)
app.add_typer(models, name="model")

File = Annotated[Path, typer.Argument(help="OBJ, glTF, GLB, PLY or STL.", show_default=False)]
Unit = Annotated[str, typer.Option(help="Unit of the file where it does not say: mm, cm, m, in or ft.")]
Up = Annotated[str, typer.Option(help="Axis of the file that points up: y or z.")]
Uv = Annotated[str, typer.Option(help="Name of a UV set; the first one if none is named.")]
Size = Annotated[int, typer.Option(min=16, max=16384, help="Texels along a side.")]


def _read(path: Path, unit: str, up: str) -> Model:
    from silent_loom.core.form.reading.table import read_model, taken_as

    return taken_as(read_model(path), unit, up)


def _print(data: Any) -> None:
    print(json.dumps(sayable(data), ensure_ascii=False, allow_nan=False))


def _facts(model: Model) -> dict[str, Any]:
    x, y, z = model.size_mm
    return {
        "format": model.format,
        "triangles": len(model),
        "meshes": list(model.meshes),
        "materials": [{"name": s.name, "textures": dict(s.textures)} for s in model.slots],
        "uv_sets": list(model.uvs),
        "normals": model.normals is not None,
        "vertex_colours": model.colours is not None,
        "size_mm": {"width": x, "height": y, "depth": z},
        "unit_mm": model.unit_mm,
        "unit_told": model.unit_told,
        "up": model.up,
    }


@models.command("check")
def check_model(
    file: File,
    uv: Uv = "",
    size: Size = 2048,
    wish: Annotated[float, typer.Option(min=0, help="Texels per centimetre that are wished.")] = 0.0,
    unit: Unit = "",
    up: Up = "",
    as_json: Json = False,
) -> None:
    """Say what a model holds and whether its UVs can carry a texture."""
    from silent_loom.core.base.parallel import Task
    from silent_loom.core.form.uv.check import as_data, check

    with progress() as say:
        model = _read(file, unit, up)
        found = check(model, uv, size, wish, Task(progress=say))
    facts = _facts(model)
    if as_json:
        _print({**facts, "check": as_data(found, model)})
        return
    x, y, z = model.size_mm
    guessed = "" if model.unit_told else f" (a unit is taken for {model.unit_mm:g} mm; say --unit where that is wrong)"
    size_words = f"{x:.4g} × {y:.4g} × {z:.4g} mm{guessed}"
    print(f"{len(model):,} triangles, {len(model.meshes)} meshes, {len(model.slots)} materials, {size_words}")
    if found.uv:
        low, middle, high = found.texels_per_cm
        print(f"UV set {found.uv}: {len(found.islands)} islands, {100 * (1 - found.empty):.0f} % of the square used, "
              f"{middle:.3g} texels per cm at {size} ({low:.3g} to {high:.3g}), stretch {found.stretch:.2f}")  # fmt: skip
    for fault in found.faults:
        print(f"{'FAULT' if fault.grave else 'note'} {fault.kind}: {fault.words} {fault.cure}")
    if found.carries:
        print("These UVs can carry a texture.")


@models.command("unwrap")
def unwrap_model(
    file: File,
    out: Annotated[Path, typer.Option("--out", help="The file to write: .obj or .glb.", show_default=False)],
    size: Size = 2048,
    padding: Annotated[int, typer.Option(min=0, max=256, help="Empty texels between islands at that size.")] = 8,
    bend: Annotated[float, typer.Option(min=0.2, max=16, help="How much an island may bend before it is cut.")] = 2.0,
    pack_only: Annotated[bool, typer.Option("--pack-only", help="Keep the islands that are there, and pack them anew.")] = False,
    turn: Annotated[bool, typer.Option("--turn", help="Turn islands where they pack better; some come out mirrored.")] = False,
    thorough: Annotated[bool, typer.Option("--thorough", help="Try every place for every island.")] = False,
    uv: Uv = "",
    unit: Unit = "",
    up: Up = "",
    as_json: Json = False,
) -> None:
    """Unwrap a model and pack its islands. The UV sets that it had are kept behind the new one where the format has room."""
    from silent_loom.core.base.errors import FileError
    from silent_loom.core.base.parallel import Task
    from silent_loom.core.delivery.models.writing import written_bytes
    from silent_loom.core.form.uv.check import as_data, check
    from silent_loom.core.form.uv.unwrap import UnwrapSettings, unwrapped

    if out.exists():
        raise FileError("there is already a file of this name", out.name, "Nothing is overwritten: choose another name.")
    settings = UnwrapSettings(cut=not pack_only, bend=bend, size=size, padding=padding, turn=turn, thorough=thorough)
    with progress() as say:
        task = Task(progress=say)
        made = unwrapped(_read(file, unit, up), settings, uv, task=task)
        found = check(made, size=size, task=task)
        written_bytes(made, out)
    if as_json:
        _print({**_facts(made), "out": str(out), "check": as_data(found, made)})
        return
    print(f"{len(found.islands)} islands, {100 * (1 - found.empty):.0f} % of the square used, stretch {found.stretch:.2f}: {out}")


@models.command("bake")
def bake_model(
    model: Annotated[Path, typer.Option("--model", help="The light mesh, with UVs.", show_default=False)],
    out: Annotated[Path, typer.Option("--out", help="Folder for the maps.", show_default=False)],
    dense: Annotated[
        list[Path] | None, typer.Option(help="A dense mesh; again for the next one. The model itself if none.")
    ] = None,
    maps: Annotated[str, typer.Option(help="Names with commas between them, or 'all'.")] = "normal,height,occlusion",
    size: Size = 2048,
    samples: Annotated[int, typer.Option(min=1, max=4, help="1, 2 or 4 samples along each side of a texel.")] = 1,
    distance: Annotated[float, typer.Option(min=0, help="Millimetres that rays start outside; found by itself if 0.")] = 0.0,
    rays: Annotated[int, typer.Option(min=1, max=4096, help="Of occlusion, bent normal and thickness, from each texel.")] = 64,
    reach: Annotated[float, typer.Option(min=0, help="Millimetres up to which something occludes; any distance if 0.")] = 0.0,
    padding: Annotated[float, typer.Option(min=0, help="Texels filled around islands; all there are if 0.")] = 0.0,
    by_name: Annotated[bool, typer.Option("--by-name", help="Each mesh takes the dense mesh of its name alone.")] = False,
    bits: Annotated[str, typer.Option(help="8 or 16.")] = "16",
    green: Annotated[str, typer.Option(help="Which way green points in normals: up or down.")] = "up",
    only_check: Annotated[bool, typer.Option("--check", help="Only go through the check list.")] = False,
    uv: Uv = "",
    unit: Unit = "",
    up: Up = "",
    as_json: Json = False,
) -> None:
    """Carry detail of dense meshes, or of the model itself, into the texels of a model."""
    from silent_loom.core.base.parallel import Task
    from silent_loom.core.delivery.names import file_name
    from silent_loom.core.form.bake.bake import Order
    from silent_loom.core.form.bake.checklist import checklist, insist
    from silent_loom.core.form.bake.files import bake_files
    from silent_loom.core.form.bake.pictures import source_of
    from silent_loom.core.form.bake.targets import TARGETS

    names = tuple(TARGETS) if maps.strip() == "all" else tuple(m.strip() for m in maps.split(",") if m.strip())
    order = Order(names, (size, size), uv, samples, distance, rays, reach, padding, by_name)
    with progress() as say:
        task = Task(progress=say)
        light = _read(model, unit, up)
        source = source_of([(_read(d, unit, up), d) for d in dense or []])
        points = checklist(light, source, order, task)
        if not only_check:
            insist(points)
            manifest = bake_files(light, source, order, out, file_name(model.stem), depth=bits, green=green, task=task)
    if only_check:
        if as_json:
            _print({"points": [vars(p) for p in points], "good": all(p.good for p in points)})
        else:
            for p in points:
                print(f"{'ok  ' if p.good else 'STOP'} {p.name}: {p.words} {p.todo}".rstrip())
        if not all(p.good for p in points):
            raise typer.Exit(1)
        return
    if as_json:
        _print({**manifest, "out": str(out)})
        return
    if manifest["missed"] > 0:
        print(f"note: {100 * manifest['missed']:.2f} % of the texels met nothing", file=sys.stderr)
    print(f"{count(manifest['files'])} of {size} × {size} in {out}: {', '.join(f['file'] for f in manifest['files'])}")


def _laying(by: str, scale: float, turn: float, blend: float, camera: str) -> Laying:
    from silent_loom.core.base.errors import LoomError
    from silent_loom.core.form.lay.laying import Camera, Laying

    if by not in ("uv", "sides", "camera"):
        raise LoomError(f"nothing can be laid on by {by!r}", "--by", "Use uv, sides or camera.")
    stand = None
    if camera:
        try:
            numbers = [float(v) for v in camera.split(",")]
            stand = Camera(tuple(numbers[:3]), tuple(numbers[3:6]) or (0.0, 0.0, 0.0), numbers[6] if len(numbers) > 6 else 0.0)  # type: ignore[arg-type]
        except ValueError:
            stand = None
        if stand is None or len(numbers) not in (3, 6, 7):
            raise LoomError(
                "this is no camera", camera, "Millimetres: its place, what it looks at, the width: 0,500,2000,0,0,0,800"
            )
    return Laying(by, scale, turn, (0.0, 0.0), blend, stand)  # type: ignore[arg-type]


@models.command("lay")
def lay_on_model(
    material: Annotated[
        str, typer.Argument(help="A material of the library, its archive, a recipe, or a pattern.", show_default=False)
    ],
    model: Annotated[Path, typer.Option("--model", help="The model, with UVs.", show_default=False)],
    out: Annotated[Path, typer.Option("--out", help="Folder for the maps; new or empty.", show_default=False)],
    by: Annotated[str, typer.Option(help="uv: through the UVs; sides: from three sides; camera: from one place.")] = "uv",
    size: Size = 2048,
    scale: Annotated[float, typer.Option(min=0.001, help="Times as large as in truth.")] = 1.0,
    turn: Annotated[float, typer.Option(help="Degrees, anticlockwise.")] = 0.0,
    blend: Annotated[float, typer.Option(min=0, max=1, help="How wide three sides mix.")] = 0.3,
    camera: Annotated[str, typer.Option(help="Place, target and width in millimetres: 0,500,2000,0,0,0,800")] = "",
    over: Annotated[
        list[str] | None,
        typer.Option(metavar="MATERIAL@MASK", help="Another one over it, where masks say: snow@slope=40..25@altitude"),
    ] = None,
    profile: Annotated[str, typer.Option(help="What the receiver wants.")] = "plain",
    padding: Annotated[float, typer.Option(min=0, help="Texels filled around islands; all there are if 0.")] = 0.0,
    name: Annotated[str, typer.Option(help="First part of file names.")] = "",
    uv: Uv = "",
    unit: Unit = "",
    up: Up = "",
    data: Annotated[Path | None, typer.Option("--data", help="Folder of the library.")] = None,
    force: Annotated[bool, typer.Option("--force", help="Write beside what is in the folder.")] = False,
    as_json: Json = False,
) -> None:
    """Lay a material on a model and bake it into the model's UV set."""
    from silent_loom.core.base.parallel import Task
    from silent_loom.core.delivery.shelf import profile as known
    from silent_loom.core.form.lay.places import parsed
    from silent_loom.work.giving.on_model import Over, lay_material

    laying = _laying(by, scale, turn, blend, camera)
    others = []
    for text in over or []:
        what, *masks = text.split("@")
        others.append(Over(what, tuple(parsed(m) for m in masks), laying))
    with progress() as say:
        light = _read(model, unit, up)
        manifest = lay_material(
            material, light, known(profile), out, size, laying,
            over=others, uv=uv, padding=padding, name=name, model_name=model.stem, data=data, force=force,
            task=Task(progress=say),
        )  # fmt: skip
    if as_json:
        _print({**manifest, "out": str(out)})
        return
    print(f"{count(manifest['files'])} of {size} × {size} in {out}: {', '.join(f['file'] for f in manifest['files'])}")


@models.command("put-under")
def put_model_under(
    model: File,
    material: Annotated[str, typer.Argument(help="A material of the library: name or id.", show_default=False)],
    unit: Unit = "",
    up: Up = "",
    data: Annotated[Path | None, typer.Option("--data", help="Folder of the library.")] = None,
    as_json: Json = False,
) -> None:
    """Put a model under a material of the library: a row lays it on, and from there on its maps are made in the model's UVs."""
    from silent_loom.work.giving.alone import evaluator_of, found, library
    from silent_loom.work.models.put_under import put_under

    loaded()
    with library(data) as store, model.open("rb") as stream:
        state = put_under(store, evaluator_of(store), found(store, material), stream, model.name, (unit, up))
    if as_json:
        _print({"id": state.id, "head": state.head, "label": state.label})
        return
    print(f"{state.name}: {state.label}")


@models.command("mask")
def mask_of_model(
    model: Annotated[Path, typer.Option("--model", help="The model, with UVs.", show_default=False)],
    where: Annotated[
        str, typer.Argument(help="altitude=0.6..0.8, slope, facing:0,1,0, paint:red, mesh:NAME …", show_default=False)
    ],
    out: Annotated[Path, typer.Option("--out", help="The PNG to write.", show_default=False)],
    size: Size = 2048,
    uv: Uv = "",
    unit: Unit = "",
    up: Up = "",
) -> None:
    """Write a mask of a model in its UV set: by slope, altitude, facing, cavity, vertex colour and more."""
    from silent_loom.core.base.parallel import Task
    from silent_loom.core.files.write import write
    from silent_loom.core.form.lay.places import mask, onto_itself, parsed

    with progress() as say:
        light = _read(model, unit, up)
        image = mask(onto_itself(light, (size, size), uv), parsed(where), task=Task(progress=say))
        write(out, image.pixels, depth="16", colour=False)
    print(f"{out}: {100 * float(image.pixels.mean()):.1f} % on the average")


@models.command("export")
def export_model(
    model: Annotated[Path, typer.Option("--model", help="The model.", show_default=False)],
    maps: Annotated[
        list[str],
        typer.Option(
            metavar="[MATERIAL=]FOLDER", help="A delivered folder for a material of the model, or for all.", show_default=False
        ),
    ],
    out: Annotated[Path, typer.Option("--out", help="Folder to write into; new or empty.", show_default=False)],
    kinds: Annotated[str, typer.Option("--as", help="glb, obj and usda, with commas between them.")] = "glb",
    rename: Annotated[
        bool, typer.Option("--rename", help="Materials take the stems of their files, numbered where needed.")
    ] = False,
    anyway: Annotated[
        bool, typer.Option("--anyway", help="Write though materials are called otherwise than their files.")
    ] = False,
    name: Annotated[str, typer.Option(help="First part of file names; the model's if none is given.")] = "",
    changes: Annotated[
        bool, typer.Option("--changes", help="Write the base colour before and after and what changed, too.")
    ] = False,
    uv: Uv = "",
    unit: Unit = "",
    up: Up = "",
    force: Annotated[bool, typer.Option("--force", help="Write beside what is in the folder.")] = False,
    as_json: Json = False,
) -> None:
    """Write a model with delivered materials on it. Geometry that was not touched stays byte for byte."""
    from silent_loom.core.base.errors import LoomError
    from silent_loom.core.base.parallel import Task
    from silent_loom.core.delivery.models.before_after import before_after
    from silent_loom.core.delivery.models.dressing import dressed
    from silent_loom.core.delivery.models.writing import write_model
    from silent_loom.core.delivery.names import file_name

    light = _read(model, unit, up)
    folders = {}
    for text in maps:
        slot, equals, folder = text.rpartition("=")
        folders[slot if equals else ""] = Path(folder)
    dresses, mismatches = dressed(light, folders, rename=rename)
    if mismatches and not anyway:
        raise LoomError(mismatches[0].words.rstrip("."), "", "Use --rename for the names of the files, or --anyway.")
    for m in mismatches:
        print(f"note: {m.words}", file=sys.stderr)
    source = model.read_bytes() if not (unit or up) else None
    called = file_name(name or model.stem)
    files = write_model(light, dresses, out, called, [k.strip() for k in kinds.split(",")], source=source, uv=uv, force=force)
    changed = None
    if changes:
        with progress() as say:
            changed = before_after(light, model, dresses, uv=uv, task=Task(progress=say))
        files = [*files, *changed.write(out, called)]
    if as_json:
        told = {} if changed is None else {"change": changed.difference.as_dict()}
        _print({"out": str(out), "files": files, **told, "materials": {light.slots[k].name: d.name for k, d in dresses.items()}})
        return
    print(f"{count(files)} in {out}: {', '.join(files)}")
    if changed is not None:
        print(changed.words)
