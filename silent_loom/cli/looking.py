"""Commands that look: differences, values, test charts."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated

import typer

from silent_loom.cli.common import Json, app, loaded, progress, sayable

Depth = Annotated[float, typer.Option(help="Depth of a height, from black to white.")]


@app.command()
def compare(
    one: Annotated[Path, typer.Argument(help="A finished map, or a folder of them.", show_default=False)],
    other: Annotated[Path, typer.Argument(help="What it is held against.", show_default=False)],
    pictures: Annotated[Path | None, typer.Option(help="Folder for pictures of the differences.")] = None,
    depth_mm: Depth = 10.0,
    as_json: Json = False,
) -> None:
    """Say how far two maps, or two map sets, are apart; exit code 1 when anything differs."""
    from silent_loom.core.ways.looking import compare_files

    loaded()
    found = compare_files(one, other, depth_mm, pictures)
    if as_json:
        print(json.dumps(sayable(found), ensure_ascii=False, allow_nan=False))
    else:
        for m in found["maps"]:
            unit = f" {m['measure']}" if m["measure"] else ""
            psnr = "equal" if m["psnr"] is None else f"PSNR {m['psnr']:.1f} dB"
            numbers = f"mean {m['mean']:.3g}{unit}, 95 % {m['p95']:.3g}, most {m['max']:.3g}"
            print(f"{m['map']}: {numbers}, {m['max_code']:.2f} codes, RMSE {m['rmse']:.3g}, {psnr}")
        for name in found["alone"]:
            print(f"{name}: no partner")
    if found["alone"] or any(m["max_code"] > 0 for m in found["maps"]):
        raise typer.Exit(1)


@app.command()
def values(
    file: Annotated[Path, typer.Argument(help="A finished map.", show_default=False)],
    map_: Annotated[str, typer.Option("--map", help="Which map it is, where its name does not tell.")] = "",
    depth_mm: Depth = 10.0,
    as_json: Json = False,
) -> None:
    """Say how the values of a map are spread, and how much of it is cut off."""
    from silent_loom.core.ways.looking import read_values

    loaded()
    found = read_values(file, map_, depth_mm)
    if as_json:
        print(json.dumps(sayable(found), ensure_ascii=False, allow_nan=False))
        return
    unit = {"code": "sRGB codes", "": "plain numbers"}.get(found["unit"], found["unit"])
    print(f"{found['file']} ({found['map']}), {found['width']} × {found['height']}, in {unit}")
    for c in found["channels"]:
        parts = ", ".join(f"{words} {c[key]:.4g}" for key, words in _PARTS.items())
        print(f"  {c['name']}: {parts}")
    print(f"  cut off: {100 * found['dark']:.2f} % low, {100 * found['bright']:.2f} % high; {found['levels']} different values")


_PARTS = {"low": "low", "p1": "1 %", "median": "middle", "p99": "99 %", "high": "high", "mean": "mean"}


@app.command()
def chart(
    name: Annotated[str, typer.Argument(help="checker, gradient or orientation.", show_default=False)],
    out: Annotated[Path, typer.Option("--out", help="PNG to write; new.", show_default=False)],
    size: Annotated[int, typer.Option(min=64, max=16384, help="Texels along the longer side.")] = 2048,
    through: Annotated[Path | None, typer.Option(help="Put it through this weave, in place of the photo.")] = None,
    photo: Annotated[Path | None, typer.Option(help="The photo that the weave decides on.")] = None,
    below: Annotated[str, typer.Option(help="Row right below which the chart is put; the first one if none is named.")] = "",
    thread: Annotated[str, typer.Option("--map", help="The map to write.")] = "base",
) -> None:
    """Write a test chart, or what a weave makes of one."""
    from silent_loom.core.base.parallel import Task
    from silent_loom.core.ways.looking import draw_chart

    with progress() as say:
        width, height = draw_chart(
            name, out, size, through=through, photo=photo, below=below, thread=thread, task=Task(progress=say)
        )
    print(f"{out}, {width} × {height}")
