"""A first start, with nothing compiled: seconds until the address, the library, a picture, a moving control, every tool.

Run with `python -m bench.first_start`, on a machine that does nothing else.
"""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tempfile
import time
import urllib.request
from typing import Any

AIMS = {"address": 10, "library": 10, "picture": 60, "control": 60, "every tool": 120}


def ask(url: str, body: dict[str, Any] | None = None) -> bytes:
    data = None if body is None else json.dumps(body).encode()
    request = urllib.request.Request(url, data, {"content-type": "application/json"})
    with urllib.request.urlopen(request, timeout=600) as answer:
        return bytes(answer.read())


def first_start(kept: str, data: str) -> dict[str, float]:
    """Seconds from the command on, in the order in which they pass; ``kept`` is where machine code lies."""
    started, found = time.perf_counter(), {}
    server = subprocess.Popen(
        [sys.executable, "-m", "silent_loom", "serve", "--demo", "--data", data, "--port", "0"],
        stdout=subprocess.PIPE,
        text=True,
        env={**os.environ, "NUMBA_CACHE_DIR": kept},
    )

    def passed(what: str) -> None:
        found[what] = time.perf_counter() - started

    try:
        assert server.stdout is not None
        address = re.search(r"http://[\d.]+:\d+", server.stdout.readline())
        assert address is not None
        passed("address")
        at = address.group(0)
        while len(materials := json.loads(ask(f"{at}/api/materials"))["materials"]) < 4:
            time.sleep(0.05)
        passed("library")
        one = f"{at}/api/materials/{materials[0]['id']}"
        ask(f"{one}/map", {"thread": "base", "size": 512})
        passed("picture")
        row = next(r for r in json.loads(ask(one))["weave"]["rows"] if r["step"] == "height")
        ask(f"{one}/form", {"size": 256, "step_id": row["id"], "settings": {"depth_mm": 5.0}})
        passed("control")
        while not json.loads(ask(f"{at}/api/preparing"))["done"]:
            time.sleep(0.2)
        passed("every tool")
    finally:
        server.terminate()
        server.wait(30)
    return found


def main() -> None:
    with tempfile.TemporaryDirectory() as kept, tempfile.TemporaryDirectory() as data:
        for name, aims in (("first start, nothing compiled", AIMS), ("second start", {"library": 2})):
            print(name)
            for what, seconds in first_start(kept, data).items():
                aim = f"  (aim {aims[what]} s, ratio {seconds / aims[what]:.2f})" if what in aims else ""
                print(f"  {what:12s} {seconds:6.1f} s{aim}")


if __name__ == "__main__":
    main()
