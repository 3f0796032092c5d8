"""A model and its textures written into a folder, whole or not at all."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path

from silent_loom.core.base.errors import FileError, LoomError, refusal
from silent_loom.core.delivery.models.dressing import Dress, pictures
from silent_loom.core.delivery.models.gltf import dressed_glb, glb
from silent_loom.core.delivery.models.obj import mtl_text, obj_text, renamed
from silent_loom.core.delivery.models.usd import usda
from silent_loom.core.delivery.placing import check_folder, check_targets, gathered
from silent_loom.core.files.place import drop, place
from silent_loom.core.form.model import Model

FORMATS = ("glb", "obj", "usda")


def write_model(
    model: Model,
    dresses: Mapping[int, Dress],
    out: Path,
    name: str,
    formats: Sequence[str] = ("glb",),
    *,
    source: bytes | None = None,
    uv: str = "",
    force: bool = False,
) -> list[str]:
    """Write a model with delivered materials.

    Parameters
    ----------
    model : Model
    dresses : mapping of int to Dress
        By material slot.
    out : path
    name : str
        First part of file names.
    formats : sequence of str
        'glb' (textures inside), 'obj' (with an MTL), 'usda'.
    source : bytes, optional
        The file that the model came from, where nothing of it was changed: what is written of the same format keeps
        its geometry byte for byte.
    uv : str
        The UV set that an OBJ gets.

    Returns
    -------
    list of str
        Names of the files.

    Raises
    ------
    LoomError
        There is no such format, a material cannot be written in it, or a file is in the way.
    """
    unknown = [f for f in formats if f not in FORMATS]
    if unknown:
        raise LoomError(f"models are not written as {unknown[0]!r}", "", f"Use one of {', '.join(FORMATS)}.")
    files: dict[str, bytes] = {}
    if "glb" in formats:
        files[f"{name}.glb"] = _glb(model, dresses, source)
    if "obj" in formats:
        library = f"{name}.mtl"
        names = {model.slots[k].name: d.name for k, d in dresses.items()}
        same = source is not None and model.format == "obj"
        files[f"{name}.obj"] = renamed(source, library, names) if same and source else obj_text(model, library, dresses, uv)
        files[library] = mtl_text(model, dresses).encode()
    if "usda" in formats:
        files[f"{name}.usda"] = usda(model, dresses, name).encode()
    if {"obj", "usda"} & set(formats):
        files |= pictures(dresses)
    replaceable = check_folder(out, force)
    check_targets(out, list(files), replaceable)
    with gathered(out, replaceable) as hidden:
        for file, body in files.items():
            (hidden / file).write_bytes(body)
    return list(files)


def _glb(model: Model, dresses: Mapping[int, Dress], source: bytes | None) -> bytes:
    if source is not None and source[:4] == b"glTF":
        try:
            return dressed_glb(source, dresses)
        except (ValueError, KeyError, TypeError):
            pass  # what lies in other files is written anew
    return glb(model, dresses)


def written_bytes(model: Model, path: Path) -> None:
    """Write a model alone into one file, .obj or .glb, whole or not at all.

    Raises
    ------
    FileError
        It has another ending, or the disk refuses.
    """
    kind = path.suffix.lower()
    if kind not in (".obj", ".glb"):
        raise FileError("models are written as .obj or .glb", path.name, "Choose one of these endings.")
    body = glb(model, {}) if kind == ".glb" else obj_text(model, f"{path.stem}.mtl", {})
    handle, partial = tempfile.mkstemp(prefix=f".{path.stem}.", suffix=kind, dir=path.parent)
    try:
        with os.fdopen(handle, "wb") as out:
            out.write(body)
        place(partial, path, replace=False)
    except OSError as error:
        drop(partial)
        raise refusal(error, path.name) from None
