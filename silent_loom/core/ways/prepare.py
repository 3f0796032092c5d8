"""Compile all kernels ahead, in processes of their own, in the order in which the bench needs them.

A first start has about ninety of them to compile, a minute's work for two cores. None of that is done by the process that answers
the artist: what it needs before its turn it waits for, and what is there already it uses.
"""

from __future__ import annotations

import hashlib
import logging
import os
import subprocess
import sys
import threading
import time
from collections import deque
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import llvmlite.binding as llvm
import numba

from silent_loom.core.base import kernels
from silent_loom.core.base.parallel import WORKERS
from silent_loom.core.ways.compiling import types_of

log = logging.getLogger(__name__)

FIRST = (
    "moving.carry._warp3:0",
    "files.codes._look_up_half:0",
    "moving.resample._columns:0",
    "moving.resample._rows:0",
    "base.colour._weigh:0",
    "base.colour._lab:0",
    "steps.photo.light._scale:0",
    "tiling.cutting.contour._across:0",
    "tiling.cutting.contour._along:0",
    "tiling.cutting.layers._kept:0",
    "tiling.cutting.contour._apart:0",
    "tiling.cutting.contour._differing:0",
    "tiling.cutting.contour._strengths:0",
    "tiling.cutting.contour._widened:0",
    "tiling.cutting.contour._ending:0",
    "tiling.cutting.contour._aside:0",
    "tiling.cutting.contour._above:0",
    "tiling.cutting.cut._sweep:0",
    "tiling.cutting.cut._along_path:0",
    "tiling.cutting.meet._sweep:0",
    "tiling.joining.parted._shares:0",
    "tiling.joining.parted._count:0",
    "moving.slide._slide:0",
    "tiling.joining.wide._compose:0",
    "tiling.joining.wide._fine_moments:0",
    "moving.blocks._blocks:0",
    "tiling.cutting.cost._shut:0",
    "tiling.joining.strip.mask_of:0",
    "tiling.joining.strip._moments:0",
    "tiling.joining.strip._weigh_band:0",
    "tiling.joining.parted._gaps:0",
    "tiling.joining.parted._lacking:0",
    "files.codes._quantise:0",
    "screen.display._rgba:0",
    "base.colour._encode:0",
    "maps.stain._divide:0",
    "maps.sizes._add:0",
    "steps.maps.normal._normals:0",
    "maps.horizon._march:0",
    "maps.horizon._higher:0",
    "maps.horizon._between:0",
    "files.png._filter:0",
    "base.colour._lab_distance:0",
    "steps.maps.metallic._through:0",
)
"""Forms of kernels without which no picture of a new material can be shown, in the order in which one asks for them; the
others follow as they are found."""
LAST = ("patterns.", "steps.tone.ramp.")
"""How the names of those begin that come after all others."""


def everything_is_there() -> bool:
    """Whether an earlier preparation of these very sources was finished, on this machine."""
    try:
        return (kernels.folder() / "complete").read_text("utf-8") == _of_these_sources()
    except OSError:
        return False


def _of_these_sources() -> str:
    digest = hashlib.sha256(f"{numba.__version__} {llvm.get_host_cpu_name()} {sys.version}".encode())
    for path in sorted(kernels.CORE.rglob("*.py")):
        text = path.read_bytes()
        if b"silent_loom.core.base.kernels" in text or path.name == "kernels.py":
            digest.update(text)
    return digest.hexdigest()


