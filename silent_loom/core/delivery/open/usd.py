"""The surface as USD: a sheet in true size with a UsdPreviewSurface, as text (usda) or packed with its pictures (usdz)."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable

import numpy as np

from silent_loom.core.base.errors import LoomError
from silent_loom.core.delivery.open.gltf import LAID, sheet
from silent_loom.core.delivery.open.materialx import identifier
from silent_loom.core.delivery.open.surface import Slot, Surface

_INPUTS = {
    "base": ("diffuseColor", "color3f", "rgb"),
    "emission": ("emissiveColor", "color3f", "rgb"),
    "normal": ("normal", "normal3f", "rgb"),
    "roughness": ("roughness", "float", ""),
    "metallic": ("metallic", "float", ""),
    "occlusion": ("occlusion", "float", ""),
    "opacity": ("opacity", "float", ""),
    "height": ("displacement", "float", ""),
}
_OUT = ("r", "g", "b", "a")
_OUT_TYPES = {"rgb": "float3", "r": "float", "g": "float", "b": "float", "a": "float"}
ALIGNED = 64
"""Bytes at which every file in a usdz begins (USDZ file format specification)."""
PACKABLE = (".png", ".jpg", ".exr")


def _four(values: tuple[float, float, float, float]) -> str:
    return "(" + ", ".join(f"{v:.9g}" for v in values) + ")"


def _texture(prim: str, surface: Surface, part: str, slot: Slot, out: str) -> str:
    """A reader of one map, which gives the values that the shader's input means."""
    scale, bias = 1 / slot.scale, -slot.offset / slot.scale
    if slot.inverted:
        scale, bias = -scale, 1 - bias
    if part == "height":  # metres from the surface
        bias = (bias * surface.depth_mm - surface.middle_mm) / 1000
        scale *= surface.depth_mm / 1000
    scales, biases = (scale,) * 4, (bias,) * 4
    if part == "normal":
        scales, biases = (2, 2, 2, 1), (-1, -1, -1, 0)
    space = "sRGB" if slot.colour and surface.encodings[slot.file] == "sRGB" else "raw"
    return f"""
            def Shader "{part}"
            {{
                uniform token info:id = "UsdUVTexture"
                asset inputs:file = @{slot.file}@
                float4 inputs:scale = {_four(scales)}
                float4 inputs:bias = {_four(biases)}
                token inputs:sourceColorSpace = "{space}"
                float2 inputs:st.connect = <{prim}/repeats.outputs:result>
                token inputs:wrapS = "repeat"
                token inputs:wrapT = "repeat"
                {_OUT_TYPES[out]} outputs:{out}
            }}
"""


def preview_material(surface: Surface, root: str, name: str, prefix: str, laid: int) -> str:
    """A UsdPreviewSurface below ``/root/materials``, its textures laid so many times over the UVs.

    >>> "0.5" in preview_material(Surface("slate", {}, {"roughness": (0.5,)}), "slate", "slate", "", 1)
    True
    """
    prim = f"/{root}/materials/{name}"
    lines, readers = [], []
    for part, (key, kind, out) in _INPUTS.items():
        slot = surface.slots.get(prefix + part)
        if slot is not None:
            if out == "rgb" and slot.channels != (0, 1, 2):
                raise LoomError(f"USD takes {part} from red, green and blue", slot.file, "Change the file, or write no USD.")
            out = out or _OUT[slot.channels[0]]
            readers.append(_texture(prim, surface, part, slot, out))
            lines.append(f"{kind} inputs:{key}.connect = <{prim}/{part}.outputs:{out}>")
        elif prefix + part in surface.values and part != "height":
            value = surface.values[prefix + part]
            text = f"({', '.join(f'{v:.9g}' for v in value)})" if kind.endswith("3f") else f"{value[0]:.9g}"
            lines.append(f"{kind} inputs:{key} = {text}")
    if surface.cutout and prefix + "opacity" in surface.slots:
        lines.append("float inputs:opacityThreshold = 0.5")
    inputs = "\n                ".join(lines)
    return f"""
        def Material "{name}"
        {{
            token outputs:surface.connect = <{prim}/surface.outputs:surface>
            token outputs:displacement.connect = <{prim}/surface.outputs:displacement>

            def Shader "surface"
            {{
                uniform token info:id = "UsdPreviewSurface"
                int inputs:useSpecularWorkflow = 0
                {inputs}
                token outputs:surface
                token outputs:displacement
            }}

            def Shader "uv"
            {{
                uniform token info:id = "UsdPrimvarReader_float2"
                string inputs:varname = "st"
                float2 outputs:result
            }}

            def Shader "repeats"
            {{
                uniform token info:id = "UsdTransform2d"
                float2 inputs:in.connect = <{prim}/uv.outputs:result>
                float2 inputs:scale = ({laid}, {laid})
                float2 outputs:result
            }}
{"".join(readers)}        }}
"""


