"""A model as USD in text, with UsdPreviewSurface materials that name their textures."""

from __future__ import annotations

import io
from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.delivery.models.dressing import Dress
from silent_loom.core.delivery.open.materialx import identifier
from silent_loom.core.delivery.open.usd import preview_material
from silent_loom.core.form.model import Model
from silent_loom.core.form.normals import corner_normals


def usda(model: Model, dresses: Mapping[int, Dress], root: str) -> str:
    """A model as a USD layer: a Mesh for each of its meshes, a GeomSubset for each material on it.

    Units and the axis that points up are those of the model's file.

    >>> from silent_loom.core.form.model import plate
    >>> usda(plate(), {}, "plate").splitlines()[0]
    '#usda 1.0'
    """
    name = identifier(root)
    names = _distinct([identifier(dresses[k].name if k in dresses else s.name) for k, s in enumerate(model.slots)])
    materials = "".join(
        preview_material(dresses[k].surface, name, names[k], "", 1) if k in dresses else _plain(names[k], s.colour)
        for k, s in enumerate(model.slots)
    )
    meshes = _distinct([identifier(m) for m in model.meshes])
    shapes = "".join(_mesh(model, k, meshes[k], names, name) for k in range(len(model.meshes)))
    return f"""#usda 1.0
(
    defaultPrim = "{name}"
    metersPerUnit = {model.unit_mm / 1000:.9g}
    upAxis = "{model.up.upper()}"
)

def Xform "{name}" (
    kind = "component"
)
{{{shapes}
    def Scope "materials"
    {{{materials}    }}
}}
"""


def _distinct(names: list[str]) -> list[str]:
    out: list[str] = []
    for name in names:
        called, k = name, 2
        while called in out:
            called, k = f"{name}_{k}", k + 1
        out.append(called)
    return out


def _plain(name: str, colour: tuple[float, float, float]) -> str:
    return f"""
        def Material "{name}"
        {{
            token outputs:surface.connect = <../{name}/surface.outputs:surface>

            def Shader "surface"
            {{
                uniform token info:id = "UsdPreviewSurface"
                color3f inputs:diffuseColor = ({", ".join(f"{v:.9g}" for v in colour)})
                token outputs:surface
            }}
        }}
"""


def _tuples(values: NDArray[Any]) -> str:
    out = io.StringIO()
    out.write("[")
    for k, row in enumerate(values.tolist()):
        out.write((", (" if k else "(") + ", ".join(map(repr, row)) + ")")
    out.write("]")
    return out.getvalue()


def _mesh(model: Model, number: int, name: str, materials: list[str], root: str) -> str:
    mine = np.flatnonzero(model.triangle_mesh == number)
    if not len(mine):
        return ""
    rows, index = np.unique(model.positions.index[mine], return_inverse=True)
    points = model.positions.values[rows]
    normals = corner_normals(model)[mine].reshape(-1, 3)
    if model.up == "z":
        normals = normals[:, [0, 2, 1]] * np.array([1.0, -1.0, 1.0])
    sets = []
    for k, (key, table) in enumerate(model.uvs.items()):
        varname = "st" if k == 0 else identifier(key)
        flat = np.nan_to_num(table.at_corners()[mine]).reshape(-1, 2)
        sets.append(
            f'        texCoord2f[] primvars:{varname} = {_tuples(flat)} (\n            interpolation = "faceVarying"\n        )\n'
        )
    slots = model.triangle_slot[mine]
    used = np.unique(slots)
    bound = f"        rel material:binding = </{root}/materials/{materials[used[0]]}>\n"
    subsets = ""
    if len(used) > 1:
        bound = ""
        for s in used:
            faces = ", ".join(map(str, np.flatnonzero(slots == s).tolist()))
            subsets += f"""
        def GeomSubset "{materials[s]}" (
            prepend apiSchemas = ["MaterialBindingAPI"]
        )
        {{
            uniform token elementType = "face"
            uniform token familyName = "materialBind"
            int[] indices = [{faces}]
            rel material:binding = </{root}/materials/{materials[s]}>
        }}
"""
    return f"""
    def Mesh "{name}" (
        prepend apiSchemas = ["MaterialBindingAPI"]
    )
    {{
        float3[] extent = {_tuples(np.stack([points.min(0), points.max(0)]))}
        int[] faceVertexCounts = [{", ".join(["3"] * len(mine))}]
        int[] faceVertexIndices = [{", ".join(map(str, index.ravel().tolist()))}]
        normal3f[] normals = {_tuples(normals)} (
            interpolation = "faceVarying"
        )
        point3f[] points = {_tuples(points)}
{"".join(sets)}        uniform token subdivisionScheme = "none"
{bound}{subsets}    }}
"""
