"""A model as binary glTF 2.0 with its textures inside."""

from __future__ import annotations

import json
import struct
from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom import __version__
from silent_loom.core.base.bounded_json import loads
from silent_loom.core.delivery.models.dressing import Dress, pictures
from silent_loom.core.delivery.open.gltf import Textures, material, mime, pad
from silent_loom.core.form.model import Model, turned_up
from silent_loom.core.form.normals import corner_normals
from silent_loom.core.form.tangents import frames
from silent_loom.core.form.welding import welded

_TYPES = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4"}
ARRAY, ELEMENTS = 34962, 34963


class _Body:
    """The binary part of a GLB as it grows, with its views and accessors."""

    def __init__(self, body: bytes, views: list[Any], accessors: list[Any]) -> None:
        self.parts, self.length = [body], len(body)
        self.views, self.accessors = views, accessors
        self._align()

    def _align(self) -> None:
        if fill := -self.length % 4:
            self.parts.append(b"\0" * fill)
            self.length += fill

    def view(self, body: bytes, target: int = 0) -> int:
        more = {"target": target} if target else {}
        self.views.append({"buffer": 0, "byteOffset": self.length, "byteLength": len(body), **more})
        self.parts.append(body)
        self.length += len(body)
        self._align()
        return len(self.views) - 1

    def accessor(self, values: NDArray[Any], target: int, bounds: bool = False) -> int:
        kinds = {"f4": 5126, "u4": 5125, "u2": 5123}
        told: dict[str, Any] = {
            "bufferView": self.view(values.tobytes(), target),
            "componentType": kinds[values.dtype.str[1:]],
            "count": len(values),
            "type": _TYPES[1 if values.ndim == 1 else values.shape[1]],
        }
        if bounds:
            told |= {"min": values.min(0).tolist(), "max": values.max(0).tolist()}
        self.accessors.append(told)
        return len(self.accessors) - 1


def _materials(dresses: Mapping[int, Dress], scene: dict[str, Any], body: _Body) -> dict[int, dict[str, Any]]:
    """Materials of glTF by slot; their pictures go into the scene, each once."""
    textures = Textures(1)
    found = {k: material(d.surface, textures, d.name) for k, d in dresses.items()}
    if textures.files:
        bodies = pictures(dresses)
        first = len(scene.setdefault("textures", []))
        samplers = scene.setdefault("samplers", [])
        samplers.append({"magFilter": 9729, "minFilter": 9987, "wrapS": 10497, "wrapT": 10497})
        images = scene.setdefault("images", [])
        for file in textures.files:
            scene["textures"].append({"sampler": len(samplers) - 1, "source": len(images)})
            images.append({"bufferView": body.view(bodies[file]), "mimeType": mime(file), "name": file.rpartition(".")[0]})
        for told in found.values():
            _move(told, first)
    if any("extensions" in m for m in found.values()):
        scene["extensionsUsed"] = sorted({*scene.get("extensionsUsed", []), "KHR_materials_specular"})
    return found


def _move(told: Any, by: int) -> None:
    """Count the textures of a material on from those that are there already."""
    if isinstance(told, dict):
        if isinstance(told.get("index"), int):
            told["index"] += by
        for value in told.values():
            _move(value, by)


def _packed(scene: dict[str, Any], body: _Body) -> bytes:
    scene["bufferViews"], scene["accessors"] = body.views, body.accessors
    scene["buffers"] = [{"byteLength": body.length}]
    head = pad(json.dumps(scene, separators=(",", ":"), ensure_ascii=False).encode(), b" ")
    whole = b"".join(body.parts)
    total = 12 + 8 + len(head) + 8 + len(whole)
    top = struct.pack("<4sII", b"glTF", 2, total) + struct.pack("<I4s", len(head), b"JSON")
    return top + head + struct.pack("<I4s", len(whole), b"BIN\0") + whole


