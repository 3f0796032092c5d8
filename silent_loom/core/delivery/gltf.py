"""A GLB to look at: one square of the surface with the material on it (glTF 2.0)."""

from __future__ import annotations

import json
import struct
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np

from silent_loom import __version__
from silent_loom.core.files.place import drop, place


def _pad(body: bytes, fill: bytes) -> bytes:
    return body + fill * (-len(body) % 4)


def glb_bytes(name: str, textures: Mapping[str, bytes], size_mm: tuple[float, float]) -> bytes:
    """A binary glTF of a flat sheet in true size, facing +Z.

    Parameters
    ----------
    textures : mapping of str to bytes
        PNG files by role: baseColorTexture, normalTexture, metallicRoughnessTexture (occlusion in its red channel).
    size_mm : tuple of float
        One repeat; the sheet is one repeat large, in metres.

    Notes
    -----
    The sheet has 2 × 2 corners and tangents, so that normal maps are read as MikkTSpace gives them on a plane.
    """
    w, h = size_mm[0] / 2000, size_mm[1] / 2000
    position = np.array([[-w, h, 0], [w, h, 0], [w, -h, 0], [-w, -h, 0]], "<f4")
    normal = np.tile(np.array([0, 0, 1], "<f4"), (4, 1))
    tangent = np.tile(np.array([1, 0, 0, 1], "<f4"), (4, 1))
    uv = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], "<f4")
    index = np.array([0, 3, 1, 1, 3, 2], "<u2")
    blocks: list[bytes] = []
    views: list[dict[str, Any]] = []
    offset = 0
    for body, target in [
        (position.tobytes(), 34962),
        (normal.tobytes(), 34962),
        (tangent.tobytes(), 34962),
        (uv.tobytes(), 34962),
        (index.tobytes(), 34963),
    ] + [(t, 0) for t in textures.values()]:
        views.append({"buffer": 0, "byteOffset": offset, "byteLength": len(body), **({"target": target} if target else {})})
        blocks.append(_pad(body, b"\0"))
        offset += len(blocks[-1])
    accessors = [
        {
            "bufferView": 0,
            "componentType": 5126,
            "count": 4,
            "type": "VEC3",
            "min": position.min(0).tolist(),
            "max": position.max(0).tolist(),
        },
        {"bufferView": 1, "componentType": 5126, "count": 4, "type": "VEC3"},
        {"bufferView": 2, "componentType": 5126, "count": 4, "type": "VEC4"},
        {"bufferView": 3, "componentType": 5126, "count": 4, "type": "VEC2"},
        {"bufferView": 4, "componentType": 5123, "count": 6, "type": "SCALAR"},
    ]
    at = {role: {"index": i} for i, role in enumerate(textures)}
    rough: dict[str, Any] = {"metallicFactor": 1.0, "roughnessFactor": 1.0}
    material: dict[str, Any] = {"name": name, "pbrMetallicRoughness": rough}
    if "baseColorTexture" in at:
        rough["baseColorTexture"] = at["baseColorTexture"]
    if "metallicRoughnessTexture" in at:
        rough["metallicRoughnessTexture"] = at["metallicRoughnessTexture"]
        material["occlusionTexture"] = at["metallicRoughnessTexture"]
    if "normalTexture" in at:
        material["normalTexture"] = at["normalTexture"]
    scene = {
        "asset": {"version": "2.0", "generator": f"Silent Loom {__version__}"},
        "scene": 0,
        "scenes": [{"nodes": [0]}],
        "nodes": [{"mesh": 0, "name": name}],
        "meshes": [
            {
                "primitives": [
                    {
                        "attributes": {"POSITION": 0, "NORMAL": 1, "TANGENT": 2, "TEXCOORD_0": 3},
                        "indices": 4,
                        "material": 0,
                    }
                ]
            }
        ],
        "materials": [material],
        "textures": [{"sampler": 0, "source": i} for i in range(len(textures))],
        "images": [{"bufferView": 5 + i, "mimeType": "image/png", "name": role} for i, role in enumerate(textures)],
        "samplers": [{"magFilter": 9729, "minFilter": 9987, "wrapS": 10497, "wrapT": 10497}],
        "accessors": accessors,
        "bufferViews": views,
        "buffers": [{"byteLength": offset}],
    }
    head = _pad(json.dumps(scene, separators=(",", ":")).encode(), b" ")
    body = b"".join(blocks)
    total = 12 + 8 + len(head) + 8 + len(body)
    return (
        struct.pack("<4sII", b"glTF", 2, total)
        + struct.pack("<I4s", len(head), b"JSON")
        + head
        + struct.pack("<I4s", len(body), b"BIN\0")
        + body
    )


def write_glb(
    path: Path, name: str, textures: Mapping[str, Path], size_mm: tuple[float, float], *, replace: bool = False
) -> None:
    """`glb_bytes` of files, put in place whole."""
    partial = path.with_name(f".{path.name}.part")
    try:
        partial.write_bytes(glb_bytes(name, {role: file.read_bytes() for role, file in textures.items()}, size_mm))
        place(partial, path, replace=replace)
    finally:
        drop(partial)
