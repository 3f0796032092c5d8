"""PLY and STL, through trimesh; what their heads promise is held against what is there before anything is read."""

from __future__ import annotations

import io
import logging
import re
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import FileError
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.form.model import Model
from silent_loom.core.form.reading.building import AGAIN, MOST_TRIANGLES, Piece, built, bytes_of
from silent_loom.core.form.welding import welded

ply = later("trimesh.exchange.ply")
stl = later("trimesh.exchange.stl")
logging.getLogger("trimesh").addHandler(logging.NullHandler())  # what is wrong is said in our own words
_SIZES = {
    b"char": 1, b"uchar": 1, b"int8": 1, b"uint8": 1, b"short": 2, b"ushort": 2, b"int16": 2, b"uint16": 2,
    b"int": 4, b"uint": 4, b"int32": 4, b"uint32": 4, b"float": 4, b"float32": 4, b"double": 8, b"float64": 8,
}  # fmt: skip
TRIANGLE = 50
"""Bytes of a triangle in a binary STL."""


def read_ply(path: Path, name: str = "") -> Model:
    """A PLY, as text or binary, with normals, UVs and colours of its vertices.

    Raises
    ------
    FileError
        It is damaged, promises more than it holds, or has no faces.
    """
    called = name or path.name
    body = bytes_of(path, called)
    _promised(body, called)
    try:
        told: dict[str, Any] = ply.load_ply(io.BytesIO(body), fix_texture=False, prefer_color="vertex")
        places = np.asarray(told["vertices"], np.float64).reshape(-1, 3)
        triangles = np.asarray(told["faces"], np.int64).reshape(-1, 3)
        raw = told.get("metadata", {}).get("_ply_raw", {}).get("vertex", {}).get("data")
        uvs, colours, normals = _columns(raw, len(places))
    except FileError:
        raise
    except Exception:  # a damaged file may end a reader in any way
        raise FileError("this PLY is damaged", called, AGAIN) from None
    where = np.zeros(len(triangles), int)
    piece = Piece(
        [Path(called).stem],
        where,
        places,
        triangles,
        where,
        {} if uvs is None else {"UV": (uvs, triangles)},
        None if normals is None else (normals, triangles),
        None if colours is None else (colours, triangles),
    )
    return built([piece], [], called, form="ply")


def _promised(body: bytes, called: str) -> None:
    """Refuse a head that promises more rows than the file could hold."""
    end = body.find(b"end_header", 0, 1 << 20)
    if not body.startswith(b"ply") or end < 0:
        raise FileError("this is no PLY, or its head is damaged", called, AGAIN)
    head, left = body[:end], len(body) - end
    text = b"format ascii" in head
    least = 0
    for part in re.split(rb"[\r\n]+element ", head)[1:]:
        lines = part.split(b"\n")
        words = lines[0].split()
        try:
            count = int(words[1])
        except (IndexError, ValueError):
            raise FileError("the head of this PLY is damaged", called, AGAIN) from None
        if not 0 <= count <= 3 * MOST_TRIANGLES:
            raise FileError(f"its head promises {count:,} rows", called, f"Use one of at most {MOST_TRIANGLES:,} triangles.")
        each = 0
        for line in lines[1:]:
            kinds = line.split()
            if kinds[:1] == [b"property"] and len(kinds) > 2:
                each += 1 if text else _SIZES.get(kinds[2] if kinds[1] == b"list" else kinds[1], 1)
        least += count * max(each, 1)
    if least > left:
        raise FileError("its head promises more than the file holds", called, AGAIN)


def _columns(raw: Any, count: int) -> tuple[NDArray[np.float64] | None, NDArray[np.float32] | None, NDArray[np.float32] | None]:
    """UVs, colours and normals of the vertices; None what is not there."""

    def columns(*names: str) -> NDArray[Any] | None:
        if raw is None:
            return None
        there = raw.dtype.names if hasattr(raw, "dtype") and raw.dtype.names else tuple(raw)
        if not all(n in there for n in names):
            return None
        return np.stack([np.asarray(raw[n]).reshape(-1)[:count] for n in names], 1)

    pairs = (columns(*p) for p in (("u", "v"), ("s", "t"), ("texture_u", "texture_v")))
    uvs = next((p for p in pairs if p is not None), None)
    light = None
    codes = columns("red", "green", "blue")
    if codes is not None:
        whole = codes.dtype.kind in "iu"
        shares = codes.astype(np.float64) / (np.iinfo(codes.dtype).max if whole else 1)
        alpha = columns("alpha")
        part = np.ones((count, 1)) if alpha is None else alpha / (np.iinfo(alpha.dtype).max if alpha.dtype.kind in "iu" else 1)
        light = np.concatenate([decode_srgb(np.clip(shares, 0, 1)), part], 1).astype(np.float32)
    facing = columns("nx", "ny", "nz")
    return (
        None if uvs is None else uvs.astype(np.float64),
        light,
        None if facing is None else facing.astype(np.float32),
    )


def read_stl(path: Path, name: str = "") -> Model:
    """An STL, as text or binary. Corners at the same place are one; z is up, as in the trades that use it.

    Raises
    ------
    FileError
        It is damaged, or promises more than it holds.
    """
    called = name or path.name
    body = bytes_of(path, called)
    try:
        if body[:5].lower() == b"solid" and b"facet" in body[:2000]:
            corners = np.asarray(stl.load_stl_ascii(io.BytesIO(body))["vertices"], np.float64).reshape(-1, 3)
        else:
            if len(body) < 84 or int.from_bytes(body[80:84], "little") * TRIANGLE > len(body) - 84:
                raise FileError("its head promises more than the file holds", called, AGAIN)
            told = stl.load_stl_binary(io.BytesIO(body))
            corners = np.asarray(told["vertices"], np.float64).reshape(-1, 3)
    except FileError:
        raise
    except Exception:  # a damaged file may end a reader in any way
        raise FileError("this STL is damaged", called, AGAIN) from None
    corners = corners[: len(corners) // 3 * 3]
    corners = corners.astype(np.float32)
    first, number = welded(corners)
    places, triangles = corners[first], number.reshape(-1, 3)
    where = np.zeros(len(triangles), int)
    return built([Piece([Path(called).stem], where, places, triangles, where)], [], called, form="stl", up="z")
