"""Somebody's finished map set: which file is which, what is packed, what is to be mended; a table to confirm."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from silent_loom.core.base.images import Floats, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.files import Limits, Picture, read
from silent_loom.core.files.tags import colour_tag
from silent_loom.core.moving.resample import reduce_area
from silent_loom.core.opening.agreement import SIDE, Doubt, doubts
from silent_loom.core.opening.green import green_direction
from silent_loom.core.opening.inspection import KindGuess, guess_kind
from silent_loom.core.opening.looks import Look, Packed, packing
from silent_loom.core.opening.naming import Name, tell
from silent_loom.core.opening.own import MANIFEST, Delivered, delivered

SPECULAR_COLOUR = "specular_colour"
"""Helper thread that a coloured specular map of an older set is brought in as."""


@dataclass(frozen=True)
class FoundChannel:
    """One channel of a file and the map it is taken for.

    Attributes
    ----------
    channel : str
        'rgb', 'r', 'g', 'b' or 'a'.
    map : str
        Thread, 'smoothness', or empty when it is left out.
    looks_like : str
        What its samples look like.
    """

    channel: str
    map: str
    looks_like: str


@dataclass(frozen=True)
class FoundFile:
    """One file of a set.

    Attributes
    ----------
    file : str
    by : str
        What it was told by: 'name', 'content' or 'both'.
    channels : list of FoundChannel
    green : str
        Of a normal map: 'up', 'down' or 'unknown'.
    notes : list of str
        Usual mistakes that were found, and what is done about each.
    """

    file: str
    path: str
    width: int
    height: int
    bits: int
    format: str
    by: str
    channels: list[FoundChannel]
    green: str = ""
    green_confidence: float = 0.0
    notes: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class FoundSet:
    """Files that belong together; ``doubts`` is what all of them together say against what they were taken for.

    Width of a repeat and depth of the height are 0 where nothing tells them.
    """

    name: str
    files: list[FoundFile]
    notes: list[str]
    doubts: list[Doubt] = field(default_factory=list)
    width_mm: float = 0.0
    depth_mm: float = 0.0

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def _one(path: Path, picture: Picture) -> FoundFile:
    name = tell(path.name)
    guess = guess_kind(picture)
    notes: list[str] = []
    encoded = picture.data()
    grey = encoded.shape[2] == 1 or float(np.abs(encoded - encoded[..., :1]).mean()) < 1e-3
    packed = packing(np.clip(encoded, 0, 1), picture.alpha_plane())
    looks = packed.channels
    kind, by, asked = _kind(name, guess, grey, packed, notes)
    green, sure = "", 0.0
    if kind == "normal":
        green, sure = _green(name, picture, notes)
        channels = [FoundChannel("rgb", "normal", "normal")]
    elif (
        kind == "packed"
        or (not kind and packed.packed)
        or (packed.packed and packed.confidence > 0.4 and kind not in ("base", "emission", "specular"))
    ):
        channels = _parts(name.channels, looks, min(3, encoded.shape[2]))
        if not name.channels:
            notes.append("Several grey maps in one file, told by their content: check the table.")
        by = "name" if name.channels else "content"
        notes += _swapped(name.channels, looks)
    elif kind in ("", "base", "emission") and not grey:
        channels = [FoundChannel("rgb", kind or ("" if asked else "base"), "colour")]
    elif kind == "specular" and not grey:
        channels = [FoundChannel("rgb", SPECULAR_COLOUR, "colour")]
        notes.append("A colour specular map: the step Older specular says what becomes of it; never metal unasked.")
    else:
        seen = looks[0].words() if not kind or looks[0].value is not None else kind
        if not kind and not asked:
            kind = {"mask": "opacity", "constant": ""}.get(looks[0].looks_like, looks[0].looks_like)
        channels = [FoundChannel("r" if encoded.shape[2] == 1 else "rgb", kind, seen)]
        if kind == "base" and grey:
            notes.append("Base colour without colour: taken as it is.")
    notes += ["Smoothness: inverted to roughness." for channel in channels if channel.map == "smoothness"]
    if kind == "height" and picture.bits == 8:
        notes.append("Height of 8 bits: its steps are smoothed when it is read.")
    notes += _tagged(kind, picture, colour_tag(path))
    if picture.alpha is not None and all(c.channel != "a" for c in channels):
        look = looks[-1]
        channels.append(FoundChannel("a", "opacity" if look.value is None and kind in ("base", "") else "", look.words()))
    size = picture.width, picture.height
    return FoundFile(path.name, str(path), *size, picture.bits, picture.format, by, channels, green, round(sure, 3), notes)


def _tagged(kind: str, picture: Picture, tag: str) -> list[str]:
    """What the colour tag of a file says against what it holds."""
    if kind in ("base", "emission"):
        if tag == "linear" or (picture.transfer.name == "linear" and picture.bits < 32):
            return ["It is colour, but tagged as linear data: read as tagged. If it looks washed out, its tag is wrong."]
        return []
    if not kind:
        return []
    if tag == "profile":
        return ["Its colour profile is not applied: it holds data."]
    if tag == "srgb":
        return ["It holds data, but is tagged as colour (sRGB): read as data. Whoever goes by tags reads it wrongly."]
    return []


def _kind(name: Name, guess: KindGuess, grey: bool, packed: Packed, notes: list[str]) -> tuple[str, str, str]:
    # The map that a file holds, what told so, and what has to be asked; names come first, content where it is sure
    kind, asked, by = name.map, "", "name" if name.map else "content"
    if name.initial:
        kind, asked = _by_initial(name.initial, grey, looks_of(packed), guess.kind)
        if asked:
            notes.append(asked)
    if kind == "height" and not grey and guess.kind is Kind.COLOUR and not packed.packed:
        notes.append("It is called height, but is a colour picture: look at it before it is used.")
    if kind == "normal" and guess.kind is not Kind.NORMAL and not grey:
        notes.append("It is called a normal map, but its vectors are not of unit length: looked at as one all the same.")
    if kind == "normal" and grey:
        kind = "height"
        notes.append("It is called a normal map, but is grey: taken as height.")
    if kind != "normal" and guess.kind is Kind.NORMAL and guess.confidence > 0.75:
        if kind:
            notes.append(f"It is called {kind}, but holds normals: taken as a normal map.")
        kind, by = "normal", "content"
    elif kind == "normal" and guess.kind is Kind.NORMAL:
        by = "both"
    return kind, by, asked


def _green(name: Name, picture: Picture, notes: list[str]) -> tuple[str, float]:
    # Which way green points in a normal map, and how sure that is
    told = green_direction(picture.directions())
    green, sure = told.way, told.confidence
    if name.green and green not in ("unknown", name.green):
        notes.append(f"Its name says green {name.green}, its slopes say {green}: the slopes are believed.")
    elif name.green and green == "unknown":
        green = name.green
        notes.append(f"Green {green} by its name; the slopes do not tell.")
    if green == "down":
        notes.append("Green points down: turned up.")
    if picture.format in ("jpeg", "webp"):
        notes.append("A lossy normal map: made unit length again; blocks may show in gloss.")
    return green, sure


def _parts(named: Sequence[str], looks: Sequence[Look], count: int) -> list[FoundChannel]:
    # The maps in the channels of a packed file, each at most once
    channels: list[FoundChannel] = []
    used: set[str] = set()
    if len(named) == 2 and len(looks) == 4:  # the first in all three, the second in alpha
        return [FoundChannel("rgb", named[0], looks[0].words()), FoundChannel("a", named[1], looks[3].words())]
    for k in range(count):
        seen = looks[k].words()
        if named and looks[k].value is None and looks[k].looks_like not in ("metallic", "mask"):
            seen = named[k] if k < len(named) else seen  # names come first where content is not sure
        wanted = named[k] if k < len(named) else {"mask": "metallic"}.get(looks[k].looks_like, looks[k].looks_like)
        if wanted in ("constant", "colour") or wanted in used:
            wanted = ""
        used.add(wanted)
        channels.append(FoundChannel("rgb"[k], wanted, seen))
    return channels


def looks_of(packed: Packed) -> str:
    """What the first channel looks like, in one word.

    >>> from silent_loom.core.opening.looks import packing
    >>> grey = packing(np.full((32, 32, 3), 0.5, np.float32))
    >>> looks_of(grey) == (grey.channels[0].looks_like if grey.channels else "")
    True
    """
    return packed.channels[0].looks_like if packed.channels else ""


def _by_initial(letter: str, grey: bool, look: str, kind: Kind) -> tuple[str, str]:
    """The map that a single letter stands for, where the content agrees; or no map, and a sentence that asks."""
    if kind is Kind.NORMAL:
        return "normal", ""
    if not grey:
        if letter in "bcda":
            return "base", ""
        if letter == "e":
            return "emission", ""
        return "", f"The letter {letter} at its end may mean a map, but it is a colour picture: choose what it is."
    sure = {"r": "roughness", "h": "height", "t": "opacity"}
    if letter in sure:
        return sure[letter], ""
    if letter == "d" and look in ("height", "roughness"):
        return "height", ""
    if letter == "b" and look == "height":
        return "height", ""
    if letter == "m" and look in ("metallic", "mask", "constant"):
        return "metallic", ""
    if letter == "a" and look == "occlusion":
        return "occlusion", ""
    if letter == "o" and look in ("occlusion", "mask"):
        return {"occlusion": "occlusion", "mask": "opacity"}[look], ""
    if letter == "g":
        return "smoothness", ""
    may = {
        "s": "smoothness or specular",
        "d": "base colour or displacement",
        "a": "occlusion, albedo or alpha",
        "o": "occlusion or opacity",
        "m": "metallic or a mask",
        "b": "base colour or bump",
    }
    return "", f"The letter {letter} at its end may mean {may.get(letter, 'a map')}: choose what it is."


def _swapped(named: Sequence[str], looks: Sequence[Look]) -> list[str]:
    """Maps of a packed file that seem to have changed places, a sentence each."""
    seen = dict(zip(named, looks, strict=False))
    rough, metal, shade = seen.get("roughness"), seen.get("metallic"), seen.get("occlusion")
    if rough and metal and rough.looks_like in ("metallic", "mask") and metal.looks_like in ("roughness", "height"):
        return ["Metallic and roughness look as if they had changed places: check the table."]
    if rough and shade and rough.looks_like == "occlusion" and shade.looks_like in ("roughness", "height"):
        return ["Occlusion and roughness look as if they had changed places: check the table."]
    return []


def find(paths: Sequence[Path], limits: Limits | None = None, task: Task = IDLE) -> list[FoundSet]:
    """Sets among some files.

    Files are parted into sets by the part of their names that does not tell the map. Heights and occlusion of a set help
    to tell the green direction of its normal map.

    Raises
    ------
    FileError
        A file cannot be read.
    """
    ours = {name: (d, channels) for d in delivered(paths) for name, channels in d.files.items()}
    sizes_mm: dict[str, tuple[float, float]] = {}
    paths = [p for p in paths if p.name != MANIFEST and (p.name not in ours or ours[p.name][1])]
    stems: dict[str, list[tuple[FoundFile, Floats | None]]] = {}
    planes: dict[str, dict[str, Floats]] = {}
    for i, path in enumerate(paths):
        task.report(i / len(paths), path.name)
        task.checkpoint()
        if len(paths) > 1 and tell(path.name).preview and not tell(path.name).map:
            continue  # a picture of the material, not a map of it
        picture = read(path, limits=limits)
        one = _one(path, picture)
        stem = tell(path.name).stem.lower()
        if path.name in ours:
            known, channels = ours[path.name]
            one, stem = _by_manifest(one, known, channels), known.name
            sizes_mm[stem] = known.width_mm, known.depth_mm
        stems.setdefault(stem, []).append((one, _kept(one, picture)))
        for map_, plane in planes_of(one, picture).items():
            planes.setdefault(stem, {}).setdefault(map_, plane)
    out: list[FoundSet] = []
    for stem, files in stems.items():
        notes: list[str] = []
        files = sorted(files, key=lambda item: -item[0].width * item[0].height)  # of two sizes the larger one is taken
        told = [f for f, _ in files]
        height = next((kept for f, kept in files if kept is not None and not f.green), None)
        if height is not None:
            told = [_with_height(f, kept, height[..., 0]) if f.green and kept is not None else f for f, kept in files]
        sizes = {(f.width, f.height) for f in told}
        if len(sizes) > 1:
            w, h = max(sizes)
            notes.append(f"The files differ in size: all are brought to {w} × {h}.")
        maps = [c.map for f in told for c in f.channels if c.map]
        for twice in sorted({m for m in maps if maps.count(m) > 1}):
            notes.append(f"There are several files for {twice}: the first is taken, choose in the table.")
        if "base" not in maps:
            notes.append("No base colour was found.")
        name = stem if stem in sizes_mm else tell(told[0].file).stem or Path(told[0].file).stem
        turned = any(f.green == "down" for f in told)
        out.append(FoundSet(name, told, notes, doubts(_upright(planes.get(stem, {}), turned)), *sizes_mm.get(stem, (0.0, 0.0))))
    return out


def _by_manifest(found: FoundFile, known: Delivered, channels: Sequence[tuple[str, str]]) -> FoundFile:
    """A file as the manifest of its delivery says."""
    normal = any(m == "normal" for _, m in channels)
    looks = {c.channel: c.looks_like for c in found.channels}
    parts = [FoundChannel(c, m, looks.get(c, m)) for c, m in channels]
    notes = ["Its manifest says what it holds."] + (["Green points down: turned up."] if normal and known.green == "down" else [])
    green = (known.green, 1.0) if normal else ("", 0.0)
    return replace(found, by="manifest", channels=parts, green=green[0], green_confidence=green[1], notes=notes)


def _upright(planes: dict[str, Floats], down: bool) -> dict[str, Floats]:
    """The same, normals with green up."""
    if not down or "normal" not in planes:
        return planes
    return {**planes, "normal": np.ascontiguousarray(planes["normal"] * np.array([1, -1, 1], np.float32))}


def planes_of(found: FoundFile, picture: Picture) -> dict[str, Floats]:
    """The maps in a file that tell of each other, small: normals of shape (H, W, 3), others (H, W), 0…1.

    >>> from silent_loom.core.files.profile import SRGB
    >>> picture = Picture(np.full((4, 4, 1), 255, np.uint8), None, SRGB, 8, "png")
    >>> one = FoundFile("a.png", "a.png", 4, 4, 8, "png", "name", [FoundChannel("r", "smoothness", "constant")])
    >>> float(planes_of(one, picture)["roughness"].max())
    0.0
    """
    out: dict[str, Floats] = {}
    for channel in found.channels:
        if channel.map == "normal":
            samples = picture.directions()
        elif channel.map in ("height", "occlusion", "roughness", "smoothness", "metallic") and channel.channel != "a":
            data = picture.data()
            index = min({"g": 1, "b": 2}.get(channel.channel, 0), data.shape[2] - 1)
            samples = np.ascontiguousarray(data[..., index : index + 1], np.float32)
        else:
            continue
        side = max(samples.shape[:2])
        w, h = (max(1, round(n * min(1, SIDE / side))) for n in (samples.shape[1], samples.shape[0]))
        small = reduce_area(np.ascontiguousarray(samples), w, h)
        if channel.map == "normal":
            out["normal"] = small
        else:
            plane = small[..., 0]
            out[channel.map.replace("smoothness", "roughness")] = 1 - plane if channel.map == "smoothness" else plane
    return out


def _kept(found: FoundFile, picture: Picture) -> Floats | None:
    """What is needed of a picture once the others are known: small normals, or a small height or occlusion."""
    for channel in found.channels:
        if channel.map == "normal":
            samples = picture.directions()
        elif channel.map in ("height", "occlusion"):
            index = min({"g": 1, "b": 2}.get(channel.channel, 0), picture.data().shape[2] - 1)
            samples = np.ascontiguousarray(picture.data()[..., index : index + 1], np.float32)
        else:
            continue
        side = min(1024, samples.shape[1])
        return reduce_area(samples, side, max(8, round(side * samples.shape[0] / samples.shape[1])))
    return None


def _with_height(found: FoundFile, normals: Floats, height: Floats) -> FoundFile:
    h, w = (min(a, b) for a, b in zip(normals.shape[:2], height.shape, strict=True))
    told = green_direction(reduce_area(normals, w, h), reduce_area(np.ascontiguousarray(height), w, h))
    if told.confidence <= found.green_confidence:
        return found
    notes = [n for n in found.notes if not n.startswith("Green points down")]
    if told.way == "down":
        notes.append("Green points down: turned up.")
    return replace(found, green=told.way, green_confidence=told.confidence, notes=notes)
