"""Commands. Errors go to standard error in one line; exit code 0 only on success."""

from __future__ import annotations

import gc
import json
import os
import sys
import warnings
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, NoReturn, TextIO

import numpy as np
import typer

from silent_loom.cli.common import app, count, loaded, progress, sayable, tell_troubles
from silent_loom.core.base.errors import LoomError, SettingError, refusal

if TYPE_CHECKING:
    from silent_loom.core.weave.rows.model import Weave


class _Unsaid(Exception):
    """Standard output could not be written."""

    def __init__(self, error: OSError) -> None:
        self.error = error


def _watch(stream: TextIO) -> None:
    """Let what a stream refuses be told from what a file does: a message of the system names neither."""
    write, flush = stream.write, stream.flush

    def watched_write(text: str) -> int:
        try:
            return write(text)
        except OSError as error:
            raise _Unsaid(error) from None

    def watched_flush() -> None:
        try:
            flush()
        except OSError as error:
            raise _Unsaid(error) from None

    stream.write, stream.flush = watched_write, watched_flush  # type: ignore[method-assign]


def _our_words_only() -> None:
    """Let nothing but our own lines reach standard error: image libraries write warnings there themselves, past Python."""
    warnings.simplefilter("ignore")
    if sys.stderr is None:
        return
    try:
        own = os.dup(2)
        nowhere = os.open(os.devnull, os.O_WRONLY)
        sys.stderr.flush()
        os.dup2(nowhere, 2)
        os.close(nowhere)
    except OSError:  # closed by the caller
        return
    sys.stderr = os.fdopen(own, "w", buffering=1, encoding=sys.stderr.encoding, errors="backslashreplace")


def _leave() -> NoReturn:
    """End at once after a command that wrote and closed all it had to: to give back one by one what hundreds of modules
    hold takes a third of a second, and the system does it for nothing."""
    sys.stdout.flush()
    tell_troubles()  # nothing registered for the end is called
    try:
        sys.stderr.flush()
    except OSError:  # nobody reads any more
        os._exit(1)
    os._exit(0)


def _unsaid(error: OSError) -> NoReturn:
    """End after standard output could not be written: without a word where nobody reads any more."""
    if not isinstance(error, BrokenPipeError):
        print(f"error: standard output cannot be written ({error.strerror}). Let it go elsewhere.", file=sys.stderr, flush=True)
    os._exit(1)  # the interpreter would try to write what is left, and fail again


class ReliefFrom(StrEnum):
    """What form is read from."""

    light = "light"
    brightness = "brightness"


class SeamlessMethod(StrEnum):
    cut = "cut"
    fade = "fade"
    gradient = "gradient"
    motif = "motif"
    mirror = "mirror"
    suggested = "suggested"
    none = "none"


Maps = Annotated[list[Path], typer.Argument(help="Maps of one surface; the first guides the others.", show_default=False)]
Folder = Annotated[Path, typer.Option("--out", help="Folder for the files; new or empty.", show_default=False)]
Normals = Annotated[list[Path] | None, typer.Option("--normal", help="A file that is a normal map; may be given again.")]
Force = Annotated[
    bool, typer.Option("--force", help="Write beside what is in the folder; only an earlier run's own files are replaced.")
]
Report = Annotated[Path | None, typer.Option(help="Write figures there, as JSON.")]


def _corners(text: str) -> np.ndarray[Any, Any]:
    try:
        numbers = [float(v) for v in text.replace(" ", "").split(",")]
    except ValueError:
        numbers = []
    if len(numbers) != 8 or not np.isfinite(numbers).all():
        raise SettingError("eight numbers are needed", "--corners", "x1,y1,x2,y2,x3,y3,x4,y4, clockwise from top left.")
    return np.array(numbers).reshape(4, 2)


def _tell(made: dict[str, Any], report: Path | None) -> None:
    """The report where one is wanted, and notes on standard error."""
    if report is not None:
        _write_report(report, made)
    for note in made["notes"]:
        print(f"note: {note}", file=sys.stderr)