def _mesh(surface: Surface, root: str, name: str, material: str, back: bool, laid: int) -> str:
    made = sheet(surface.size_mm, laid, back)
    order = [0, 3, 2, 1]

    def points(values: np.ndarray) -> str:
        return ", ".join("(" + ", ".join(f"{v:.9g}" for v in row) + ")" for row in values)

    position = made["POSITION"]
    uv = made["TEXCOORD_0"] * np.array([1, -1], np.float32) + np.array([0, 1], np.float32)  # in USD t goes up
    both = "true" if surface.two_sided and not any(n.startswith("back_") for n in surface.slots) else "false"
    return f"""
    def Mesh "{name}" (
        prepend apiSchemas = ["MaterialBindingAPI"]
    )
    {{
        uniform bool doubleSided = {both}
        float3[] extent = [{points(np.stack([position.min(0), position.max(0)]))}]
        int[] faceVertexCounts = [4]
        int[] faceVertexIndices = {order}
        normal3f[] normals = [{points(made["NORMAL"])}] (
            interpolation = "vertex"
        )
        point3f[] points = [{points(position)}]
        texCoord2f[] primvars:st = [{points(uv)}] (
            interpolation = "vertex"
        )
        uniform token subdivisionScheme = "none"
        rel material:binding = </{root}/materials/{material}>
    }}
"""


def usda_text(surface: Surface, laid: int = LAID) -> str:
    """The surface as a USD layer in text.

    Raises
    ------
    LoomError
        A colour or a normal lies in other channels than red, green and blue, or green points down.

    Notes
    -----
    Metres, Y up, the sheet facing +Z. UsdPreviewSurface has no weight of the highlight; it is left out.

    >>> usda_text(Surface("slate", {}, {"roughness": (0.5,)})).splitlines()[0]
    '#usda 1.0'
    """
    root = identifier(surface.name)
    if surface.green == "down" and {"normal", "back_normal"} & set(surface.slots):
        raise LoomError(
            "in USD green points up, and the profile turns it down", surface.name, "Change the profile, or write none."
        )
    back = any(n.startswith("back_") for n in (*surface.slots, *surface.values))
    names = [(root, "")] + ([(f"{root}_back", "back_")] if back else [])
    meshes = "".join(_mesh(surface, root, f"sheet{'_back' if p else ''}", n, bool(p), laid) for n, p in names)
    materials = "".join(preview_material(surface, root, n, p, laid) for n, p in names)
    return f"""#usda 1.0
(
    defaultPrim = "{root}"
    metersPerUnit = 1
    upAxis = "Y"
)

def Xform "{root}" (
    kind = "component"
)
{{{meshes}
    def Scope "materials"
    {{{materials}    }}
}}
"""


def usdz_bytes(layer: str, stem: str, files: list[str], read: Callable[[str], bytes]) -> bytes:
    """A usdz: the layer and its pictures in a zip that is not compressed, each at a multiple of 64 bytes.

    Raises
    ------
    LoomError
        A picture is of a format that a usdz cannot hold.
    """
    body, listing = bytearray(), bytearray()
    for i, name in enumerate([f"{stem}.usda", *files]):
        if i and not name.endswith(PACKABLE):
            raise LoomError("a usdz holds PNG, JPEG and EXR alone", name, "Change the format, or write a usda.")
        content = layer.encode() if i == 0 else read(name)
        called, at = name.encode(), len(body)
        extra = -(at + 30 + len(called)) % ALIGNED
        if 0 < extra < 4:
            extra += ALIGNED
        filler = struct.pack("<HH", 0x1986, extra - 4) + bytes(extra - 4) if extra else b""
        facts = struct.pack("<HHHHHIII", 10, 0x800, 0, 0, 33, zlib.crc32(content), len(content), len(content))
        body += b"PK\3\4" + facts + struct.pack("<HH", len(called), len(filler)) + called + filler + content
        listing += b"PK\1\2" + struct.pack("<H", 20) + facts
        listing += struct.pack("<HHHHHII", len(called), 0, 0, 0, 0, 0, at) + called
    count = 1 + len(files)
    end = b"PK\5\6" + struct.pack("<HHHHIIH", 0, 0, count, count, len(listing), len(body), 0)
    return bytes(body + listing) + end


def files_of(surface: Surface) -> list[str]:
    """Pictures that a USD layer of the surface names, each once.

    >>> files_of(Surface("slate", {}, {"roughness": (0.5,)}))
    []
    """
    used = [surface.slots[p + part].file for p in ("", "back_") for part in _INPUTS if p + part in surface.slots]
    return list(dict.fromkeys(used))
