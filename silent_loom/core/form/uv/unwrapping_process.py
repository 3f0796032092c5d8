"""Unwraps in a process of its own: what xatlas cannot take ends that one, and a cancelled task ends it."""

from __future__ import annotations

import json
import sys
from pathlib import Path

import numpy as np

FULL = 0.5
"""Share of the square that islands are hoped to cover, to begin with."""
NEAR, TIMES = 0.975, 4
"""How nearly the square has to be used, and how often islands are scaled until it is."""


def main(folder: Path) -> None:
    """Read `asked.npz` and `settings.json` in a folder, write `made.npy`: UVs of corners, shape (T, 3, 2)."""
    import xatlas  # type: ignore[import-not-found, unused-ignore]

    asked = np.load(folder / "asked.npz")
    told = json.loads((folder / "settings.json").read_text("utf-8"))
    charts, packing = xatlas.ChartOptions(), xatlas.PackOptions()
    charts.max_cost, charts.straightness_weight, charts.roundness_weight = told["bend"], told["straight"], told["round"]
    charts.use_input_mesh_uvs = not told["cut"]
    packing.padding = -(-told["padding"] // 2)  # it lies around every island, so twice between two of them
    packing.rotate_charts = packing.rotate_charts_to_axis = told["turn"]
    packing.bruteForce, packing.bilinear = told["thorough"], True
    positions, triangles = asked["positions"], asked["triangles"]
    a, b, c = (positions[triangles[:, k]].astype(float) for k in range(3))
    area = max(0.5 * float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum()), 1e-12)
    size = told["size"]
    packing.texels_per_unit = float(np.sqrt(FULL * size**2 / area))
    best: tuple[float, np.ndarray] | None = None
    for _ in range(TIMES):
        atlas = xatlas.Atlas()
        atlas.add_mesh(positions, triangles, uvs=asked["uvs"] if len(asked["uvs"]) else None)
        atlas.generate(charts, packing)
        _, faces, uvs = atlas[0]
        side = max(atlas.width, atlas.height)
        flat = (uvs * np.array([atlas.width, atlas.height]) / max(side, size))[faces.reshape(-1, 3)]
        d, e = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
        twice = d[:, 0] * e[:, 1] - d[:, 1] * e[:, 0]
        if twice.sum() < 0:  # rows of its picture go down, v goes up
            flat[..., 1] = 1 - flat[..., 1]
        full = float(np.abs(twice).sum()) if side <= size else 0.5 * float(np.abs(twice).sum())  # else padding would shrink
        if best is None or full > best[0]:
            best = full, flat
        if NEAR * size <= side <= size:
            break
        packing.texels_per_unit *= 0.99 * size / side
    assert best is not None
    np.save(folder / "made.npy", best[1])


if __name__ == "__main__":
    main(Path(sys.argv[1]))