def _check_report(path: Path | None) -> None:
    """Before hours of work: that a report can be written at all."""
    if path is None:
        return
    folder = path.absolute().parent
    if path.is_dir():
        raise LoomError("this is a folder", str(path), "Name a file for the report.")
    if not folder.is_dir():
        raise LoomError("there is no such folder for the report", str(folder), "Make it, or name another.")
    if not os.access(folder, os.W_OK):
        raise LoomError("the report cannot be written there", str(path), "Check the rights of the folder, or name another.")


def _write_report(path: Path, report: dict[str, Any]) -> None:
    from silent_loom.core.files.place import drop, place

    partial = path.with_name(f".{path.name}.part")
    try:
        partial.write_text(json.dumps(sayable(report), indent=2, ensure_ascii=False) + "\n", "utf-8")
        place(partial, path, replace=True)
    except OSError as error:
        raise refusal(error, str(path)) from None
    finally:
        drop(partial)


def _woven(path: Path, pairs: list[str], said: bool) -> Weave:
    """A saved weave with what was set of it; whatever a weave says itself is not said beside it."""
    from silent_loom.core.ways.woven import pairs_from, read_weave, with_pairs

    if said:
        raise SettingError("a weave says this itself", "--weave", "Change it by --set, for example --set height.depth_mm=4.")
    return with_pairs(read_weave(path), pairs_from(pairs))


def _tell_set(made: dict[str, Any], out: Path, report: Path | None) -> None:
    """What came of a photo: figures into a file, notes and a line on the terminal."""
    if report is not None:
        _write_report(report, made)
    for warning in made["warnings"]:
        print(f"note: {warning}", file=sys.stderr)
    print(f"{count(made['files'])} of {made['size'][0]} × {made['size'][1]} in {out} ({made['seconds']['total']:.1f} s)")


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
    repeats: Annotated[bool, typer.Option("--repeats", help="Crop to a whole number of repeats of the motif.")] = False,
    light_from: Annotated[
        float | None,
        typer.Option(
            metavar="DEG",
            help="Where the light on the photo came from, as seen on the straightened sheet: 0 from the right, 90 from the top. "
            "Without it brightness alone is read as height, and light with less certainty.",
        ),
    ] = None,
    relief: Annotated[
        ReliefFrom, typer.Option(help="Take dark for deep, or read form and colour from the light on the photo.")
    ] = ReliefFrom.brightness,
    profile: Annotated[str, typer.Option(help="What the receiver wants; 'silent-loom profiles' lists them.")] = "plain",
    set_: Annotated[
        list[str] | None,
        typer.Option(
            "--set",
            metavar="STEP.SETTING=VALUE",
            help="Any setting of any step; in a weave by path, group/step.setting or group.dial. May be given again.",
        ),
    ] = None,
    weave: Annotated[
        Path | None, typer.Option("--weave", help="Put the photo through a saved weave (JSON, as the bench gives it).")
    ] = None,
    maps: Annotated[
        str | None,
        typer.Option(
            metavar="NAME,NAME,…",
            help="Write these maps alone: base, height, normal, roughness, metallic, occlusion, bent_normal, specular, opacity, "
            "emission, curvature, cavity, ridge, wear, slope, facing, thickness, id, joint, border, random, gradient, "
            "orientation.",
        ),
    ] = None,
    name: Annotated[str | None, typer.Option(help="First part of the file names; the photo's name otherwise.")] = None,
    report: Annotated[Path | None, typer.Option(help="Write figures and times there, as JSON.")] = None,
    force: Annotated[
        bool,
        typer.Option("--force", help="Write beside what is in the folder; only an earlier run's own files are replaced."),
    ] = False,
) -> None:
    """Derive a whole map set from a photo."""
    _check_report(report)
    from silent_loom.core.files import read_ahead

    reading = read_ahead(photo)  # decoded while the rest of the program is still being loaded
    from silent_loom.core.base.parallel import Task
    from silent_loom.core.delivery.names import file_name
    from silent_loom.core.ways.derive import Wish
    from silent_loom.core.ways.derive import derive as run
    from silent_loom.core.ways.starting import Start, settings_from

    said = corners is not None or square or repeats
    said = said or (seamless, extent_mm, depth_mm, light_from, relief.value) != (SeamlessMethod.cut, 1000, 10, None, "brightness")
    woven = None if weave is None else _woven(weave, set_ or [], said)
    start = Start(
        corners=None if corners is None else _corners(corners),
        extent_mm=extent_mm,
        depth_mm=depth_mm,
        seamless=None if seamless is SeamlessMethod.none else seamless.value,
        square=square,
        light_from=light_from,
        relief=relief.value,
        settings=settings_from(set_ or []) if woven is None else {},
    )
    named = [m.strip() for m in (maps or "").split(",") if m.strip()]
    wish = Wish(size, profile, named, None if name is None else file_name(name), repeats, report is not None)
    with progress() as say:
        made = run(photo, out, start, wish, woven=woven, force=force, reading=reading, task=Task(progress=say))
    _tell_set(made, out, report)


