"""Metallic: a constant, or where the picture has the colour of the metal."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from itertools import pairwise
from typing import Literal

import numpy as np

from silent_loom.core.base.colour import lab, lab_distance
from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.kernels import kernel, subkernel
from silent_loom.core.base.parallel import Task, over_rows
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.moving.resample import blur, resize
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet, Texels

Rgb = tuple[float, float, float]

FINE = 2048
"""Texels along the longer side at which likeness is told, at least. What lies on both sides of a threshold cannot be told
from its mean: a small answer is the reduced answer of this size, so that all sizes up to it show the same metal. Larger
answers keep to it in the mean of every texel of it; what is finer they put where the finer picture is most alike."""


@subkernel
def _mean(mask, shift, ya, yb, xa, xb):  # type: ignore[no-untyped-def]
    total = np.float32(0)
    for y in range(ya, yb):
        for x in range(xa, xb):
            total += min(max(mask[y, x] + shift, np.float32(0)), np.float32(1))
    return total / np.float32((yb - ya) * (xb - xa))


@kernel("f4[:,::1], f4[:,::1], i8, i8")
def keep_means(mask, coarse, y0, y1):  # type: ignore[no-untyped-def]
    # Shift what lies in every coarse texel, within 0…1, until its mean is that of the coarse mask
    h, w = mask.shape
    rows, cols = coarse.shape
    for i in range(y0, y1):
        ya, yb = i * h // rows, (i + 1) * h // rows
        for j in range(cols):
            xa, xb = j * w // cols, (j + 1) * w // cols
            want = coarse[i, j]
            if yb == ya or xb == xa or abs(_mean(mask, np.float32(0), ya, yb, xa, xb) - want) < np.float32(1e-6):
                continue
            low, high = np.float32(-1), np.float32(1)
            for _ in range(20):  # the mean grows with the shift
                middle = np.float32(0.5) * (low + high)
                if _mean(mask, middle, ya, yb, xa, xb) < want:
                    low = middle
                else:
                    high = middle
            shift = np.float32(0.5) * (low + high)
            for y in range(ya, yb):
                for x in range(xa, xb):
                    mask[y, x] = min(max(mask[y, x] + shift, np.float32(0)), np.float32(1))


@kernel("f4[:,::1], f4, f4, i8, i8")
def _through(far, high, width, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(far.shape[1]):
            t = min(max((high - far[y, x]) / width, np.float32(0)), np.float32(1))
            far[y, x] = t * t * (np.float32(3) - np.float32(2) * t)


class MetallicSettings(Settings):
    mode: Literal["constant", "by colour", "by thread"] = setting(
        "constant", "One value everywhere, by likeness to a colour, or where another thread is high."
    )
    value: float = setting(
        0.0,
        "0 is not metal, 1 is metal; values between are seldom true.",
        low=0,
        high=1,
        step=0.01,
        when={"mode": ["constant"]},
    )
    colour: Rgb = setting(
        (0.55, 0.45, 0.38),
        "Colour of the bare metal, as sRGB values from 0 to 1.",
        shape="colour",
        when={"mode": ["by colour"]},
    )
    tolerance: float = setting(
        14.0,
        "How far from that colour still counts, in CIE L*a*b* units.",
        unit="ΔE",
        low=0,
        high=150,
        soft=(0, 60),
        step=0.5,
        when={"mode": ["by colour"]},
    )
    softness: float = setting(
        4.0,
        "Width of the change-over.",
        unit="ΔE",
        low=0.1,
        high=50,
        soft=(0.1, 20),
        step=0.1,
        when={"mode": ["by colour"]},
    )
    lightness: float = setting(
        0.4,
        "How much difference in lightness counts beside hue and chroma.",
        low=0,
        high=1,
        step=0.01,
        when={"mode": ["by colour"]},
    )
    soften_mm: float = setting(
        0.0,
        "Smooths the mask.",
        title="Soften",
        unit="mm",
        low=0,
        high=1000,
        soft=(0, 20),
        step=0.01,
        when={"mode": ["by colour"]},
    )
    reads_from: ThreadName = setting(
        "base",
        "The picture in which that colour is sought.",
        title="Read from",
        shape="thread",
        kinds=(Kind.COLOUR,),
        when={"mode": ["by colour"]},
    )
    where: ThreadName = setting(
        "height",
        "Metal is where this thread is high: a mark, an element, a rubbed edge.",
        title="Where",
        shape="thread",
        kinds=(Kind.DATA,),
        when={"mode": ["by thread"]},
    )
    threshold: float = setting(
        0.5,
        "The value from which it is metal, from the thread's lowest to its highest.",
        low=0,
        high=1,
        step=0.01,
        when={"mode": ["by thread"]},
    )
    border: float = setting(
        0.1,
        "Width of the change-over; metal by halves is seldom true.",
        low=0.01,
        high=1,
        step=0.01,
        when={"mode": ["by thread"]},
    )
    invert: bool = setting(False, "Metal is where it is low.", when={"mode": ["by thread"]})


class Metallic(MapStep[MetallicSettings]):
    """Distance to a key colour in CIE L*a*b*, through a smooth step."""

    name = "metallic"
    title = "Metallic"
    words_for_it = ("metal", "steel", "bare", "iron", "metalness", "conductor", "chrome", "gold")
    sentence = "Where the surface is bare metal."
    can = frozenset({"metal"})
    version = 2
    Settings = MetallicSettings

    def words(self, s: MetallicSettings) -> str:
        return {"constant": f"constant {s.value:g}", "by colour": "by colour", "by thread": f"by {s.where}"}[s.mode]

    def reads(self, s: MetallicSettings) -> tuple[str, ...]:
        return {"constant": (), "by colour": (s.reads_from,), "by thread": (s.where,)}[s.mode]

    def halo(self, s: MetallicSettings, after: Geometry, texels: Texels) -> int | None:
        return None if s.mode == "by colour" else 0

    def writes(self, s: MetallicSettings) -> tuple[str, ...]:
        return ("metallic",)

    def demand(self, s: MetallicSettings, before: Geometry, after: Geometry, texels: Texels) -> Texels:
        if s.mode != "by colour" or max(texels) >= FINE:
            return texels
        return after.at_longer_side(FINE)

    def coarser(self, s: MetallicSettings, after: Geometry, texels: Texels) -> tuple[Texels, ...]:
        sizes: list[Texels] = []
        side = max(texels)
        while s.mode == "by colour" and side > FINE:
            side = max(side / 2, FINE)
            sizes.insert(0, after.at_longer_side(round(side)))
        return tuple(sizes)

    def run(
        self, s: MetallicSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        if s.mode == "constant":
            return {"metallic": sheet.flat("metallic", s.value)}
        if s.mode == "by thread":
            scale, offset = sheet.meaning(s.where).scale()
            t = inputs[s.where].pixels * scale + offset
            t = np.clip((t - np.float32(s.threshold)) / np.float32(s.border) + np.float32(0.5), 0, 1)
            t = t * t * (3 - 2 * t)
            return {"metallic": inputs[s.where].with_pixels((1 - t if s.invert else t).astype(np.float32))}
        base = inputs[s.reads_from]
        out = self._likeness(s, base, task)
        if sheet.coarser:
            masks = [*(self._likeness(s, each[s.reads_from], task) for each in sheet.coarser), out]
            for coarse, fine in pairwise(masks):
                over_rows(len(coarse), partial(keep_means, fine, coarse), task)
        if s.soften_mm > 0:
            tx, ty = base.texel_mm
            out = blur(out, (s.soften_mm / tx, s.soften_mm / ty), base.wraps, task)
        return {"metallic": resize(data(out, base), sheet.width, sheet.height, task)}

    @staticmethod
    def _likeness(s: MetallicSettings, base: Image, task: Task) -> Floats:
        key = lab(decode_srgb(np.array([s.colour], np.float32)))[0]
        out = lab_distance(base.pixels, key, np.array([s.lightness, 1, 1]), task)
        high, width = np.float32(s.tolerance + s.softness / 2), np.float32(s.softness)
        over_rows(base.height, lambda a, b: _through(out, high, width, a, b), task)
        return out
