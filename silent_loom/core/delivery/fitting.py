"""The sheet as a receiver takes it: square or not, sides of powers of two, laid several times, and what that costs in words."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.delivery.reduce import squeezed
from silent_loom.core.moving.resample import resize

MOST_LAID = 8
"""Repeats that are laid beside each other at most to make a square."""
CROPPED = 0.98
"""Of the shorter side, what a cropped square keeps: the rest is the overlap that closes it."""
NEAR = 0.005
"""Of its side: so far from a square still is one."""


@dataclass(frozen=True)
class Fit:
    """How a sheet becomes what a receiver takes.

    Attributes
    ----------
    width, height : int
        Texels of the delivered files.
    ask : int
        Longer side at which the sheet itself is made.
    laid : tuple of int
        Repeats beside and below each other.
    size_mm : tuple of float
        What the files show, in millimetres.
    squeeze : float
        How many times as high as in truth it is shown; 1 where nothing is distorted.
    words : tuple of str
        What was done, for the list and the read-me.
    """

    width: int
    height: int
    ask: int
    laid: tuple[int, int]
    size_mm: tuple[float, float]
    squeeze: float = 1.0
    words: tuple[str, ...] = ()


def fit(profile: Profile, size_mm: tuple[float, float], size: int) -> Fit:
    """How a sheet of a real size becomes files of a longer side.

    Raises
    ------
    LoomError
        Whole repeats make no square of at most eight.

    >>> from silent_loom.core.delivery.shelf import profile
    >>> how = fit(profile("plain"), (100.0, 50.0), 1024)
    >>> how.width, how.height
    (1024, 512)
    """
    w, h = size_mm
    longer = max(w, h)
    width, height = max(1, round(size * w / longer)), max(1, round(size * h / longer))
    ask, laid, words, squeeze, shown = size, (1, 1), [], 1.0, size_mm
    if abs(w / h - 1) > NEAR and profile.square == "repeats":
        laid = _square_of(w, h)
        shown = (w * laid[0], h * laid[1])
        width = height = size
        ask = max(-(-size // laid[0]), -(-size // laid[1]))
        words.append(f"{laid[0]} × {laid[1]} repeats make the square")
    elif abs(w / h - 1) > NEAR and profile.square == "crop":
        side = CROPPED * min(w, h)
        shown = (side, side)
        width = height = size
        ask = -(-round(size * longer) // max(1, round(side)))
        words.append(f"cropped to a square repeat of {side:g} mm and closed again by a cut, all maps alike")
    elif abs(w / h - 1) > NEAR and profile.square == "squeeze":
        width = height = size
        ask = round(size * longer / min(w, h))
        squeeze, shown = w / h, (w, w)
        way = "higher" if squeeze > 1 else "flatter"
        words.append(f"squeezed into a square: {max(squeeze, 1 / squeeze):.3g} times {way} than in truth, normals corrected")
    if profile.limits.powers_of_two:
        near = _power(width), _power(height)
        if near != (width, height):
            words.append(
                f"{width} × {height} brought to {near[0]} × {near[1]}, powers of two: texels are not square, the size is"
            )
            ask = max(ask, ask * max(near) // max(width, height))
        width, height = near
    return Fit(width, height, ask, laid, shown, squeeze, tuple(words))


def fitted(image: Image, how: Fit, task: Task = IDLE) -> Image:
    """A sheet as `Fit` says.

    >>> from silent_loom.core.base.images import Kind
    >>> from silent_loom.core.delivery.shelf import profile
    >>> image = Image(np.ones((4, 8, 1), np.float32), Kind.DATA, (80.0, 40.0), True)
    >>> fitted(image, fit(profile("plain"), image.size_mm, 8)).pixels.shape
    (4, 8, 1)
    """
    if how.laid != (1, 1):
        tiled = np.tile(image.pixels, (how.laid[1], how.laid[0], 1))
        image = replace(image, pixels=tiled, size_mm=how.size_mm)
    if how.squeeze != 1:
        return squeezed(image, how.width, how.height, task)
    return resize(image, how.width, how.height, task)


def _power(n: int) -> int:
    return int(2 ** round(np.log2(n)))


def _square_of(w: float, h: float) -> tuple[int, int]:
    found = [
        (max(a, b), a, b) for a in range(1, MOST_LAID + 1) for b in range(1, MOST_LAID + 1) if abs(w * a / (h * b) - 1) <= NEAR
    ]
    if not found:
        raise LoomError(
            f"no whole repeats of {w:.0f} × {h:.0f} mm make a square",
            "square",
            f"At most {MOST_LAID} are laid each way: keep the shape, or squeeze.",
        )
    return min(found)[1:]
