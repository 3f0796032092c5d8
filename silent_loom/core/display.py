"""Maps as pictures for a screen: 8 bits, the same every time."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.colour import encode_near
from silent_loom.core.files.codes import quantise
from silent_loom.core.images import Floats, Image, Kind
from silent_loom.core.kernels import kernel
from silent_loom.core.parallel import IDLE, Task, over_rows


def shown(image: Image, thread: str, depth_mm: float) -> Floats:
    """A map as it is looked at, 0…1: heights over their depth, normals over −1…1, colour as linear light."""
    if thread == "height":
        return image.pixels * np.float32(1 / depth_mm) + np.float32(0.5)
    if image.kind is Kind.NORMAL:
        return image.pixels * np.float32(0.5) + np.float32(0.5)
    return image.pixels


@kernel("f4[:,:,::1], i8, i8, f4, f4, b1, u1[:,:,::1], i8, i8")
def _rgba(src, top, left, scale, offset, colour, out, y0, y1):  # type: ignore[no-untyped-def]
    # The codes that `quantise` gives of a part of a map, written as they are wanted in one go
    channels = src.shape[2]
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            for k in range(3):
                if k < channels:
                    v = src[top + y, left + x, k] * scale + offset
                    if not (v >= 0):  # catches what is not a number, too
                        v = np.float32(0)
                    v = min(v, np.float32(1))
                    if colour:
                        v = encode_near(v)
                    out[y, x, k] = min(np.floor(v * np.float32(255) + np.float32(0.5)), np.float32(255))
                else:
                    out[y, x, k] = out[y, x, k - 1]
            out[y, x, 3] = 255


def _look(image: Image, thread: str, depth_mm: float) -> tuple[np.float32, np.float32, bool]:
    """Scale and offset of `shown`, and whether it is colour."""
    if thread == "height":
        return np.float32(1 / depth_mm), np.float32(0.5), False
    if image.kind is Kind.NORMAL:
        return np.float32(0.5), np.float32(0.5), False
    return np.float32(1), np.float32(0), image.kind is Kind.COLOUR


def rgba(image: Image, thread: str, depth_mm: float, task: Task = IDLE) -> NDArray[np.uint8]:
    """uint8 array, shape (H, W, 4), opaque."""
    out = np.empty((image.height, image.width, 4), np.uint8)
    look, src = _look(image, thread, depth_mm), np.ascontiguousarray(image.pixels)
    over_rows(image.height, partial(_rgba, src, 0, 0, *look, out), task, cost=image.width * 2e-3)
    return out


def rgba_blocks(image: Image, thread: str, depth_mm: float, blocks: NDArray[np.bool_], side: int) -> bytes:
    """The blocks that are marked, row by row of blocks, each as `rgba` gives it."""
    look, src = _look(image, thread, depth_mm), np.ascontiguousarray(image.pixels)
    places = [(int(j) * side, int(i) * side) for j, i in np.argwhere(blocks)]
    parts = [np.empty((*image.pixels[y : y + side, x : x + side].shape[:2], 4), np.uint8) for y, x in places]

    def some(first: int, last: int) -> None:
        for (y, x), part in zip(places[first:last], parts[first:last], strict=True):
            _rgba(src, y, x, *look, part, 0, len(part))

    over_rows(len(places), some, least=8)
    return b"".join(part.tobytes() for part in parts)


def histogram(image: Image, thread: str, depth_mm: float, bins: int = 128) -> list[list[int]]:
    """Counts over 0…1 of what is shown (sRGB-encoded for colour), one list a channel."""
    step = max(1, int(np.sqrt(image.width * image.height / 300_000)))
    part = image.with_pixels(image.pixels[::step, ::step])
    codes, _ = quantise(shown(part, thread, depth_mm), "16", colour=image.kind is Kind.COLOUR)
    return [np.histogram(codes[..., k], bins, (0, 65536))[0].tolist() for k in range(codes.shape[2])]
