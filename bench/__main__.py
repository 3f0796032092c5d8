"""One run, every ratio. Absolute seconds are printed beside, for orientation only."""

from __future__ import annotations

import argparse
import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import OpenImageIO as oiio

from bench.plain import plain_set
from silent_loom.core.delivery.files import deliver, deliver_as_made
from silent_loom.core.delivery.shelf import profile
from silent_loom.core.files import read
from silent_loom.core.ways.derive import Wish, derive
from silent_loom.core.ways.prepare import prepare
from silent_loom.core.ways.sources import FileSources, digest_of
from silent_loom.core.ways.starting import Start, weave_for
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.demo.photos import take
from silent_loom.demo.shots import Shot

MAPS = ("base", "height", "normal", "roughness", "metallic", "occlusion")
SHOT = Shot("slate", (1500, 1125), tilt_deg=14, pan_deg=6, focal=1.0, exposure=0.24)


def photo_12mp(folder: Path) -> tuple[Path, np.ndarray]:
    """A 4000 × 3000 JPEG and its corners; enlarged from half the size, with fresh sensor noise, to be quick to make."""
    import cv2

    path = folder / "deck.jpg"
    shot = take(SHOT, 2000, 1500)
    big = cv2.resize(shot.pixels, (4000, 3000), interpolation=cv2.INTER_CUBIC).astype(np.float32)
    big += np.random.default_rng(1).normal(0, 2.0, big.shape).astype(np.float32)
    from PIL import Image as Pillow

    Pillow.fromarray(np.clip(big, 0, 255).astype(np.uint8)).save(path, "JPEG", quality=92)
    return path, shot.corners * 2 + 0.5


def yardstick(files: Path, out: Path) -> tuple[float, int]:
    """The same files through OpenImageIO, PNG level 4, two threads: seconds and bytes."""
    jobs = []
    for path in sorted(files.glob("*.png")):
        source = oiio.ImageInput.open(str(path))
        spec = source.spec()
        kind = str(spec.format)
        jobs.append((out / path.name, source.read_image(kind), kind))
        source.close()

    def one(job: tuple[Path, np.ndarray, str]) -> None:
        path, pixels, kind = job
        spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], pixels.shape[2], kind)
        spec.attribute("png:compressionLevel", 4)
        writer = oiio.ImageOutput.create(str(path))
        writer.open(str(path), spec)
        writer.write_image(pixels)
        writer.close()

    jobs.sort(key=lambda j: -j[1].nbytes)
    start = time.perf_counter()
    with ThreadPoolExecutor(2) as pool:
        list(pool.map(one, jobs))
    return time.perf_counter() - start, sum(p.stat().st_size for p in out.iterdir())


def derive_set(path: Path, corners: np.ndarray, size: int, out: Path) -> dict[str, float]:
    """Seconds from the decoded photo to closed files, the share of encoding, and bytes."""
    picture, digest = read(path), digest_of(path)
    picture.samples.sum()
    start = time.perf_counter()
    sources = FileSources(lambda d: (path, path.name, picture.format))
    sources.remember(digest, picture)
    weave = weave_for(picture, path, digest, Start(corners=corners, extent_mm=1500))
    evaluator = Evaluator(sources, Cache(700 << 20))
    meanings = evaluator.plan(weave).threads
    deliver_as_made(out, "deck", MAPS, lambda m: evaluator.ask(weave, m, size), profile("plain"), meanings=meanings)
    end = time.perf_counter()
    maps = {m: evaluator.ask(weave, m, size) for m in MAPS}
    again = time.perf_counter()
    deliver(out.with_name(out.name + "-again"), "deck", maps, profile("plain"), depth_mm=10)
    encode = time.perf_counter() - again
    return {
        "seconds": end - start,
        "encode": encode,
        "bytes": sum(p.stat().st_size for p in out.glob("*.png")),
        "pixels": maps["base"].width * maps["base"].height,
    }


def step_seconds(path: Path, corners: np.ndarray, size: int) -> dict[str, float]:
    """Seconds that each step takes at a size (decisions, which have one size, apart), with nothing encoded beside it."""
    picture, digest = read(path), digest_of(path)
    sources = FileSources(lambda d: (path, path.name, picture.format))
    sources.remember(digest, picture)
    weave = weave_for(picture, path, digest, Start(corners=corners, extent_mm=1500))
    evaluator = Evaluator(sources, Cache(700 << 20))
    for m in MAPS:
        evaluator.ask(weave, m, size)
    names = {e.id: e.step for e in weave.steps}
    steps: dict[str, float] = {}
    for key, spent in evaluator.costs.seconds.items():
        if not key.endswith(":decide"):
            step = f"step {names[key.split(':')[0]]}"
            steps[step] = steps.get(step, 0.0) + spent
    return steps


