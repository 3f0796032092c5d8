"""The surface as a MaterialX 1.39 document: OpenPBR, its maps read from the delivered pictures."""

from __future__ import annotations

import re
import xml.etree.ElementTree as ET

from silent_loom.core.base.errors import LoomError
from silent_loom.core.delivery.open.surface import Slot, Surface
from silent_loom.core.weave import threads

NITS = 1000.0
"""Candela per square metre of an emission of 1: what a bright screen sends out."""
_INPUTS = {
    "base": ("base_color", "color3"),
    "roughness": ("specular_roughness", "float"),
    "metallic": ("base_metalness", "float"),
    "specular": ("specular_weight", "float"),
    "opacity": ("geometry_opacity", "float"),
    "emission": ("emission_color", "color3"),
}
_TYPES = {1: "float", 2: "vector2", 3: "vector3", 4: "vector4"}


def identifier(name: str) -> str:
    """A name that MaterialX and USD take: letters, digits and '_', no digit first.

    >>> identifier("2 decks")
    '_2_decks'
    """
    plain = re.sub(r"[^A-Za-z0-9_]", "_", name) or "material"
    return f"_{plain}" if plain[0].isdigit() else plain


class _Graph:
    """A node graph that grows map by map."""

    def __init__(self, document: ET.Element, surface: Surface, channels: dict[str, int], name: str) -> None:
        self.element = ET.SubElement(document, "nodegraph", name=f"NG_{name}")
        self.name = f"NG_{name}"
        self._surface, self._channels = surface, channels
        self._pictures: dict[str, tuple[str, str]] = {}
        self._count = 0

    def node(self, category: str, kind: str, inputs: list[tuple[str, str, str]], name: str = "") -> str:
        """A node; inputs as name, type and either ``@node`` or a value."""
        self._count += 1
        called = name or f"n{self._count}_{category}"
        made = ET.SubElement(self.element, category, name=called, type=kind)
        for key, of, value in inputs:
            ET.SubElement(
                made, "input", {"name": key, "type": of, **({"nodename": value[1:]} if value[:1] == "@" else {"value": value})}
            )
        return called

    def picture(self, slot: Slot) -> tuple[str, str]:
        """The node that reads a file, once for all that lies in it, and its type."""
        if slot.file not in self._pictures:
            count = self._channels[slot.file]
            coded = self._surface.encodings[slot.file]
            colour = coded in ("sRGB", "linear") and count >= 3
            kind = f"color{count}" if colour else _TYPES[count]
            called = self.node("tiledimage", kind, [], f"file_{len(self._pictures) + 1}")
            made = self.element[-1]
            more = {"colorspace": "srgb_texture" if coded == "sRGB" else "lin_rec709"} if colour else {}
            ET.SubElement(made, "input", {"name": "file", "type": "filename", "value": slot.file, **more})
            ET.SubElement(made, "input", name="uvtiling", type="vector2", value="1, 1")
            self._pictures[slot.file] = called, kind
        return self._pictures[slot.file]

    def number(self, slot: Slot) -> str:
        """One channel as a number, brought back to what it means."""
        called, kind = self.picture(slot)
        if kind != "float":
            called = self.node("extract", "float", [("in", kind, f"@{called}"), ("index", "integer", str(slot.channels[0]))])
        if slot.offset:
            called = self.node("subtract", "float", [("in1", "float", f"@{called}"), ("in2", "float", f"{slot.offset:g}")])
        if slot.scale != 1:
            called = self.node("divide", "float", [("in1", "float", f"@{called}"), ("in2", "float", f"{slot.scale:g}")])
        if slot.inverted:
            called = self.node("invert", "float", [("in", "float", f"@{called}")])
        return called

    def colour(self, slot: Slot) -> str:
        """The first three channels as colour."""
        called, kind = self.picture(slot)
        if slot.channels != (0, 1, 2) or slot.inverted or (slot.scale, slot.offset) != (1, 0):
            raise LoomError("MaterialX takes a colour as it stands alone", slot.file, "Change the file, or write no MaterialX.")
        return called if kind == "color3" else self.node("convert", "color3", [("in", kind, f"@{called}")])

    def normal(self, slot: Slot, green: str) -> str:
        """Normals of the surface in the space of the scene."""
        called, kind = self.picture(slot)
        if slot.channels != (0, 1, 2):
            raise LoomError("MaterialX takes normals from red, green and blue", slot.file, "Change the file, or write none.")
        if kind != "vector3":
            parts = [self.node("extract", "float", [("in", kind, f"@{called}"), ("index", "integer", str(k))]) for k in range(3)]
            called = self.node("combine3", "vector3", [(f"in{k + 1}", "float", f"@{p}") for k, p in enumerate(parts)])
        if green == "down":
            called = self.node("multiply", "vector3", [("in1", "vector3", f"@{called}"), ("in2", "vector3", "1, -1, 1")])
            called = self.node("add", "vector3", [("in1", "vector3", f"@{called}"), ("in2", "vector3", "0, 1, 0")])
        return self.node("normalmap", "vector3", [("in", "vector3", f"@{called}")])

    def out(self, name: str, kind: str, node: str) -> dict[str, str]:
        """An output of the graph, as what an input asks for."""
        ET.SubElement(self.element, "output", name=f"{name}_out", type=kind, nodename=node)
        return {"nodegraph": self.name, "output": f"{name}_out"}


