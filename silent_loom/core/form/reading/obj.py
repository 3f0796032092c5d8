"""Wavefront OBJ: places, UVs, normals, vertex colours and polygons, with the materials of an MTL beside it."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import FileError
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.form.model import Model, Slot
from silent_loom.core.form.reading.building import AGAIN, MOST_NAMES, MOST_TRIANGLES, Piece, built, bytes_of
from silent_loom.core.form.reading.mtl import materials
from silent_loom.core.form.reading.obj_text import Text, joined, read_text
from silent_loom.core.form.reading.polygons import triangulated

MOST_SIDES = 10_000
MOST_LIBRARIES = 100


def read_obj(path: Path, name: str = "") -> Model:
    """A Wavefront OBJ.

    Raises
    ------
    FileError
        It is damaged, or has no faces. A missing MTL, or one that lies elsewhere, is an error, too.

    Notes
    -----
    Objects (o) are meshes; where a file has none, groups (g) are. Vertex colours stand behind the places, as many programs
    write them, and are codes of sRGB. Curves, lines and smoothing groups are passed over.
    """
    called = name or path.name
    body = bytes_of(path, called)
    if b"\0" in body[:4096]:
        raise FileError("this is no OBJ: it holds no text", called, "Choose an OBJ, glTF, GLB, PLY or STL.")
    try:
        body = joined(body)
        text = read_text(body, MOST_TRIANGLES)
    except OverflowError:
        raise FileError("the model has too many faces", called, f"Use one of at most {MOST_TRIANGLES:,} triangles.") from None
    if text.wrong:
        raise FileError(f"line {text.wrong:,} of it cannot be read", called, AGAIN)
    if not len(text.sides):
        raise FileError("there is no surface in this model", called, "Export its faces, too.")
    said = _said(body, text)
    del body
    places, uvs, normals = text.tables
    triangles, of_face = _triangles(text, called)
    count = len(text.sides)
    meshes, mesh_of = _named(said["o"] or said["g"], count, Path(called).stem)
    slots, slot_of = _named(said["usemtl"], count, "material")
    at, laid, facing = triangles
    colours = None
    first = 4 if len(places) and np.isfinite(places[:, 6]).all() else 3  # behind a weight, where there is one
    if len(places) and np.isfinite(places[:, first : first + 3]).all():
        light = decode_srgb(np.clip(places[:, first : first + 3], 0, 1)).astype(np.float32)
        colours = np.concatenate([light, np.ones((len(light), 1), np.float32)], 1)
    piece = Piece(
        meshes,
        mesh_of[of_face],
        places[:, :3],
        at,
        slot_of[of_face],
        {"UV": (uvs[:, :2], laid)} if (laid >= 0).any() else {},
        (normals[:, :3], facing) if (facing >= 0).any() else None,
        (colours, at) if colours is not None else None,
    )
    return built([piece], _materials(said["mtllib"], slots, path, called), called, form="obj")


def _said(body: bytes, text: Text) -> dict[str, list[tuple[int, str]]]:
    """What is said beside tables and faces, and before which face."""
    said: dict[str, list[tuple[int, str]]] = {"o": [], "g": [], "usemtl": [], "mtllib": []}
    for (start, end), face in zip(text.others.tolist(), text.before.tolist(), strict=True):
        word, _, rest = body[start : min(end, start + 1000)].decode("utf-8", "replace").replace("\t", " ").partition(" ")
        if word in said:
            said[word].append((face, rest.strip()[:200] or "unnamed"))
    return said


Index = NDArray[np.int64]


def _triangles(text: Text, called: str) -> tuple[tuple[Index, Index, Index], Index]:
    """Place, UV and normal of each corner of each triangle, shape (T, 3), and the face that each triangle is of."""
    places = text.tables[0][:, :3]
    if (most := int(text.sides.max())) > MOST_SIDES:
        raise FileError(f"one of its faces has {most:,} corners", called, "Cut it into smaller ones.")
    start = np.concatenate([[0], np.cumsum(text.sides)[:-1]])
    totals = tuple(len(t) for t in text.tables)
    corners = _counted(text.corners, np.repeat(text.counts, text.sides, 0), totals, called)
    found: list[tuple[Index, Index]] = []
    for n in np.unique(text.sides[text.sides >= 3]):
        faces = np.flatnonzero(text.sides == n)
        mine = corners[start[faces, None] + np.arange(n)]
        if n > 3:
            cut = triangulated(places[mine[..., 0]])
            mine = mine[np.arange(len(faces))[:, None, None], cut].reshape(-1, 3, 3)
        found.append((mine, np.repeat(faces, n - 2)))
    if not found:
        raise FileError("there is no surface in this model", called, "Export its faces, too.")
    triangles, of_face = (np.concatenate([f[k] for f in found]) for k in (0, 1))
    if len(found) > 1:
        order = np.argsort(of_face, kind="stable")
        triangles, of_face = triangles[order], of_face[order]
    at, laid, facing = (np.ascontiguousarray(triangles[..., k]) for k in range(3))
    return (at, laid, facing), of_face


def _counted(corners: Index, before: Index, totals: tuple[int, ...], called: str) -> Index:
    """Rows of the tables from numbers that count from 1, or backwards from where the face stands; −1 where none is said."""
    if (corners < 0).any():
        corners = np.where(corners < 0, before + corners + 1, np.where(corners == 0, -1 << 40, corners))
        if ((corners < 1) & (corners > -1 << 40)).any():
            raise FileError("a face of the model names a corner that is not there", called, AGAIN)
    out = np.maximum(corners - 1, -1)
    if (out[..., 0] < 0).any() or (out >= np.array(totals)).any():
        raise FileError("a face of the model names a corner that is not there", called, AGAIN)
    return out


def _named(starts: list[tuple[int, str]], count: int, otherwise: str) -> tuple[list[str], NDArray[np.int32]]:
    """Names in their order, and for each face the number of its own."""
    if not starts:
        return [otherwise], np.zeros(count, np.int32)
    if starts[0][0] > 0:
        starts = [(0, otherwise), *starts]
    ends = [at for at, _ in starts[1:]] + [count]
    used = [(name, at, end) for (at, name), end in zip(starts, ends, strict=True) if end > at]
    names = list(dict.fromkeys(name for name, _, _ in used))
    if len(names) > MOST_NAMES:
        names = names[: MOST_NAMES + 1]  # refused when the model is put together
    of = {name: k for k, name in enumerate(names)}
    numbers = np.zeros(count, np.int32)
    for name, at, end in used:
        numbers[at:end] = of.get(name, 0)
    return names, numbers


def _materials(libraries: list[tuple[int, str]], names: list[str], path: Path, called: str) -> list[Slot]:
    told: dict[str, Slot] = {}
    for _, library in libraries[:MOST_LIBRARIES]:
        told |= materials(path.parent, library, called)
    return [told.get(name, Slot(name)) for name in names]
