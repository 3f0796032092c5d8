"""A model as Wavefront OBJ with an MTL that names its textures."""

from __future__ import annotations

import io
import re
from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.delivery.models.dressing import Dress
from silent_loom.core.form.model import Model, Table

USES = (
    ("base", "map_Kd"),
    ("roughness", "map_Pr"),
    ("metallic", "map_Pm"),
    ("normal", "norm"),
    ("emission", "map_Ke"),
    ("opacity", "map_d"),
    ("height", "disp"),
)
"""Maps and the statements of an MTL that name them."""


def mtl_text(model: Model, dresses: Mapping[int, Dress]) -> str:
    """The materials of a model, those that are not dressed by their colour alone.

    >>> from silent_loom.core.form.model import Slot
    >>> zero = np.zeros(1, np.int32)
    >>> one = Table(np.zeros((3, 3)), np.array([[0, 1, 2]], np.int32))
    >>> mtl_text(Model(one, zero, zero, slots=(Slot("hull"),)), {}).splitlines()[0]
    'newmtl hull'
    """
    lines: list[str] = []
    for k, slot in enumerate(model.slots):
        dress = dresses.get(k)
        lines.append(f"newmtl {dress.name if dress else slot.name}")
        if dress is None:
            lines += ["Kd " + " ".join(f"{v:.6g}" for v in slot.colour), ""]
            continue
        base = dress.surface.values.get("base")
        lines.append("Kd " + " ".join(f"{v:.6g}" for v in (base or (1.0, 1.0, 1.0))))
        for name, value in (("roughness", "Pr"), ("metallic", "Pm")):
            if name in dress.surface.values:
                lines.append(f"{value} {dress.surface.values[name][0]:.6g}")
        for part, word in USES:
            if part in dress.surface.slots:
                lines.append(f"{word} {dress.surface.slots[part].file}")
        lines.append("")
    return "\n".join(lines)


def renamed(text: bytes, library: str, names: Mapping[str, str]) -> bytes:
    """The text of an OBJ with another MTL and other names of materials; every other byte as it was.

    >>> renamed(b"mtllib a.mtl\\nv 0 0 0\\nusemtl one\\n", "b.mtl", {"one": "two"})
    b'mtllib b.mtl\\nv 0 0 0\\nusemtl two\\n'
    """
    seen = 0

    def library_line(found: re.Match[bytes]) -> bytes:
        nonlocal seen
        seen += 1
        return found.group(1) + library.encode() if seen == 1 else b"# " + found.group(0).lstrip()

    def name_line(found: re.Match[bytes]) -> bytes:
        old = found.group(2).decode("utf-8", "replace").partition("#")[0].strip()
        return found.group(1) + names.get(old, old).encode()

    out = re.sub(rb"^([ \t]*mtllib[ \t]+)[^\r\n]*", library_line, text, flags=re.M)
    if not seen:
        out = f"mtllib {library}\n".encode() + out
    return re.sub(rb"^([ \t]*usemtl[ \t]+)([^\r\n]*)", name_line, out, flags=re.M)


def obj_text(model: Model, library: str, dresses: Mapping[int, Dress], uv: str = "") -> bytes:
    """A model as the text of an OBJ. Numbers are written so that they read back bit for bit.

    Parameters
    ----------
    library : str
        Name of the MTL.
    uv : str
        The UV set that is written: an OBJ holds one.

    >>> from silent_loom.core.form.model import plate
    >>> obj_text(plate(), "plate.mtl", {}).decode().splitlines()[-1]
    'f 1/1 3/3 4/4'
    """
    out = io.StringIO()
    out.write(f"mtllib {library}\n")
    laid = model.uvs and model.uv(uv)
    places, place_rows = _used(model.positions)
    _lines(out, "v", places)
    tables: list[NDArray[np.int64] | None] = [place_rows]
    for word, table in (("vt", laid or None), ("vn", model.normals)):
        if table is None or not np.isfinite(table.values[np.unique(table.index)]).all():
            tables.append(None)
            continue
        values, rows = _used(table)
        _lines(out, word, values)
        tables.append(rows)
    order = np.lexsort((np.arange(len(model)), model.triangle_slot, model.triangle_mesh))
    words = _corners(tables)
    mesh = slot = -1
    for t in order:
        if model.triangle_mesh[t] != mesh:
            mesh = int(model.triangle_mesh[t])
            out.write(f"o {model.meshes[mesh]}\n")
            slot = -1
        if model.triangle_slot[t] != slot:
            slot = int(model.triangle_slot[t])
            out.write(f"usemtl {dresses[slot].name if slot in dresses else model.slots[slot].name}\n")
        out.write(f"f {words[t, 0]} {words[t, 1]} {words[t, 2]}\n")
    return out.getvalue().encode()


def _used(table: Table) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Rows that are used, in their order, and where each corner finds its own, from 1."""
    rows, index = np.unique(table.index, return_inverse=True)
    return table.values[rows], index.reshape(-1, 3).astype(np.int64) + 1


def _lines(out: io.StringIO, word: str, values: NDArray[np.float64]) -> None:
    if values.dtype == np.float32:  # the shortest that reads back as the same single-precision number
        for row in values:
            out.write(f"{word} {' '.join(str(v) for v in row)}\n")
        return
    for numbers in values.tolist():
        out.write(f"{word} {' '.join(map(repr, numbers))}\n")


def _corners(tables: list[NDArray[np.int64] | None]) -> NDArray[np.str_]:
    place, laid, normal = tables
    assert place is not None
    text = place.astype(str)
    if laid is None and normal is None:
        return text
    text = np.char.add(np.char.add(text, "/"), "" if laid is None else laid.astype(str))
    return text if normal is None else np.char.add(np.char.add(text, "/"), normal.astype(str))
