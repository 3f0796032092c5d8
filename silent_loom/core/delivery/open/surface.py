"""Where each part of a surface lies in delivered files: what every open material is written from."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from silent_loom.core.delivery.channel import Channel, parse_channel
from silent_loom.core.weave import threads

PARTS = ("base", "normal", "roughness", "metallic", "occlusion", "specular", "opacity", "emission", "height")
"""Maps that open materials know."""


@dataclass(frozen=True)
class Slot:
    """One map in a file.

    Attributes
    ----------
    file : str
    channels : tuple of int
        Which channels of it, in order.
    colour : bool
        sRGB-encoded (integer formats), or linear light (floats).
    inverted : bool
    scale, offset : float
        The map is what the file holds, divided by `scale` after `offset` was taken off; 1 and 0 in most.
    """

    file: str
    channels: tuple[int, ...]
    colour: bool = False
    inverted: bool = False
    scale: float = 1.0
    offset: float = 0.0


@dataclass(frozen=True)
class Surface:
    """A delivered surface.

    Attributes
    ----------
    name : str
    slots : dict of str to Slot
        By map.
    values : dict of str to tuple of float
        Maps that are the same everywhere and have no file.
    encodings : dict of str to str
        Of every file: 'sRGB', 'linear' or 'data'.
    green : str
    size_mm : tuple of float
    depth_mm, middle_mm : float
        Of heights: from black to white, and what black stands for below the surface.
    cutout : bool
        Opacity is either nothing or all: texels are left out rather than mixed.
    two_sided : bool
    """

    name: str
    slots: dict[str, Slot]
    values: dict[str, tuple[float, ...]] = field(default_factory=dict)
    encodings: dict[str, str] = field(default_factory=dict)
    green: str = "up"
    size_mm: tuple[float, float] = (1000.0, 1000.0)
    depth_mm: float = 10.0
    middle_mm: float = 5.0
    cutout: bool = False
    two_sided: bool = False
    occlusion_in_base: bool = False


def surface_of(manifest: Mapping[str, Any]) -> Surface:
    """A surface by what the manifest of its delivery says; of the large set where there is a smaller one.

    >>> surface_of({"name": "slate", "files": [], "values": {"roughness": [0.5]}, "repeat_mm": [1000, 500]}).values
    {'roughness': (0.5,)}
    """
    slots: dict[str, Slot] = {}
    values: dict[str, tuple[float, ...]] = {}
    encodings: dict[str, str] = {}
    in_base = False
    for entry in manifest["files"]:
        if "channels" not in entry or entry.get("set"):
            continue
        channels = [parse_channel(c) for c in entry["channels"]]
        encodings[entry["file"]] = str(entry["colour"])
        in_base = in_base or any(c.thread == "base" and c.times == "occlusion" and c.amount > 0 for c in channels)
        for name in (*PARTS, *(f"back_{p}" for p in PARTS)):
            slot = _slot(name, entry, channels)
            if slot is not None and (name not in slots or len(slot.channels) > len(slots[name].channels)):
                slots[name] = slot
    for name, value in (manifest.get("values") or {}).items():
        if name.removeprefix("back_") in PARTS and name not in slots:
            values[name] = tuple(float(v) for v in value)
    return Surface(
        str(manifest["name"]),
        slots,
        values,
        encodings,
        str(manifest.get("green", "up")),
        tuple(float(v) for v in manifest["repeat_mm"]),  # type: ignore[arg-type]
        float(manifest.get("depth_mm", 10)),
        float(manifest.get("height_middle_mm", 5)),
        bool(manifest.get("cutout", False)),
        bool(manifest.get("two_sided", False)),
        in_base,
    )


def _slot(name: str, entry: Mapping[str, Any], channels: Sequence[Channel]) -> Slot | None:
    part = name.removeprefix("back_")
    want = len(threads.spec(part).neutral)
    at: dict[int, int] = {}
    for k, c in enumerate(channels):
        if c.thread == name and c.part != "luminance":
            at.setdefault(c.index, k)
    if set(range(want)) <= set(at):
        order = tuple(at[i] for i in range(want))
    elif part == "normal" and {0, 1} <= set(at):
        order = (at[0], at[1])
    else:
        return None
    first = channels[order[0]]
    colour = str(entry["colour"]) in ("sRGB", "linear") and not (part == "opacity" or order[0] == 3)
    return Slot(str(entry["file"]), order, colour, first.invert, first.scale, first.offset)
