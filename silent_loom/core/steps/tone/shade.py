"""Shade and Unshade: light of the relief laid into a colour, or taken out of it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

import numpy as np

from silent_loom.core.base.colour import luminance
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.moving.resample import blur
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet, Texels

Rgb = tuple[float, float, float]
_DARK = np.float32(0.004)


class ShadeSettings(Settings):
    amount: float = setting(0.5, "How much of the shade is laid in.", low=0, high=1, step=0.01)
    tint: Rgb = setting((0.0, 0.0, 0.0), "Colour of the deepest shade.", shape="colour")
    occlusion: ThreadName = setting("occlusion", "The shade.", shape="thread", kinds=(Kind.DATA,))
    thread: ThreadName = setting("base", "The colour it is laid into.", title="Into", shape="thread", kinds=(Kind.COLOUR,))


class Shade(MapStep[ShadeSettings]):
    """colour · v + tint · colour · (1 − v), v the occlusion by the amount; for receivers that have no occlusion map."""

    name = "shade"
    title = "Shade in"
    words_for_it = ("occlusion", "bake", "diffuse", "dirt", "crevice")
    sentence = "Lays occlusion into the base colour, for receivers that show no occlusion of their own."
    Settings = ShadeSettings

    def words(self, s: ShadeSettings) -> str:
        return f"{s.amount:.0%}"

    def reads(self, s: ShadeSettings) -> tuple[str, ...]:
        return (s.thread, s.occlusion)

    def writes(self, s: ShadeSettings) -> tuple[str, ...]:
        return (s.thread,)

    def halo(self, s: ShadeSettings, after: Geometry, texels: Texels) -> int:
        return 0

    def idle(self, s: ShadeSettings) -> bool:
        return s.amount == 0

    def run(
        self, s: ShadeSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        shade = np.float32(s.amount) * (1 - np.clip(inputs[s.occlusion].pixels, 0, 1))
        tint = decode_srgb(np.array(s.tint, np.float32)).astype(np.float32)
        pixels = inputs[s.thread].pixels * (1 - shade * (1 - tint))
        return {s.thread: inputs[s.thread].with_pixels(np.ascontiguousarray(pixels, np.float32))}


SIZES = (0.004, 0.013, 0.042)
"""Standard deviations between which features are fitted by themselves, as parts of the sheet's longer side."""


class UnshadeSettings(Settings):
    how: Literal["whole", "sizes"] = setting(
        "whole",
        "As a whole is careful. Size by size takes far more out of a surface of one colour, but grain and darker elements of the "
        "same hue as well.",
        title="Fitted",
        names={"whole": "as a whole", "sizes": "size by size"},
    )
    amount: float = setting(1.0, "How much of the shading that is found is taken out.", low=0, high=1, step=0.01)
    sky: float = setting(1.0, "How much what occlusion explains counts.", title="From occlusion", low=0, high=1, step=0.01)
    sun: float = setting(1.0, "How much what slopes explain counts.", title="From slopes", low=0, high=1, step=0.01)
    occlusion: ThreadName = setting("occlusion", "Occlusion of the relief.", shape="thread", kinds=(Kind.DATA,))
    normal: ThreadName = setting("normal", "Its slopes.", shape="thread", kinds=(Kind.NORMAL,))
    thread: ThreadName = setting("base", "The colour it is taken out of.", title="Of", shape="thread", kinds=(Kind.COLOUR,))


