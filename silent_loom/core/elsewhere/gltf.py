"""Materials of glTF 2.0 as plain maps: factors, textures, vertex colour, transforms and the extensions that matter to maps."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import FileError
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.elsewhere.model_repeats import Piece, density_mm, painted
from silent_loom.core.elsewhere.plain_maps import MOST, Flat, check_count
from silent_loom.core.elsewhere.sampling import places, sampled
from silent_loom.core.files.gltf_file import GltfFile
from silent_loom.core.form.reading.gltf import faces_of, node_matrix

BAND = 256
"""Rows that a texture is drawn in at a time."""
MOST_REPEATS = 16.0
"""How many times a transform lays a texture over the sheet at most before the sheet no longer grows with it."""
MOST_NODES = 100_000
"""Nodes that are walked; a circle of them ends there."""
SIZE = 1024
"""Texels along the longer side of a material that has no texture."""
LEFT = {
    "KHR_materials_clearcoat": "a clear coat",
    "KHR_materials_sheen": "sheen",
    "KHR_materials_transmission": "transmission",
    "KHR_materials_volume": "what light loses inside",
    "KHR_materials_iridescence": "iridescence",
    "KHR_materials_anisotropy": "anisotropy",
    "KHR_materials_dispersion": "dispersion",
    "KHR_materials_diffuse_transmission": "light that comes through",
}
"""Extensions that no map here can say, and their words."""
DIELECTRIC = 0.04
"""Reflectance straight on of a refractive index of 1.5, which specular weight is a part of."""


def materials(path: Path, size: int = 0) -> list[Flat]:
    """Every material of a file.

    Parameters
    ----------
    path : path
        A .gltf with its files beside it, or a .glb.
    size : int
        Texels along the longer side; that of the largest texture if 0.

    Raises
    ------
    FileError
        It is no glTF 2.0, is damaged, or has no material.

    Notes
    -----
    The maps cover one repeat of the textures. Where all textures of a material share one KHR_texture_transform that only moves
    and scales, that transform is how often the sheet repeats, and is left to whoever uses it; otherwise every texture is drawn
    into the square of the UVs as it lies there.
    """
    file = GltfFile(path)
    told = file.list("materials")
    if not told:
        raise FileError("there is no material in it", path.name, "Choose a file with materials.")
    check_count(len(told), path.name)
    return [_Material(file, i, one, size).flat() for i, one in enumerate(told)]


class _Material:
    def __init__(self, file: GltfFile, index: int, told: Mapping[str, Any], size: int) -> None:
        self.file, self.told, self.index, self.asked = file, told, index, size
        self.extensions: Mapping[str, Any] = told.get("extensions") or {}
        self.notes: list[str] = []
        self.left: list[str] = []
        self.pieces = pieces(file, index)
        self.shared = self._shared()

    # --- textures ---------------------------------------------------------------------------------------------------

    def _textures(self) -> dict[str, Mapping[str, Any]]:
        """Every texture that is used, by what for."""
        pbr = self.told.get("pbrMetallicRoughness") or {}
        gloss = self.extensions.get("KHR_materials_pbrSpecularGlossiness") or {}
        specular = self.extensions.get("KHR_materials_specular") or {}
        found = {
            "base": gloss.get("diffuseTexture") if gloss else pbr.get("baseColorTexture"),
            "rough": None if gloss else pbr.get("metallicRoughnessTexture"),
            "gloss": gloss.get("specularGlossinessTexture"),
            "normal": self.told.get("normalTexture"),
            "occlusion": self.told.get("occlusionTexture"),
            "emission": self.told.get("emissiveTexture"),
            "specular": specular.get("specularTexture"),
        }
        return {k: v for k, v in found.items() if isinstance(v, dict) and "index" in v}

    def _shared(self) -> NDArray[np.float64] | None:
        """The transform that all textures share, where it only moves and scales; None where each is drawn as it lies."""
        moves = [transform_of(t) for t in self._textures().values()]
        if not moves or any(np.abs(m - moves[0]).max() > 1e-6 for m in moves):
            return None
        first = moves[0]
        straight = abs(first[0, 1]) < 1e-9 and abs(first[1, 0]) < 1e-9 and first[0, 0] > 0 and first[1, 1] > 0
        return first if straight else None

    def _size(self) -> tuple[int, int]:
        shapes = [self.file.picture(t["index"]).shape[:2] for t in self._textures().values()]
        h, w = max(shapes, key=lambda s: s[0] * s[1]) if shapes else (SIZE, SIZE)
        if self.shared is None and shapes:
            more = max(float(np.abs(transform_of(t)[:2, :2]).max()) for t in self._textures().values())
            w, h = (max(1, round(n * min(max(1.0, more), MOST_REPEATS))) for n in (w, h))
        longer = self.asked or min(MOST, max(w, h))
        return max(1, round(w * longer / max(w, h))), max(1, round(h * longer / max(w, h)))

    def _drawn(self, use: str) -> NDArray[np.float32] | None:
        """Codes of a texture over the sheet, 0…1, shape (H, W, 4); None where none is used."""
        told = self._textures().get(use)
        if told is None:
            return None
        if self._uv_set(told) != 0 and use != "base" and self.pieces and not self._same_uv(self._uv_set(told)):
            self.left.append(f"the {use} texture, which lies by other UVs than the rest")
            return None
        w, h = self.size
        picture = self.file.picture(told["index"])
        if self.shared is not None and picture.shape[:2] == (h, w):
            return picture  # texel for texel
        wrap: Any = self.file.wraps(told["index"])
        out = np.empty((h, w, picture.shape[2]), np.float32)
        for y in range(0, h, BAND):
            rows = slice(y, min(h, y + BAND))
            uv = places(w, h, rows)
            if self.shared is None:
                down = np.stack([uv[..., 0], 1 - uv[..., 1], np.ones(uv.shape[:2])], axis=-1) @ transform_of(told).T
                uv = np.stack([down[..., 0], 1 - down[..., 1]], axis=-1)
            out[rows] = sampled(picture, uv, wrap)
        return out

    def _uv_set(self, told: Mapping[str, Any]) -> int:
        moved = (told.get("extensions") or {}).get("KHR_texture_transform") or {}
        return int(moved.get("texCoord", told.get("texCoord", 0)))

    def _same_uv(self, other: int) -> bool:
        return all(p.same_uv(other) for p in self.pieces)

    # --- maps -------------------------------------------------------------------------------------------------------

    def flat(self) -> Flat:
        """Its maps."""
        self.size = self._size()
        name = str(self.told.get("name") or f"material {self.index + 1}")[:120]
        flat = Flat(name, self.size, two_sided=bool(self.told.get("doubleSided")), notes=self.notes, left=self.left)
        self._base(flat)
        self._surface(flat)
        self._relief(flat)
        self._glow(flat)
        for key, words in LEFT.items():
            if key in self.extensions:
                self.left.append(words)
        for key in self.extensions:
            if key not in LEFT and key not in _READ:
                self.left.append(f"the extension {key}")
        self._laid(flat)
        return flat

    def _base(self, flat: Flat) -> None:
        pbr = self.told.get("pbrMetallicRoughness") or {}
        gloss = self.extensions.get("KHR_materials_pbrSpecularGlossiness")
        factor = np.asarray(
            (gloss or {}).get("diffuseFactor", [1, 1, 1, 1]) if gloss is not None else pbr.get("baseColorFactor", [1, 1, 1, 1]),
            np.float64,
        )
        drawn = self._drawn("base")
        colour: Any = factor[:3]
        alpha: Any = factor[3]
        if drawn is not None:
            colour, alpha = decode_srgb(drawn[..., :3]) * factor[:3], drawn[..., 3] * factor[3]
        painted_on = painted(self.pieces, self.size, self.shared)
        if isinstance(painted_on, str):
            self.left.append(painted_on)
        elif painted_on is not None:
            colour, alpha = colour * painted_on[..., :3], alpha * painted_on[..., 3]
            self.notes.append("vertex colour is in the base colour")
        flat.put("base", colour)
        mode = self.told.get("alphaMode", "OPAQUE")
        if mode == "MASK":
            flat.cutout = True
            flat.put("opacity", np.asarray(np.asarray(alpha) >= float(self.told.get("alphaCutoff", 0.5)), np.float32))
        elif mode == "BLEND":
            flat.put("opacity", alpha)

    def _surface(self, flat: Flat) -> None:
        gloss = self.extensions.get("KHR_materials_pbrSpecularGlossiness")
        if gloss is not None:
            drawn = self._drawn("gloss")
            factor = np.asarray(gloss.get("specularFactor", [1, 1, 1]), np.float64)
            shine = float(gloss.get("glossinessFactor", 1.0))
            flat.put("specular_colour", factor if drawn is None else decode_srgb(drawn[..., :3]) * factor)
            flat.put("roughness", 1 - (shine if drawn is None else drawn[..., 3] * shine))
            self.notes.append("specular and glossiness were turned into metallic and roughness")
            return
        pbr = self.told.get("pbrMetallicRoughness") or {}
        drawn = self._drawn("rough")
        rough, metal = float(pbr.get("roughnessFactor", 1.0)), float(pbr.get("metallicFactor", 1.0))
        flat.put("roughness", rough if drawn is None else drawn[..., 1] * rough)
        flat.put("metallic", metal if drawn is None else drawn[..., 2] * metal)
        self._specular(flat)

    def _specular(self, flat: Flat) -> None:
        told = self.extensions.get("KHR_materials_specular")
        weight: Any = None
        if told is not None:
            drawn = self._drawn("specular")
            factor = float(told.get("specularFactor", 1.0))
            weight = factor if drawn is None else drawn[..., 3] * factor
            if "specularColorTexture" in told or any(abs(v - 1) > 1e-6 for v in told.get("specularColorFactor", [1, 1, 1])):
                self.left.append("the colour of its specular reflection")
        index = float((self.extensions.get("KHR_materials_ior") or {}).get("ior", 1.5))
        if abs(index - 1.5) > 1e-6:
            share = (((index - 1) / (index + 1)) ** 2 if index > 0 else 1.0) / DIELECTRIC
            weight = np.clip((1.0 if weight is None else weight) * share, 0, 1)
            self.notes.append(
                f"the refractive index of {index:g} is in the specular weight" + (", as far as that goes" if share > 1 else "")
            )
        if weight is not None:
            flat.put("specular", weight)
        if "KHR_materials_unlit" in self.extensions:
            self.notes.append("it was shown without light; its colour is the base colour")

    def _relief(self, flat: Flat) -> None:
        drawn = self._drawn("normal")
        if drawn is not None:
            n = drawn[..., :3] * 2 - 1
            scale = float((self.told.get("normalTexture") or {}).get("scale", 1.0))
            flat.put("normal", n * np.array([scale, scale, 1.0]) if scale != 1 else n)
        drawn = self._drawn("occlusion")
        if drawn is not None:
            strength = float((self.told.get("occlusionTexture") or {}).get("strength", 1.0))
            flat.put("occlusion", 1 + strength * (drawn[..., 0] - 1))

    def _glow(self, flat: Flat) -> None:
        factor = np.asarray(self.told.get("emissiveFactor", [0, 0, 0]), np.float64)
        strength = float((self.extensions.get("KHR_materials_emissive_strength") or {}).get("emissiveStrength", 1.0))
        if not factor.any():
            return
        drawn = self._drawn("emission")
        light = (factor if drawn is None else decode_srgb(drawn[..., :3]) * factor) * strength
        if float(np.max(light)) > 1:
            self.notes.append(f"its light of up to {float(np.max(light)):.3g} is brought down to 1")
            light = light / float(np.max(light))
        flat.put("emission", light)

    def _laid(self, flat: Flat) -> None:
        mm = density_mm(self.pieces)
        scale = np.ones(2) if self.shared is None else np.array([self.shared[0, 0], self.shared[1, 1]])
        if mm is not None:
            flat.size_mm = (float(mm[0] / scale[0]), float(mm[1] / scale[1]))
        if self.shared is not None and np.abs(self.shared - np.eye(3)).max() > 1e-6:
            self.notes.append(f"its textures repeat {scale[0]:g} × {scale[1]:g} times on the model; the maps are one repeat")


_READ = frozenset(
    {
        "KHR_materials_pbrSpecularGlossiness",
        "KHR_materials_specular",
        "KHR_materials_ior",
        "KHR_materials_unlit",
        "KHR_materials_emissive_strength",
    }
)


def transform_of(told: Mapping[str, Any]) -> NDArray[np.float64]:
    """KHR_texture_transform as a matrix on (u, v down, 1): scaled, turned counter-clockwise as the page shows it, moved.

    With an offset of (0, 1), a quarter of a turn and a scale of a half, the lower left quarter of the picture is used, as in
    the extension's own example.

    >>> transform_of({})[0].tolist()
    [1.0, 0.0, 0.0]
    """
    moved = (told.get("extensions") or {}).get("KHR_texture_transform") or {}
    (x, y), turn, (w, h) = moved.get("offset", [0, 0]), float(moved.get("rotation", 0)), moved.get("scale", [1, 1])
    c, s = np.cos(turn), np.sin(turn)
    return np.array([[c * w, s * h, x], [-s * w, c * h, y], [0, 0, 1]], np.float64)


def pieces(file: GltfFile, material: int) -> list[Piece]:
    """The parts of all meshes that wear a material, each where the first node that shows it puts it."""
    found = []
    placed = _placed(file)
    for number, mesh in enumerate(file.list("meshes")):
        here = placed.get(number, np.eye(4))
        for part in mesh.get("primitives", []):
            mode, has = part.get("mode", 4), part.get("attributes", {})
            if part.get("material") != material or mode not in (4, 5, 6) or "POSITION" not in has:
                continue
            corners = file.accessor(has["POSITION"]).astype(np.float64) @ here[:3, :3].T + here[:3, 3]
            uv = {k: file.accessor(has[f"TEXCOORD_{k}"]).astype(np.float64) for k in range(4) if f"TEXCOORD_{k}" in has}
            colour = file.accessor(has["COLOR_0"]).astype(np.float64) if "COLOR_0" in has else None
            order = file.accessor(part["indices"])[:, 0].astype(np.int64) if "indices" in part else np.arange(len(corners))
            triangles = faces_of(order, mode) if len(order) >= 3 else np.zeros((0, 3), np.int64)
            if len(triangles) and (triangles.max() >= len(corners) or any(len(v) != len(corners) for v in uv.values())):
                raise FileError("a triangle names a corner that is not there", file.path.name, "Export it again.")
            found.append(Piece(corners, uv, colour, triangles))
    return found


def _placed(file: GltfFile) -> dict[int, NDArray[np.float64]]:
    """Where the scene puts each mesh, by its number."""
    nodes, scenes = file.list("nodes"), file.list("scenes")
    shown = scenes[int(file.json.get("scene", 0))].get("nodes", []) if scenes else range(len(nodes))
    found: dict[int, NDArray[np.float64]] = {}
    todo, seen = [(int(n), np.eye(4)) for n in shown], 0
    while todo and seen <= MOST_NODES:
        number, above = todo.pop()
        seen += 1
        node = nodes[number]
        here = above @ node_matrix(node)
        todo += [(int(child), here) for child in node.get("children", [])]
        if "mesh" in node:
            found.setdefault(int(node["mesh"]), here)
    return found
