"""Even light: smooth illumination taken out of a photo, in log luminance."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from silent_loom.core.colour import lightness, luminance
from silent_loom.core.images import Floats, Image
from silent_loom.core.parallel import Task, kernel, over_rows
from silent_loom.core.resample import blur, blur_inside, enlarge, reduce_area
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet

GRID = 96
"""Longer side of the grid on which illumination is kept; it has no detail that a finer one would show."""
DEGREE = 4


class LightSettings(Settings):
    amount: float = setting(1.0, "How much of the uneven light is taken out.", low=0, high=1, step=0.01)
    patches: float = setting(
        0.35,
        "How much of the light that varies in patches, and not as one slope or vignette, is taken out.",
        low=0,
        high=1,
        step=0.01,
    )
    reach: float = setting(
        0.3,
        "Smallest patch that counts as light and not as the material's own variation.",
        title="Patch size",
        unit="of the sheet",
        low=0.08,
        high=1,
        step=0.01,
    )


class EvenLight(MapStep[LightSettings]):
    """Divides the illumination out, mean lightness kept.

    Notes
    -----
    Log luminance is split into a smooth part, the illumination, and the rest, the material (Horn 1974). The smooth part
    is a polynomial of degree 4 fitted by iteratively reweighted least squares, so that dark joints and odd stones do
    not pull it (it holds slope and vignette; Goldman 2010), plus a first-order kernel regression of what it leaves, wide
    as ``reach``, for patches. Dividing all channels by it alike leaves hue and local contrast as they are.

    References
    ----------
    Horn, Determining lightness from an image, CGIP 3, 1974. Goldman, Vignette and exposure calibration and compensation,
    PAMI 32, 2010. Fan & Gijbels, Local polynomial modelling, 1996.
    """

    name = "light"
    title = "Even light"
    sentence = "Takes slope, vignette and patches of light out of the picture."
    decides = True
    decision_scale = 0.25
    Settings = LightSettings

    def words(self, s: LightSettings) -> str:
        return f"{round(100 * s.amount)} %"

    def reads(self, s: LightSettings) -> tuple[str, ...]:
        return ("base",)

    def writes(self, s: LightSettings) -> tuple[str, ...]:
        return ("base",)

    def idle(self, s: LightSettings) -> bool:
        return s.amount == 0

    def decide(self, s: LightSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        image = inputs["base"]
        before = evenness(image)
        log_gain = illumination(image, s.reach, s.patches, task) * np.float32(s.amount)
        lit = enlarge(np.exp(-log_gain), image.width, image.height, False)
        after = evenness(image.with_pixels(image.pixels * lit[..., None]))
        return Decision({"log_light": log_gain}, {"evenness_before": before, "evenness_after": after})

    def run(
        self, s: LightSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        image = inputs["base"]
        gain = enlarge(np.exp(-decision.arrays["log_light"]), image.width, image.height, image.wraps, task)
        out = np.empty_like(image.pixels)
        over_rows(image.height, lambda a, b: _scale(image.pixels, gain, out, a, b), task)
        return {"base": image.with_pixels(out)}


@kernel
def _scale(src, gain, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(src.shape[1]):
            g = gain[y, x]
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = src[y, x, 0] * g, src[y, x, 1] * g, src[y, x, 2] * g


def _grid(image: Image) -> tuple[int, int]:
    scale = GRID / max(image.size_mm)
    return max(8, min(image.width, round(image.size_mm[0] * scale))), max(8, min(image.height, round(image.size_mm[1] * scale)))


def illumination(image: Image, reach: float, patches: float, task: Task) -> Floats:
    """Log illumination on a small grid, weighted mean 0.

    Parameters
    ----------
    image : Image
        COLOUR.
    reach : float
        Width of the smallest patch that counts as light, as a part of the longer side.
    patches : float
        0…1, how much of what is neither slope nor vignette is included.

    Returns
    -------
    float32 array, about 96 along the longer side
        Natural logarithm of the illumination.
    """
    y = np.maximum(luminance(image.pixels), 1e-5)
    gw, gh = _grid(image)
    # The mean of the logarithm, as dark joints would otherwise count for nothing and glare for everything
    small = reduce_area(np.log(y), gw, gh).astype(np.float64)
    v, u = np.mgrid[0:gh, 0:gw]
    u, v = (u + 0.5) / gw * 2 - 1, (v + 0.5) / gh * 2 - 1
    terms = np.stack([u**i * v**j for i in range(DEGREE + 1) for j in range(DEGREE + 1 - i)], -1).reshape(
        -1, (DEGREE + 1) * (DEGREE + 2) // 2
    )
    target, weight = small.ravel(), np.ones(small.size)
    fitted = np.zeros_like(target)
    for _ in range(8):
        task.checkpoint()
        weighed = terms * weight[:, None]  # 15 terms on −1…1: the normal equations are well conditioned
        solution = np.linalg.solve(weighed.T @ terms + 1e-9 * np.eye(terms.shape[1]), weighed.T @ target)
        fitted = terms @ solution
        rest = target - fitted
        scale = 1.4826 * np.median(np.abs(rest - np.median(rest))) + 1e-4
        weight = 1 / (1 + (rest / (2 * scale)) ** 2)
    rest = (target - fitted).reshape(gh, gw)
    limit = 2.5 * scale
    sigma = reach * max(gw, gh) / 2.5
    local = _local_linear(np.clip(rest, -limit, limit).astype(np.float32), sigma)
    out = fitted.reshape(gh, gw) + patches * local
    return (out - np.average(out)).astype(np.float32)


def _local_linear(plane: Floats, sigma: float) -> Floats:
    """First-order kernel regression: no bias from slopes at the border, unlike a plain blur."""
    h, w = plane.shape
    v, u = np.mgrid[0:h, 0:w].astype(np.float32) / max(h, w)
    pad = int(np.ceil(2.5 * sigma))

    def b(a: Floats) -> Floats:
        return blur(np.pad(a.astype(np.float32), pad), sigma, False)[pad : pad + h, pad : pad + w].astype(np.float64)

    one = np.ones_like(plane)
    m0, mu, mv, muu, mvv, muv = b(one), b(u), b(v), b(u * u), b(v * v), b(u * v)
    t0, tu, tv = b(plane), b(plane * u), b(plane * v)
    # Moments about each centre
    cu, cv = mu - u * m0, mv - v * m0
    cuu, cvv = muu - 2 * u * mu + u * u * m0, mvv - 2 * v * mv + v * v * m0
    cuv = muv - u * mv - v * mu + u * v * m0
    su, sv = tu - u * t0, tv - v * t0
    a = np.stack([np.stack([m0, cu, cv], -1), np.stack([cu, cuu, cuv], -1), np.stack([cv, cuv, cvv], -1)], -2)
    a += np.diag([0, 1e-6, 1e-6])
    return np.linalg.solve(a, np.stack([t0, su, sv], -1)[..., None])[..., 0, 0].astype(np.float32)


def evenness(image: Image) -> float:
    """95th minus 5th percentile of CIE L* of the illumination part, a blur of an eighth of the extent; 0 is even."""
    y = luminance(image.pixels)
    gw, gh = _grid(image)
    small = reduce_area(y, gw, gh)
    smooth = blur_inside(small, (gw / 8, gh / 8))
    low, high = np.percentile(lightness(np.maximum(smooth, 0)), [5, 95])
    return float(high - low)
