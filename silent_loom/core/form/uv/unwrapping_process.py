"""Unwraps in a process of its own: what xatlas cannot take ends that one, and a cancelled task ends it."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

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
    positions, triangles, laid = asked["positions"], asked["triangles"], asked["uvs"]
    if told["cut"]:
        positions, triangles, laid = _cut(positions, triangles, charts)
        charts = xatlas.ChartOptions()
        charts.use_input_mesh_uvs = True
    size = told["size"]
    a, b, c = (positions[triangles[:, k]].astype(float) for k in range(3))
    area = max(0.5 * float(np.linalg.norm(np.cross(b - a, c - a), axis=1).sum()), 1e-12)
    packing.texels_per_unit = float(np.sqrt(FULL * size**2 / area))
    best: tuple[float, np.ndarray] | None = None
    for _ in range(TIMES):
        atlas = xatlas.Atlas()
        atlas.add_mesh(positions, triangles, uvs=laid)
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


def _cut(positions: Any, triangles: Any, charts: Any) -> tuple[Any, Any, Any]:
    """Charts cut and made flat, each the right way round: places, triangles and UVs of a mesh that is cut along them."""
    import xatlas  # type: ignore[import-not-found, unused-ignore]
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    atlas = xatlas.Atlas()
    atlas.add_mesh(positions, triangles)
    atlas.generate(charts, xatlas.PackOptions())
    origin, faces, uvs = atlas[0]
    uvs = uvs * np.array([atlas.width, atlas.height], np.float32)
    pairs = np.concatenate([faces[:, :2], faces[:, 1:]])
    links = coo_matrix((np.ones(len(pairs), np.int8), (pairs[:, 0], pairs[:, 1])), shape=(len(uvs), len(uvs)))
    _, chart = connected_components(links, directed=False)
    flat = uvs[faces]
    d, e = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
    turned = np.bincount(chart[faces[:, 0]], d[:, 0] * e[:, 1] - d[:, 1] * e[:, 0], chart.max() + 1) < 0
    uvs = np.where(turned[chart][:, None], uvs * np.array([-1, 1], np.float32), uvs).astype(np.float32)
    return positions[origin], faces, uvs


if __name__ == "__main__":
    main(Path(sys.argv[1]))
