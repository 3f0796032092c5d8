"""A material that was made elsewhere as a weave: its plain maps brought in, and those that are missing made."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path
from typing import Any

from silent_loom.core.base.errors import FileError
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.names import file_name
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.elsewhere import gltf
from silent_loom.core.elsewhere.materialx import shaders
from silent_loom.core.elsewhere.plain_maps import COLOURS, Flat, written
from silent_loom.core.steps.maps.convert import from_specular
from silent_loom.core.ways.bake import BakeOrder, bake
from silent_loom.core.ways.sources import FileSources, digest_of
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import SourceRef, Weave
from silent_loom.core.weave.rows.recipes import begun

SPECULAR = "specular_colour"
"""What a material of the older kind has in place of metallic."""
SUFFIXES = (".gltf", ".glb", ".mtlx")


def flattened(path: Path, size: int = 0) -> list[Flat]:
    """Every material of a document as plain maps.

    Parameters
    ----------
    path : path
        .gltf, .glb or .mtlx, its pictures beside it.
    size : int
        Texels along the longer side; that of the largest picture if 0.

    Raises
    ------
    FileError
        It is none of these, damaged, or has no material.
    """
    if not path.is_file():
        raise FileError("there is no such file", str(path), "Check the path.")
    kind = path.suffix.lower()
    try:
        if kind in (".gltf", ".glb"):
            return gltf.materials(path, size)
        if kind == ".mtlx":
            return shaders.materials(path, size)
    except FileError:
        raise
    except (ValueError, KeyError, IndexError, TypeError, AttributeError, OverflowError, RecursionError):
        raise FileError("this document is damaged", path.name, "Export it again.") from None
    raise FileError("this is no glTF, GLB or MaterialX", path.name, f"Choose a file that ends in {', '.join(SUFFIXES)}.")


def woven(flat: Flat, folder: Path) -> tuple[Weave, dict[str, Path]]:
    """The weave of a flattened material, and its files by digest.

    Parameters
    ----------
    folder : path
        Where the maps are written.
    """
    if SPECULAR in flat.maps:
        base, metal = from_specular(flat.maps["base"], flat.maps[SPECULAR])
        rest = {name: plane for name, plane in flat.maps.items() if name != SPECULAR}
        flat = replace(flat, maps={**rest, "base": base, "metallic": metal[..., None]})
    files = written(flat, folder)
    digests = {name: digest_of(path) for name, path in files.items()}
    w, h = flat.size
    sources = {
        digests[n]: SourceRef(name=f"{file_name(flat.name)}_{n}.png", format="png", width=w, height=h, bytes=p.stat().st_size)
        for n, p in files.items()
    }
    maps: list[dict[str, Any]] = []
    for name, digest in digests.items():
        maps.append({"thread": name, "source": digest, "channel": "rgb" if name in COLOURS or name == "normal" else "r"})
    depth = flat.depth_mm()
    values = {"maps": maps, "width_mm": flat.size_mm[0], "depth_mm": depth, "repeats": True}
    settings: dict[str, dict[str, Any]] = {
        registry.able("maps"): values,
        **{name: {"depth_mm": depth} for name in registry.all_able("depth")},
    }
    weave = begun("set", {"maps": maps}, settings, sources)
    return weave, {digests[n]: p for n, p in files.items()}


def chosen(flats: list[Flat], name: str) -> list[Flat]:
    """All materials of a document, or the one of a name.

    Raises
    ------
    FileError

    >>> chosen([], "")
    []
    """
    if not name:
        return flats
    found = [f for f in flats if f.name == name or file_name(f.name) == name]
    if not found:
        raise FileError("there is no such material in it", name, f"There are {', '.join(f.name for f in flats)}.")
    return found


def bake_flat(
    flat: Flat, wanted: Profile, out: Path, folder: Path, order: BakeOrder, force: bool = False, task: Task = IDLE
) -> dict[str, Any]:
    """Bake a flattened material into a folder; its manifest.

    Parameters
    ----------
    folder : path
        For its maps while they are used.
    """
    weave, files = woven(flat, folder)
    evaluator = Evaluator(FileSources(lambda d: (files[d], files[d].name, "png")), Cache(700 << 20))
    about = {"flattened": {"material": flat.name, "notes": flat.notes, "left_out": flat.left}}
    return bake(evaluator, weave, wanted, out, file_name(flat.name), order, about=lambda: about, force=force, task=task)


def folder_of(name: str) -> str:
    """A folder for a material among several.

    >>> folder_of("Wet slate / north")
    'wet_slate_north'
    """
    return re.sub(r"[^\w-]+", "_", file_name(name)) or "material"
