"""Delivered files back into maps: by what the manifest says of each channel, or by a profile."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from silent_loom.core.base.errors import FileError, LoomError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.delivery.placing import MANIFEST
from silent_loom.core.delivery.profile import FileSpec, Profile, parse_channel
from silent_loom.core.files import Picture, read
from silent_loom.core.files.formats import SUFFIXES
from silent_loom.core.weave import threads
from silent_loom.core.weave.threads import ThreadSpec


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
        In which files each map was found.
    """

    maps: dict[str, Image]
    meanings: dict[str, ThreadSpec]
    bits: dict[str, int]
    files: dict[str, tuple[str, ...]] = field(default_factory=dict)


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
    manifest = _manifest(folder)
    if wanted is None and manifest is None:
        raise LoomError("there is no manifest here", str(folder), "Say how it was packed, with --profile.")
    green = wanted.green if wanted is not None else str((manifest or {}).get("green", "up"))
    depth = depth_mm or float((manifest or {}).get("depth_mm", 10.0))
    files = _by_profile(folder, wanted) if wanted is not None else _by_manifest(folder, manifest or {})
    gathered = _Gathered(depth, green)
    for path, channels, colour in files:
        gathered.take(path, channels, colour)
    return gathered.done(tuple(float(v) for v in (manifest or {}).get("repeat_mm", (1000.0, 1000.0))))  # type: ignore[arg-type]


def _manifest(folder: Path) -> dict[str, Any] | None:
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


Packed = list[tuple[Path, tuple[str, ...], bool]]
"""File, what its channels hold, and whether they are colour."""


def _by_manifest(folder: Path, manifest: Mapping[str, Any]) -> Packed:
    out: Packed = []
    for entry in manifest["files"]:
        if "channels" not in entry:
            continue  # a model to look at
        name = Path(str(entry["file"])).name  # never outside of the folder
        if not (folder / name).is_file():
            raise FileError("a file of the delivery is missing", name, "Put it back, or deliver again.")
        out.append((folder / name, tuple(str(c) for c in entry["channels"]), entry.get("colour") in ("sRGB", "linear")))
    return out


def _by_profile(folder: Path, wanted: Profile) -> Packed:
    out: Packed = []
    there = sorted(p for p in folder.iterdir() if p.is_file())
    for spec in wanted.files:
        found = [p for p in there if _named(p, spec)]
        if len(found) > 1:
            raise LoomError(f"several files end in {spec.suffix}", ", ".join(p.name for p in found), "Leave one of them.")
        if found:
            out.append((found[0], spec.channels, spec.colour))
        elif not spec.optional:
            raise FileError(f"there is no file that ends in {spec.suffix}", str(folder), "Name the profile it was packed with.")
    return out


def _named(path: Path, spec: FileSpec) -> bool:
    return path.suffix.lower() in SUFFIXES[spec.format] and path.stem.lower().endswith(spec.suffix.lower())


class _Gathered:
    """Channels as they are found, put together into maps."""

    def __init__(self, depth: float, green: str) -> None:
        self._depth, self._green = depth, green
        self._planes: dict[str, dict[int, Floats]] = {}
        self._bits: dict[str, int] = {}
        self._files: dict[str, list[str]] = {}
        self._shape: tuple[int, int] | None = None

    def meaning(self, name: str) -> ThreadSpec:
        found = threads.spec(name)
        return found.over(self._depth) if found.unit == "mm" else found

    def take(self, path: Path, channels: tuple[str, ...], colour: bool) -> None:
        picture = read(path)
        planes = _planes(picture, colour)
        if (
            len(planes) < len([c for c in channels if parse_channel(c).constant is None or len(channels) > 1])
            and len(planes) != 1
        ):
            raise FileError(f"{path.name} has {len(planes)} channels, not {len(channels)}", path.name, "Name another profile.")
        if self._shape is not None and planes[0].shape != self._shape:
            raise FileError("the files differ in size", path.name, "Deliver them anew in one size.")
        self._shape = planes[0].shape
        for k, text in enumerate(channels):
            c = parse_channel(text)
            if c.constant is not None:
                continue
            plane = planes[min(k, len(planes) - 1)]
            meaning = self.meaning(c.thread)
            if meaning.kind is Kind.COLOUR and not colour:
                plane = decode_srgb(plane).astype(np.float32)
            if c.invert:
                plane = np.float32(1) - plane
            if meaning.kind is not Kind.COLOUR:
                plane = plane * np.float32(meaning.depth) + np.float32(meaning.low)
            if meaning.kind is Kind.NORMAL and c.index == 1 and self._green == "down":
                plane = -plane
            self._planes.setdefault(c.thread, {})[c.index] = plane
            self._bits[c.thread] = max(self._bits.get(c.thread, 0), picture.bits)
            if path.name not in self._files.setdefault(c.thread, []):
                self._files[c.thread].append(path.name)

    def done(self, size_mm: tuple[float, float]) -> Unpacked:
        maps: dict[str, Image] = {}
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
        return Unpacked(maps, {n: self.meaning(n) for n in maps}, self._bits, {n: tuple(f) for n, f in self._files.items()})


def _planes(picture: Picture, colour: bool) -> list[Floats]:
    """Channels of a file, alpha last: colour as linear light, everything else as it stands, 0…1."""
    light = picture.colour() if colour else picture.data()
    out = [np.ascontiguousarray(light[..., k], np.float32) for k in range(light.shape[2])]
    alpha = picture.alpha_plane()
    return out if alpha is None else [*out, np.ascontiguousarray(alpha, np.float32)]
