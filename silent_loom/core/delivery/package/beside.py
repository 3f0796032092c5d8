"""What lies beside the pictures of a delivery: open materials, a read-me, a contact sheet."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.delivery.models.dressing import Dress, numbered
from silent_loom.core.delivery.models.gltf import glb
from silent_loom.core.delivery.models.usd import usda
from silent_loom.core.delivery.open.gltf import glb_bytes, gltf_texts
from silent_loom.core.delivery.open.materialx import document
from silent_loom.core.delivery.open.surface import Surface, surface_of
from silent_loom.core.delivery.open.usd import files_of, usda_text, usdz_bytes
from silent_loom.core.delivery.package.contact import contact_sheet
from silent_loom.core.delivery.package.readme import readme
from silent_loom.core.delivery.placing import sha256
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.form.model import Model, with_first
from silent_loom.core.moving.resample import at_most
from silent_loom.core.screen.picture import lit
from silent_loom.core.weave import threads


@dataclass(frozen=True)
class Worn:
    """A model with maps on it.

    Attributes
    ----------
    model : Model
    uv : str
        The UV set that the maps are made for, the first one where it is empty.
    """

    model: Model
    uv: str = ""


READ_ME, CONTACT = "read-me.txt", "contact-sheet.png"


def write_beside(
    hidden: Path,
    profile: Profile,
    name: str,
    manifest: dict[str, Any],
    samples: Mapping[str, Floats],
    maps: Mapping[str, Image] | None,
    worn: Worn | None = None,
) -> None:
    """Write the open materials that the profile asks for and, where there are ``maps``, what a package needs; list it all.

    Where the maps lie on a model, glTF and USD hold that model, its materials called as the files are.
    """
    surface = surface_of(manifest)
    counts = {e["file"]: len(e["channels"]) for e in manifest["files"]}
    for model in profile.models:
        for file, body in _model(model, surface, name, counts, hidden, worn).items():
            _put(hidden, manifest, file, model, body)
    if maps is None:
        return
    seen = _under_light(maps)
    w, h = manifest["repeat_mm"]
    facts = [
        f"{manifest['size'][0]} by {manifest['size'][1]} texels, {w:g} by {h:g} mm, for: {profile.title}",
        f"normals green {profile.green}; heights span {manifest['depth_mm']:g} mm",
    ]
    drawn = [(e, samples[e["file"]]) for e in manifest["files"] if e["file"] in samples]
    _put(hidden, manifest, CONTACT, "png", contact_sheet(str(manifest.get("material") or name), facts, seen, drawn))
    _put(hidden, manifest, READ_ME, "text", readme(manifest).encode())


def _under_light(maps: Mapping[str, Image]) -> NDArray[np.uint8]:
    small = {name: at_most(image, 512) for name, image in maps.items() if name in threads.THREADS}
    any_image = next(iter((small or maps).values()))
    if "base" not in small:
        grey = np.broadcast_to(np.array(threads.spec("base").neutral, np.float32), (any_image.height, any_image.width, 3))
        small["base"] = Image(np.ascontiguousarray(grey), Kind.COLOUR, any_image.size_mm, True)
    w, h = small["base"].width, small["base"].height
    return lit(small, 512, max(1, round(512 * h / w)))


def _model(
    model: str, surface: Surface, name: str, counts: Mapping[str, int], hidden: Path, worn: Worn | None = None
) -> Mapping[str, bytes]:
    if worn is not None and model != "mtlx":  # that one holds no shape
        return _worn(model, surface, name, hidden, worn)

    def read(file: str) -> bytes:
        return (hidden / file).read_bytes()

    if model == "glb":
        return {f"{name}.glb": glb_bytes(surface, read)}
    if model == "gltf":
        return gltf_texts(surface, name)
    if model == "mtlx":
        return {f"{name}.mtlx": document(surface, dict(counts))}
    if model == "usda":
        return {f"{name}.usda": usda_text(surface).encode()}
    if model == "usdz":
        return {f"{name}.usdz": usdz_bytes(usda_text(surface), name, files_of(surface), read)}
    raise LoomError(f"there is no open material called '{model}'", "models", "There are glb, gltf, mtlx, usda and usdz.")


def _worn(kind: str, surface: Surface, name: str, hidden: Path, worn: Worn) -> Mapping[str, bytes]:
    """An open material of maps that lie on a model."""
    model = with_first(worn.model, worn.uv)
    called = numbered([name] * len(model.slots))
    dresses = {k: Dress(title, surface, hidden) for k, title in enumerate(called)}
    if kind in ("glb", "gltf"):
        return {} if (hidden / f"{name}.glb").exists() else {f"{name}.glb": glb(model, dresses)}
    if kind == "usda":
        return {f"{name}.usda": usda(model, dresses, name).encode()}
    layer = usda(model, dresses, name)
    return {f"{name}.usdz": usdz_bytes(layer, name, files_of(surface), lambda file: (hidden / file).read_bytes())}


def _put(hidden: Path, manifest: dict[str, Any], file: str, kind: str, body: bytes) -> None:
    path = hidden / file
    path.write_bytes(body)
    manifest["files"].append({"file": file, "format": kind, "bytes": len(body), "sha256": sha256(path)})
