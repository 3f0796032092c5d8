"""glTF 2.0: the triangles of its scene where its nodes put them, with UV sets, vertex colours and materials."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import FileError
from silent_loom.core.files.gltf_file import GltfFile
from silent_loom.core.form.model import Model, Slot
from silent_loom.core.form.reading.building import AGAIN, MOST_TRIANGLES, Piece, built

MOST_NODES, DEEPEST = 100_000, 200
SETS = 8
"""UV sets of a primitive at most."""
COMPRESSED = {"KHR_draco_mesh_compression", "EXT_meshopt_compression", "KHR_meshopt_compression"}
METRE = 1000.0


def read_gltf(path: Path, name: str = "") -> Model:
    """A .gltf with its files beside it, or a .glb.

    Raises
    ------
    FileError
        It is damaged, compressed, names files elsewhere, or has no triangles.

    Notes
    -----
    Units are metres and y is up, by the standard. A mesh has its node's name, or its own where the node has none; one that
    stands in several places is as many meshes. Skins and morph targets are as they are at rest.
    """
    called = name or path.name
    file = GltfFile(path)
    needed = set(map(str, file.json.get("extensionsRequired") or []))
    if needed & COMPRESSED:
        raise FileError("the model is compressed", called, "Export it without mesh compression.")
    try:
        pieces = _pieces(file, called)
        slots = [_slot(file, i, told) for i, told in enumerate(file.list("materials"))]
    except (KeyError, TypeError, ValueError, AttributeError, IndexError, OverflowError):
        raise FileError("this model is damaged", called, AGAIN) from None
    bare = len(slots)
    if any((p.slots == -1).any() for p in pieces):
        slots.append(Slot("material"))
        for p in pieces:
            p.slots = np.where(p.slots < 0, bare, p.slots)
    return built(pieces, slots, called, form="gltf", unit_mm=METRE)


def _pieces(file: GltfFile, called: str) -> list[Piece]:
    nodes, meshes = file.list("nodes"), file.list("meshes")
    scenes = file.list("scenes")
    roots = scenes[int(file.json.get("scene", 0))].get("nodes", []) if scenes else range(len(nodes))
    found: list[Piece] = []
    names: dict[str, int] = {}
    todo = [(int(root), np.eye(4), 0) for root in roots][::-1]  # the first one is looked at first
    walked = triangles = 0
    while todo:
        number, above, deep = todo.pop()
        walked += 1
        if deep > DEEPEST or walked > MOST_NODES:
            raise FileError("its nodes lie within each other without end", called, AGAIN)
        if not 0 <= number < len(nodes):
            raise ValueError("a node that is not there")
        node = nodes[number]
        here = above @ node_matrix(node)
        todo += [(int(child), here, deep + 1) for child in node.get("children") or []][::-1]
        if "mesh" not in node:
            continue
        mesh = meshes[_whole(node["mesh"])]
        title = str(node.get("name") or mesh.get("name") or f"mesh {node['mesh']}")[:200]
        names[title] = names.get(title, 0) + 1
        title = title if names[title] == 1 else f"{title} {names[title]}"
        for primitive in mesh["primitives"]:
            piece = _primitive(file, primitive, here, title)
            if piece is not None:
                found.append(piece)
                triangles += len(piece.triangles)
        if triangles > MOST_TRIANGLES:
            break
    return found


def _whole(value: Any) -> int:
    if not isinstance(value, int) or value < 0:
        raise ValueError("no number of a row")
    return value


def node_matrix(node: Mapping[str, Any]) -> NDArray[np.float64]:
    """Where a node of a glTF puts what lies in it, shape (4, 4).

    >>> node_matrix({"translation": [1, 2, 3]})[:, 3].tolist()
    [1.0, 2.0, 3.0, 1.0]
    """
    if "matrix" in node:
        return np.array(node["matrix"], np.float64).reshape(4, 4).T
    out = np.eye(4)
    x, y, z, w = (float(v) for v in node.get("rotation", (0, 0, 0, 1)))
    turn = [
        [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
        [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
        [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
    ]
    out[:3, :3] = np.array(turn) * np.array(node.get("scale", (1, 1, 1)), np.float64)
    out[:3, 3] = node.get("translation", (0, 0, 0))
    return out


def faces_of(order: NDArray[np.int64], mode: int) -> NDArray[np.int64]:
    """Triangles of a primitive of a glTF, shape (M, 3): 4 a list of them, 5 a strip, 6 a fan.

    >>> faces_of(np.array([0, 1, 2, 3]), 5).tolist()
    [[0, 1, 2], [3, 2, 1]]
    """
    if len(order) < 3:
        return np.zeros((0, 3), np.int64)
    if mode == 4:
        return order[: len(order) // 3 * 3].reshape(-1, 3)
    if mode == 5:
        faces = np.stack([order[:-2], order[1:-1], order[2:]], 1)
        faces[1::2] = faces[1::2, ::-1]
        return faces
    return np.stack([np.full(len(order) - 2, order[0]), order[1:-1], order[2:]], 1)


def _primitive(file: GltfFile, told: Mapping[str, Any], here: NDArray[np.float64], title: str) -> Piece | None:
    mode = told.get("mode", 4)
    if mode not in (4, 5, 6):
        return None  # points and lines
    named = told["attributes"]
    at = _of(file, named["POSITION"], 3) @ here[:3, :3].T + here[:3, 3]
    order = file.accessor(told["indices"]).astype(np.int64).ravel() if "indices" in told else np.arange(len(at))
    triangles = faces_of(order, mode)
    if len(triangles) and mode != 4:  # strips are often stitched together by triangles without an area
        a, b, c = triangles.T
        triangles = triangles[(a != b) & (b != c) & (a != c)]
    if np.linalg.det(here[:3, :3]) < 0:
        triangles = triangles[:, ::-1]
    if not len(triangles):
        return None
    uvs = {}
    for k in range(SETS):
        if f"TEXCOORD_{k}" in named:
            values = _of(file, named[f"TEXCOORD_{k}"], 2)
            _as_many(values, at)
            uvs[f"UV{k or ''}"] = values * (1, -1) + (0, 1), triangles  # in glTF v goes down
    normals = None
    if "NORMAL" in named:
        facing = _of(file, named["NORMAL"], 3) @ np.linalg.inv(here[:3, :3])
        _as_many(facing, at)
        length = np.linalg.norm(facing, axis=1, keepdims=True)
        normals = (facing / np.where(length > 0, length, 1)).astype(np.float32), triangles
    colours = None
    if "COLOR_0" in named:
        values = file.accessor(named["COLOR_0"]).astype(np.float32)
        _as_many(values, at)
        alpha = values[:, 3:4] if values.shape[1] > 3 else np.ones((len(values), 1), np.float32)
        colours = np.concatenate([values[:, :3], alpha], 1), triangles
    slot = told.get("material", -1)
    slots = len(file.list("materials"))
    slot = slot if isinstance(slot, int) and 0 <= slot < slots else -1
    where = np.zeros(len(triangles), int)
    return Piece([title], where, at, triangles, where + slot, uvs, normals, colours)


def _of(file: GltfFile, accessor: Any, width: int) -> NDArray[np.float64]:
    values = file.accessor(accessor)
    if values.shape[1] < width:
        raise ValueError("too few numbers a corner")
    return values[:, :width].astype(np.float64)


def _as_many(values: NDArray[Any], at: NDArray[Any]) -> None:
    if len(values) != len(at):
        raise ValueError("not one for each corner")


def _slot(file: GltfFile, number: int, told: Mapping[str, Any]) -> Slot:
    pbr = told.get("pbrMetallicRoughness") or {}
    texture = {
        "base": pbr.get("baseColorTexture"),
        "roughness": pbr.get("metallicRoughnessTexture"),
        "metallic": pbr.get("metallicRoughnessTexture"),
        "normal": told.get("normalTexture"),
        "occlusion": told.get("occlusionTexture"),
        "emission": told.get("emissiveTexture"),
    }
    r, g, b = (float(v) for v in (*(pbr.get("baseColorFactor") or ()), 1, 1, 1)[:3])
    textures = {use: f"texture {t['index']}" for use, t in texture.items() if isinstance(t, dict) and "index" in t}
    return Slot(str(told.get("name") or f"material {number}")[:200], textures, (r, g, b))
