"""Maps from files, taken apart into images that are each moved by their own kind, and written again as they came."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, cast

import numpy as np

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.delivery.placing import sha256
from silent_loom.core.files import Limits, Picture, read, write
from silent_loom.core.moving.resample import resize
from silent_loom.core.opening.green import green_direction
from silent_loom.core.opening.inspection import guess_kind
from silent_loom.core.opening.naming import tell

LEAST = 4
"""Pixels each way, below which there is no surface to work on."""


@dataclass(frozen=True)
class Map:
    """A map from a file, as images that are each moved by their own kind, and how to write it again.

    Attributes
    ----------
    image : Image
        What guides, and is measured.
    planes : tuple of Image
        The channels of packed maps, each data of its own: blended as one colour they would tint each other. Empty for
        everything that is one image.
    palette : array, shape (N, 3), or None
        Of labels in colours: the colour of every label. ``image`` then holds their numbers, which are chosen, never blended.
    green : str
        Of a normal map: 'up' or 'down'; it is turned on reading and turned back on writing.
    """

    path: Path
    image: Image
    alpha: Image | None
    colour: bool
    bits: int
    green: str = "up"
    planes: tuple[Image, ...] = ()
    palette: Floats | None = None

    def through(self, move: Callable[[Image], Image]) -> Map:
        """The map with every image of it moved alike."""
        planes = tuple(move(p) for p in self.planes)
        return replace(
            self,
            image=planes[0] if planes else move(self.image),
            alpha=None if self.alpha is None else move(self.alpha),
            planes=planes,
        )

    def samples(self) -> Floats:
        """As a file holds them, shape (H, W, C), without alpha."""
        if self.planes:
            return np.concatenate([p.pixels for p in self.planes], 2)
        if self.palette is not None:
            return self.palette[np.rint(self.image.pixels[..., 0]).astype(np.int64)]
        return self.image.pixels


def load(path: Path, *, normal: bool = False, limits: Limits | None = None) -> Map:
    """Read a map: its kind by name and content.

    Parameters
    ----------
    normal : bool
        It is a normal map, whatever it looks like.
    """
    picture = read(path, limits=limits)
    kind = _kind_of(path, picture, normal)
    size = (float(picture.width), float(picture.height))

    def image_of(pixels: Floats, kind: Kind) -> Image:
        return Image(np.ascontiguousarray(pixels, np.float32), kind, size)

    alpha = picture.alpha_plane()
    more: dict[str, Any] = {}
    if kind is Kind.COLOUR:
        image = image_of(picture.colour(), kind)
    elif kind is Kind.NORMAL:
        pixels = _normals(picture)
        told = green_direction(pixels)
        down = told.way == "down" or (told.way == "unknown" and tell(path.name).green == "down")
        image = image_of(pixels * np.array([1, -1, 1], np.float32) if down else pixels, kind)
        more["green"] = "down" if down else "up"
    elif kind is Kind.ID and picture.samples.shape[2] == 1:
        image = image_of(picture.data() * np.float32(1 if picture.bits == 32 else 2**picture.bits - 1), kind)
    elif kind is Kind.ID:
        flat = picture.data().reshape(-1, picture.samples.shape[2])
        palette, numbers = np.unique(flat, axis=0, return_inverse=True)
        image = image_of(numbers.reshape(picture.height, picture.width, 1).astype(np.float32), kind)
        more["palette"] = palette.astype(np.float32)
    else:
        data = picture.data()
        planes = tuple(image_of(data[..., k : k + 1], Kind.DATA) for k in range(data.shape[2]))
        image = planes[0]
        more["planes"] = planes if len(planes) > 1 else ()
    return Map(
        path,
        image,
        None if alpha is None else image_of(alpha[..., None], Kind.DATA),
        kind is Kind.COLOUR,
        picture.bits,
        **more,
    )


def _kind_of(path: Path, picture: Picture, normal: bool) -> Kind:
    """The kind of a map's samples, its name before its content; DATA with three channels is packed."""
    name, kind = tell(path.name).map, guess_kind(picture).kind
    if normal or (name == "normal" and picture.samples.shape[2] == 3):
        kind = Kind.NORMAL
    elif name in ("base", "emission"):
        kind = Kind.COLOUR
    elif name == "id":
        kind = Kind.ID
    elif name and name != "normal":
        kind = Kind.DATA
    elif kind is Kind.ID:
        kind = Kind.COLOUR if picture.samples.shape[2] == 3 else Kind.DATA
    if kind is Kind.NORMAL and picture.samples.shape[2] != 3:
        raise LoomError("a normal map has three channels", path.name, "Give a normal map for --normal.")
    return kind


