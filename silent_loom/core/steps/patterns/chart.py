"""A test chart in place of what a thread holds."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np

from silent_loom.core.base.colour import encode, luminance
from silent_loom.core.base.images import Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.screen.charts import CHARTS, chart
from silent_loom.core.weave import threads
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import MapStep, Preset, Sheet


class ChartSettings(Settings):
    chart: Literal["checker", "gradient", "orientation"] = setting(
        "checker",
        "Numbered squares show what is moved, turned or repeated; gradients what bends tones; orientation which way is up.",
        names={name: title for name, (title, _) in CHARTS.items()},
    )
    into: ThreadName = setting(
        "base",
        "What it takes the place of: colours as they are, plain numbers by their lightness over their whole range.",
        title="In place of",
        shape="thread",
        kinds=(Kind.COLOUR, Kind.DATA),
        new=True,
    )


class Chart(MapStep[ChartSettings]):
    """The chart of the whole sheet, drawn for its own texels."""

    name = "chart"
    can = frozenset({"chart"})
    title = "Test chart"
    words_for_it = ("chart", "checker", "gradient", "test", "orientation", "uv")
    sentence = "Puts in a familiar test picture, to show what the steps below do to it."
    Settings = ChartSettings
    presets = tuple(Preset(title, {"chart": name}, "chart") for name, (title, _) in CHARTS.items())

    def words(self, s: ChartSettings) -> str:
        return CHARTS[s.chart][0].lower()

    def writes(self, s: ChartSettings) -> tuple[str, ...]:
        return (s.into,)

    def makes_of(self, s: ChartSettings, present: Mapping[str, threads.ThreadSpec]) -> tuple[threads.ThreadSpec, ...]:
        usual = present.get(s.into) or threads.spec(s.into)
        return (usual if usual.kind in (Kind.COLOUR, Kind.DATA) else threads.helper(s.into, Kind.COLOUR),)

    def run(
        self, s: ChartSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        enough = max(1, -(-64 // min(sheet.width, sheet.height)))  # letters need some texels
        drawn = chart(s.chart, sheet.width * enough, sheet.height * enough).colour()
        if enough > 1:
            drawn = drawn.reshape(sheet.height, enough, sheet.width, enough, 3).mean((1, 3), dtype=np.float32)
        image = Image(np.ascontiguousarray(drawn, np.float32), Kind.COLOUR, sheet.size_mm, sheet.after.wraps)
        meaning = self.makes_of(s, sheet.meanings)[0]
        if meaning.kind is Kind.COLOUR:
            return {s.into: image}
        tone = encode(luminance(image.pixels, task), task)
        return {s.into: data(tone * np.float32(meaning.depth) + np.float32(meaning.low), image)}
