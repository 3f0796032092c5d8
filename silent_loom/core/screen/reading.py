"""Reading a map: one channel of it, what is cut off, how its values and colours are spread."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.colour import lab, light_of_lab, lightness, luminance
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.screen.display import rgba, shown, visible
from silent_loom.core.weave.threads import ThreadSpec

Part = Literal["", "r", "g", "b", "lightness"]
TOO_DARK, TOO_BRIGHT = (38, 92, 176), (226, 62, 30)
"""In these the places are marked that lie at or beyond the ends of what a file can hold."""
REACHES = (24.0, 48.0, 96.0)
"""a* and b* to which the plot of colours may go each way: the least that holds all but a thousandth of the texels."""
PLOT = 193
"""Cells along a side of the plot of colours; odd, so that grey has a cell of its own."""


def seen(image: Image, meaning: ThreadSpec, part: Part = "", clipped: bool = False, task: Task = IDLE) -> NDArray[np.uint8]:
    """A map on screen, one channel of it as grey, with what is cut off marked.

    Parameters
    ----------
    part : str
        '' for all of it, 'r', 'g' or 'b' for the codes of one channel, 'lightness' for CIE L* (100 is white; of colour only,
        of anything else the mean of its channels).
    clipped : bool
        Mark what lies at or beyond the ends of the range: `TOO_DARK`, `TOO_BRIGHT`.

    Returns
    -------
    uint8 array, shape (H, W, 4), opaque

    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(np.full((1, 1, 1), 0.5, np.float32), Kind.DATA)
    >>> seen(image, spec("roughness")).tolist()
    [[[128, 128, 128, 255]]]
    """
    out = rgba(image, meaning, task)
    if part == "lightness":
        if image.kind is Kind.COLOUR:
            tone = lightness(luminance(np.maximum(image.pixels, 0), task)) / 100
            grey = np.rint(np.clip(tone, 0, 1) * 255).astype(np.uint8)
        else:
            grey = np.rint(out[..., :3].mean(2)).astype(np.uint8)
        out[..., :3] = grey[..., None]
    elif part:
        out[..., :3] = out[..., "rgb".index(part), None]
    if clipped and image.kind is not Kind.ID:
        low, high = cut_off(image, meaning, part)
        out[low, :3] = TOO_DARK
        out[high, :3] = TOO_BRIGHT
    return out


def cut_off(image: Image, meaning: ThreadSpec, part: Part = "") -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Where a map is at or beyond the low and the high end of what a file holds, in any channel (or in one); both (H, W).

    The parts of a direction are cut beyond −1…1 only: their ends belong to them.

    >>> from silent_loom.core.weave.threads import spec
    >>> low, high = cut_off(Image(np.array([[[-0.5], [0.5], [1.5]]], np.float32), Kind.DATA), spec("roughness"), "")
    >>> low.ravel().tolist(), high.ravel().tolist()
    ([True, False, False], [False, False, True])
    """
    values = shown(image, meaning)
    if part in ("r", "g", "b") and values.shape[2] == 3:
        values = values[..., "rgb".index(part), None]
    edge = -1e-4 if image.kind in (Kind.NORMAL, Kind.VECTOR) else 0.0
    dark, bright = values <= edge, values >= 1 - edge
    whole = image.kind is Kind.COLOUR and part == ""  # a pure red is not cut off because it holds no green
    low = np.all(dark, axis=2) if whole else np.any(dark, axis=2)
    return np.logical_or(low, ~np.all(np.isfinite(values), axis=2)), np.any(bright, axis=2)


@dataclass(frozen=True)
class Channel:
    """How the values of one channel are spread, in the map's own unit (sRGB codes 0…255 for colour)."""

    name: str
    low: float
    p1: float
    median: float
    p99: float
    high: float
    mean: float
    deviation: float