def _normals(picture: Picture) -> Floats:
    n = picture.directions()
    length = np.sqrt(np.square(n).sum(2, keepdims=True))
    return np.where(length > 1e-4, n / np.maximum(length, 1e-4), np.array([0, 0, 1], np.float32)).astype(np.float32)


def load_all(files: Sequence[Path], normals: Sequence[Path] = (), limits: Limits | None = None) -> tuple[list[Map], list[str]]:
    """Several maps of one surface, brought to the size of the first; with notes on what was done."""
    named = {p.resolve() for p in normals}
    paths = [*files, *(p for p in normals if p.resolve() not in {f.resolve() for f in files})]
    names = [p.stem.lower() for p in paths]
    if len(set(names)) < len(names):
        twice = next(n for n in names if names.count(n) > 1)
        raise LoomError("two files have the same name", twice, "Their results would be one file: rename one of them.")
    maps = [load(p, normal=p.resolve() in named, limits=limits) for p in paths]
    notes: list[str] = []
    first = maps[0].image
    if min(first.width, first.height) < LEAST:
        raise LoomError(
            f"{first.width} × {first.height} pixels are too few to be a surface", paths[0].name, f"At least {LEAST} each way."
        )
    for i, m in enumerate(maps[1:], 1):
        if (m.image.width, m.image.height) == (first.width, first.height):
            continue
        if abs(m.image.width / m.image.height - first.width / first.height) > 0.01 * first.width / first.height:
            raise LoomError(
                "its proportions differ from those of the first file",
                m.path.name,
                f"All files must show the same area; the first has {first.width} × {first.height}.",
            )
        notes.append(f"{m.path.name}: brought from {m.image.width} × {m.image.height} to {first.width} × {first.height}")
        maps[i] = m.through(lambda image: replace(resize(image, first.width, first.height), size_mm=first.size_mm))
    return maps, notes


def save(folder: Path, m: Map, task: Task) -> dict[str, Any]:
    """Write a moved map as PNG (EXR when it came as float), under its own name."""
    pixels = m.samples()
    if m.image.kind is Kind.NORMAL:
        sign = np.array([1, -1 if m.green == "down" else 1, 1], np.float32)
        pixels = pixels * sign * np.float32(0.5) + np.float32(0.5)
    elif m.image.kind is Kind.ID and m.palette is None:
        pixels = pixels if m.bits == 32 else pixels / np.float32(2**m.bits - 1)
    if m.alpha is not None:
        pixels = np.concatenate([pixels, np.clip(m.alpha.pixels, 0, 1)], 2)
    fmt, depth, suffix = ("openexr", "float", ".exr") if m.bits == 32 else ("png", str(m.bits), ".png")
    target = folder / f"{m.path.stem}{suffix}"
    done = write(
        target,
        np.ascontiguousarray(pixels, np.float32),
        fmt=fmt,
        depth=cast(Any, depth),
        colour=m.colour,
        task=task,
    )
    return {
        "file": target.name,
        "bytes": done.bytes,
        "sha256": sha256(target),
        "kind": str(m.image.kind),
        "clipped": done.clipped,
    }
