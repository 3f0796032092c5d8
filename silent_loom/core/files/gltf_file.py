"""A glTF 2.0 file opened: its JSON, its buffers, its pictures decoded."""

from __future__ import annotations

import base64
import binascii
import struct
import tempfile
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.bounded_json import loads
from silent_loom.core.base.errors import FileError
from silent_loom.core.files import read
from silent_loom.core.files.beside import safe
from silent_loom.core.files.smaller import smaller

MOST_BYTES = 1 << 30
_COMPONENTS = {5120: "<i1", 5121: "<u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
_WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}
DAMAGED = "this glTF is damaged"


MOST_JSON = 64 << 20
"""Bytes of the text of a glTF at most; samples lie beside it or in its binary part."""

MOST_ZEROS = 1 << 26
"""Rows that an accessor without a buffer may have, all of them zero but those that it names."""


class GltfFile:
    """One file, and what lies beside it.

    Raises
    ------
    FileError
        It is no glTF 2.0, is damaged, or needs what cannot be read.
    """

    def __init__(self, path: Path) -> None:
        self.path, self._binary = path, b""
        try:
            size = path.stat().st_size
            body = path.read_bytes() if size <= MOST_BYTES else b""
        except OSError as error:
            raise FileError(f"it cannot be read ({error.strerror})", path.name, "Check the path.") from None
        if size > MOST_BYTES:
            raise FileError(f"it has {size >> 20} MB", path.name, f"Use one of at most {MOST_BYTES >> 20} MB.")
        try:
            if body[:4] == b"glTF":
                body = self._chunks(body)
            self.json: dict[str, Any] = loads(body, path.name, most_bytes=MOST_JSON)
            version = str(self.json["asset"]["version"])
        except (ValueError, KeyError, TypeError, struct.error):
            raise FileError("this is no glTF", path.name, "Export it again as glTF 2.0 or GLB.") from None
        if not version.startswith("2"):
            raise FileError(f"this is glTF {version[:10]}", path.name, "Export it as glTF 2.0.")
        self._pictures: dict[int, NDArray[np.float32]] = {}
        self._buffers: dict[int, bytes] = {}

    def _chunks(self, body: bytes) -> bytes:
        _, _, length = struct.unpack_from("<4sII", body)
        told, at = b"", 12
        while at + 8 <= min(length, len(body)):
            size, kind = struct.unpack_from("<I4s", body, at)
            part = body[at + 8 : at + 8 + size]
            if kind == b"JSON":
                told = part
            elif kind == b"BIN\0":
                self._binary = part
            at += 8 + size + (-size % 4)
        return told

    def list(self, name: str) -> list[dict[str, Any]]:
        """One of its lists, such as 'materials'."""
        found = self.json.get(name, [])
        if not isinstance(found, list):
            raise FileError(DAMAGED, f"{self.path.name}: {name}", "Export it again.")
        return found

    def _at(self, name: str, index: Any) -> dict[str, Any]:
        rows = self.list(name)
        if not isinstance(index, int) or not 0 <= index < len(rows) or not isinstance(rows[index], dict):
            raise FileError(f"it names {name} {index} and has {len(rows)}", self.path.name, "Export it again.")
        return rows[index]

    def _buffer(self, index: Any) -> bytes:
        uri = self._at("buffers", index).get("uri")
        if uri is None:
            return self._binary
        if index not in self._buffers:  # every accessor asks for its own
            self._buffers[index] = self._bytes(uri)
        return self._buffers[index]

    def _bytes(self, uri: str) -> bytes:
        if uri.startswith("data:"):
            try:
                return base64.b64decode(uri.partition(",")[2], validate=False)
            except (binascii.Error, ValueError):
                raise FileError(DAMAGED, f"{self.path.name}: a data URI", "Export it again.") from None
        return safe(self.path.parent, uri, self.path.name).read_bytes()

    def _view(self, index: Any) -> tuple[bytes, int]:
        view = self._at("bufferViews", index)
        start, length = int(view.get("byteOffset", 0)), int(view.get("byteLength", 0))
        body = self._buffer(view.get("buffer"))
        if start < 0 or length < 0 or start + length > len(body):
            raise FileError(DAMAGED, f"{self.path.name}: buffer view {index}", "Export it again.")
        return body[start : start + length], int(view.get("byteStride", 0))

    def accessor(self, index: Any) -> NDArray[Any]:
        """Numbers of an accessor, shape (N, C); whole numbers that are normalized as 0…1 or -1…1.

        Raises
        ------
        FileError
            It is damaged.
        """
        told = self._at("accessors", index)
        try:
            kind, width, count = np.dtype(_COMPONENTS[told["componentType"]]), _WIDTHS[told["type"]], int(told["count"])
        except (KeyError, TypeError, ValueError):
            raise FileError(DAMAGED, f"{self.path.name}: accessor {index}", "Export it again.") from None
        if "bufferView" in told:
            values = self._rows(told["bufferView"], told.get("byteOffset", 0), kind, count, width, index)
        elif 0 <= count <= MOST_ZEROS:
            values = np.zeros((count, width), kind)
        else:
            raise FileError(DAMAGED, f"{self.path.name}: accessor {index}", "Export it again.")
        if "sparse" in told:
            values = self._replaced(values, told["sparse"], index)
        if told.get("normalized") and kind.kind in "iu":
            most = float(np.iinfo(kind).max)
            return np.maximum(values.astype(np.float32) / np.float32(most), -1.0)
        return values

    def _rows(self, view: Any, start: Any, kind: np.dtype[Any], count: int, width: int, index: Any) -> NDArray[Any]:
        """Rows of numbers in a view, shape (count, width)."""
        body, stride = self._view(view)
        stride, start = stride or kind.itemsize * width, int(start)
        if count < 0 or start < 0 or (count and start + (count - 1) * stride + kind.itemsize * width > len(body)):
            raise FileError(DAMAGED, f"{self.path.name}: accessor {index}", "Export it again.")
        rows = np.lib.stride_tricks.as_strided(
            np.frombuffer(body, np.uint8, offset=start), (count, kind.itemsize * width), (stride, 1), writeable=False
        )
        return np.ascontiguousarray(rows).view(kind).reshape(count, width)

    def _replaced(self, values: NDArray[Any], sparse: Any, index: Any) -> NDArray[Any]:
        """Rows with those that a sparse accessor names put in the place of the ones that were there."""
        try:
            count, at, new = int(sparse["count"]), sparse["indices"], sparse["values"]
            kind = np.dtype(_COMPONENTS[at["componentType"]])
            which = self._rows(at["bufferView"], at.get("byteOffset", 0), kind, count, 1, index)[:, 0]
            rows = self._rows(new["bufferView"], new.get("byteOffset", 0), values.dtype, count, values.shape[1], index)
        except (KeyError, TypeError, ValueError):
            raise FileError(DAMAGED, f"{self.path.name}: accessor {index}", "Export it again.") from None
        if kind.kind != "u" or (count and int(which.max()) >= len(values)):
            raise FileError(DAMAGED, f"{self.path.name}: accessor {index}", "Export it again.")
        replaced = values.copy()
        replaced[which] = rows
        return replaced

    def picture(self, texture: Any) -> NDArray[np.float32]:
        """Codes of a texture's picture as they stand in the file, 0…1, shape (H, W, 4).

        Raises
        ------
        FileError
            It is missing, damaged, or of a kind that is not read.
        """
        told = self._at("textures", texture)
        source = told.get("source", (told.get("extensions", {}).get("EXT_texture_webp") or {}).get("source"))
        if source is None:
            raise FileError(
                "a texture has no picture that can be read", f"{self.path.name}: texture {texture}", "Use PNG, JPEG or WebP."
            )
        if source not in self._pictures:
            image = self._at("images", source)
            uri = image.get("uri")
            if isinstance(uri, str) and not uri.startswith("data:"):
                self._pictures[source] = codes_of(safe(self.path.parent, uri, self.path.name))
            else:
                body = self._bytes(uri) if isinstance(uri, str) else self._view(image.get("bufferView"))[0]
                with tempfile.TemporaryDirectory(prefix="silent-loom-") as folder:
                    path = Path(folder) / f"picture_{source}"
                    path.write_bytes(body)
                    self._pictures[source] = codes_of(path, f"{self.path.name}, picture {source}")
        return self._pictures[source]

    def wraps(self, texture: Any) -> tuple[str, str]:
        """How a texture goes on beyond its edges, across and up."""
        told = self._at("textures", texture)
        sampler = self._at("samplers", told["sampler"]) if "sampler" in told else {}
        names = {33071: "clamp", 33648: "mirror", 10497: "periodic"}
        return names.get(sampler.get("wrapS", 10497), "periodic"), names.get(sampler.get("wrapT", 10497), "periodic")


MOST_PIXELS = 8192 * 8192
"""Pixels of a texture that are used: maps are worked out to no more; a larger one is reduced as it is read."""


def codes_of(path: Path, name: str = "") -> NDArray[np.float32]:
    """A picture's codes, 0…1, shape (H, W, 4); grey in all three channels, alpha 1 where there is none.

    Raises
    ------
    FileError
    """
    found = smaller(read(path, name=name or path.name), MOST_PIXELS)
    out = np.ones((found.height, found.width, 4), np.float32)
    for y in range(0, found.height, 512):  # a large texture is never in memory twice
        rows = slice(y, y + 512)
        out[rows, :, :3] = replace(found, samples=found.samples[rows]).data()
        if found.alpha is not None:
            out[rows, :, 3] = replace(found, alpha=found.alpha[rows]).alpha_plane()
    return out
