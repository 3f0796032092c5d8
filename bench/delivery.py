"""Deliveries: writing against plain encoding, a large set's memory, baked large and reduced, and what kills leave.

Run with ``python -m bench.delivery``; ``--memory`` and ``--kills`` for those alone.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import resource
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from bench.__main__ import yardstick
from silent_loom.core.delivery.baking.makers import How, maker
from silent_loom.core.delivery.files import Order, deliver
from silent_loom.core.delivery.reduce import lost, rougher
from silent_loom.core.delivery.shelf import profile
from silent_loom.core.files import read
from silent_loom.core.ways.bake import BakeOrder, bake
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import Weave
from silent_loom.demo.seed import seed
from silent_loom.store.store import Store

MAPS = ("base", "height", "normal", "roughness", "metallic", "occlusion")
PROFILES = ("plain", "mro")
FOLDER = Path(tempfile.gettempdir()) / "loom-bench-library"


def library() -> tuple[Store, dict[str, Weave]]:
    """The demo's materials, made once."""
    fresh = not (FOLDER / "loom.sqlite").exists()
    store = Store(FOLDER)
    if fresh:
        seed(store)
    return store, {s.name: s.weave for s in store.materials()}


def writing(size: int) -> None:
    store, weaves = library()
    weave = weaves["Keeper's roof slate"]
    evaluator = Evaluator(store.sources, Cache(4 << 30))
    plan = evaluator.plan(weave)
    maps = evaluator.ask_many(weave, MAPS, size)
    with tempfile.TemporaryDirectory() as raw:
        folder = Path(raw)
        began = time.perf_counter()
        for name in PROFILES:
            deliver(folder / name, "slate", maps, profile(name), meanings=plan.threads, order=Order(package=True))
        ours = time.perf_counter() - began
        plain = 0.0
        for name in PROFILES:
            (folder / f"{name}-again").mkdir()
            plain += yardstick(folder / name, folder / f"{name}-again")[0]
        print(
            f"two profiles of {size}², computed: {ours / plain:.2f} of the yardstick (at most 1.2; {ours:.2f} s over {plain:.2f} s)"
        )
        del maps
        fresh = Evaluator(store.sources, Cache(700 << 20), evaluator.decisions)
        began = time.perf_counter()
        bake(fresh, weave, profile("plain"), folder / "whole", "slate", BakeOrder(size))
        whole = time.perf_counter() - began
        (folder / "whole-again").mkdir()
        seconds, _ = yardstick(folder / "whole", folder / "whole-again")
        print(
            f"from the weave to closed files: {whole / seconds:.2f} of the yardstick (at most 2.0; {whole:.2f} s over {seconds:.2f} s)"
        )


def memory(size: int) -> None:
    code = (
        "from bench.delivery import library\nfrom pathlib import Path\nimport tempfile, resource\n"
        "from silent_loom.core.ways.bake import BakeOrder, bake\nfrom silent_loom.core.delivery.shelf import profile\n"
        "from silent_loom.core.weave.answers.cache import Cache\nfrom silent_loom.core.weave.answers.evaluate import Evaluator\n"
        "store, weaves = library()\n"
        "with tempfile.TemporaryDirectory() as f:\n"
        f"    bake(Evaluator(store.sources, Cache(700 << 20)), weaves[\"Keeper's roof slate\"], profile('plain'), Path(f) / 's', 'slate', BakeOrder({size}, memory=1 << 40))\n"
        "print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20)"
    )
    library()
    began = time.perf_counter()
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    print(f"a set of {size}²: {float(done.stdout.split()[-1]):.2f} GiB at most, {time.perf_counter() - began:.0f} s")


def reduced(size: int) -> None:
    store, weaves = library()
    for title, weave in weaves.items():
        evaluator = Evaluator(store.sources, Cache(2 << 30))
        small, large = maker(evaluator, weave, size, How()), maker(evaluator, weave, size, How(2, lost_length=False))
        told = []
        for name in MAPS:
            if name not in evaluator.plan(weave).threads:
                continue
            a, b = small(name).pixels, large(name).pixels
            if name == "normal":
                far = 2 * np.arctan2(np.linalg.norm(a - b, axis=2), np.linalg.norm(a + b, axis=2))
                told.append(f"normal {np.degrees(far).mean():.2f}°")
                continue
            span = evaluator.plan(weave).spec(name).depth
            if name == "roughness" and "normal" in evaluator.plan(weave).threads:
                n = evaluator.ask(weave, "normal", 2 * size)
                spread = lost(n, a.shape[1], a.shape[0])
                a, b = rougher(a, spread), rougher(b, spread)
            error = float(np.sqrt(np.square((a - b) / span).mean()))
            told.append(f"{name} {-20 * np.log10(max(error, 1e-9)):.0f} dB")
        print(f"{title}: {', '.join(told)}")


def kills(count: int) -> None:
    library()[0].close()
    chance = random.Random(11)
    half = 0
    for k in range(count):
        out = Path(tempfile.mkdtemp()) / "set"
        call = [
            sys.executable,
            "-m",
            "silent_loom",
            "bake",
            "Sailcloth",
            "--data",
            str(FOLDER),
            "--size",
            "1024",
            "--out",
            str(out),
        ]
        process = subprocess.Popen(call, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True)
        time.sleep(chance.uniform(0.5, 5.0))
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()
        for path in out.glob("*.png") if out.exists() else []:
            try:
                read(path)
            except Exception:
                half += 1
        done = subprocess.run([*call, "--force"], capture_output=True, text=True)
        listed = {f["file"] for f in json.loads((out / "manifest.json").read_text())["files"]} | {"manifest.json"}
        if done.returncode or listed != {p.name for p in out.iterdir()}:
            half += 1
            print(k, done.stderr, sorted(p.name for p in out.iterdir()))
        shutil.rmtree(out.parent)
    print(f"{count} kills: {half} half files or bakes that did not go on")


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--size", type=int, default=4096)
    for name in ("writing", "memory", "reduced", "kills"):
        parser.add_argument(f"--{name}", action="store_true")
    told = parser.parse_args()
    every = not (told.writing or told.memory or told.reduced or told.kills)
    if every or told.writing:
        writing(told.size)
    if every or told.reduced:
        reduced(512)
    if every or told.memory:
        memory(2 * told.size)
    if every or told.kills:
        kills(20)
    print(f"peak of this process {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20:.2f} GiB")


if __name__ == "__main__":
    main()
