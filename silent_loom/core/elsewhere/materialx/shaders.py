"""Surfaces of MaterialX as plain maps: OpenPBR, standard surface, glTF PBR, USD preview surface, and mixes of them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from silent_loom.core.base.errors import FileError
from silent_loom.core.elsewhere.materialx.document import Input, Node, opened
from silent_loom.core.elsewhere.materialx.evaluate import Scope, Sheet
from silent_loom.core.elsewhere.materialx.values import Value, luminance
from silent_loom.core.elsewhere.plain_maps import MOST, Flat, check_count
from silent_loom.core.files.beside import safe
from silent_loom.core.files.gltf_file import codes_of

NITS = 1000.0
"""Candela per square metre that count as an emission of 1: see `delivery.open.materialx`."""
SIZE = 1024
"""Texels along the longer side of a document without a picture."""
Get = Callable[[str, Any], Value]
_LOBES = {
    "coat": "a clear coat",
    "coat_weight": "a clear coat",
    "clearcoat": "a clear coat",
    "sheen": "sheen",
    "sheen_weight": "sheen",
    "fuzz_weight": "fuzz",
    "transmission": "transmission",
    "transmission_weight": "transmission",
    "subsurface": "light below the surface",
    "subsurface_weight": "light below the surface",
    "thin_film_weight": "a thin film",
    "iridescence": "iridescence",
    "specular_anisotropy": "anisotropy",
    "specular_roughness_anisotropy": "anisotropy",
}
"""Inputs that no map here can say, where they are more than 0."""


def materials(path: Path, size: int = 0) -> list[Flat]:
    """Every material of a document.

    Raises
    ------
    FileError
        It is no MaterialX, damaged, or has no material that is known.
    """
    root = opened(path)
    found = [n for n in root.nodes.values() if n.category == "surfacematerial"]
    shaders = [n for n in root.nodes.values() if n.kind == "surfaceshader" and n.category in _SURFACES]
    if not found and not shaders:
        raise FileError("there is no material in it that is known", path.name, f"Known are {', '.join(_SURFACES)}.")
    check_count(len(found or shaders), path.name)
    sheet = Sheet(root, path.parent, _size(root, path, size))
    return [_flat(sheet, n) for n in (found or shaders)]


def _size(root: Node, path: Path, asked: int) -> tuple[int, int]:
    """As large as the largest picture that it names."""
    largest = (0, 0)
    todo = [root]
    while todo:
        node = todo.pop()
        todo += node.nodes.values()
        for told in node.inputs.values():
            if told.kind == "filename" and told.value:
                h, w = codes_of(safe(path.parent, told.value, path.name)).shape[:2]
                largest = max(largest, (w, h), key=lambda s: s[0] * s[1])
    w, h = largest if largest[0] else (SIZE, SIZE)
    longer = asked or min(MOST, max(w, h))
    return max(1, round(w * longer / max(w, h))), max(1, round(h * longer / max(w, h)))


def _flat(sheet: Sheet, node: Node) -> Flat:
    sheet.left = []
    flat = Flat(node.name, sheet.size)
    if node.category == "surfacematerial":
        shader = _behind(sheet, sheet.top, node.inputs.get("surfaceshader"))
        if shader is None:
            raise FileError(f"the material '{node.name}' has no surface", "the document", "Give it one.")
        maps = _surface(sheet, sheet.top, shader, flat)
        moved = _behind(sheet, sheet.top, node.inputs.get("displacementshader"))
        if moved is not None:
            _displaced(sheet, sheet.top, moved, flat)
    else:
        maps = _surface(sheet, sheet.top, node, flat)
    for name, value in maps.items():
        flat.put(name, value)
    flat.left += [words for words in sheet.left if words not in flat.left]
    return flat


def _behind(sheet: Sheet, scope: Scope, told: Input | None) -> Node | None:
    """The shader that an input names, through a graph where it lies in one."""
    if told is None or not (told.node or told.graph):
        return None
    if told.graph:
        graph = sheet.root.nodes.get(told.graph)
        out = None if graph is None else (graph.outputs.get(told.output) or next(iter(graph.outputs.values()), None))
        return None if graph is None or out is None else graph.nodes.get(out.node)
    found = scope.nodes.get(told.node) or sheet.root.nodes.get(told.node)
    if found is not None and found.category == "nodegraph":
        out = found.outputs.get(told.output) or next(iter(found.outputs.values()), None)
        return None if out is None else found.nodes.get(out.node)
    return found


def _displaced(sheet: Sheet, scope: Scope, node: Node, flat: Flat) -> None:
    told = node.inputs.get("displacement")
    if told is None:
        return
    value = sheet.value(scope, told)
    scale = sheet.value(scope, node.inputs["scale"]) if "scale" in node.inputs else np.ones(1)
    if value.shape[-1] > 1:
        flat.left.append("displacement to the sides")
    flat.put("height", value[..., :1] * scale[..., :1] * 1000.0)
    flat.notes.append("displacement is taken in metres")


def _surface(sheet: Sheet, scope: Scope, node: Node, flat: Flat) -> dict[str, Any]:
    """Maps of a surface, or of a mix of two."""
    if node.category == "mix" and node.kind == "surfaceshader":
        first, second = (_behind(sheet, scope, node.inputs.get(k)) for k in ("bg", "fg"))
        if first is None or second is None:
            raise FileError(f"'{node.name}' mixes what is not there", "the document", "Correct it.")
        share = sheet.value(scope, node.inputs["mix"]) if "mix" in node.inputs else np.zeros(1)
        one, other = (_surface(sheet, scope, n, flat) for n in (first, second))
        return {k: _between(one.get(k, _NEUTRAL[k]), other.get(k, _NEUTRAL[k]), share) for k in {**one, **other}}
    work = _SURFACES.get(node.category)
    if work is None:
        raise FileError(f"the surface '{node.category}' is not known", node.name, f"Known are {', '.join(_SURFACES)}.")

    def get(name: str, default: Any) -> Value:
        told = node.inputs.get(name)
        return np.atleast_1d(np.asarray(default, np.float64)) if told is None else sheet.value(scope, told)

    for name, words in _LOBES.items():
        if name in node.inputs and float(np.max(get(name, 0.0))) > 0 and words not in flat.left:
            flat.left.append(words)
    return work(get, lambda name: name in node.inputs, flat)


_NEUTRAL: dict[str, Any] = {
    "base": np.full(3, 0.8),
    "roughness": np.full(1, 0.3),
    "metallic": np.zeros(1),
    "specular": np.ones(1),
    "opacity": np.ones(1),
    "emission": np.zeros(3),
    "occlusion": np.ones(1),
    "normal": np.array([0.0, 0.0, 1.0]),
}


def _between(one: Value, other: Value, share: Value) -> Value:
    if max(v.ndim for v in (one, other, share)) == 3:
        one, other, share = (v if v.ndim == 3 else v.reshape(1, 1, -1) for v in (one, other, share))
    return one * (1 - share) + other * share


def _times(one: Value, other: Value) -> Value:
    if one.ndim != other.ndim:
        one, other = (v if v.ndim == 3 else v.reshape(1, 1, -1) for v in (one, other))
    return one * other


def _glow(get: Get, flat: Flat, colour: str, default: Any, strength: Value) -> Value | None:
    light = _times(get(colour, default), strength)
    most = float(light.max())
    if most <= 0:
        return None
    if most > 1:
        flat.notes.append(f"its light of up to {most:.3g} is brought down to 1")
    return light / max(most, 1.0)


def _open_pbr(get: Get, has: Callable[[str], bool], flat: Flat) -> dict[str, Any]:
    made: dict[str, Any] = {
        "base": _times(get("base_weight", 1.0), get("base_color", np.full(3, 0.8))),
        "roughness": get("specular_roughness", 0.3),
        "metallic": get("base_metalness", 0.0),
    }
    if has("specular_weight"):
        made["specular"] = get("specular_weight", 1.0)
    if has("geometry_opacity"):
        made["opacity"] = get("geometry_opacity", 1.0)[..., :1]
    if has("geometry_normal"):
        made["normal"] = get("geometry_normal", np.array([0.0, 0.0, 1.0]))
    light = _glow(get, flat, "emission_color", np.ones(3), get("emission_luminance", 0.0) / NITS)
    if light is not None:
        made["emission"] = light
    if has("geometry_thin_walled"):
        flat.two_sided = bool(get("geometry_thin_walled", 0.0).max() > 0.5)
    return made


def _standard(get: Get, has: Callable[[str], bool], flat: Flat) -> dict[str, Any]:
    made: dict[str, Any] = {
        "base": _times(get("base", 1.0), get("base_color", np.full(3, 0.8))),
        "roughness": get("specular_roughness", 0.2),
        "metallic": get("metalness", 0.0),
    }
    if has("specular"):
        made["specular"] = np.clip(get("specular", 1.0), 0, 1)
    if has("opacity"):
        made["opacity"] = luminance(get("opacity", np.ones(3)))
    if has("normal"):
        made["normal"] = get("normal", np.array([0.0, 0.0, 1.0]))
    light = _glow(get, flat, "emission_color", np.ones(3), get("emission", 0.0))
    if light is not None:
        made["emission"] = light
    if has("thin_walled"):
        flat.two_sided = bool(get("thin_walled", 0.0).max() > 0.5)
    return made


def _gltf_pbr(get: Get, has: Callable[[str], bool], flat: Flat) -> dict[str, Any]:
    made: dict[str, Any] = {
        "base": get("base_color", np.ones(3))[..., :3],
        "roughness": get("roughness", 1.0),
        "metallic": get("metallic", 1.0),
    }
    for name, to in (("occlusion", "occlusion"), ("specular", "specular"), ("normal", "normal")):
        if has(name):
            made[to] = get(name, 1.0)
    mode = int(get("alpha_mode", 0.0).flat[0])
    if mode == 1:
        made["opacity"] = np.asarray(get("alpha", 1.0) >= get("alpha_cutoff", 0.5), np.float64)
        flat.cutout = True
    elif mode == 2:
        made["opacity"] = get("alpha", 1.0)
    light = _glow(get, flat, "emissive", np.zeros(3), get("emissive_strength", 1.0))
    if light is not None:
        made["emission"] = light
    return made


def _preview(get: Get, has: Callable[[str], bool], flat: Flat) -> dict[str, Any]:
    made: dict[str, Any] = {"base": get("diffuseColor", np.full(3, 0.18)), "roughness": get("roughness", 0.5)}
    if float(get("useSpecularWorkflow", 0.0).max()) > 0.5:
        made["specular_colour"] = get("specularColor", np.zeros(3))
        flat.notes.append("its specular colour was turned into metallic")
    else:
        made["metallic"] = get("metallic", 0.0)
    if has("occlusion"):
        made["occlusion"] = get("occlusion", 1.0)
    if has("normal"):
        made["normal"] = get("normal", np.array([0.0, 0.0, 1.0]))
    if has("opacity"):
        threshold, opacity = float(get("opacityThreshold", 0.0).max()), get("opacity", 1.0)
        made["opacity"] = np.asarray(opacity >= threshold, np.float64) if threshold > 0 else opacity
        flat.cutout = threshold > 0
    light = _glow(get, flat, "emissiveColor", np.zeros(3), np.ones(1))
    if light is not None:
        made["emission"] = light
    return made


_SURFACES: dict[str, Callable[[Get, Callable[[str], bool], Flat], dict[str, Any]]] = {
    "open_pbr_surface": _open_pbr,
    "standard_surface": _standard,
    "gltf_pbr": _gltf_pbr,
    "UsdPreviewSurface": _preview,
}