def document(surface: Surface, channels: dict[str, int]) -> bytes:
    """A MaterialX document of the surface.

    Parameters
    ----------
    surface : Surface
    channels : dict of str to int
        Of every delivered file.

    Raises
    ------
    LoomError
        A colour or a normal lies in other channels than red, green and blue.

    Notes
    -----
    Colours in linear light with Rec. 709 primaries. OpenPBR has no occlusion, so it is not used. A second surface and material
    follow for the back, where there are maps of one.

    >>> text = document(Surface("slate", {}, {"roughness": (0.5,)}), {}).decode()
    >>> [line.strip() for line in text.splitlines() if "specular_roughness" in line]
    ['<input name="specular_roughness" type="float" value="0.5" />']
    """
    root = ET.Element("materialx", version="1.39", colorspace="lin_rec709")
    w, h = surface.size_mm
    root.append(ET.Comment(f" One repeat of the maps is {w:g} × {h:g} mm; heights span {surface.depth_mm:g} mm. "))
    sides = ["", "back_"] if any(n.startswith("back_") for n in (*surface.slots, *surface.values)) else [""]
    for prefix in sides:
        _side(root, surface, channels, prefix)
    ET.indent(root)
    return b'<?xml version="1.0" encoding="UTF-8"?>\n' + ET.tostring(root, encoding="utf-8") + b"\n"


def _side(root: ET.Element, surface: Surface, channels: dict[str, int], prefix: str) -> None:
    name = identifier(surface.name) + ("_back" if prefix else "")
    graph = _Graph(root, surface, channels, name)
    shader = ET.SubElement(root, "open_pbr_surface", name=f"SR_{name}", type="surfaceshader")

    def put(key: str, kind: str, **source: str) -> None:
        ET.SubElement(shader, "input", {"name": key, "type": kind, **source})

    for part, (key, kind) in _INPUTS.items():
        slot = surface.slots.get(prefix + part)
        if slot is not None:
            node = graph.colour(slot) if kind == "color3" else graph.number(slot)
            put(key, kind, **graph.out(part, kind, node))
        elif prefix + part in surface.values or part in ("roughness", "metallic", "base"):
            value = surface.values.get(prefix + part, threads.spec(part).neutral)
            put(key, kind, value=", ".join(f"{v:.9g}" for v in value))
    if prefix + "emission" in surface.slots or any(surface.values.get(prefix + "emission", ())):
        put("emission_luminance", "float", value=f"{NITS:g}")
    if (slot := surface.slots.get(prefix + "normal")) is not None:
        put("geometry_normal", "vector3", **graph.out("normal", "vector3", graph.normal(slot, surface.green)))
    if surface.two_sided:
        put("geometry_thin_walled", "boolean", value="true")
    displacement = None
    if (slot := surface.slots.get(prefix + "height")) is not None:
        middle = surface.middle_mm / surface.depth_mm
        node = graph.node("subtract", "float", [("in1", "float", f"@{graph.number(slot)}"), ("in2", "float", f"{middle:g}")])
        displacement = ET.SubElement(root, "displacement", name=f"DS_{name}", type="displacementshader")
        ET.SubElement(displacement, "input", {"name": "displacement", "type": "float", **graph.out("height", "float", node)})
        ET.SubElement(
            displacement,
            "input",
            name="scale",
            type="float",
            value=f"{surface.depth_mm / 1000:.9g}",
            unit="meter",
            unittype="distance",
        )
    if len(graph.element) == 0:
        root.remove(graph.element)
    made = ET.SubElement(root, "surfacematerial", name=name, type="material")
    ET.SubElement(made, "input", name="surfaceshader", type="surfaceshader", nodename=f"SR_{name}")
    if displacement is not None:
        ET.SubElement(made, "input", name="displacementshader", type="displacementshader", nodename=f"DS_{name}")
