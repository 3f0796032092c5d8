"""Models: what a bake costs beside its rays alone, and how long a model of a million triangles takes to read and check.

python -m bench.models [SIZE]
"""

from __future__ import annotations

import resource
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import over_rows
from silent_loom.core.delivery.models.writing import written_bytes
from silent_loom.core.form.bake.bake import Order, bake, sources
from silent_loom.core.form.bake.surface import Surface
from silent_loom.core.form.bake.targets import Target
from silent_loom.core.form.model import Model
from silent_loom.core.form.rays.scene import Scene
from silent_loom.core.form.reading.table import read_model
from silent_loom.core.form.uv.check import check
from silent_loom.core.form.uv.unwrap import UnwrapSettings, unwrapped
from silent_loom.demo.models import bollard, buoy

RAYS = 64
LOT = 1 << 19


def bare_rays(model: Model, size: int) -> float:
    """Seconds for as many rays as an occlusion of that size casts, from the same places, directions made beforehand."""
    surface = Surface(model, "", (size, size), 1, [])
    scene = Scene(model.corners)
    rng = np.random.default_rng(1)
    total = 0.0
    for band in surface.bands():
        at = (surface.place(band) - scene.middle).astype(np.float32)
        facing = surface.normal(band).astype(np.float32)
        each = LOT // RAYS
        for k in range(0, len(at), 2 * each):
            places, normals = (np.repeat(v[k : k + 2 * each], RAYS, 0) for v in (at, facing))
            way = rng.normal(size=places.shape).astype(np.float32)
            way /= np.linalg.norm(way, axis=1, keepdims=True)
            way += normals  # spread by the cosine
            way /= np.linalg.norm(way, axis=1, keepdims=True)
            places += np.float32(2e-5 * scene.reach) * normals
            began = time.perf_counter()
            over_rows(len(places), lambda a, b, p=places, w=way: scene.hidden(p[a:b], w[a:b]), least=LOT // 2, cost=0.01)  # type: ignore[misc]
            total += time.perf_counter() - began
    return total


def nothing(target: Target, image: Image) -> None:
    """What is baked is not kept."""


def main(size: int) -> None:
    light = unwrapped(buoy(), UnwrapSettings(size=1024))
    dense = buoy(11)
    print(f"dense mesh of {len(dense):,} triangles, light one of {len(light):,}")
    source = sources([dense])
    assert source is not None
    heavy = bollard(7)  # its own layout: islands touch and do not overlap
    print(f"a mesh of {len(heavy):,} triangles baked onto itself at {size}")
    bare = bare_rays(heavy, size)
    began = time.perf_counter()
    bake(heavy, None, Order(("occlusion",), (size, size), rays=RAYS), nothing)
    whole = time.perf_counter() - began
    print(f"occlusion, {RAYS} rays a texel: {whole:.1f} s, its rays alone {bare:.1f} s: {whole / bare:.2f}")
    began = time.perf_counter()
    bake(light, source, Order(("normal", "height", "occlusion"), (size, size), rays=RAYS), nothing)
    print(f"normal, height and occlusion of the dense mesh: {time.perf_counter() - began:.1f} s")
    print(f"memory at most {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20:.2f} GiB")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "million.glb"
        written_bytes(bollard(21), path)
        began = time.perf_counter()
        model = read_model(path)
        read = time.perf_counter() - began
        check(model)
        print(f"{len(model):,} triangles: read in {read:.1f} s, read and checked in {time.perf_counter() - began:.1f} s")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 2048)
