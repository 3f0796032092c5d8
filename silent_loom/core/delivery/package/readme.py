"""The one page that a receiver reads: each file's slot, how its numbers are meant, and what the material needs."""

from __future__ import annotations

import textwrap
from collections.abc import Mapping
from typing import Any

from silent_loom.core.delivery.channel import parse_channel
from silent_loom.core.weave import threads

WIDTH = 96
_FORMATS = {"png": "PNG", "jpeg": "JPEG", "targa": "TGA", "tiff": "TIFF", "bmp": "BMP", "openexr": "EXR", "webp": "WebP"}
_OTHER = {
    "glb": "The material on a sheet, as GLB (glTF 2.0)",
    "gltf": "The material on a sheet, as glTF 2.0 beside the pictures",
    "mtlx": "The material as MaterialX (OpenPBR)",
    "usda": "The material on a sheet, as USD (UsdPreviewSurface)",
    "usdz": "The material on a sheet, as USDZ with its pictures inside",
    "png": "All files at a glance",
    "text": "This page",
}
_PLACES = {1: ("grey",), 2: ("grey", "alpha"), 3: ("red", "green", "blue"), 4: ("red", "green", "blue", "alpha")}


def slots_of(entry: Mapping[str, Any]) -> str:
    """Which slots a file fills, channel by channel where they differ.

    >>> slots_of({"slot": "base colour", "channels": ["base.r", "base.g", "base.b"]})
    'Base colour'
    """
    channels = [parse_channel(c) for c in entry["channels"]]
    first = [c.thread for c in channels[:3]]
    places = _PLACES[len(channels)]
    if len(set(first)) == 1 and first[0] and len(channels) >= 3 and all(c.plain and not c.invert for c in channels[:3]):
        words = [threads.spec(first[0]).title]
        rest = list(zip(places, channels, strict=True))[3:]
        same = len({c.short() for c in channels[:3]}) == 1
        words[0] += " in red, green and blue alike" if same else ""
    else:
        words, rest = [], list(zip(places, channels, strict=True))
    for place, c in rest:
        what = f"{c.constant:g}" if c.constant is not None else threads.spec(c.thread).title.lower()
        if c.invert and c.thread == "roughness":
            what = "smoothness (one minus roughness)"
        elif c.invert:
            what = f"one minus {what}"
        more = [w for w in c.short().partition(" (")[2].rstrip(")").split(", ") if w]
        part = f", {c.part}" if c.part and c.thread not in ("normal",) and len(threads.spec(c.thread).neutral) > 1 else ""
        words.append(f"{what}{part}{' ' if more else ''}{', '.join(more)}{'' if len(channels) == 1 else f' in {place}'}")
    told = ", ".join(words)
    return told[:1].upper() + told[1:]


def readme(manifest: Mapping[str, Any]) -> str:
    """The page, plain text of at most 96 characters a line.

    >>> told = {"name": "slate", "repeat_mm": [1000, 500], "size": [1024, 512], "profile": "plain", "files": []}
    >>> readme({**told, "made_by": "Silent Loom"}).splitlines()[0]
    'slate'
    """
    m = manifest
    w, h = m["repeat_mm"]
    out = [f"{m.get('material') or m['name']}", "=" * len(str(m.get("material") or m["name"])), ""]
    size = f"{m['size'][0]} × {m['size'][1]} texels show {w:g} × {h:g} mm and repeat in both directions."
    out += _wrapped(f"Made by {m['made_by']} for: {m.get('profile_title') or m['profile']}. {size}")
    out += _wrapped(" ".join(f"{t[0].upper()}{t[1:]}." for t in m.get("fit", [])))
    out += ["", "Files", "-----"]
    for entry in m["files"]:
        out += _file(entry)
    if m.get("values"):
        out += ["", "Maps that are the same everywhere and have no file", "-" * 50]
        for name, value in m["values"].items():
            out.append(f"  {threads.spec(name).title}: {', '.join(f'{v:.4g}' for v in value)}")
    out += ["", "How to use it", "-------------"]
    for line in _uses(m):
        out += _wrapped(f"- {line}", "  ")
    if m.get("warnings"):
        out += ["", "To know", "-------"]
        for line in m["warnings"]:
            out += _wrapped(f"- {line}", "  ")
    facts = {k: v for k, v in (m.get("origin") or {}).items() if v}
    if facts:
        out += ["", "Origin", "------", *(f"  {k}: {v}" for k, v in facts.items())]
    return "\n".join(out).rstrip() + "\n"


def _wrapped(text: str, indent: str = "") -> list[str]:
    return textwrap.wrap(text, WIDTH, subsequent_indent=indent) if text else []


def _file(entry: Mapping[str, Any]) -> list[str]:
    if "channels" not in entry:
        return [f"  {entry['file']}", f"      {_OTHER.get(entry['format'], 'a part of the material')}"]
    bits = {"half": "half float", "float": "float"}.get(entry["bits"], f"{entry['bits']} bit")
    coded = {"sRGB": "colour (sRGB)", "linear": "colour (linear light)"}.get(entry["colour"], "data: no colour conversion")
    more = [f"{_FORMATS[entry['format']]} {bits}", coded]
    if entry.get("small_of"):
        more.append(f"of the smaller set, {entry['set']}")
    if entry.get("palette"):
        more.append(f"{entry['palette']} colours")
    if entry.get("palette_degrees"):
        more.append(f"normals off by {entry['palette_degrees']:.2g}° on average")
    return [f"  {entry['file']}", f"      {slots_of(entry)}", f"      {', '.join(more)}"]


def _uses(m: Mapping[str, Any]) -> list[str]:
    has = {c.thread for e in m["files"] if "channels" in e for c in map(parse_channel, e["channels"])}
    lines = []
    if "normal" in has:
        way = "up (the second axis of the normals points to the top of the picture)" if m["green"] == "up" else "down"
        lines.append(f"Normals are in tangent space, their green points {way}.")
    relief = m.get("relief")
    if "height" in has and relief:
        unit = f"{relief['scale']:.5g} where one repeat is one unit wide"
        real = f"{relief['depth_mm'] / 1000:.5g} m ({relief['depth_mm']:g} mm) at its true width of {relief['width_mm']:g} mm"
        lines.append(f"Displacement from black to white: {unit}; {real}. {relief['middle']:.3g} of white stays where it is.")
        if relief["spacing_mm"] > 0:
            lines.append(
                f"Displacement needs a mesh that is divided finely enough: a vertex every {relief['spacing_mm']:.3g} mm shows "
                "90 % of the relief's variance. On a sheet of one face it shows nothing."
            )
        else:
            lines.append("The height is flat: there is nothing to displace.")
    if m.get("occlusion_in_base"):
        lines.append("Occlusion is in the base colour already: do not multiply it in again.")
    elif "occlusion" in has:
        lines.append("Occlusion is not in the base colour.")
    if "roughness" not in has and "roughness" not in (m.get("values") or {}):
        lines.append("There is no roughness here: set it in the receiver.")
    if "opacity" in has:
        words = "is all or nothing: cut out at 0.5" if m.get("cutout") else "has values between: blend"
        lines.append(f"Opacity {words}. Colour goes on under what is not there.")
    lines.append("The surface is seen from both sides." if m.get("two_sided") else "The surface is seen from its front.")
    return lines
