"""Lay over: a second photo or a second material over the first, all maps together."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.moving.resample import resize
from silent_loom.core.steps.photo.mapset import MapSource, image_of
from silent_loom.core.weave import threads
from silent_loom.core.weave.answers.mixing import mix
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet


class OverSettings(Settings):
    maps: tuple[MapSource, ...] = setting(
        (), "The second photo, or the maps of the second material.", title="Second", shape="over"
    )
    width_mm: float = setting(
        1000.0,
        "Real width of one repeat of the second.",
        title="Width",
        unit="mm",
        low=0.01,
        high=1e6,
        soft=(10, 10000),
        log=True,
    )
    depth_mm: float = setting(
        10.0, "From black to white of its height map.", title="Depth", unit="mm", low=0.001, high=1e5, soft=(0.1, 200), log=True
    )
    how: Literal["everywhere", "by mask", "by height"] = setting(
        "by mask", "Where it lies: everywhere, where a mask is high, or where it lies higher than the first."
    )
    mask: ThreadName = setting(
        "mark", "Where it lies.", shape="thread", kinds=(Kind.DATA,), also=("none",), when={"how": ["by mask"]}
    )
    invert: bool = setting(False, "Everywhere else instead.", when={"how": ["by mask"]})
    amount: float = setting(1.0, "How much of it shows.", low=0, high=1, step=0.01)
    lift_mm: float = setting(
        0.0, "Raises the second.", title="Raise", unit="mm", low=-10_000, high=10_000, soft=(-20, 20), step=0.01
    )
    soft_mm: float = setting(
        1.0,
        "Difference in height over which one goes over into the other.",
        title="Soft border",
        unit="mm",
        low=0.001,
        high=1000,
        soft=(0.01, 20),
        log=True,
        when={"how": ["by height"]},
    )
    turn: Literal["not", "a quarter", "half", "three quarters"] = setting("not", "Turned against the first.", title="Turned")
    into: Literal["the same threads", "threads of its own"] = setting(
        "the same threads",
        "Laid over the maps of the first; or brought in beside them, as threads that other steps can read.",
        names={"threads of its own": "threads of its own: second_base …"},
    )


class Over(MapStep[OverSettings]):
    """The second repeats in its own size, a whole number of times; every map is mixed by its own kind with one weight.

    Notes
    -----
    Its repeats are fitted to the sheet (rounded to whole ones, so that nothing breaks at the edges). By height, each place
    shows whichever lies higher, and the height itself becomes the higher of both within the soft border.
    """

    name = "over"
    title = "Lay over"
    words_for_it = ("second", "layer", "material", "blend", "photo", "moss", "snow", "mix", "two")
    sentence = "Lays a second photo or a second material over this one, by a mask or by height, all maps together."
    Settings = OverSettings

    def words(self, s: OverSettings) -> str:
        return f"{len(s.maps)} map{'' if len(s.maps) == 1 else 's'}, {s.how}" if s.maps else "nothing chosen yet"

    def _threads(self, s: OverSettings) -> tuple[str, ...]:
        return tuple(dict.fromkeys(m.thread for m in s.maps))

    def reads(self, s: OverSettings) -> tuple[str, ...]:
        if s.into == "threads of its own":
            return ()
        mask = (s.mask,) if s.how == "by mask" and s.mask != "none" else ()
        height = ("height",) if s.how == "by height" else ()
        return tuple(dict.fromkeys((*self._threads(s), *mask, *height)))

    def writes(self, s: OverSettings) -> tuple[str, ...]:
        names = self._threads(s)
        return tuple(f"second_{n}" for n in names) if s.into == "threads of its own" else names

    def makes_of(self, s: OverSettings, present: Mapping[str, threads.ThreadSpec]) -> tuple[threads.ThreadSpec, ...]:
        found = []
        for m in s.maps:
            meaning = m.meaning().over(s.depth_mm) if m.meaning().unit else m.meaning()
            if s.into == "threads of its own":
                limits = {"unit": meaning.unit, "low": meaning.low, "high": meaning.high}
                plain = meaning.kind is Kind.DATA
                found.append(threads.helper(f"second_{m.thread}", meaning.kind, **(limits if plain else {})))  # type: ignore[arg-type]
            elif m.thread in present and meaning.unit:
                found.append(present[m.thread].wider(meaning))
        return tuple(found)

    def idle(self, s: OverSettings) -> bool:
        return not s.maps or (s.amount == 0 and s.into == "the same threads")

    def run(self, s: OverSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task) -> dict[str, Image]:
        second = {m.thread: self._laid(s, m, sheet, task) for m in s.maps}
        if "height" in second and s.lift_mm:
            second["height"] = second["height"].with_pixels(second["height"].pixels + np.float32(s.lift_mm))
        if s.into == "threads of its own":
            return {f"second_{name}": image for name, image in second.items()}
        weight = self._weight(s, inputs, second, sheet)
        return {n: mix(inputs[n], i, "replace", s.amount, weight) for n, i in second.items()}

    def _weight(self, s: OverSettings, inputs: Mapping[str, Image], second: Mapping[str, Image], sheet: Sheet) -> Floats | None:
        if s.how == "by mask" and s.mask != "none":
            scale, offset = sheet.meaning(s.mask).scale()
            t = np.clip(inputs[s.mask].pixels * scale + offset, 0, 1)
            return np.ascontiguousarray(1 - t if s.invert else t, np.float32)
        if s.how == "by height":
            upper = second["height"].pixels if "height" in second else np.float32(s.lift_mm)
            rise = upper - inputs["height"].pixels
            return np.clip(rise / np.float32(s.soft_mm) + np.float32(0.5), 0, 1).astype(np.float32)
        return None

    def _laid(self, s: OverSettings, m: MapSource, sheet: Sheet, task: Task) -> Image:
        """One map of the second, repeated over the whole sheet."""
        task.checkpoint()
        image = image_of(sheet.sources.picture(m.source), m, s.depth_mm, True)
        turns = ("not", "a quarter", "half", "three quarters").index(s.turn)
        pixels = np.rot90(image.pixels, turns)
        if image.kind is Kind.NORMAL and turns:
            x, y = pixels[..., 0].copy(), pixels[..., 1].copy()
            for _ in range(turns):
                x, y = -y, x
            pixels = np.stack([x, y, pixels[..., 2]], -1)
        high = s.width_mm * image.height / image.width
        size = (high, s.width_mm) if turns % 2 else (s.width_mm, high)
        across, down = (max(1, round(sheet.after.size_mm[k] / size[k])) for k in (0, 1))
        one = Image(np.ascontiguousarray(pixels, np.float32), image.kind, size, True)
        if sheet.after.on is not None:  # nothing has to meet itself there: it keeps its size
            return sheet.laid_of(Geometry(size, True), lambda own: {"": resize(one, own.width, own.height, task)}, task)[""]
        small = resize(one, max(1, round(sheet.width / across)), max(1, round(sheet.height / down)), task)
        whole = np.tile(small.pixels, (down, across, 1))
        tiled = Image(np.ascontiguousarray(whole), image.kind, sheet.size_mm, sheet.after.wraps)
        return resize(tiled, sheet.width, sheet.height, task)