class Preparation:
    """What is compiled ahead, and how far that is.

    Parameters
    ----------
    workers : int
        Processes that compile.
    """

    def __init__(self, workers: int = WORKERS) -> None:
        self._workers = max(1, workers)
        self._changed = threading.Condition()
        self._todo: deque[str] | None = None
        self._left: set[str] = set()
        self._of = 0
        self._running = 0
        self._ended = False
        self._processes: list[subprocess.Popen[str]] = []
        self.failed: dict[str, str] = {}
        self.seconds: dict[str, float] = {}

    # --- asking -------------------------------------------------------------------------------------------------

    @property
    def ended(self) -> bool:
        return self._ended

    def state(self) -> dict[str, int | bool]:
        """How many kernels there are (0 while nobody knows), how many are ready, and whether that was all."""
        with self._changed:
            return {"ready": self._of - len(self._left), "of": self._of, "done": self._ended}

    def wait(self, kernel: Any, signature: Any) -> None:
        """Until a kernel is compiled for these types; not where nobody does so, or nobody declared them."""
        wanted = tuple(signature)
        for i, form in enumerate(kernel.declared):
            if types_of(form) == wanted:
                self._until_ready(f"{kernels.name_of(kernel)}:{i}")

    def _until_ready(self, form: str) -> None:
        with self._changed:
            self._changed.wait_for(lambda: self._ended or (self._of > 0 and form not in self._left))

    def wait_for_first(self, timeout: float | None = None) -> bool:
        """Until pictures can be shown, or the seconds are over; whether they can be."""
        with self._changed:
            return self._changed.wait_for(lambda: self._ended or (self._of > 0 and not self._left & set(FIRST)), timeout)

    def wait_for_all(self, timeout: float | None = None) -> bool:
        with self._changed:
            return self._changed.wait_for(lambda: self._ended, timeout)

    # --- doing --------------------------------------------------------------------------------------------------

    def start(self) -> None:
        """Begin; nothing is to be done where an earlier preparation was finished."""
        if everything_is_there():
            self._end()
            return
        kernels.waiting = self.wait
        self._running = self._workers
        for _ in range(self._workers):
            threading.Thread(target=self._feed, name="preparing", daemon=True).start()

    def stop(self) -> None:
        """End the processes; whoever waits compiles for himself."""
        with self._changed:
            self._todo = deque()
        for process in self._processes:
            process.terminate()
        self._end()

    def _feed(self) -> None:
        """Give one process a name after another."""
        try:
            process = subprocess.Popen(
                [sys.executable, "-m", "silent_loom.core.ways.compiling"],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                text=True,
                cwd=Path(__file__).parents[3],
                env={**os.environ, "NUMBA_CACHE_DIR": str(kernels.folder())},
            )
            self._processes.append(process)
            assert process.stdin is not None
            assert process.stdout is not None
            self._begin(process.stdout.readline().split())
            while (name := self._next()) is not None:
                process.stdin.write(f"{name}\n")
                process.stdin.flush()
                said = process.stdout.readline().rstrip("\n").split("\t")
                self._finished(name, *(said[1:] if len(said) == 3 else ("it was ended", "0")))
                if len(said) != 3:
                    break
            process.stdin.close()
            process.wait()
        except OSError as error:
            log.warning("kernels cannot be compiled ahead: %s", error)
        finally:
            with self._changed:
                self._running -= 1
                last = self._running == 0
            if last and not self._ended:
                self._end()

    def _begin(self, names: Sequence[str]) -> None:
        with self._changed:
            if self._todo is None and names:
                # Patterns come last: nobody waits for them who brings a photo
                rest = sorted((n for n in names if n not in FIRST), key=lambda n: n.startswith(LAST))
                self._todo = deque([*(n for n in FIRST if n in names), *rest])
                self._left, self._of = set(self._todo), len(self._todo)
                self._changed.notify_all()

    def _next(self) -> str | None:
        with self._changed:
            return self._todo.popleft() if self._todo else None

    def _finished(self, name: str, said: str, seconds: str) -> None:
        with self._changed:
            self._left.discard(name)
            self.seconds[name] = float(seconds)
            if said != "done":
                self.failed[name] = said
                log.warning("%s was not compiled ahead: %s", name, said)
            self._changed.notify_all()

    def _end(self) -> None:
        complete = self._of > 0 and not self._left and not self.failed
        if complete:
            (kernels.folder() / "complete").write_text(_of_these_sources(), "utf-8")
        kernels.waiting = None
        with self._changed:
            self._ended = True
            self._left = set()
            self._changed.notify_all()


def prepare(say: Callable[[float, str], None] = lambda done, words: None) -> float:
    """Compile whatever is not compiled yet, and wait for it.

    Returns
    -------
    float
        Seconds it took.
    """
    started, work = time.perf_counter(), Preparation()
    work.start()
    while not work.wait_for_all(1.0):
        told = work.state()
        if told["of"]:
            say(told["ready"] / told["of"], f"{told['ready']} of {told['of']} kernels")
    return time.perf_counter() - started


if __name__ == "__main__":
    print(f"kernels are ready ({prepare():.0f} s)", flush=True)