@app.command()
def seamless(
    files: Maps,
    out: Folder,
    method: Annotated[SeamlessMethod, typer.Option(help="How the edges are made to meet.")] = SeamlessMethod.suggested,
    overlap: Annotated[float, typer.Option(min=0.02, max=0.5, help="Part of the sheet that is laid over itself.")] = 0.2,
    overlap_y: Annotated[
        float | None, typer.Option(min=0.02, max=0.5, help="Part of the height that is laid over itself, where it differs.")
    ] = None,
    fit_overlap: Annotated[
        bool, typer.Option("--fit-overlap", help="Fit the overlaps so that whatever runs along the edges meets itself.")
    ] = False,
    bend: Annotated[
        bool | None,
        typer.Option(
            "--bend/--no-bend", help="Bend both ends of an overlap so that joints meet; by default only where it helps."
        ),
    ] = None,
    normal: Normals = None,
    report: Report = None,
    force: Force = False,
) -> None:
    """Make maps seamless, all moved alike."""
    _check_report(report)
    from silent_loom.core.base.parallel import Task
    from silent_loom.core.ways.sets import seamless_files

    if method is SeamlessMethod.none:
        raise SettingError("there is nothing to do", "--method none", "Choose cut, fade, gradient, motif, mirror or suggested.")
    with progress() as say:
        made = seamless_files(
            files,
            out,
            method=method.value,
            overlap=overlap,
            overlap_y=overlap_y,
            fit_overlap=fit_overlap,
            bend=bend,
            normals=normal or [],
            force=force,
            task=Task(progress=say),
        )
    _tell(made, report)
    if made["why"]:
        print(made["why"])
    worst = max(made["seam_x_after"], made["seam_y_after"])
    kept = min(made["contrast_x_after"], made["contrast_y_after"])
    size = f"{made['size'][0]} × {made['size'][1]}"
    print(f"{count(made['files'])} of {size} in {out}, {made['method']}, seam {worst:.2f}, local contrast {100 * kept:.0f} %")


@app.command("break-up")
def break_up(
    files: Maps,
    out: Folder,
    repeat: Annotated[str, typer.Option(help="Repeats across and down that the larger sheet holds.")] = "4x4",
    seed: Annotated[int, typer.Option(min=0, max=2**31 - 1, help="Another seed, another arrangement.")] = 7,
    cell_mm: Annotated[float, typer.Option("--cell-mm", min=0, max=1e6, help="Width of a cell; half a repeat by default.")] = 0.0,
    turn_deg: Annotated[float, typer.Option("--turn-deg", min=0, max=180, help="Cells are turned by up to this much.")] = 0.0,
    cells: Annotated[str, typer.Option(help="irregular or hexagons.")] = "irregular",
    width_mm: Annotated[float, typer.Option(min=0.01, help="Real width of one repeat.")] = 1000.0,
    normal: Normals = None,
    report: Report = None,
    force: Force = False,
) -> None:
    """Break the repetition of seamless maps: a larger sheet of irregular pieces, all maps alike."""
    _check_report(report)
    from silent_loom.core.base.parallel import Task
    from silent_loom.core.ways.sets import break_up_files

    across, _, down = repeat.lower().replace("×", "x").partition("x")
    if not (across.isdigit() and down.isdigit() and 1 <= int(across) <= 64 and 1 <= int(down) <= 64):
        raise SettingError("this is not a number of repeats", f"--repeat {repeat}", "For example: --repeat 4x4")
    if cells not in ("irregular", "hexagons"):
        raise SettingError("there are no such cells", f"--cells {cells}", "Choose irregular or hexagons.")
    with progress() as say:
        made = break_up_files(
            files,
            out,
            repeat=(int(across), int(down)),
            seed=seed,
            cell_mm=cell_mm,
            turn_deg=turn_deg,
            cells=cells,
            width_mm=width_mm,
            normals=normal or [],
            force=force,
            task=Task(progress=say),
        )
    _tell(made, report)
    print(f"{count(made['files'])} of {made['size'][0]} × {made['size'][1]} in {out}, {made['cells']} cells")


