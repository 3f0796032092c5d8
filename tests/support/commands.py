"""The command line as a shell runs it, each command a process of its own, forked from one that has everything loaded.

Starting an interpreter and loading what a command needs takes longer than most commands of tests do.
"""

from __future__ import annotations

import multiprocessing
import os
import signal
import subprocess
import sys
import tempfile
from pathlib import Path

_FORKS = multiprocessing.get_context("forkserver")
_FORKS.set_forkserver_preload(["tests.support.preloaded"])


def loom(*words: object, timeout: float = 300.0) -> subprocess.CompletedProcess[str]:
    """Run ``silent-loom`` with these words; what it wrote, and its exit code."""
    told = [str(w) for w in words]
    with tempfile.TemporaryDirectory(prefix="loom-") as folder:
        streams = Path(folder, "out"), Path(folder, "err")
        process = _FORKS.Process(target=_command, args=(told, *map(str, streams), os.getcwd(), dict(os.environ)))
        process.start()
        process.join(timeout)
        if process.exitcode is None:
            process.kill()
            raise subprocess.TimeoutExpired(told, timeout)
        out, err = (s.read_text("utf-8") if s.exists() else "" for s in streams)
        return subprocess.CompletedProcess(told, process.exitcode, out, err)


def _command(words: list[str], out: str, err: str, folder: str, environment: dict[str, str]) -> None:
    os.environ.clear()
    os.environ.update(environment)
    os.chdir(folder)
    signal.signal(signal.SIGINT, signal.default_int_handler)
    for number, path in ((1, out), (2, err)):
        to = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        os.dup2(to, number)
        os.close(to)
    sys.stdin = open(os.devnull)  # noqa: SIM115 - as long as the process lives
    sys.stdout, sys.stderr = (open(n, "w", encoding="utf-8", closefd=False) for n in (1, 2))  # noqa: SIM115
    sys.argv = ["silent-loom", *words]
    code = 0
    try:
        from silent_loom.cli import main

        main()
    except SystemExit as ended:
        code = ended.code if isinstance(ended.code, int) else (0 if ended.code is None else 1)
    finally:
        for stream in (sys.stdout, sys.stderr):
            stream.flush()
    os._exit(code)
