"""How well a network reads sheets of families that it never saw, beside brightness and the linear integral."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.srgb import decode_table
from silent_loom.core.reading.inputs import integral, logarithms, shown
from silent_loom.core.reading.network import BANDS, OUTPUTS, OnnxNetwork
from tools.training.samples import TARGETS

Plane = NDArray[np.float32]
KINDS = ("sun, told", "sun, not told", "overcast")


def alike(a: Plane, b: Plane) -> float:
    """Correlation of two planes; 0 where one of them is even."""
    if min(float(a.std()), float(b.std())) < 1e-6:
        return 0.0
    return float(np.corrcoef(a.ravel(), b.ravel())[0, 1])


def band(plane: Plane, a: float, b: float) -> Plane:
    """What lies between two Gaussians."""
    return cv2.GaussianBlur(plane, (0, 0), a) - cv2.GaussianBlur(plane, (0, 0), b)


def degrees(x: Plane, y: Plane, nx: Plane, ny: Plane) -> float:
    """Mean angle between normals that are given by their parts."""
    z, nz = (np.sqrt(np.clip(1 - a * a - b * b, 0, 1)) for a, b in ((x, y), (nx, ny)))
    return float(np.degrees(np.arccos(np.clip(x * nx + y * ny + z * nz, -1, 1))).mean())


def figures(network: OnnxNetwork, folder: Path, most: int = 400) -> dict[str, dict[str, list[float]]]:
    """Figures of each sheet, by kind of light and by name."""
    linear = decode_table(256)
    out: dict[str, dict[str, list[float]]] = {}
    done = 0
    for file in sorted(folder.glob("[0-9]*.npz")):
        with np.load(file) as shard:
            photos, targets, suns = shard["photos"], shard["targets"].astype(np.float32), shard["suns"]
        for photo, target, sun in zip(photos, targets, suns, strict=True):
            t = dict(zip(TARGETS, target, strict=True))
            for kind in ("sun, told", "sun, not told") if sun else ("overcast",):
                lines = one(network, linear[photo], t, kind == "sun, told")
                for name, value in lines.items():
                    out.setdefault(kind, {}).setdefault(name, []).append(value)
            done += 1
            if done >= most:
                return out
    return out


def one(network: OnnxNetwork, photo: Plane, t: dict[str, Plane], told: bool) -> dict[str, float]:
    """Figures of one sheet."""
    y = dict(
        zip(OUTPUTS, network(np.ascontiguousarray(shown(photo, 0.0 if told else None, False).transpose(2, 0, 1))), strict=True)
    )
    steep = np.sqrt(1 + t["slope_x"] ** 2 + t["slope_y"] ** 2)
    nx, ny = -t["slope_x"] / steep, -t["slope_y"] / steep
    light = logarithms(photo)[..., 0]
    zero = np.zeros_like(nx)
    flat = degrees(zero, zero, nx, ny)
    out = {"flat map, °": flat}
    if flat > 1.0:  # on a plane there is nothing to agree with
        out["normals under flat, °"] = flat - degrees(y["right"], y["down"], nx, ny)
        for name, (a, b) in zip(("fine", "middle", "coarse"), BANDS, strict=True):
            out[f"{name}: network"] = alike(y[name], t[name])
            out[f"{name}: brightness"] = alike(band(light, a, b), t[name])
            if told:
                out[f"{name}: linear"] = alike(band(integral(light, 0.0, False), a, b), t[name])
    else:
        out["slope on a plane, °"] = degrees(y["right"], y["down"], zero, zero)
    out["occlusion off"] = float(np.sqrt(np.square(y["occlusion"] - t["occlusion"]).mean()))
    out["occlusion off, best constant"] = float(t["occlusion"].std())
    out["shading left"] = float((t["shading"] - y["shading"]).std())
    out["shading there"] = float(t["shading"].std())
    return out


def table(found: dict[str, dict[str, list[float]]]) -> str:
    """Medians as a table of Markdown."""
    names = list(dict.fromkeys(n for kind in KINDS for n in found.get(kind, {})))
    lines = ["| median | " + " | ".join(KINDS) + " |", "|---" * (len(KINDS) + 1) + "|"]
    for name in names:
        cells = [f"{np.median(found[k][name]):.3f}" if name in found.get(k, {}) else "" for k in KINDS]
        lines.append(f"| {name} | " + " | ".join(cells) + " |")
    return "\n".join(lines)