@app.command()
def grow(
    files: Maps,
    out: Folder,
    times: Annotated[str, typer.Option(help="How many times as wide and as high.")] = "2x2",
    seed: Annotated[int, typer.Option(min=0, max=2**31 - 1, help="Another seed, another arrangement.")] = 7,
    piece: Annotated[float, typer.Option(min=0.1, max=0.8, help="Width of a piece; part of the shorter side.")] = 0.4,
    wraps: Annotated[bool, typer.Option("--wraps", help="The files repeat already.")] = False,
    normal: Normals = None,
    report: Report = None,
    force: Force = False,
) -> None:
    """Grow a larger, seamless sheet that does not repeat from pieces of the files, all maps alike."""
    _check_report(report)
    from silent_loom.core.base.parallel import Task
    from silent_loom.core.ways.sets import grow_files

    try:
        across, down = (float(v) for v in times.lower().replace("×", "x").split("x"))
    except ValueError:
        raise SettingError("these are not two numbers", f"--times {times}", "For example: --times 2x1.5") from None
    with progress() as say:
        made = grow_files(
            files,
            out,
            times=(across, down),
            seed=seed,
            piece=piece,
            wraps=wraps,
            normals=normal or [],
            force=force,
            task=Task(progress=say),
        )
    _tell(made, report)
    worst = max(made["seam_x_after"], made["seam_y_after"])
    print(f"{count(made['files'])} of {made['size'][0]} × {made['size'][1]} in {out}, {made['pieces']} pieces, seam {worst:.2f}")


@app.command()
def prepare() -> None:
    """Compile everything ahead, once after installing; whatever is asked for first does so by itself."""
    from silent_loom.core.ways.prepare import prepare as run

    with progress() as say:
        seconds = run(lambda done, words: say(done, words) if say else None)
    print(f"everything is ready ({seconds:.0f} s)")


@app.command()
def serve(
    demo: Annotated[bool, typer.Option("--demo", help="Start with the made-up materials of Skerry Light.")] = False,
    data: Annotated[
        Path | None, typer.Option("--data", help="Folder for everything you make; the user's data folder otherwise.")
    ] = None,
    host: Annotated[str, typer.Option(help="Address to listen on; loopback by default.")] = "127.0.0.1",
    port: Annotated[int, typer.Option(min=0, max=65535, help="Port; 0 takes a free one.")] = 8321,
) -> None:
    """Start the application and print its address."""
    from silent_loom.web.serve import serve as run

    loaded()
    run(data=data, demo=demo, host=host, port=port)
    raise typer.Exit  # in order: threads and files of a server are many


def main() -> None:
    """Entry point."""
    try:
        _run()
    except _Unsaid as unsaid:
        _unsaid(unsaid.error)


def _run() -> None:
    if sys.stdout is None:  # closed by the caller, who does not want to hear
        sys.stdout = open(os.devnull, "w")  # noqa: SIM115
    _watch(sys.stdout)
    _our_words_only()
    from silent_loom.cli import changing, delivering, facts, flattening, looking, models, patterns, recipes  # noqa: F401 - their commands come after those above

    gc.disable()  # hundreds of modules are loaded, and nothing of them is garbage: looking takes a tenth of their time
    try:
        code = app(standalone_mode=False)  # of what a command ended itself with, else None
    except LoomError as error:
        print(f"error: {error}", file=sys.stderr)
        sys.exit(1)
    except _Unsaid:
        raise
    except OSError as error:
        print(f"error: {refusal(error)}", file=sys.stderr)
        sys.exit(1)
    except MemoryError:
        print("error: there is not enough memory for this. Ask for fewer texels.", file=sys.stderr)
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
    if code is None:
        _leave()
    sys.exit(code)