def memory_floor(pixels: int) -> float:
    """Seconds to read and write every sample of the six float maps once: nothing can be quicker."""
    a = np.ones(pixels * 10, np.float32)
    b = np.empty_like(a)
    np.copyto(b, a)
    start = time.perf_counter()
    for _ in range(3):
        np.copyto(b, a)
    return (time.perf_counter() - start) / 3


def alone(size: int, path: Path, corners: np.ndarray) -> dict[str, float]:
    """`derive_set` in a process of its own: its peak memory, kernels warm."""
    done = subprocess.run(
        [sys.executable, "-m", "bench", "--one", str(size), str(path), json.dumps(corners.tolist())],
        capture_output=True,
        text=True,
        check=True,
        env={**os.environ},
    )
    return dict(json.loads(done.stdout.splitlines()[-1]))


def peak_gib() -> float:
    """High-water mark of this process; not `ru_maxrss`, which starts from the parent's."""
    status = Path("/proc/self/status").read_text()
    return int(next(line for line in status.splitlines() if line.startswith("VmHWM")).split()[1]) / 2**20


def best(count: int, work: object) -> dict[str, float]:
    runs = [work() for _ in range(count)]  # type: ignore[operator]
    return min(runs, key=lambda r: r["seconds"])


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--one", nargs=3)
    parser.add_argument("--largest", type=int, default=4096)
    given = parser.parse_args()
    if given.one:
        prepare()
        with tempfile.TemporaryDirectory() as folder:
            size, path, corners = int(given.one[0]), Path(given.one[1]), np.array(json.loads(given.one[2]))
            made = derive_set(path, corners, size, Path(folder) / "set")
        peak = peak_gib()
        tries = [step_seconds(path, corners, size) for _ in range(3)]
        print(json.dumps({**made, "peak_gib": peak, **{k: min(t[k] for t in tries) for k in tries[0]}}))
        return
    prepare()
    root = Path(tempfile.mkdtemp(prefix="loom-bench-"))
    try:
        path, corners = photo_12mp(root)
        count = iter(range(10_000))

        def once(size: int) -> dict[str, float]:
            return derive_set(path, corners, size, root / f"s{next(count)}")

        ours = best(3, lambda: once(2048))
        files = max((p for p in root.iterdir() if p.is_dir()), key=lambda p: p.stat().st_mtime)

        def measure_yard() -> dict[str, float]:
            out = root / f"y{next(count)}"
            out.mkdir()
            seconds, size = yardstick(files, out)
            return {"seconds": seconds, "bytes": size}

        yard = best(3, measure_yard)
        pixels = read(path).samples

        def measure_plain() -> dict[str, float]:
            out = root / f"p{next(count)}"
            out.mkdir()
            start = time.perf_counter()
            plain_set(pixels, corners, (2048, 1536), out)
            return {"seconds": time.perf_counter() - start}

        plain = best(2, measure_plain)
        floor = memory_floor(2048 * 1536)
        print("A set of six maps at 2048, from a decoded 12-megapixel JPEG to closed files")
        print(
            f"  against the encoding yardstick     {ours['seconds'] / yard['seconds']:.2f}   (at most 2.0; {ours['seconds']:.2f} s over {yard['seconds']:.2f} s)"
        )
        print(f"  size of the files against its own  {ours['bytes'] / yard['bytes']:.2f}   (at most 1.1)")
        print(f"  encoding alone, of that            {ours['encode'] / ours['seconds']:.2f}   (it runs beside the computing)")
        print(
            f"  a plain script takes               {plain['seconds'] / ours['seconds']:.2f} times as long ({plain['seconds']:.2f} s; single cross-fade, marched occlusion)"
        )
        print(f"  against memory bandwidth           {ours['seconds'] / floor:.0f} times one read and write of every sample")
        start = time.perf_counter()
        report = derive(path, root / "d", Start(corners=corners, extent_mm=1500), Wish(size=2048, report=True))
        print(
            f"  derive with its report, warm       {time.perf_counter() - start:.2f} s  (of which measuring {report['seconds']['measure']:.2f} s)"
        )
        print("Cost a pixel against 1024, lengths in mm held; each in a process of its own")
        sizes = [s for s in (512, 1024, 2048, 4096) if s <= given.largest]
        runs = {s: alone(s, path, corners) for s in sizes}
        unit = {k: v / runs[1024]["pixels"] for k, v in runs[1024].items()}
        for s in sizes:
            r = runs[s]
            grown = {k: r[k] / r["pixels"] / unit[k] for k in r if k.startswith("step ") and runs[1024][k] > 1e-3}
            worst = max(grown, key=lambda k: grown[k])
            print(
                f"  {s:5d}  whole set {r['seconds'] / r['pixels'] / unit['seconds']:.2f}   worst step {worst[5:]} {grown[worst]:.2f}   peak {r['peak_gib']:.2f} GiB   {r['seconds']:.2f} s"
            )
    finally:
        shutil.rmtree(root, ignore_errors=True)


if __name__ == "__main__":
    main()