def spread(image: Image, meaning: ThreadSpec) -> dict[str, Any]:
    """What there is to read in a map.

    Returns
    -------
    dict
        channels (`Channel` as dicts), unit, dark and bright (shares of texels that are cut off), levels (different values
        among at most a million texels, of the first channel), width, height.

    >>> from silent_loom.core.weave.threads import spec
    >>> sorted(spread(Image(np.zeros((4, 4, 1), np.float32), Kind.DATA), spec("roughness")))[:2]
    ['bright', 'channels']
    """
    pixels = visible(image)
    step = max(1, int(np.sqrt(image.width * image.height / 1_000_000)))
    names = {1: ("value",), 2: ("x", "y")}.get(pixels.shape[2], ("x", "y", "z") if image.kind is Kind.NORMAL else ("r", "g", "b"))
    part: NDArray[Any] = pixels[::step, ::step]
    if image.kind is Kind.COLOUR:
        part = rgba(image.with_pixels(np.ascontiguousarray(part)), meaning)[..., :3]
    channels = []
    for k, name in enumerate(names):
        v = part[..., k].astype(np.float64).ravel()
        p1, median, p99 = np.percentile(v, [1, 50, 99])
        found = (v.min(), p1, median, p99, v.max(), v.mean(), v.std())
        channels.append(asdict(Channel(name, *(float(x) for x in found))))
    low, high = cut_off(image, meaning)
    return {
        "channels": channels,
        "unit": "code" if image.kind is Kind.COLOUR else meaning.unit,
        "dark": float(low.mean()),
        "bright": float(high.mean()),
        "levels": int(len(np.unique(part[..., 0]))),
        "width": image.width,
        "height": image.height,
    }


def colour_plot(image: Image) -> tuple[NDArray[np.uint8], float]:
    """How often each hue and chroma comes: red to the right, yellow up, grey in the middle.

    Returns
    -------
    plot : uint8 array, shape (193, 193, 4)
        The plane of CIE a* and b*, each cell in its own colour at L* 70, more opaque the more texels lie in it.
    reach : float
        How far it goes each way, one of `REACHES`.

    >>> from silent_loom.core.base.images import Kind
    >>> colour_plot(Image(np.full((4, 4, 3), 0.5, np.float32), Kind.COLOUR))[0].shape
    (193, 193, 4)
    """
    colours = _some_lab(image)
    reach = _reach(colours)
    at = np.rint((colours[..., 1:] + reach) / (2 * reach) * (PLOT - 1)).astype(int).clip(0, PLOT - 1)
    counts = np.zeros((PLOT, PLOT))
    np.add.at(counts, (PLOT - 1 - at[..., 1].ravel(), at[..., 0].ravel()), 1.0)
    strength = np.log1p(counts) / np.log1p(counts.max())
    axis = np.linspace(-reach, reach, PLOT)
    out = np.empty((PLOT, PLOT, 4), np.uint8)
    plane = np.stack([np.full((PLOT, PLOT), 70.0), *np.meshgrid(axis, axis[::-1])], -1)
    out[..., :3] = np.rint(encode_srgb(np.clip(light_of_lab(plane), 0, 1)) * 255)
    out[..., 3] = np.rint(255 * np.where(counts > 0, 0.45 + 0.55 * strength, 0))
    return out, reach


def reach_of(image: Image) -> float:
    """How far `colour_plot` goes each way.

    >>> reach_of(Image(np.random.default_rng(1).random((8, 8, 3), np.float32), Kind.COLOUR)) > 0
    True
    """
    return _reach(_some_lab(image))


def _some_lab(image: Image) -> Floats:
    """CIE L*a*b* of at most 400,000 texels."""
    step = max(1, int(np.sqrt(image.width * image.height / 400_000)))
    return lab(np.ascontiguousarray(np.maximum(image.pixels[::step, ::step, :3], 0)))


def _reach(colours: Floats) -> float:
    far = np.quantile(np.abs(colours[..., 1:]).max(-1), 0.999)
    return next((r for r in REACHES if far <= r), REACHES[-1])