def dressed_glb(source: bytes, dresses: Mapping[int, Dress]) -> bytes:
    """A GLB with other materials; its geometry and everything else stays byte for byte.

    Raises
    ------
    ValueError
        It is no GLB that holds everything.

    >>> from silent_loom.core.form.model import plate
    >>> dressed_glb(glb(plate(), {}), {})[:4]
    b'glTF'
    """
    parts: dict[bytes, bytes] = {}
    at = 12
    while at + 8 <= len(source):
        size, kind = struct.unpack_from("<I4s", source, at)
        parts.setdefault(kind, source[at + 8 : at + 8 + size])
        at += 8 + size
    scene = loads(parts[b"JSON"], "the model")
    if any("uri" in b for b in scene.get("buffers", [])):
        raise ValueError("parts of it lie in other files")
    body = _Body(parts.get(b"BIN\0", b""), scene.get("bufferViews", []), scene.get("accessors", []))
    made = _materials(dresses, scene, body)
    there = scene.setdefault("materials", [])
    for k, told in made.items():
        if k < len(there):
            there[k] = told
        else:  # of primitives that named no material
            there.append(told)
            for mesh in scene.get("meshes", []):
                for primitive in mesh["primitives"]:
                    primitive.setdefault("material", len(there) - 1)
    return _packed(scene, body)


def glb(model: Model, dresses: Mapping[int, Dress]) -> bytes:
    """A model as GLB: metres, y up, with all its UV sets, the first one first, with normals and MikkTSpace tangents.

    >>> from silent_loom.core.form.model import plate
    >>> glb(plate(), {})[:4]
    b'glTF'
    """
    scene: dict[str, Any] = {"asset": {"version": "2.0", "generator": f"Silent Loom {__version__}"}, "scene": 0}
    body = _Body(b"", [], [])
    made = _materials(dresses, scene, body)
    scene["materials"] = [
        made.get(
            k,
            {"name": s.name, "pbrMetallicRoughness": {"baseColorFactor": [*s.colour, 1.0], "metallicFactor": 0.0}},
        )
        for k, s in enumerate(model.slots)
    ]
    place = turned_up(model.positions.values * (model.unit_mm / 1000), model.up).astype(np.float32)[model.positions.index]
    normals = corner_normals(model)
    attributes = {"POSITION": place, "NORMAL": normals.astype(np.float32)}
    if model.uvs:
        uv = model.uv().at_corners()
        seen = frames(model.corners, normals, np.nan_to_num(uv))
        # In glTF v goes down: the bitangent there runs against ours, and w with it
        attributes["TANGENT"] = np.concatenate([seen.tangent, seen.sign[..., None]], -1).astype(np.float32)
        for k, table in enumerate(model.uvs.values()):
            attributes[f"TEXCOORD_{k}"] = (np.nan_to_num(table.at_corners()) * (1, -1) + (0, 1)).astype(np.float32)
    if model.colours is not None:
        attributes["COLOR_0"] = np.nan_to_num(model.colours.at_corners(), nan=1.0).astype(np.float32)
    nodes, meshes = [], []
    for number, name in enumerate(model.meshes):
        primitives = []
        for slot in np.unique(model.triangle_slot[model.triangle_mesh == number]):
            mine = np.flatnonzero((model.triangle_mesh == number) & (model.triangle_slot == slot))
            rows = np.concatenate([v[mine].reshape(3 * len(mine), -1) for v in attributes.values()], 1)
            first, index = welded(rows)
            order = np.argsort(first)  # corners in the order in which triangles name them
            rank = np.empty(len(first), np.int64)
            rank[order] = np.arange(len(first))
            columns = np.cumsum([0, *(v.shape[2] for v in attributes.values())])
            taken = rows[first[order]]
            named = {
                key: body.accessor(np.ascontiguousarray(taken[:, a:b], "<f4"), ARRAY, key == "POSITION")
                for key, a, b in zip(attributes, columns, columns[1:], strict=False)
            }
            kind = "<u2" if len(first) < 65535 else "<u4"
            indices = body.accessor(rank[index].astype(kind), ELEMENTS)
            primitives.append({"attributes": named, "indices": indices, "material": int(slot)})
        if primitives:
            meshes.append({"name": name, "primitives": primitives})
            nodes.append({"name": name, "mesh": len(meshes) - 1})
    scene |= {"scenes": [{"nodes": list(range(len(nodes)))}], "nodes": nodes, "meshes": meshes}
    return _packed(scene, body)
