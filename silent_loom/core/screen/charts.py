"""Test charts: pictures of which everybody knows how they should look, put through a weave in place of a photo."""

from __future__ import annotations

from collections.abc import Callable

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import LoomError
from silent_loom.core.files.picture import Picture
from silent_loom.core.files.profile import SRGB

_LINEN, _GRAPHITE = (226, 221, 208), (58, 60, 64)
_DYES = ((158, 58, 52), (176, 130, 30), (46, 104, 152), (110, 78, 48), (84, 96, 104), (90, 66, 118), (168, 92, 58), (92, 116, 62))
"""One colour a row of the checker, so that a piece that was moved tells where it came from."""


def checker(width: int, height: int) -> NDArray[np.uint8]:
    """Squares with a letter for their column and a number for their row; the notch of each lies at its upper left.

    What is stretched, turned, mirrored, moved or repeated shows, and where it came from. uint8, shape (H, W, 3), sRGB.

    >>> checker(64, 64).shape
    (64, 64, 3)
    """
    across = 8 if width <= height else round(8 * width / height)
    down = 8 if height <= width else round(8 * height / width)
    out = np.empty((height, width, 3), np.uint8)
    xs, ys = (np.rint(np.linspace(0, n, k + 1)).astype(int) for n, k in ((width, across), (height, down)))
    for j in range(down):
        for i in range(across):
            box = out[ys[j] : ys[j + 1], xs[i] : xs[i + 1]]
            dye, light = np.array(_DYES[j % len(_DYES)]), (i + j) % 2 == 0
            box[:] = np.rint(0.72 * np.array(_LINEN) + 0.28 * dye) if light else np.rint(0.25 * np.array(_GRAPHITE) + 0.75 * dye)
            h, w = box.shape[:2]
            ink = (30, 32, 36) if light else (240, 236, 226)
            notch = np.array([[0, 0], [w // 5, 0], [0, h // 5]], np.int32)
            square = np.ascontiguousarray(box)
            cv2.fillPoly(square, [notch], ink, cv2.LINE_AA)
            _written(square, f"{chr(65 + i % 26)}{j + 1}", ink, 0.5)
            box[:] = square
    return out


def gradient(width: int, height: int) -> NDArray[np.uint16]:
    """Ramps: grey in light, grey in steps of 5 %, then red, green and blue. uint16, shape (H, W, 3), sRGB.

    A step that bends tones bends the ramp; one that has too few levels makes stairs of it.

    >>> gradient(5, 4).shape
    (4, 5, 3)
    """
    u = (np.arange(width) + 0.5) / width
    out = np.zeros((height, width, 3), np.float64)
    bands = np.rint(np.linspace(0, height, 6)).astype(int)
    out[: bands[1]] = u[:, None]
    out[bands[1] : bands[2]] = (np.floor(u * 21) / 20)[:, None]
    for k in range(3):
        out[bands[2 + k] : bands[3 + k], :, k] = u
    return np.rint(out * 65535).astype(np.uint16)


def orientation(width: int, height: int) -> NDArray[np.uint8]:
    """An arrow to the right, one up, and words along all edges: which way u and v run. uint8, shape (H, W, 3), sRGB.

    >>> orientation(64, 32).shape
    (32, 64, 3)
    """
    out = np.empty((height, width, 3), np.uint8)
    out[:] = _LINEN
    least = min(width, height)
    thick = max(1, least // 40)
    start = (width // 5, height - height // 5)
    cv2.arrowedLine(out, start, (width - width // 5, start[1]), _DYES[0], thick, cv2.LINE_AA, tipLength=0.12)
    cv2.arrowedLine(out, start, (start[0], height // 5), _DYES[7], thick, cv2.LINE_AA, tipLength=0.12)
    cv2.circle(out, start, 2 * thick, _DYES[2], -1, cv2.LINE_AA)
    places = {
        "top": (0.5, 0.07),
        "bottom": (0.5, 0.93),
        "left": (0.08, 0.5),
        "right": (0.92, 0.5),
        "u": (0.84, 0.73),
        "v": (0.27, 0.15),
    }
    for words, (x, y) in places.items():
        side = max(8, least // 8)
        left, top = int(x * width) - side, int(y * height) - side // 2
        box = np.s_[max(0, top) : top + side, max(0, left) : left + 2 * side]
        part = np.ascontiguousarray(out[box])
        _written(part, words, _GRAPHITE, 0.42)
        out[box] = part
    cv2.rectangle(out, (0, 0), (width - 1, height - 1), _GRAPHITE, max(1, least // 200))
    return out


def _written(box: NDArray[np.uint8], words: str, ink: tuple[int, ...], share: float) -> None:
    """Words in the middle of a box, as high as a share of it."""
    face = cv2.FONT_HERSHEY_DUPLEX
    (w, h), _ = cv2.getTextSize(words, face, 1.0, 1)
    scale = min(share * box.shape[0] / h, 0.8 * box.shape[1] / w)
    at = (round((box.shape[1] - w * scale) / 2), round((box.shape[0] + h * scale) / 2))
    cv2.putText(box, words, at, face, scale, ink, max(1, round(scale * 1.6)), cv2.LINE_AA)


CHARTS: dict[str, tuple[str, Callable[[int, int], NDArray[np.uint8] | NDArray[np.uint16]]]] = {
    "checker": ("Numbered checker", checker),
    "gradient": ("Gradients", gradient),
    "orientation": ("Orientation", orientation),
}
"""Every chart by name: its title, and what draws it for a width and a height."""


def chart(name: str, width: int, height: int) -> Picture:
    """A chart as a picture that a photo step can take.

    Parameters
    ----------
    name : str
        A key of `CHARTS`.
    width, height : int
        Texels, 64 to 16384.

    Raises
    ------
    LoomError
        There is no such chart, or nobody could read it at this size.

    >>> chart("checker", 64, 64).samples.shape
    (64, 64, 3)
    """
    if name not in CHARTS:
        raise LoomError(f"there is no chart called '{name}'", "chart", f"There are {', '.join(CHARTS)}.")
    if not (64 <= width <= 16384 and 64 <= height <= 16384):
        raise LoomError(f"a chart of {width} × {height} texels cannot be drawn", "chart", "Each side is 64 to 16384.")
    samples = CHARTS[name][1](width, height)
    return Picture(samples, None, SRGB, 8 * samples.dtype.itemsize, "png")
