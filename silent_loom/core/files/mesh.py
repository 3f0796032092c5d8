"""Models to look at a material on: Wavefront OBJ and binary glTF, as triangles."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.bounded_json import loads
from silent_loom.core.base.errors import FileError

MOST_TRIANGLES = 4_000_000
MOST_BYTES = 512 << 20
_COMPONENTS = {5120: "i1", 5121: "u1", 5122: "i2", 5123: "u2", 5125: "u4", 5126: "f4"}
_WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}


@dataclass(frozen=True)
class Mesh:
    """Triangles with everything that shading needs.

    Attributes
    ----------
    positions : float32 array, shape (N, 3)
        In the units of the file; y is up.
    normals : float32 array, shape (N, 3)
        Unit length.
    uv : float32 array, shape (N, 2)
        u to the right, v up.
    triangles : uint32 array, shape (M, 3)
    own_uv : bool
        The file says how textures lie; else they were laid from the sides, a unit of the file a repeat.
    """

    positions: NDArray[np.float32]
    normals: NDArray[np.float32]
    uv: NDArray[np.float32]
    triangles: NDArray[np.uint32]
    own_uv: bool

    def packed(self) -> bytes:
        """Little-endian: corners and triangles (uint32), then positions, normals, uv (float32) and triangles (uint32)."""
        head = struct.pack("<II", len(self.positions), len(self.triangles))
        parts = (self.positions, self.normals, self.uv)
        return head + b"".join(p.astype("<f4").tobytes() for p in parts) + self.triangles.astype("<u4").tobytes()


def read_mesh(path: Path, name: str = "") -> Mesh:
    """The triangles of a file.

    Raises
    ------
    FileError
        It is no such file, is damaged, or has nothing to show.
    """
    called = name or path.name
    try:
        size = path.stat().st_size
        body = path.read_bytes() if size <= MOST_BYTES else b""
    except OSError as error:
        raise FileError(f"the model cannot be read ({error.strerror})", called, "Check the path.") from None
    if size > MOST_BYTES:
        raise FileError(f"the model has {size >> 20} MB", called, f"Use one of at most {MOST_BYTES >> 20} MB.")
    try:
        parts = _of_glb(body) if body[:4] == b"glTF" else _of_obj(body)
    except FileError as error:
        raise FileError(error.what, called, error.todo) from None
    except (ValueError, KeyError, IndexError, TypeError, struct.error, OverflowError, AttributeError):
        raise FileError("this model is damaged, or no OBJ or GLB", called, "Export it again as OBJ or GLB.") from None
    return _whole(parts, called)


Parts = list[tuple[NDArray[Any], NDArray[Any] | None, NDArray[Any] | None, NDArray[Any]]]
"""Positions, normals, uv and triangles of each piece."""


def _whole(parts: Parts, called: str) -> Mesh:
    if not parts or not sum(len(p[3]) for p in parts):
        raise FileError("there is no surface in this model", called, "Export its faces, too.")
    if sum(len(p[3]) for p in parts) > MOST_TRIANGLES:
        raise FileError(f"the model has more than {MOST_TRIANGLES:,} triangles", called, "Use a simpler one.")
    positions, normals, uvs, triangles = [], [], [], []
    first, own = 0, all(p[2] is not None for p in parts)
    for at, facing, laid, faces in parts:
        if len(faces) and (faces.min() < 0 or faces.max() >= len(at)):
            raise FileError("a face of the model names a corner that is not there", called, "Export it again.")
        if not np.isfinite(at).all():
            raise FileError("the model has corners at no place", called, "Export it again.")
        if facing is None or not np.isfinite(facing).all():
            facing = _smooth(at, faces)
        if not own or laid is None:
            at, facing, laid, faces = _from_the_sides(at, facing, faces)
        positions.append(at)
        normals.append(facing / np.maximum(np.linalg.norm(facing, axis=1, keepdims=True), 1e-12))
        uvs.append(laid)
        triangles.append(faces + first)
        first += len(at)
    return Mesh(
        np.ascontiguousarray(np.concatenate(positions), np.float32),
        np.ascontiguousarray(np.concatenate(normals), np.float32),
        np.ascontiguousarray(np.concatenate(uvs), np.float32),
        np.ascontiguousarray(np.concatenate(triangles), np.uint32),
        own,
    )


def _faces_normals(at: NDArray[Any], faces: NDArray[Any]) -> NDArray[np.float64]:
    a, b, c = (at[faces[:, k]].astype(np.float64) for k in range(3))
    return np.cross(b - a, c - a)


def _smooth(at: NDArray[Any], faces: NDArray[Any]) -> NDArray[np.float64]:
    """Normals of corners from the faces around them, larger faces counting for more."""
    out = np.zeros((len(at), 3))
    facing = _faces_normals(at, faces)
    for k in range(3):
        np.add.at(out, faces[:, k], facing)
    return out


def _from_the_sides(
    at: NDArray[Any], facing: NDArray[Any], faces: NDArray[Any]
) -> tuple[NDArray[Any], NDArray[Any], NDArray[Any], NDArray[Any]]:
    """Corners of their own for each face, its uv laid from the axis that it faces most."""
    axis = np.abs(_faces_normals(at, faces)).argmax(1)
    corner = faces.ravel()
    p, axis = at[corner].astype(np.float64), np.repeat(axis, 3)
    u = np.where(axis == 0, -p[:, 2], p[:, 0])
    v = np.where(axis == 1, -p[:, 2], p[:, 1])
    return at[corner], facing[corner], np.stack([u, v], 1), np.arange(len(corner)).reshape(-1, 3)


def _of_obj(body: bytes) -> Parts:
    """Wavefront OBJ: v, vt, vn and f; groups, materials and curves are passed over."""
    tables: dict[str, list[tuple[float, ...]]] = {"v": [], "vt": [], "vn": []}
    known: dict[tuple[int, int, int], int] = {}
    order: list[tuple[int, int, int]] = []
    faces: list[tuple[int, int, int]] = []
    for line in body.decode("utf-8", "replace").replace("\\\n", " ").splitlines():
        words = line.split()
        if not words or words[0] not in ("v", "vt", "vn", "f"):
            continue
        if words[0] != "f":
            tables[words[0]].append(tuple(float(w) for w in words[1 : 3 if words[0] == "vt" else 4]))
            continue
        corners = []
        for word in words[1:]:
            spots = [*word.split("/"), "", ""][:3]
            key = tuple(_spot(text, len(tables[t])) for text, t in zip(spots, ("v", "vt", "vn"), strict=True))
            at = known.setdefault(key, len(order))  # type: ignore[arg-type]
            if at == len(order):
                order.append(key)  # type: ignore[arg-type]
            corners.append(at)
        faces += [(corners[0], corners[i], corners[i + 1]) for i in range(1, len(corners) - 1)]
        if len(faces) > MOST_TRIANGLES:
            break
    if not faces:
        return []
    index = np.array(order)
    if index[:, 0].min() < 0:
        raise ValueError("a corner without a place")

    def taken(table: str, k: int) -> NDArray[Any] | None:
        if not tables[table] or index[:, k].min() < 0:
            return None
        return np.array(tables[table], np.float64)[index[:, k]]

    positions = taken("v", 0)
    assert positions is not None
    return [(positions, taken("vn", 2), taken("vt", 1), np.array(faces, np.int64))]


def _spot(text: str, count: int) -> int:
    """Place in a table from a number that counts from 1, or backwards from the end; −1 where none is said."""
    if not text:
        return -1
    n = int(text)
    at = n - 1 if n > 0 else count + n
    if n == 0 or not 0 <= at < count:
        raise ValueError("a face names what is not there")
    return at


def _of_glb(body: bytes) -> Parts:
    """Binary glTF 2.0: the triangles of all meshes of its scene, each where its nodes put it."""
    version, length = struct.unpack_from("<II", body, 4)
    if version != 2:
        raise FileError(f"this is glTF {version}", "", "Export glTF 2.0.")
    chunks: dict[bytes, bytes] = {}
    at = 12
    while at + 8 <= min(length, len(body)):
        size, kind = struct.unpack_from("<I4s", body, at)
        if at + 8 + size > len(body):
            raise ValueError("cut off")
        chunks.setdefault(kind, body[at + 8 : at + 8 + size])
        at += 8 + size
    scene = loads(chunks[b"JSON"], "the model", most_bytes=64 << 20)
    needed = set(scene.get("extensionsRequired", []))
    if needed & {"KHR_draco_mesh_compression", "EXT_meshopt_compression"}:
        raise FileError("the model is compressed", "", "Export it without mesh compression.")
    reader = _Accessors(scene, chunks.get(b"BIN\0", b""))
    parts: Parts = []
    roots = scene["scenes"][scene.get("scene", 0)].get("nodes", []) if scene.get("scenes") else range(len(scene.get("nodes", [])))
    todo = [(int(node), np.eye(4), 0) for node in roots]
    while todo:
        number, above, deep = todo.pop()
        if deep > 200 or len(parts) > 10_000:
            raise ValueError("nodes within nodes without end")
        node = scene["nodes"][number]
        here = above @ node_matrix(node)
        todo += [(int(child), here, deep + 1) for child in node.get("children", [])]
        if "mesh" in node:
            parts += [
                p for prim in scene["meshes"][node["mesh"]]["primitives"] if (p := _primitive(reader, prim, here)) is not None
            ]
    return parts


def node_matrix(node: dict[str, Any]) -> NDArray[np.float64]:
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


def _primitive(
    reader: _Accessors, primitive: dict[str, Any], here: NDArray[np.float64]
) -> tuple[NDArray[Any], NDArray[Any] | None, NDArray[Any] | None, NDArray[Any]] | None:
    if primitive.get("mode", 4) not in (4, 5, 6):
        return None  # points and lines
    named = primitive["attributes"]
    at = reader.read(named["POSITION"]) @ here[:3, :3].T + here[:3, 3]
    facing = reader.read(named["NORMAL"]) @ np.linalg.inv(here[:3, :3]) if "NORMAL" in named else None
    laid = reader.read(named["TEXCOORD_0"])[:, :2] * (1, -1) + (0, 1) if "TEXCOORD_0" in named else None  # theirs go down
    order = reader.read(primitive["indices"]).astype(np.int64).ravel() if "indices" in primitive else np.arange(len(at))
    faces = faces_of(order, primitive.get("mode", 4))
    if np.linalg.det(here[:3, :3]) < 0:
        faces = faces[:, ::-1]
    return at, facing, laid, faces


def faces_of(order: NDArray[np.int64], mode: int) -> NDArray[np.int64]:
    """Triangles of a primitive of a glTF, shape (M, 3): 4 a list of them, 5 a strip, 6 a fan.

    >>> faces_of(np.array([0, 1, 2, 3]), 5).tolist()
    [[0, 1, 2], [3, 2, 1]]
    """
    if mode == 4:
        return order[: len(order) // 3 * 3].reshape(-1, 3)
    if mode == 5:
        faces = np.stack([order[:-2], order[1:-1], order[2:]], 1)
        faces[1::2] = faces[1::2, ::-1]
        return faces
    return np.stack([np.full(len(order) - 2, order[0]), order[1:-1], order[2:]], 1)


class _Accessors:
    """Numbers of a binary glTF."""

    def __init__(self, scene: dict[str, Any], data: bytes) -> None:
        self._scene, self._data = scene, data

    def read(self, number: int) -> NDArray[np.float64]:
        accessor = self._scene["accessors"][number]
        width, count = _WIDTHS[accessor["type"]], int(accessor["count"])
        kind = np.dtype("<" + _COMPONENTS[accessor["componentType"]])
        if not 0 <= count <= 3 * MOST_TRIANGLES or "sparse" in accessor:
            raise ValueError("not a table that is read here")
        if "bufferView" not in accessor:
            return np.zeros((count, width))
        view = self._scene["bufferViews"][accessor["bufferView"]]
        if view.get("buffer", 0) != 0 or "uri" in self._scene["buffers"][0]:
            raise FileError("parts of the model lie in other files", "", "Export one GLB that holds everything.")
        start = int(view.get("byteOffset", 0)) + int(accessor.get("byteOffset", 0))
        stride = int(view.get("byteStride", 0)) or kind.itemsize * width
        if (
            start < 0
            or stride < kind.itemsize * width
            or (count and start + (count - 1) * stride + kind.itemsize * width > len(self._data))
        ):
            raise ValueError("cut off")
        raw = np.ndarray((count, width), kind, self._data, start, (stride, kind.itemsize))
        values = raw.astype(np.float64)
        if accessor.get("normalized") and kind.kind in "iu":
            values = np.maximum(values / np.iinfo(kind).max, -1)
        return values