class Unshade(MapStep[UnshadeSettings]):
    """Log brightness is fitted by log occlusion and by slopes to the right and upwards; what they explain is divided out.

    Notes
    -----
    The fit is one linear regression over the sheet, on what is finer than an eighth of it: shading follows the relief wherever
    it is, colour does so by chance only. Occlusion may darken what is hidden, never lighten it. The mean brightness stays.

    Size by size, each band of feature sizes has gains of its own, and what changes of hue explain is explained by these: shading
    changes brightness without hue (Grosse, Johnson, Adelson & Freeman, Ground truth dataset and baseline evaluations for
    intrinsic image algorithms, ICCV 2009).
    """

    name = "unshade"
    title = "Unshade"
    words_for_it = ("delight", "shadow", "albedo", "flat", "light", "ambient")
    sentence = "Frees the base colour from shading, by the occlusion and the slopes that were derived from it."
    decides = True
    decision_scale = 0.5
    Settings = UnshadeSettings

    def words(self, s: UnshadeSettings) -> str:
        return f"{s.amount:.0%}"

    def reads(self, s: UnshadeSettings) -> tuple[str, ...]:
        return (s.thread, s.occlusion, s.normal)

    def writes(self, s: UnshadeSettings) -> tuple[str, ...]:
        return (s.thread,)

    def halo(self, s: UnshadeSettings, after: Geometry, texels: Texels) -> int:
        return 0 if s.how == "whole" else int(np.ceil(3.2 * SIZES[-1] * max(texels))) + 1

    def idle(self, s: UnshadeSettings) -> bool:
        return s.amount == 0

    def decide(self, s: UnshadeSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        base = inputs[s.thread]
        bright = np.log(np.maximum(luminance(base.pixels, task), _DARK))
        if s.how == "sizes":
            return self._by_sizes(s, inputs, bright, task)
        signs = _signs(s, inputs)
        sigma = max(bright.shape) / 16

        def fine(plane: Floats) -> Floats:
            return plane - blur(np.ascontiguousarray(plane, np.float32), sigma, base.wraps, task)

        a = np.stack([fine(p).ravel() for p in signs], 1).astype(np.float64)
        y = fine(bright).ravel().astype(np.float64)
        gain = np.linalg.solve(a.T @ a + 1e-6 * len(y) * np.eye(3), a.T @ y)
        gain[0] = min(max(gain[0], 0.0), 2.0)
        left = y - a @ gain
        explained = float(1 - left.var() / max(y.var(), 1e-12))
        mean = float(np.mean(sum(g * p for g, p in zip(gain, signs, strict=True))))
        figures: dict[str, Any] = {"gain": [float(g) for g in gain], "mean": mean, "explained": round(max(explained, 0.0), 3)}
        figures["light_deg"] = round(float(np.degrees(np.arctan2(gain[2], gain[1])) % 360), 1)
        return Decision({}, figures)

    def _by_sizes(self, s: UnshadeSettings, inputs: Mapping[str, Image], bright: Floats, task: Task) -> Decision:
        base = inputs[s.thread]
        light: Floats = np.log(np.maximum(base.pixels, _DARK)).astype(np.float32)
        hues: tuple[Floats, Floats] = (light[..., 0] - light[..., 1], light[..., 2] - 0.5 * (light[..., 0] + light[..., 1]))
        own = [b for p in _signs(s, inputs) for b in _bands(p, base, base.size_mm, task)]
        others = [b for p in hues for b in _bands(p, base, base.size_mm, task)]
        y = sum(_bands(bright, base, base.size_mm, task), np.zeros_like(bright)).ravel().astype(np.float64)
        a = np.stack([p.ravel() for p in (*own, *others)], 1).astype(np.float64)
        scale = a.std(0) + 1e-9
        a /= scale
        gain = np.linalg.solve(a.T @ a + 1e-3 * len(y) * np.eye(a.shape[1]), a.T @ y) / scale
        left = y - (a * scale) @ gain
        explained = float(1 - left.var() / max(y.var(), 1e-12))
        return Decision(
            {}, {"gain": [float(g) for g in gain[: len(own)]], "mean": 0.0, "explained": round(max(explained, 0.0), 3)}
        )

    def run(
        self, s: UnshadeSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        signs, parts = list(_signs(s, inputs)), 1
        if s.how == "sizes":
            base, parts = inputs[s.thread], len(SIZES)
            signs = [b for p in signs for b in _bands(p, base, sheet.after.size_mm, task)]
        gain = np.array(decision.figures["gain"]) * np.repeat((s.sky, s.sun, s.sun), parts)
        shading = sum(np.float32(g) * p for g, p in zip(gain, signs, strict=True))
        off = np.exp(np.float32(-s.amount) * (shading - np.float32(decision.figures["mean"])))
        pixels = inputs[s.thread].pixels * np.clip(off, 0.1, 8)[..., None]
        return {s.thread: inputs[s.thread].with_pixels(np.ascontiguousarray(pixels, np.float32))}


def _signs(s: UnshadeSettings, inputs: Mapping[str, Image]) -> tuple[Floats, Floats, Floats]:
    seen = np.log(np.clip(inputs[s.occlusion].plane(), np.float32(0.1), 1))
    n = inputs[s.normal].pixels
    return seen, np.ascontiguousarray(n[..., 0]), np.ascontiguousarray(n[..., 1])


def _bands(plane: Floats, like: Image, sheet_mm: tuple[float, float], task: Task) -> list[Floats]:
    """What a plane holds between one of `SIZES` and the next, the finest first; what is broader is left out."""
    tx, ty = like.texel_mm
    found, last = [], plane
    for part in SIZES:
        wide = part * max(sheet_mm)
        soft = blur(np.ascontiguousarray(plane, np.float32), (wide / tx, wide / ty), like.wraps, task)
        found.append(last - soft)
        last = soft
    return found
