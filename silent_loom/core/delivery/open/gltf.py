"""The surface as glTF 2.0: a sheet in true size with the material on it, as one GLB or as a glTF beside its pictures."""

from __future__ import annotations

import json
import struct
from collections.abc import Callable, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom import __version__
from silent_loom.core.base.errors import LoomError
from silent_loom.core.delivery.open.surface import Slot, Surface

LAID = 2
"""Repeats of the surface that the sheet shows each way, by KHR_texture_transform."""


def pad(body: bytes, fill: bytes) -> bytes:
    """Bytes filled up to a multiple of four, as a GLB wants its parts.

    >>> pad(b"abcde", b" ")
    b'abcde   '
    """
    return body + fill * (-len(body) % 4)


def sheet(size_mm: tuple[float, float], laid: int, back: bool) -> dict[str, NDArray[Any]]:
    """A flat sheet facing +Z, or −Z where it is the ``back``; metres, 2 × 2 corners and the tangents that go with their UVs.

    >>> sorted(sheet((1000.0, 500.0), 1, False))[:2]
    ['NORMAL', 'POSITION']
    """
    w, h = laid * size_mm[0] / 2000, laid * size_mm[1] / 2000
    side = -1 if back else 1  # seen from behind, right is left
    return {
        "POSITION": np.array([[-w * side, h, 0], [w * side, h, 0], [w * side, -h, 0], [-w * side, -h, 0]], "<f4"),
        "NORMAL": np.tile(np.array([0, 0, side], "<f4"), (4, 1)),
        "TANGENT": np.tile(np.array([side, 0, 0, 1], "<f4"), (4, 1)),
        "TEXCOORD_0": np.array([[0, 0], [1, 0], [1, 1], [0, 1]], "<f4"),
    }


_INDEX = np.array([0, 3, 1, 1, 3, 2], "<u2")
_TYPES = {"POSITION": "VEC3", "NORMAL": "VEC3", "TANGENT": "VEC4", "TEXCOORD_0": "VEC2"}


class Textures:
    """Pictures in the order in which materials ask for them, each once."""

    def __init__(self, laid: int) -> None:
        self.files: list[str] = []
        self._laid = laid

    def __call__(self, file: str, **more: Any) -> dict[str, Any]:
        if file not in self.files:
            self.files.append(file)
        moved = {} if self._laid == 1 else {"extensions": {"KHR_texture_transform": {"scale": [self._laid, self._laid]}}}
        return {"index": self.files.index(file), **more, **moved}


def _straight(surface: Surface, name: str, channels: tuple[int, ...]) -> Slot | None:
    """Where a map lies, if a glTF can read it there.

    Raises
    ------
    LoomError
        It lies elsewhere, or was changed on the way.
    """
    slot = surface.slots.get(name)
    if slot is None:
        return None
    if slot.channels != channels or slot.inverted or (slot.scale, slot.offset) != (1, 0):
        where = ["red", "green", "blue", "alpha"]
        wanted = " and ".join([", ".join(where[k] for k in channels)])
        raise LoomError(
            f"glTF reads {name} from {wanted} as it stands, and the profile packs it otherwise",
            slot.file,
            "Change the file, or write no glTF.",
        )
    if not slot.file.endswith((".png", ".jpg")):
        raise LoomError("glTF takes PNG and JPEG alone", slot.file, "Change the format, or write no glTF.")
    return slot


def material(surface: Surface, textures: Textures, name: str, prefix: str = "") -> dict[str, Any]:
    """The material of one side.

    Raises
    ------
    LoomError
        A map lies where glTF does not read it.

    >>> metal = material(Surface("slate", {}, {"metallic": (1.0,)}), Textures(1), "slate")
    >>> metal["pbrMetallicRoughness"]["metallicFactor"]
    1.0
    """
    if surface.green == "down" and f"{prefix}normal" in surface.slots:
        raise LoomError(
            "in glTF green points up, and the profile turns it down", surface.name, "Change the profile, or write no glTF."
        )

    def slot(part: str, *channels: int) -> Slot | None:
        return _straight(surface, prefix + part, channels)

    def value(part: str, otherwise: tuple[float, ...]) -> list[float]:
        found = surface.values.get(prefix + part)
        return list(otherwise if found is None else found)

    rough: dict[str, Any] = {}
    out: dict[str, Any] = {"name": name, "pbrMetallicRoughness": rough}
    base, opacity = slot("base", 0, 1, 2), slot("opacity", 3)
    if base is not None:
        rough["baseColorTexture"] = textures(base.file)
    else:
        rough["baseColorFactor"] = [*value("base", (0.18, 0.18, 0.18)), *value("opacity", (1.0,))]
    if opacity is not None:
        if base is None or opacity.file != base.file:
            raise LoomError("glTF reads opacity from the alpha of the base colour", opacity.file, "Change the profile.")
        out |= {"alphaMode": "MASK", "alphaCutoff": 0.5} if surface.cutout else {"alphaMode": "BLEND"}
    rough_slot, metal = slot("roughness", 1), slot("metallic", 2)
    if rough_slot is not None and metal is not None and rough_slot.file == metal.file:
        rough["metallicRoughnessTexture"] = textures(rough_slot.file)
    elif rough_slot is not None or metal is not None:
        raise LoomError(
            "glTF reads roughness and metallic from one file, its green and blue", surface.name, "Change the profile."
        )
    else:
        rough |= {"metallicFactor": value("metallic", (0.0,))[0], "roughnessFactor": value("roughness", (0.5,))[0]}
    if (normal := slot("normal", 0, 1, 2)) is not None:
        out["normalTexture"] = textures(normal.file)
    if (occlusion := slot("occlusion", 0)) is not None:
        out["occlusionTexture"] = textures(occlusion.file)
    if (emission := slot("emission", 0, 1, 2)) is not None:
        out |= {"emissiveTexture": textures(emission.file), "emissiveFactor": [1.0, 1.0, 1.0]}
    if (specular := slot("specular", 3)) is not None:
        out["extensions"] = {"KHR_materials_specular": {"specularFactor": 1.0, "specularTexture": textures(specular.file)}}
    elif prefix + "specular" in surface.values:
        out["extensions"] = {"KHR_materials_specular": {"specularFactor": value("specular", (1.0,))[0]}}
    if surface.two_sided and not prefix and not _back(surface):
        out["doubleSided"] = True
    return out


