"""Delivered files back into maps: by what the manifest says of each channel, or by a profile."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from silent_loom.core.base.errors import FileError, LoomError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.delivery.channel import Channel, parse_channel, undone
from silent_loom.core.delivery.placing import MANIFEST
from silent_loom.core.delivery.profile import FileSpec, Profile
from silent_loom.core.files import Picture, read
from silent_loom.core.files.formats import SUFFIXES, by_content, by_name
from silent_loom.core.moving.resample import enlarge
from silent_loom.core.weave import threads
from silent_loom.core.weave.threads import ThreadSpec


@dataclass(frozen=True)
class FileFacts:
    """A file of a delivery as it lies there: where, texels across and down, bits a sample."""

    path: Path
    size: tuple[int, int]
    bits: int


@dataclass(frozen=True)
class Unpacked:
    """Maps out of delivered files.

    Attributes
    ----------
    maps : dict of str to Image
    meanings : dict of str to ThreadSpec
        0…1 in a file is the range of its thread; of a height what the manifest says.
    bits : dict of str to int
        Bits a channel of the files that each map came from, the most where there are several.
    files : dict of str to tuple of str
        In which files each map was found, by the names in the manifest.
    facts : dict of str to FileFacts
        What each of these files is now.
    """

    maps: dict[str, Image]
    meanings: dict[str, ThreadSpec]
    bits: dict[str, int]
    files: dict[str, tuple[str, ...]] = field(default_factory=dict)
    facts: dict[str, FileFacts] = field(default_factory=dict)


def unpack(folder: Path, wanted: Profile | None = None, depth_mm: float | None = None) -> Unpacked:
    """The maps of a delivery.

    Parameters
    ----------
    folder : path
        With a manifest, or with files named as a profile names them.
    wanted : Profile, optional
        Says what is in the files; the manifest does where none is given.
    depth_mm : float, optional
        Depth of a height, from black to white; the manifest's, or 10, where nothing is said.

    Returns
    -------
    Unpacked
        Every map of which all channels were found.

    Raises
    ------
    LoomError
        There is nothing to go by, a file is missing, or files differ in size.
    """
    if not folder.is_dir():
        raise LoomError("there is no such folder", str(folder), "Name the folder of a delivery.")
    manifest = manifest_of(folder)
    if wanted is None and manifest is None:
        raise LoomError("there is no manifest here", str(folder), "Say how it was packed, with --profile.")
    green = wanted.green if wanted is not None else str((manifest or {}).get("green", "up"))
    depth = depth_mm or float((manifest or {}).get("depth_mm", 10.0))
    files = _by_profile(folder, wanted) if wanted is not None else _by_manifest(folder, manifest or {})
    gathered = _Gathered(depth, green, _meant(manifest or {}))
    for name, path, channels, colour, alpha in files:
        gathered.take(name, path, channels, colour, alpha)
    for name, value in ((manifest or {}).get("values") or {}).items():
        gathered.value(str(name), [float(v) for v in value])
    return gathered.done(tuple(float(v) for v in (manifest or {}).get("repeat_mm", (1000.0, 1000.0))))  # type: ignore[arg-type]


def manifest_of(folder: Path) -> dict[str, Any] | None:
    path = folder / MANIFEST
    if not path.is_file():
        return None
    try:
        found = json.loads(path.read_text("utf-8"))
    except (OSError, ValueError):
        raise FileError("the manifest cannot be read", str(path), "Deliver it again, or say how it was packed.") from None
    if not isinstance(found, dict) or not isinstance(found.get("files"), list):
        raise FileError("this is no manifest of a delivery", str(path), "Deliver it again, or say how it was packed.")
    return found


def _meant(manifest: Mapping[str, Any]) -> dict[str, ThreadSpec]:
    """Meanings of maps that are not in the table, by what the manifest says."""
    out = {}
    for name, m in (manifest.get("maps") or {}).items():
        if name not in threads.THREADS:
            made = threads.helper(str(name), Kind(str(m["kind"])), channels=int(m.get("channels", 1)))
            out[str(name)] = replace(made, low=float(m["low"]), high=float(m["high"]), unit=str(m.get("unit", "")))
    return out


Packed = list[tuple[str, Path, tuple[Channel, ...], bool, Channel | None]]
"""Name in the manifest, file, what its channels hold, whether they are colour, and what is in its alpha where it has one."""


def _by_manifest(folder: Path, manifest: Mapping[str, Any]) -> Packed:
    out: Packed = []
    for entry in manifest["files"]:
        if not entry.get("channels") or entry.get("set"):
            continue  # an open material, a word to read, or made from another
        name = Path(str(entry["file"])).name  # never outside of the folder
        path = _there(folder, name)
        if path is None:
            raise FileError("a file of the delivery is missing", name, "Put it back, or deliver again.")
        out.append(
            (name, path, tuple(parse_channel(c) for c in entry["channels"]), entry.get("colour") in ("sRGB", "linear"), None)
        )
    return out


def _there(folder: Path, name: str) -> Path | None:
    """A listed file, or the only picture of its name in another format: somebody saved it again."""
    if (folder / name).is_file():
        return folder / name
    other = [p for p in folder.iterdir() if p.is_file() and p.stem == Path(name).stem and by_name(p.name) is not None]
    return other[0] if len(other) == 1 else None


def _by_profile(folder: Path, wanted: Profile) -> Packed:
    out: Packed = []
    there = sorted(p for p in folder.iterdir() if p.is_file())
    for spec in wanted.files:
        found = [p for p in there if _named(p, spec)]
        if len(found) > 1:
            raise LoomError(f"several files end in {spec.suffix}", ", ".join(p.name for p in found), "Leave one of them.")
        if found:
            out.append((found[0].name, found[0], spec.channels, spec.colour, spec.alpha_if_any))
        elif not spec.optional:
            raise FileError(f"there is no file that ends in {spec.suffix}", str(folder), "Name the profile it was packed with.")
    return out


def _named(path: Path, spec: FileSpec) -> bool:
    return path.suffix.lower() in SUFFIXES[spec.format] and path.stem.lower().endswith(spec.suffix.lower())


class _Gathered:
    """Channels as they are found, put together into maps."""

    def __init__(self, depth: float, green: str, meant: Mapping[str, ThreadSpec]) -> None:
        self._depth, self._green, self._meant = depth, green, meant
        self._planes: dict[str, dict[int, Floats]] = {}
        self._packed: dict[str, dict[int, tuple[Channel, Floats]]] = {}
        self._bits: dict[str, int] = {}
        self._files: dict[str, list[str]] = {}
        self._values: dict[str, list[float]] = {}
        self._facts: dict[str, FileFacts] = {}
        self._shape: tuple[int, int] | None = None

    def meaning(self, name: str) -> ThreadSpec:
        found = self._meant.get(name) or threads.spec(name)
        return found.over(self._depth) if found.unit == "mm" and name not in self._meant else found

    def value(self, name: str, value: list[float]) -> None:
        """A map that is the same everywhere and has no file, in its own unit."""
        self._values[name] = value

    def take(self, name: str, path: Path, channels: tuple[Channel, ...], colour: bool, alpha: Channel | None = None) -> None:
        with path.open("rb") as stream:
            fmt = by_content(stream.read(32))  # a file that was saved again keeps its old name at times
        picture = read(path, fmt=fmt)
        self._facts[name] = FileFacts(path, (picture.width, picture.height), picture.bits)
        planes = _planes(picture, colour)
        if alpha is not None and picture.alpha_plane() is not None:
            channels = (*channels, alpha)
        if len(planes) < len([c for c in channels if c.constant is None or len(channels) > 1]) and len(planes) != 1:
            raise FileError(f"{path.name} has {len(planes)} channels, not {len(channels)}", path.name, "Name another profile.")
        self._shape = _larger_shape(self._shape, planes[0].shape, path.name)
        for k, c in enumerate(channels):
            if c.constant is not None or c.part == "luminance":
                continue
            packed = self._packed.setdefault(c.thread, {})
            if c.index in packed and packed[c.index][0].plain:
                continue
            packed[c.index] = c, planes[min(k, len(planes) - 1)]
            self._bits[c.thread] = max(self._bits.get(c.thread, 0), picture.bits)
            if name not in self._files.setdefault(c.thread, []):
                self._files[c.thread].append(name)

    def _undo(self) -> None:
        """Packed channels as planes of their maps: first those that others were multiplied by."""
        order = sorted(self._packed, key=lambda n: any(c.times for c, _ in self._packed[n].values()))
        for name in order:
            meaning = self.meaning(name)
            for index, (c, plane) in self._packed[name].items():
                factor = self._factor(c.times, plane.shape) if c.times else None
                value = undone(c, plane, factor)
                if meaning.kind is not Kind.COLOUR:
                    value = value * np.float32(meaning.depth) + np.float32(meaning.low)
                if meaning.kind is Kind.NORMAL and index == 1 and self._green == "down":
                    value = -value
                self._planes.setdefault(name, {})[index] = self._sized(value)

    def _factor(self, name: str, shape: tuple[int, ...]) -> Floats | None:
        scale, offset = self.meaning(name).scale()
        if 0 in self._planes.get(name, {}):
            found = _resized(self._planes[name][0], shape[0], shape[1])
            return np.asarray(found * scale + offset, np.float32)
        if name in self._values:
            return np.full(shape, self._values[name][0] * scale + offset, np.float32)
        return None

    def _sized(self, plane: Floats) -> Floats:
        h, w = self._shape or plane.shape
        return _resized(plane, h, w)

    def done(self, size_mm: tuple[float, float]) -> Unpacked:
        self._undo()
        maps: dict[str, Image] = {}
        h, w = self._shape or (1, 1)
        for name, value in self._values.items():
            kind = self.meaning(name).kind
            maps[name] = Image(
                np.ascontiguousarray(np.broadcast_to(np.array(value, np.float32), (h, w, len(value)))), kind, size_mm, True
            )
            self._bits.setdefault(name, 32)
        for name in threads.order(self._planes):
            planes, meaning = self._planes[name], self.meaning(name)
            count = len(meaning.neutral)
            if meaning.kind is Kind.NORMAL and set(planes) == {0, 1}:
                planes[2] = np.sqrt(np.maximum(0, 1 - planes[0] ** 2 - planes[1] ** 2)).astype(np.float32)
            if set(planes) != set(range(count)):
                continue  # a part of it only
            pixels = np.ascontiguousarray(np.stack([planes[k] for k in range(count)], 2), np.float32)
            maps[name] = Image(pixels, meaning.kind, size_mm, True)
        if not maps:
            raise LoomError("no whole map was found in these files", "", "Name the profile it was packed with.")
        files = {n: tuple(f) for n, f in self._files.items()}
        return Unpacked(maps, {n: self.meaning(n) for n in maps}, self._bits, files, self._facts)


def _planes(picture: Picture, colour: bool) -> list[Floats]:
    """Channels of a file, alpha last: colour as linear light, everything else as it stands, 0…1."""
    light = picture.colour() if colour else picture.data()
    out = [np.ascontiguousarray(light[..., k], np.float32) for k in range(light.shape[2])]
    alpha = picture.alpha_plane()
    return out if alpha is None else [*out, np.ascontiguousarray(alpha, np.float32)]


def _larger_shape(known: tuple[int, int] | None, shape: tuple[int, ...], name: str) -> tuple[int, int]:
    """The size of a set whose files may be a whole part of it each."""
    h, w = int(shape[0]), int(shape[1])
    if known is None:
        return h, w
    big, little = max(known, (h, w)), min(known, (h, w))
    if any(abs(b / little[1 - k] - round(b / little[1 - k])) > 0.02 for k, b in ((0, big[1]), (1, big[0]))):
        raise FileError("the files differ in size", name, "Deliver them anew in one size.")
    return big


def _resized(plane: Floats, h: int, w: int) -> Floats:
    return plane if plane.shape == (h, w) else enlarge(np.ascontiguousarray(plane[..., None]), w, h, True)[..., 0]
