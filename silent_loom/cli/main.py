"""Commands. Errors go to standard error in one line; exit code 0 only on success."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any

import numpy as np
import typer

from silent_loom.core.errors import LoomError, SettingError

app = typer.Typer(
    add_completion=False,
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    help="From one photo to a complete, seamless, physically based map set.",
)


@contextmanager
def _progress() -> Iterator[Callable[[float, str], None] | None]:
    """A bar on standard error where somebody sees it; nothing, not even its import, in a pipe."""
    if not sys.stderr.isatty():
        yield None
        return
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

    columns = TextColumn("{task.description}"), BarColumn(), TimeElapsedColumn()
    with Progress(*columns, console=Console(stderr=True), transient=True) as bar:
        line = bar.add_task("starting", total=1.0)
        yield lambda f, words: bar.update(line, completed=f, description=words or "working")


class SeamlessMethod(StrEnum):
    cut = "cut"
    none = "none"


def _corners(text: str) -> np.ndarray[Any, Any]:
    try:
        numbers = [float(v) for v in text.replace(" ", "").split(",")]
    except ValueError:
        numbers = []
    if len(numbers) != 8 or not np.isfinite(numbers).all():
        raise SettingError("eight numbers are needed", "--corners", "x1,y1,x2,y2,x3,y3,x4,y4, clockwise from top left.")
    return np.array(numbers).reshape(4, 2)


def _write_report(path: Path, report: dict[str, Any]) -> None:
    from silent_loom.core.files.place import drop, place

    partial = path.with_name(f".{path.name}.part")
    try:
        partial.write_text(json.dumps(report, indent=2, ensure_ascii=False) + "\n", "utf-8")
        place(partial, path, replace=True)
    except OSError as error:
        raise LoomError(
            f"the report cannot be written ({error.strerror})", str(path), "Check the folder and its rights."
        ) from None
    finally:
        drop(partial)


@app.command()
def derive(
    photo: Annotated[Path, typer.Argument(help="A photo: PNG, JPEG, TGA, TIFF, BMP, WebP, EXR or HDR.", show_default=False)],
    out: Annotated[Path, typer.Option("--out", help="Folder for the files; new or empty.", show_default=False)],
    corners: Annotated[
        str | None,
        typer.Option(help="x1,y1,…,x4,y4 clockwise from top left, texel centres, (0,0) top left after the EXIF turn."),
    ] = None,
    size: Annotated[int, typer.Option(min=16, max=16384, help="Texels along the longer side of the finished repeat.")] = 1024,
    extent_mm: Annotated[float, typer.Option(help="Real width of the rectangle (of the whole photo without corners).")] = 1000.0,
    depth_mm: Annotated[float, typer.Option(help="From the deepest to the highest point.")] = 10.0,
    seamless: Annotated[SeamlessMethod, typer.Option(help="How the edges are made to meet.")] = SeamlessMethod.cut,
    square: Annotated[bool, typer.Option("--square", help="Crop to the centre square.")] = False,
    profile: Annotated[str, typer.Option(help="What the receiver wants: plain or gltf.")] = "plain",
    set_: Annotated[
        list[str] | None,
        typer.Option("--set", metavar="STEP.SETTING=VALUE", help="Any setting of any step; may be given again."),
    ] = None,
    name: Annotated[str | None, typer.Option(help="First part of the file names; the photo's name otherwise.")] = None,
    report: Annotated[Path | None, typer.Option(help="Write figures and times there, as JSON.")] = None,
    force: Annotated[
        bool,
        typer.Option("--force", help="Write beside what is in the folder; only an earlier run's own files are replaced."),
    ] = False,
) -> None:
    """Derive a whole map set from a photo."""
    from silent_loom.core.delivery.names import file_name
    from silent_loom.core.derive import derive as run
    from silent_loom.core.derive import settings_from
    from silent_loom.core.parallel import Task

    with _progress() as say:
        made = run(
            photo,
            out,
            corners=None if corners is None else _corners(corners),
            size=size,
            extent_mm=extent_mm,
            depth_mm=depth_mm,
            seamless=seamless is SeamlessMethod.cut,
            square=square,
            profile_name=profile,
            settings=settings_from(set_ or []),
            force=force,
            report=report is not None,
            name=None if name is None else file_name(name),
            task=Task(progress=say),
        )
    if report is not None:
        _write_report(report, made)
    for warning in made["warnings"]:
        print(f"note: {warning}", file=sys.stderr)
    print(f"{len(made['files'])} files of {made['size'][0]} × {made['size'][1]} in {out} ({made['seconds']['total']:.1f} s)")


@app.command()
def inspect(
    file: Annotated[Path, typer.Argument(help="An image file.", show_default=False)],
    as_json: Annotated[bool, typer.Option("--json", help="Print JSON.")] = False,
) -> None:
    """Say what a file is and how it would repeat."""
    from silent_loom.core.files import read
    from silent_loom.core.inspection import inspect as run

    facts = run(read(file))
    if as_json:
        print(json.dumps(facts, ensure_ascii=False))
        return
    from rich.console import Console
    from rich.table import Table

    table = Table(show_header=False, box=None)
    for key, value in facts.items():
        table.add_row(key.replace("_", " "), ", ".join(value) if isinstance(value, list) else str(value))
    Console().print(table)


@app.command()
def serve(
    demo: Annotated[bool, typer.Option("--demo", help="Start with the made-up materials of Skerry Light.")] = False,
    data: Annotated[
        Path | None, typer.Option("--data", help="Folder for everything you make; the user's data folder otherwise.")
    ] = None,
    host: Annotated[str, typer.Option(help="Address to listen on; loopback unless told otherwise.")] = "127.0.0.1",
    port: Annotated[int, typer.Option(min=0, max=65535, help="Port; 0 takes a free one.")] = 8321,
) -> None:
    """Start the application and print its address."""
    from silent_loom.web.serve import serve as run

    run(data=data, demo=demo, host=host, port=port)


def main() -> None:
    """Entry point."""
    try:
        app(standalone_mode=False)
    except LoomError as error:
        print(f"error: {error}", file=sys.stderr)
        sys.exit(1)
    except typer.Exit as done:
        sys.exit(done.exit_code)
    except typer.Abort:
        print("error: stopped", file=sys.stderr)
        sys.exit(130)
    except KeyboardInterrupt:
        print("error: stopped", file=sys.stderr)
        sys.exit(130)
    except Exception as error:
        show = getattr(error, "format_message", None)  # the parser's own errors
        if show is not None:
            print(f"error: {' '.join(str(show()).split())}", file=sys.stderr)
            sys.exit(getattr(error, "exit_code", 2))
        print(
            f"error: {type(error).__name__}: {' '.join(str(error).split())}. This is a fault of Silent Loom; please report it.",
            file=sys.stderr,
        )
        sys.exit(70)