def _back(surface: Surface) -> bool:
    return any(name.startswith("back_") for name in (*surface.slots, *surface.values))


def scene_of(surface: Surface, laid: int = LAID) -> tuple[dict[str, Any], list[str], bytes]:
    """The JSON of a glTF without its pictures and buffers, the files of its pictures in order, and its geometry.

    >>> json, pictures, geometry = scene_of(Surface("slate", {}, {"roughness": (0.5,)}))
    >>> pictures, json["materials"][0]["name"]
    ([], 'slate')
    """
    textures = Textures(laid)
    materials = [material(surface, textures, surface.name)]
    if _back(surface):
        materials.append(material(surface, textures, f"{surface.name} back", "back_"))
    body, views, accessors, primitives = b"", [], [], []
    for k in range(len(materials)):
        attributes = {}
        for key, values in sheet(surface.size_mm, laid, k == 1).items():
            views.append({"buffer": 0, "byteOffset": len(body), "byteLength": values.nbytes, "target": 34962})
            bounds = {"min": values.min(0).tolist(), "max": values.max(0).tolist()} if key == "POSITION" else {}
            accessors.append({"bufferView": len(views) - 1, "componentType": 5126, "count": 4, "type": _TYPES[key], **bounds})
            attributes[key] = len(accessors) - 1
            body = pad(body + values.tobytes(), b"\0")
        views.append({"buffer": 0, "byteOffset": len(body), "byteLength": _INDEX.nbytes, "target": 34963})
        accessors.append({"bufferView": len(views) - 1, "componentType": 5123, "count": 6, "type": "SCALAR"})
        body = pad(body + _INDEX.tobytes(), b"\0")
        primitives.append({"attributes": attributes, "indices": len(accessors) - 1, "material": k})
    used = [*(["KHR_texture_transform"] if laid != 1 and textures.files else [])]
    if any("extensions" in m for m in materials):
        used.append("KHR_materials_specular")
    scene: dict[str, Any] = {
        "asset": {"version": "2.0", "generator": f"Silent Loom {__version__}"},
        **({"extensionsUsed": used} if used else {}),
        "scene": 0,
        "scenes": [{"nodes": [0]}],
        "nodes": [{"mesh": 0, "name": surface.name}],
        "meshes": [{"primitives": primitives}],
        "materials": materials,
        "accessors": accessors,
        "bufferViews": views,
    }
    if textures.files:
        scene["textures"] = [{"sampler": 0, "source": i} for i in range(len(textures.files))]
        scene["samplers"] = [{"magFilter": 9729, "minFilter": 9987, "wrapS": 10497, "wrapT": 10497}]
    return scene, textures.files, body


def mime(file: str) -> str:
    """What a glTF calls the format of a picture.

    >>> mime("hull_base.png")
    'image/png'
    """
    return "image/jpeg" if file.endswith(".jpg") else "image/png"


def glb_bytes(surface: Surface, read: Callable[[str], bytes], laid: int = LAID) -> bytes:
    """A binary glTF, its pictures inside.

    Parameters
    ----------
    surface : Surface
    read : callable
        Gives the bytes of a delivered file.
    laid : int
        Repeats that the sheet shows each way.
    """
    scene, files, body = scene_of(surface, laid)
    images, views = [], scene["bufferViews"]
    for file in files:
        picture = read(file)
        views.append({"buffer": 0, "byteOffset": len(body), "byteLength": len(picture)})
        images.append({"bufferView": len(views) - 1, "mimeType": mime(file), "name": file.rpartition(".")[0]})
        body = pad(body + picture, b"\0")
    if images:
        scene["images"] = images
    scene["buffers"] = [{"byteLength": len(body)}]
    head = pad(json.dumps(scene, separators=(",", ":"), ensure_ascii=False).encode(), b" ")
    total = 12 + 8 + len(head) + 8 + len(body)
    top = struct.pack("<4sII", b"glTF", 2, total) + struct.pack("<I4s", len(head), b"JSON")
    return top + head + struct.pack("<I4s", len(body), b"BIN\0") + body


def gltf_texts(surface: Surface, stem: str, laid: int = LAID) -> Mapping[str, bytes]:
    """A glTF that names its pictures, and the geometry beside it, by file name.

    >>> sorted(gltf_texts(Surface("slate", {}, {"roughness": (0.5,)}), "slate"))
    ['slate.bin', 'slate.gltf']
    """
    scene, files, body = scene_of(surface, laid)
    if files:
        scene["images"] = [{"uri": file, "mimeType": mime(file)} for file in files]
    scene["buffers"] = [{"byteLength": len(body), "uri": f"{stem}.bin"}]
    text = json.dumps(scene, indent=1, ensure_ascii=False) + "\n"
    return {f"{stem}.gltf": text.encode(), f"{stem}.bin": body}
