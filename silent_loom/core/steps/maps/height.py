"""Height read from a picture: relief weighed by feature size."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

import numpy as np

from silent_loom.core.base.colour import channel_mix, encode
from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import Task, over_rows
from silent_loom.core.moving.resample import blur
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet
from silent_loom.core.weave.threads import ThreadSpec, spec

SIZES = (1 / 4, 1 / 12, 1 / 36, 1 / 108)
"""Borders between feature sizes, as parts of the repeat's longer side."""

BANDS = ("broad", "large", "middling", "small", "fine")
_HEAD = 0.04
"""Part of the depth kept free at either end, so that other sizes do not clip."""


class HeightSettings(Settings):
    depth_mm: float = setting(
        10.0,
        "From black to white of the height map; what is read fills 92 % of it, so that nothing clips.",
        title="Depth",
        unit="mm",
        low=0.001,
        high=100_000,
        soft=(0.1, 100),
        log=True,
    )
    contrast: float = setting(
        0.0,
        "Steeper or gentler around the middle; beyond the depth it is cut on delivery.",
        unit="%",
        low=-100,
        high=300,
        soft=(-100, 100),
        step=1,
    )
    invert: bool = setting(False, "Dark is high.")
    broad: float = setting(
        0.4,
        "How much of features over a quarter of the repeat; mostly light and stain, seldom depth.",
        low=-2,
        high=3,
        soft=(0, 2),
        step=0.01,
        shape="bands",
    )
    large: float = setting(
        0.8,
        "How much of features from a twelfth to a quarter of the repeat.",
        low=-2,
        high=3,
        soft=(0, 2),
        step=0.01,
        shape="bands",
    )
    middling: float = setting(
        1.0,
        "How much of features from a thirty-sixth to a twelfth.",
        low=-2,
        high=3,
        soft=(0, 2),
        step=0.01,
        shape="bands",
    )
    small: float = setting(
        0.8,
        "How much of features from a hundredth to a thirty-sixth.",
        low=-2,
        high=3,
        soft=(0, 2),
        step=0.01,
        shape="bands",
    )
    fine: float = setting(
        0.5,
        "How much of the finest detail; noise is there, too.",
        low=-2,
        high=3,
        soft=(0, 2),
        step=0.01,
        shape="bands",
    )
    reads_from: ThreadName = setting(
        "base", "What it is read from.", title="Read from", shape="thread", kinds=(Kind.COLOUR, Kind.DATA)
    )
    red: float = setting(0.2126, "Share of the red channel in what is read as height.", low=-2, high=2, soft=(0, 1), step=0.01)
    green: float = setting(0.7152, "Share of the green channel.", low=-2, high=2, soft=(0, 1), step=0.01)
    blue: float = setting(0.0722, "Share of the blue channel.", low=-2, high=2, soft=(0, 1), step=0.01)


class Height(MapStep[HeightSettings]):
    """Channel mix, split by feature size, weighed, and set into the depth.

    Notes
    -----
    White is up. The mix is read in sRGB-encoded values, in which steps of tone look even, and split into five bands by
    differences of Gaussians whose widths are parts of the repeat (Laplacian bands; Burt & Adelson 1983; dark is deep,
    Glencross et al. 2008), so the same weights mean the same at every resolution. The weighed sum is set into the depth
    by all but its 0.02 % of extremes at the decision size, so that one bright grain does not set the scale; shading in a
    photo is not depth. Height is millimetres around the middle of the depth, unclamped.
    """

    name = "height"
    can = frozenset({"depth"})
    title = "Height"
    words_for_it = ("depth", "relief", "displacement", "bump", "deep")
    sentence = (
        "Reads height from the picture. A photo shows light, not depth: weigh the feature sizes until the form looks right."
    )
    decides = True
    decision_scale = 0.5
    Settings = HeightSettings

    def words(self, s: HeightSettings) -> str:
        return f"{s.depth_mm:g} mm deep"

    def reads(self, s: HeightSettings) -> tuple[str, ...]:
        return (s.reads_from,)

    def writes(self, s: HeightSettings) -> tuple[str, ...]:
        return ("height",)

    def makes(self, s: HeightSettings) -> tuple[ThreadSpec, ...]:
        return (spec("height").over(s.depth_mm),)

    def decide(self, s: HeightSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        field = relief(inputs[s.reads_from], s, task)
        low, middle, high = (float(v) for v in np.percentile(field, [0.02, 50, 99.98]))
        if high - low < 1e-6:
            return Decision(
                {},
                {"low": low, "high": low, "flat": True},
                ("The picture is even: there is nothing to read height from.",),
            )
        return Decision({}, {"low": low, "middle": middle, "high": high, "flat": False})

    def run(
        self, s: HeightSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        image = inputs[s.reads_from]
        f = decision.figures
        if f["flat"]:
            return {"height": data(np.zeros((image.height, image.width), np.float32), image)}
        field = relief(image, s, task)
        gain = s.depth_mm * (1 - 2 * _HEAD) / (f["high"] - f["low"]) * (1 + s.contrast / 100)
        centre = (f["high"] + f["low"]) / 2
        sign = -1.0 if s.invert else 1.0
        field -= np.float32(centre)
        field *= np.float32(gain * sign)
        return {"height": data(field, image)}


@kernel("f4[:,::1], f4[:,::1], f4[:,::1], f4, i8, i8")
def _add(total, finer, coarser, weight, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(total.shape[1]):
            total[y, x] += weight * (finer[y, x] - coarser[y, x])


def relief(image: Image, s: HeightSettings, task: Task) -> Floats:
    """The weighed sum of the bands, shape (H, W), before it is set into the depth."""
    if image.kind is Kind.COLOUR:
        plane = encode(channel_mix(image.pixels, np.array([s.red, s.green, s.blue], np.float32), task), task)
    else:
        plane = image.plane().copy()
    weights = dict(zip(BANDS, (s.broad, s.large, s.middling, s.small, s.fine), strict=True))
    mean = np.float32(plane.mean())
    if len(set(weights.values())) == 1:
        return (plane - mean) * np.float32(s.fine) + mean * np.float32(s.broad)
    longest = max(image.size_mm)
    total = np.zeros_like(plane)
    finer = plane
    # From fine to broad, so that each wider blur can start from the narrower one
    names = list(reversed(BANDS))
    done = 0.0
    for name, part in zip(names, reversed(SIZES), strict=False):
        sigma_mm = part * longest / 4
        sigma = (np.sqrt(sigma_mm**2 - done**2) / image.texel_mm[0], np.sqrt(sigma_mm**2 - done**2) / image.texel_mm[1])
        coarser = blur(finer, sigma, image.wraps, task)
        weight = np.float32(weights[name])
        over_rows(image.height, partial(_add, total, finer, coarser, weight), task)
        finer, done = coarser, sigma_mm
    total += finer * np.float32(weights["broad"])
    return total
