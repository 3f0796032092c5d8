"""The step that brings a finished map set in: files, channels of files, and what is mended in them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Literal

import numpy as np
from pydantic import Field

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.files import Picture
from silent_loom.core.maps.stairs import unstepped
from silent_loom.core.moving.resample import normalise, resize
from silent_loom.core.weave import threads
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet, Sources


class MapSource(Settings):
    """Where one map comes from."""

    thread: ThreadName
    source: str = Field(pattern=r"^[0-9a-f]{64}$")
    channel: Literal["rgb", "r", "g", "b", "a"] = "rgb"
    read_as: Literal["tagged", "srgb", "linear"] = Field(
        "tagged", description="Of colour: how it is encoded. Of data: 'srgb' undoes a curve that was laid over it."
    )
    invert: bool = Field(False, description="Smoothness as roughness.")
    green_down: bool = Field(False, description="The normal map's green points down: turned up.")
    kind: Literal["", "colour", "data", "normal"] = Field("", description="What a helper thread is; plain numbers otherwise.")

    def meaning(self) -> threads.ThreadSpec:
        """What the thread means that it brings in."""
        helper = self.kind and self.thread not in threads.THREADS
        return threads.helper(self.thread, Kind(self.kind)) if helper else threads.spec(self.thread)


class MapSetSettings(Settings):
    maps: tuple[MapSource, ...] = setting((), "Files and channels that the maps come from.", title="Maps", shape="maps")
    width_mm: float = setting(
        1000.0, "Real width of one repeat.", title="Width", unit="mm", low=0.01, high=1e6, soft=(10, 10000), log=True
    )
    depth_mm: float = setting(
        10.0, "From black to white of the height map.", title="Depth", unit="mm", low=0.001, high=1e5, soft=(0.1, 200), log=True
    )
    repeats: bool = setting(True, "The edges of the set meet already.", title="Seamless already")


class MapSet(MapStep[MapSetSettings]):
    """Maps at their own size, brought to the largest of them; colour decoded, data as it stands."""

    name = "mapset"
    can = frozenset({"maps"})
    title = "Map set"
    words_for_it = ("textures", "files", "set", "open", "bought")
    sentence = "Brings finished maps in: each from its file, or from a channel of one."
    Settings = MapSetSettings

    def words(self, s: MapSetSettings) -> str:
        return f"{len(s.maps)} maps"

    def writes(self, s: MapSetSettings) -> tuple[str, ...]:
        return tuple(dict.fromkeys(m.thread for m in s.maps))

    def makes(self, s: MapSetSettings) -> tuple[threads.ThreadSpec, ...]:
        found = {m.thread: m.meaning() for m in s.maps}
        return tuple(m.over(s.depth_mm) if m.unit else m for m in found.values())

    def works_on(self, s: MapSetSettings) -> Literal["both", "sheet", "model"]:
        return "sheet"

    def geometry(self, s: MapSetSettings, before: Geometry, sources: Sources) -> Geometry:
        if not s.maps:
            raise WeaveError("no files are chosen", self.title, "Open a folder, a zip or several files.")
        infos = [sources.info(m.source) for m in s.maps]
        largest = max(infos, key=lambda i: i.width * i.height)
        return Geometry((s.width_mm, s.width_mm * largest.height / largest.width), s.repeats, (largest.width, largest.height))

    def run(
        self, s: MapSetSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        made: dict[str, Image] = {}
        for m in s.maps:
            if m.thread in made:
                continue
            task.checkpoint()
            image = image_of(sheet.sources.picture(m.source), m, s.depth_mm, s.repeats)
            image = replace(image, size_mm=sheet.size_mm)
            made[m.thread] = resize(image, sheet.width, sheet.height, task)
        return made


def image_of(picture: Picture, m: MapSource, depth_mm: float, repeats: bool) -> Image:
    """A map of a file at the file's own size, as its thread means it; a height in millimetres over its depth.

    >>> from silent_loom.core.files.profile import SRGB
    >>> grey = Picture(np.full((2, 2, 1), 51, np.uint8), None, SRGB, 8, "png")
    >>> round(float(image_of(grey, MapSource(source="ab" * 32, thread="roughness"), 10.0, False).pixels.mean()), 3)
    0.2
    """
    meaning = m.meaning()
    pixels = _taken(picture, m, meaning.kind)
    if meaning.unit:
        if picture.bits == 8:  # no more than the half step that rounding has hidden
            pixels = unstepped(pixels[..., 0], 1 / 255, repeats)[..., None]
        pixels = (pixels - np.float32(0.5)) * np.float32(depth_mm)
    size = (float(picture.width), float(picture.height))
    return Image(np.ascontiguousarray(pixels, np.float32), meaning.kind, size, repeats)


def _taken(picture: Picture, m: MapSource, kind: Kind) -> Floats:
    if kind is Kind.COLOUR:
        return picture.read_as(m.read_as).colour()
    data = picture.data()
    if m.read_as == "srgb":  # data that was saved through the curve of colour
        data = decode_srgb(np.clip(data, 0, 1)).astype(np.float32)
    if kind is Kind.NORMAL:
        if data.shape[2] < 3:
            raise WeaveError("a normal map has three channels", "Map set", "Choose another file for the normal map.")
        if m.read_as == "srgb":
            n = data[..., :3] * 2 - 1
        else:
            n = picture.directions()[..., :3].copy()
        if m.green_down:
            n[..., 1] *= -1
        n[..., 2] = np.maximum(n[..., 2], 1e-3)
        return normalise(n)
    if m.channel == "a":
        alpha = picture.alpha_plane()
        plane = np.ones(data.shape[:2], np.float32) if alpha is None else alpha
    else:
        index = {"rgb": 0, "r": 0, "g": 1, "b": 2}[m.channel]
        plane = data.mean(2) if m.channel == "rgb" and data.shape[2] == 3 else data[..., min(index, data.shape[2] - 1)]
    return (1 - plane if m.invert else plane)[..., None]
