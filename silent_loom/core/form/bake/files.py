"""Baked maps as files, with a manifest that says what their numbers mean."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np

from silent_loom import __version__
from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.files.write import write
from silent_loom.core.form.bake.bake import Baked, Order, bake
from silent_loom.core.form.bake.dense import Source
from silent_loom.core.form.bake.targets import Target, id_colour
from silent_loom.core.form.model import Model

MISSES = "misses.png"
MANIFEST = "bake.json"
GREENS = ("up", "down")


def encoded(target: Target, image: Image, green: str = "up") -> tuple[Floats, dict[str, Any]]:
    """Samples for a file, 0…1 (linear light for colours), and what they mean.

    >>> flat = Image(np.full((1, 2, 1), 3.0, np.float32), Kind.DATA)
    >>> from silent_loom.core.form.bake.targets import TARGETS
    >>> encoded(TARGETS["height"], flat)[1]["range"]
    [-3.0, 3.0]
    """
    p = image.pixels
    if target.kind is Kind.NORMAL:
        turned = p * np.array([1, -1 if green == "down" else 1, 1], np.float32)
        return turned * np.float32(0.5) + np.float32(0.5), {"green": green}
    if target.kind is Kind.ID:
        numbers = np.round(p[..., 0]).astype(np.int64)
        table = np.array([id_colour(k) for k in range(int(numbers.max(initial=0)) + 1)], np.float32)
        return table[numbers], {}
    if target.name in ("height", "curvature"):  # the middle is the surface itself, or flat
        reach = max(float(np.abs(p).max()), 1e-6)
        return p / np.float32(2 * reach) + np.float32(0.5), {"range": [-reach, reach], "unit": target.unit}
    if target.name == "thickness":
        reach = max(float(p.max()), 1e-6)
        return p / np.float32(reach), {"range": [0.0, reach], "unit": target.unit}
    return p, {}


def bake_files(
    model: Model,
    dense: Source | None,
    order: Order,
    out: Path,
    name: str,
    *,
    depth: str = "16",
    green: str = "up",
    about: Mapping[str, Any] | None = None,
    task: Task = IDLE,
) -> dict[str, Any]:
    """Bake maps into a folder: PNG, each named after what it shows.

    Parameters
    ----------
    out : path
        Made where it is not there. Nothing in it is overwritten: where a name is taken, all get a number.
    name : str
        First part of file names.
    depth : str
        '8' or '16' bits; colours have 8.
    green : str
        Which way green points in normals: 'up' or 'down'.

    Returns
    -------
    dict
        The manifest, as written beside the maps.

    Raises
    ------
    LoomError
        A map, the UVs or a setting are not there, or the folder cannot be written.
    """
    if green not in GREENS or depth not in ("8", "16"):
        raise LoomError("there is no such encoding", f"{green}, {depth}", "Green is up or down; maps have 8 or 16 bits.")
    out.mkdir(parents=True, exist_ok=True)
    stem = free_stem(out, name, order.maps)
    entries: list[dict[str, Any]] = []
    written: list[Path] = []

    def keep(target: Target, image: Image) -> None:
        samples, meaning = encoded(target, image, green)
        colour = target.kind in (Kind.COLOUR, Kind.ID)
        path = out / f"{stem}_{target.name}.png"
        bits = "8" if colour else depth
        write(path, samples, depth=bits, colour=colour, dither=bits == "8" and not colour, task=task.part(0.0, 0.0))  # type: ignore[arg-type]
        written.append(path)
        entries.append(
            {"file": path.name, "map": target.name, "bits": int(bits), "colour": "sRGB" if colour else "data", **meaning}
        )

    try:
        made: Baked = bake(model, dense, order, keep, task)
    except BaseException:  # nothing is left half done
        for path in written:
            path.unlink(missing_ok=True)
        raise
    if made.missed.any():
        path = out / f"{stem}_{MISSES}"
        write(path, _misses(made), depth="8", colour=True)
        written.append(path)
        more = {"misses": path.name}
    else:
        more = {}
    manifest = {**_facts(stem, model, order, made), **more, "files": [_finished(e, out, made) for e in entries], **(about or {})}
    path = out / f"{stem}_{MANIFEST}"
    path.write_text(json.dumps(manifest, indent=2, ensure_ascii=False) + "\n", "utf-8")
    return manifest


def _misses(made: Baked) -> Floats:
    """Texels whose rays met nothing, red on grey: a picture for the model to wear."""
    picture = np.full((*made.missed.shape, 3), 0.35, np.float32)
    picture[made.covered] = 0.6
    picture[made.missed] = (0.8, 0.02, 0.01)
    return picture


def _finished(entry: dict[str, Any], out: Path, made: Baked) -> dict[str, Any]:
    """What the manifest says of a file, with its hash, and the names behind the colours of an ID map."""
    names = made.names.get(entry["map"])
    codes = {"names": {n: _hex(id_colour(k)) for k, n in enumerate(names)}} if names else {}
    return {**entry, "sha256": hashlib.sha256((out / entry["file"]).read_bytes()).hexdigest(), **codes}


def _facts(stem: str, model: Model, order: Order, made: Baked) -> dict[str, Any]:
    """How a bake was made, and what came of it."""
    return {
        "made_by": f"Silent Loom {__version__}",
        "date": datetime.now(UTC).isoformat(timespec="seconds"),
        "name": stem,
        "size": list(order.size),
        "samples": order.samples,
        "rays": order.rays,
        "uv": order.uv or next(iter(model.uvs)),
        "tangent_space": "MikkTSpace",
        "padding": order.padding or "all",
        "distance_mm": [[c.front_mm, c.back_mm] for c in made.cages],
        "missed": made.missed_share,
        "covered": float(made.covered.mean()),
        "seconds": {k: round(v, 3) for k, v in made.seconds.items()},
    }


def free_stem(out: Path, name: str, maps: tuple[str, ...]) -> str:
    """A first part under which no file of a bake is there yet: the name itself, or with a number from 2.

    >>> free_stem(Path("/nowhere"), "buoy", ("normal",))
    'buoy'
    """
    endings = [*(f"{m}.png" for m in maps), MISSES, MANIFEST]
    stem, k = name, 2
    while any((out / f"{stem}_{e}").exists() for e in endings):
        stem, k = f"{name}_{k}", k + 1
    return stem


def _hex(linear: tuple[float, float, float]) -> str:
    codes = np.round(encode_srgb(np.array(linear)) * 255).astype(int)
    return "#" + "".join(f"{v:02x}" for v in codes)
