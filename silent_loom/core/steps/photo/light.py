"""Even light: smooth illumination taken out of a photo, in log luminance."""

from __future__ import annotations

import weakref
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.colour import LUMA, lightness, luminance
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.moving.resample import blur, blur_inside, enlarge, reduce_area
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet

GRID = 96
"""Longer side of the grid on which illumination is kept; it has no detail that a finer one would show."""
DEGREE = 4


class LightSettings(Settings):
    amount: float = setting(1.0, "How much of all uneven light is taken out.", low=0, high=1, step=0.01)
    slope: float = setting(1.0, "How much of the change from one side to the other is taken out.", low=0, high=1, step=0.01)
    vignette: float = setting(1.0, "How much of the darkening towards the corners is taken out.", low=0, high=1, step=0.01)
    patches: float = setting(0.35, "How much of the light that varies in patches is taken out.", low=0, high=1, step=0.01)
    reach: float = setting(
        0.3,
        "Smallest patch that counts as light and not as the material's own variation.",
        title="Patch size",
        unit="of the sheet",
        low=0.08,
        high=1,
        step=0.01,
    )
    reach_mm: float = setting(
        0.0,
        "The same in millimetres, when it is known; 0 goes by the part.",
        title="Patch size",
        unit="mm",
        low=0,
        high=1e6,
        soft=(0, 1000),
    )
    shadow: float = setting(
        0.0,
        "Lifts soft shadows: places that are darker than their wide surroundings.",
        title="Soft shadow",
        low=0,
        high=1,
        step=0.01,
    )
    glare: float = setting(
        0.0, "Takes down soft glare: places that are lighter than their wide surroundings.", low=0, high=1, step=0.01
    )
    tint: float = setting(
        0.0,
        "Evens the colour of the light, too, where it differs from place to place.",
        title="Colour of the light",
        low=0,
        high=1,
        step=0.01,
    )
    grey: tuple[float, float, float] | None = setting(
        None, "A place that is neutral grey: picked on the photo, as linear light.", title="Neutral grey", shape="grey"
    )
    thread: ThreadName = setting("base", "Which picture is evened.", title="Picture", shape="thread", kinds=(Kind.COLOUR,))


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
    can = frozenset({"light"})
    panel = "light"
    title = "Even light"
    words_for_it = ("shadow", "vignette", "dark", "corners", "glare", "brightness", "uneven", "white", "balance")
    sentence = "Takes slope, vignette and patches of light out of the picture."
    version = 2
    decides = True
    decision_scale = 0.25
    Settings = LightSettings

    def words(self, s: LightSettings) -> str:
        return f"{round(100 * s.amount)} %"

    def reads(self, s: LightSettings) -> tuple[str, ...]:
        return (s.thread,)

    def writes(self, s: LightSettings) -> tuple[str, ...]:
        return (s.thread,)

    def idle(self, s: LightSettings) -> bool:
        return s.amount == 0 and s.grey is None

    def decide(self, s: LightSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        image = inputs[s.thread]
        before = evenness(image)
        reach = min(1.0, max(0.02, s.reach_mm / max(geometry.size_mm))) if s.reach_mm > 0 else s.reach
        parts = _kept_parts(image, reach, task)
        log_gain = s.slope * parts.slope + s.vignette * parts.vignette + s.patches * parts.patches
        log_gain = log_gain + s.shadow * np.minimum(parts.spots, 0) + s.glare * np.maximum(parts.spots, 0)
        log_gain = (s.amount * (log_gain - log_gain.mean())).astype(np.float32)
        arrays = {"log_light": log_gain}
        if s.tint > 0:
            arrays["log_tint"] = (s.tint * s.amount * tint_of_light(image, log_gain.shape, task)).astype(np.float32)
        lit = self._lit(s, image, Decision(arrays), IDLE)
        figures = {
            "evenness_before": before,
            "evenness_after": evenness(image.with_pixels(lit)),
            "slope_percent": _span(parts.slope),
            "vignette_percent": _span(parts.vignette),
            "patches_percent": _span(parts.patches),
        }
        return Decision(arrays, figures)

    def _lit(self, s: LightSettings, image: Image, decision: Decision, task: Task) -> Floats:
        gain = enlarge(np.exp(-decision.arrays["log_light"]), image.width, image.height, image.wraps, task)
        out = np.empty_like(image.pixels)
        over_rows(image.height, lambda a, b: _scale(image.pixels, gain, out, a, b), task)
        if "log_tint" in decision.arrays:
            colour = enlarge(np.exp(-decision.arrays["log_tint"]), image.width, image.height, image.wraps, task)
            # Only the colour of the light: what is light and what is dark stays as it was
            was = luminance(out, task)
            out *= colour
            out *= (was / np.maximum(luminance(out, task), 1e-6))[..., None]
        if s.grey is not None:
            picked = np.maximum(np.array(s.grey, np.float32), 1e-4)
            balance = float(LUMA @ picked) / picked
            out *= balance / float(LUMA @ (balance * picked) / (LUMA @ picked))
        return out

    def run(
        self, s: LightSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        image = inputs[s.thread]
        return {s.thread: image.with_pixels(self._lit(s, image, decision, task))}


def _span(log_light: Floats) -> float:
    """Per cent of light between the 5th and the 95th percentile."""
    low, high = np.percentile(log_light, [5, 95])
    return round(float(100 * (np.exp(high - low) - 1)), 2)


@kernel("f4[:,:,::1], f4[:,::1], f4[:,:,::1], i8, i8")
def _scale(src, gain, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(src.shape[1]):
            g = gain[y, x]
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = src[y, x, 0] * g, src[y, x, 1] * g, src[y, x, 2] * g


def _grid(image: Image) -> tuple[int, int]:
    scale = GRID / max(image.size_mm)
    return max(8, min(image.width, round(image.size_mm[0] * scale))), max(8, min(image.height, round(image.size_mm[1] * scale)))


@dataclass(frozen=True)
class LightParts:
    """Log illumination on a small grid, taken apart; each has mean 0.

    Attributes
    ----------
    slope : array
        What gets lighter from side to side, bends included.
    vignette : array
        What gets darker, or lighter, with the distance from the middle.
    patches : array
        What is left and broader than the reach.
    spots : array
        What is left after that and broader than a third of it: soft shadows (below 0) and glare (above 0).
    """

    slope: Floats
    vignette: Floats
    patches: Floats
    spots: Floats


def _smooth_fit(small: NDArray[np.float64], task: Task) -> tuple[NDArray[np.float64], float]:
    """Polynomial of degree 4 fitted by reweighted least squares, and the spread of what it leaves."""
    gh, gw = small.shape
    v, u = np.mgrid[0:gh, 0:gw]
    u, v = (u + 0.5) / gw * 2 - 1, (v + 0.5) / gh * 2 - 1
    terms = np.stack([u**i * v**j for i in range(DEGREE + 1) for j in range(DEGREE + 1 - i)], -1).reshape(
        -1, (DEGREE + 1) * (DEGREE + 2) // 2
    )
    target, weight = small.ravel(), np.ones(small.size)
    fitted, scale = np.zeros_like(target), 1e-4
    for _ in range(8):
        task.checkpoint()
        weighed = terms * weight[:, None]  # 15 terms on −1…1: the normal equations are well conditioned
        solution = np.linalg.solve(weighed.T @ terms + 1e-9 * np.eye(terms.shape[1]), weighed.T @ target)
        fitted = terms @ solution
        rest = target - fitted
        scale = 1.4826 * float(np.median(np.abs(rest - np.median(rest)))) + 1e-4
        weight = 1 / (1 + (rest / (2 * scale)) ** 2)
    return fitted.reshape(gh, gw), scale


def light_parts(image: Image, reach: float, task: Task = IDLE) -> LightParts:
    """The illumination of a photo, taken apart.

    Parameters
    ----------
    image : Image
        COLOUR.
    reach : float
        Width of the smallest patch that counts as light, as a part of the longer side.

    >>> from silent_loom.core.base.images import Kind
    >>> even = Image(np.full((64, 64, 3), 0.25, np.float32), Kind.COLOUR)
    >>> [float(np.abs(p).max().round(3)) for p in vars(light_parts(even, 0.5)).values() if isinstance(p, np.ndarray)]
    [0.0, 0.0, 0.0, 0.0]
    """
    y = np.maximum(luminance(image.pixels), 1e-5)
    gw, gh = _grid(image)
    # The mean of the logarithm, as dark joints would otherwise count for nothing and glare for everything
    small = reduce_area(np.log(y), gw, gh).astype(np.float64)
    fitted, scale = _smooth_fit(small, task)
    sigma = reach * max(gw, gh) / 2.5
    rest = (small - fitted).astype(np.float32)
    # Odd stones are held to what is usual around them; a patch of light is usual where it lies, however strong
    around = _median_around(rest, max(1, round(0.6 * sigma)))
    limit = np.float32(2.5 * min(scale, 1.4826 * float(np.median(np.abs(rest - around))) + 1e-4))
    patches = _local_linear(around + np.clip(rest - around, -limit, limit), sigma)
    spots = _local_linear(rest - patches, sigma / 3)
    v, u = np.mgrid[0:gh, 0:gw]
    u, v = ((u + 0.5) / gw * 2 - 1) * image.size_mm[0], ((v + 0.5) / gh * 2 - 1) * image.size_mm[1]
    r2 = (u * u + v * v) / (image.size_mm[0] ** 2 + image.size_mm[1] ** 2)
    # Even in both directions and a function of the distance alone (Goldman 2010); what is even otherwise is slope
    even = (fitted + fitted[::-1] + fitted[:, ::-1] + fitted[::-1, ::-1]) / 4
    radial = np.stack([np.ones_like(r2), r2, r2 * r2], -1).reshape(-1, 3)
    vignette = (radial @ np.linalg.lstsq(radial, even.ravel(), rcond=None)[0]).reshape(gh, gw)
    parts = [fitted - vignette, vignette, patches, spots]
    return LightParts(*((p - p.mean()).astype(np.float32) for p in parts))


_known: list[tuple[weakref.ref[Floats], float, LightParts]] = []


def _kept_parts(image: Image, reach: float, task: Task) -> LightParts:
    """`light_parts`, kept while the picture is: the amounts of the parts are what is dragged most."""
    for pixels, of, parts in _known:
        if pixels() is image.pixels and of == reach:
            return parts
    parts = light_parts(image, reach, task)
    _known.insert(0, (weakref.ref(image.pixels), reach, parts))
    del _known[8:]
    return parts


def tint_of_light(image: Image, shape: tuple[int, int], task: Task = IDLE) -> Floats:
    """Logarithm of red, green and blue light over their luminance, smooth over the sheet, mean 0; shape (*shape, 3).

    >>> from silent_loom.core.base.images import Kind
    >>> even = Image(np.full((64, 64, 3), 0.25, np.float32), Kind.COLOUR)
    >>> float(np.abs(tint_of_light(even, (8, 8))).max().round(3))
    0.0
    """
    gh, gw = shape
    light = np.maximum(image.pixels, 1e-4)
    y = np.maximum(luminance(light), 1e-4)
    out = np.empty((gh, gw, 3), np.float32)
    for k in range(3):
        small = reduce_area(np.log(light[..., k] / y), gw, gh).astype(np.float64)
        fitted, _ = _smooth_fit(small, task)
        out[..., k] = fitted - fitted.mean()
    return out


def illumination(image: Image, reach: float, patches: float, task: Task) -> Floats:
    """Log illumination on a small grid, mean 0: slope, vignette and a part of the patches; see `light_parts`.

    >>> flat = Image(np.full((64, 64, 3), 0.25, np.float32), Kind.COLOUR)
    >>> illumination(flat, 0.5, 0.0, IDLE).shape
    (64, 64)
    """
    parts = light_parts(image, reach, task)
    out = parts.slope + parts.vignette + np.float32(patches) * parts.patches
    return (out - out.mean()).astype(np.float32)


def _median_around(plane: Floats, reach: int) -> Floats:
    """The median of the square that goes ``reach`` to every side; the border goes on."""
    side = 2 * reach + 1
    padded = np.pad(plane, reach, mode="edge")
    out = np.empty_like(plane)
    for y in range(plane.shape[0]):
        squares = np.lib.stride_tricks.sliding_window_view(padded[y : y + side], (side, side))[0].reshape(plane.shape[1], -1)
        out[y] = np.partition(squares, side * side // 2, axis=-1)[:, side * side // 2]
    return out


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
    """95th minus 5th percentile of CIE L* of the illumination part, a blur of an eighth of the extent; 0 is even.

    >>> round(evenness(Image(np.full((64, 64, 3), 0.5, np.float32), Kind.COLOUR)), 3)
    0.0
    """
    y = luminance(image.pixels)
    gw, gh = _grid(image)
    small = reduce_area(y, gw, gh)
    smooth = blur_inside(small, (gw / 8, gh / 8))
    low, high = np.percentile(lightness(np.maximum(smooth, 0)), [5, 95])
    return float(high - low)
