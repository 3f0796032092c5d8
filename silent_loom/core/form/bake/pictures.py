"""Dense meshes with the base colour textures that their files name."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from silent_loom.core.base.errors import FileError
from silent_loom.core.base.images import Floats
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.files.beside import safe
from silent_loom.core.files.gltf_file import GltfFile, codes_of
from silent_loom.core.form.bake.dense import Source
from silent_loom.core.form.model import Model


def source_of(models: Sequence[tuple[Model, Path]]) -> Source | None:
    """Dense meshes as one source; None where there are none. A texture that is missing is left out.

    >>> source_of([]) is None
    True
    """
    if not models:
        return None
    pictures: dict[tuple[int, int], Floats] = {}
    for k, (model, path) in enumerate(models):
        for s, slot in enumerate(model.slots):
            if "base" in slot.textures and (picture := _picture(model, path, slot.textures["base"])) is not None:
                pictures[k, s] = picture
    return Source(tuple(m for m, _ in models), pictures)


def _picture(model: Model, path: Path, named: str) -> Floats | None:
    try:
        if model.format == "gltf":
            codes = GltfFile(path).picture(int(named.rpartition(" ")[2]))
        else:
            codes = codes_of(safe(path.parent, named, path.name))
    except FileError:
        return None
    light: Floats = decode_srgb(codes[..., :3]).astype(np.float32)
    return light
