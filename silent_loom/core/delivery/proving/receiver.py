"""A stand-in for whoever receives a delivery: it opens the package alone, does what the package says, and looks at the surface.

And the usual mistakes, made on purpose, so that an artist knows what each of them looks like.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.colour import lab
from silent_loom.core.base.delta_e import delta_e00
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.base.srgb import decode_srgb, encode_srgb
from silent_loom.core.delivery.placing import sha256
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.delivery.proving.remade import remade
from silent_loom.core.delivery.unpacking import Unpacked, manifest_of, unpack
from silent_loom.core.moving.resample import at_most, resize
from silent_loom.core.screen.shading import lamp_light, on_screen
from silent_loom.core.weave import threads
from silent_loom.core.weave.threads import ThreadSpec

LOOKED = 512
"""Texels of the longer side at which both surfaces are looked at."""
LAMPS = ((-0.58, 0.58, 0.57), (0.7, 0.2, 0.69), (0.1, -0.75, 0.65))
"""Directions to three lamps, each by itself in a picture: what is wrong with a relief may hide under one of them."""
NOTICED = 1.0
"""ΔE00 that is just noticed; a picture is the same when 99 % of it stay below."""


@dataclass(frozen=True)
class Received:
    """What a receiver has after opening a package.

    Attributes
    ----------
    unpacked : Unpacked
    manifest : dict
        Empty where there is none.
    damaged : list of str
        Files that are not as the manifest says, by their SHA-256.
    lossy : dict of str to str
        Maps of which files do not keep every code, and why.
    tags : dict of str to str
        Maps of which a file says the wrong thing about its colour, in words.
    costs : dict of str to float
        Mean error, in code values of 8 bits, that was noted when the lossy file of a map was written.
    saved : dict of str to str
        Maps of which a file was saved again in another way, in words.
    """

    unpacked: Unpacked
    manifest: dict[str, Any]
    damaged: list[str]
    lossy: dict[str, str]
    tags: dict[str, str] = field(default_factory=dict)
    saved: dict[str, str] = field(default_factory=dict)
    costs: dict[str, float] = field(default_factory=dict)


def receive(folder: Path, wanted: Profile | None = None, depth_mm: float | None = None) -> Received:
    """Open a package as its receiver does.

    Raises
    ------
    LoomError
        See `unpack`.
    """
    manifest = manifest_of(folder) or {}
    got = unpack(folder, wanted, depth_mm)
    damaged = [
        str(e["file"])
        for e in manifest.get("files", [])
        if (folder / Path(str(e["file"])).name).is_file() and sha256(folder / Path(str(e["file"])).name) != e.get("sha256")
    ]
    why: dict[str, str] = {}
    costs: dict[str, float] = {}
    for entry in manifest.get("files", []):
        words = _loss(entry) or _smaller(entry, manifest)
        for name in [n for n, files in got.files.items() if entry.get("file") in files] if words else []:
            why[name] = words
            if entry.get("loss_codes") is not None:
                costs[name] = max(costs.get(name, 0.0), float(entry["loss_codes"]))
    tags, saved = {}, {}
    for entry in manifest.get("files", []):
        for name in [n for n, files in got.files.items() if entry.get("file") in files]:
            told = got.facts.get(str(entry["file"]))
            if told is not None:
                found = remade(told.path, entry, told.size, told.bits)
                tags.update({name: found.tag} if found.tag else {})
                saved.update({name: found.saved} if found.saved else {})
    return Received(got, manifest, damaged, why, tags, saved, costs)


def _loss(entry: Mapping[str, Any]) -> str:
    if entry.get("palette") and len(entry.get("channels", ())) > 1:
        return f"a palette of {entry['palette']} colours stands for all of them"
    if entry.get("format") == "jpeg":
        return "JPEG does not keep every code"
    if entry.get("format") == "webp" and entry.get("colour") != "data":
        return "WebP does not keep every code of colour"
    return ""


def _smaller(entry: Mapping[str, Any], manifest: Mapping[str, Any]) -> str:
    sizes = entry.get("size"), manifest.get("size")
    if all(isinstance(s, list) and len(s) == 2 for s in sizes) and sizes[0][0] < sizes[1][0]:  # type: ignore[index]
        return f"its file has {sizes[0][0]} × {sizes[0][1]} texels alone"  # type: ignore[index]
    return ""


def looked_at(maps: Mapping[str, Image], meanings: Mapping[str, ThreadSpec], size: int = LOOKED) -> NDArray[np.uint8]:
    """The surface flat under each lamp of `LAMPS` in turn, uint8, shape (3, H, W, 3), sRGB, seen from straight above.

    ΔE of such pictures is what a receiver's eye has to go by.

    >>> from silent_loom.core.base.images import Kind
    >>> grey = Image(np.full((8, 8, 3), 0.2, np.float32), Kind.COLOUR)
    >>> pictures = looked_at({"base": grey}, {})
    >>> pictures.shape, bool((pictures[0] == pictures[0, 0, 0]).all())
    ((3, 8, 8, 3), True)
    """
    small = {n: at_most(m, size) for n, m in maps.items() if n in threads.THREADS}
    any_image = next(iter(small.values()))
    h, w = any_image.height, any_image.width
    small = {n: m if (m.width, m.height) == (w, h) else resize(m, w, h) for n, m in small.items()}

    def get(name: str) -> NDArray[np.float64]:
        if name in small:
            found = small[name].pixels.astype(np.float64)
        else:
            neutral = threads.spec(name).neutral
            found = np.broadcast_to(np.array(neutral, np.float64), (h, w, len(neutral)))
        return found

    base, occlusion = np.clip(get("base"), 0, 1), np.clip(get("occlusion"), 0, 1)
    grey = {n: np.clip(get(n)[..., 0], 0, 1) for n in ("roughness", "metallic", "specular")}
    out = []
    for lamp in LAMPS:
        to_light = np.array(lamp) / np.linalg.norm(lamp)
        light = lamp_light(
            base,
            get("normal"),
            grey["roughness"],
            grey["metallic"],
            to_light=to_light,
            to_eye=(0, 0, 1),
            light=(2.6, 2.6, 2.6),
            specular=grey["specular"],
        )
        sky = 0.35 * base * occlusion * (1 - grey["metallic"][..., None] * 0.5)
        opacity = np.clip(get("opacity"), 0, 1)
        out.append(on_screen((light + sky + np.clip(get("emission"), 0, 1)) * opacity + 0.18 * (1 - opacity)))
    return np.stack(out)


@dataclass(frozen=True)
class Seen:
    """How far two pictures are apart, in ΔE00."""

    mean: float
    p99: float
    max: float

    @property
    def same(self) -> bool:
        return self.p99 <= NOTICED


def apart(one: NDArray[np.uint8], other: NDArray[np.uint8]) -> Seen:
    """Two pictures of `looked_at`.

    >>> apart(np.zeros((2, 2, 3), np.uint8), np.full((2, 2, 3), 3, np.uint8))
    Seen(mean=0.4724916037039871, p99=0.4724916037039871, max=0.4724916037039871)
    """
    far = delta_e00(lab(decode_srgb(one / 255.0)), lab(decode_srgb(other / 255.0)))
    return Seen(float(far.mean()), float(np.quantile(far, 0.99)), float(far.max()))


def responsible(
    got: Mapping[str, Image], meant: Mapping[str, Image], meanings: Mapping[str, ThreadSpec], task: Task = IDLE
) -> tuple[str, dict[str, float]]:
    """Which map makes the picture differ, and by how much each: ΔE00 (mean) when that map alone is as received.

    Returns
    -------
    name : str
        The map that changes the picture most, '' where none does.
    each : dict of str to float

    >>> from silent_loom.core.base.images import Kind
    >>> dark, light = (Image(np.full((8, 8, 3), v, np.float32), Kind.COLOUR) for v in (0.1, 0.4))
    >>> responsible({"base": light}, {"base": dark}, {})[0]
    'base'
    """
    live = looked_at(meant, meanings)
    each: dict[str, float] = {}
    for name in meant:
        if name in got and name in threads.THREADS and name != "height":
            task.checkpoint()
            each[name] = apart(looked_at({**meant, name: got[name]}, meanings), live).mean
    worst = max(each, key=lambda n: each[n], default="")
    return (worst if worst and each[worst] > 0.02 else ""), each


def _normal(maps: Mapping[str, Image], change: Callable[[NDArray[np.float32]], NDArray[np.float32]]) -> dict[str, Image]:
    return {**maps, "normal": maps["normal"].with_pixels(np.ascontiguousarray(change(maps["normal"].pixels), np.float32))}


def _green(maps: Mapping[str, Image]) -> dict[str, Image]:
    return _normal(maps, lambda p: p * np.array([1, -1, 1], np.float32))


def _normal_as_colour(maps: Mapping[str, Image]) -> dict[str, Image]:
    def change(p: NDArray[np.float32]) -> NDArray[np.float32]:
        wrong = decode_srgb(np.clip(p * 0.5 + 0.5, 0, 1)) * 2 - 1
        return np.asarray(wrong / np.maximum(np.linalg.norm(wrong, axis=2, keepdims=True), 1e-6), np.float32)

    return _normal(maps, change)


def _grey(maps: Mapping[str, Image], name: str, change: Callable[[NDArray[np.float32]], Any]) -> dict[str, Image]:
    return {**maps, name: maps[name].with_pixels(np.asarray(change(np.clip(maps[name].pixels, 0, 1)), np.float32))}


def _unbroken(maps: Mapping[str, Image]) -> dict[str, Image]:
    image = maps["normal"]
    moved = np.roll(image.pixels, (image.height // 3, image.width // 4), (0, 1))
    return {**maps, "normal": image.with_pixels(moved)}


MISTAKES: dict[str, tuple[str, str, Callable[[Mapping[str, Image]], dict[str, Image]]]] = {
    "green": ("Green the wrong way", "normal", _green),
    "normal-colour": ("Normals read as colour", "normal", _normal_as_colour),
    "roughness-colour": ("Roughness read as colour", "roughness", lambda m: _grey(m, "roughness", decode_srgb)),
    "smoothness": ("Smoothness for roughness", "roughness", lambda m: _grey(m, "roughness", lambda p: 1 - p)),
    "base-data": ("Base colour read as data", "base", lambda m: _grey(m, "base", encode_srgb)),
    "metallic-inverted": ("Metallic the wrong way", "metallic", lambda m: _grey(m, "metallic", lambda p: 1 - p)),
    "unbroken": ("Normals left unbroken after a break-up", "normal", _unbroken),
}
"""Usual mistakes of receivers: what each is called, which map it needs, and how it is made on purpose."""


def mistaken(maps: Mapping[str, Image], name: str) -> dict[str, Image]:
    """Received maps with a mistake made on purpose; as they are where the map is missing that it is made with.

    >>> from silent_loom.core.base.images import Kind
    >>> leaning = Image(np.tile(np.float32([0.0, 0.6, 0.8]), (1, 1, 1)), Kind.NORMAL)
    >>> mistaken({"normal": leaning}, next(iter(MISTAKES)))["normal"].pixels[0, 0].astype(float).round(2).tolist()
    [0.0, -0.6, 0.8]
    """
    _, needs, make = MISTAKES[name]
    return make(maps) if needs in maps and maps[needs].kind in (Kind.DATA, Kind.NORMAL, Kind.COLOUR) else dict(maps)
