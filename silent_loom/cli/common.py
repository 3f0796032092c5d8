"""What every command needs: the program itself, progress, and words for what is told."""

from __future__ import annotations

import atexit
import gc
import math
import sys
from collections.abc import Callable, Iterator, Sized
from contextlib import contextmanager
from typing import Annotated, Any

import typer

app = typer.Typer(
    add_completion=False,
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    help="From one photo to a complete, seamless, physically based map set.",
)

Json = Annotated[bool, typer.Option("--json", help="Print JSON.")]


def loaded() -> None:
    """Collect garbage again: see `main`."""
    gc.freeze()
    atexit.register(gc.unfreeze)  # where something went wrong everything is given back in order
    gc.enable()
    atexit.register(tell_troubles)


def tell_troubles() -> None:
    """Files of the program that could not be loaded, a line each."""
    from silent_loom.core.base.troubles import troubles

    for words in troubles():
        print(f"note: {words}", file=sys.stderr)


@contextmanager
def progress() -> Iterator[Callable[[float, str], None] | None]:
    """A bar on standard error where somebody sees it; nothing, not even its import, in a pipe."""
    loaded()
    if not sys.stderr.isatty():
        yield None
        return
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

    columns = TextColumn("{task.description}"), BarColumn(), TimeElapsedColumn()
    with Progress(*columns, console=Console(stderr=True), transient=True) as bar:
        line = bar.add_task("starting", total=1.0)
        yield lambda f, words: bar.update(line, completed=f, description=words or "working")


def sayable(value: Any) -> Any:
    """A value for JSON, which knows no number that is none."""
    if isinstance(value, dict):
        return {k: sayable(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [sayable(v) for v in value]
    return None if isinstance(value, float) and not math.isfinite(value) else value


def count(files: Sized) -> str:
    return "1 file" if len(files) == 1 else f"{len(files)} files"
