"""Maps as pictures for a screen: 8 bits, the same every time."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.files.write import quantise
from silent_loom.core.images import Floats, Image, Kind
from silent_loom.core.parallel import IDLE, Task


def shown(image: Image, thread: str, depth_mm: float) -> Floats:
    """A map as it is looked at, 0…1: heights over their depth, normals over −1…1, colour as linear light."""
    if thread == "height":
        return image.pixels * np.float32(1 / depth_mm) + np.float32(0.5)
    if image.kind is Kind.NORMAL:
        return image.pixels * np.float32(0.5) + np.float32(0.5)
    return image.pixels


def rgba(image: Image, thread: str, depth_mm: float, task: Task = IDLE) -> NDArray[np.uint8]:
    """uint8 array, shape (H, W, 4), opaque."""
    codes, _ = quantise(shown(image, thread, depth_mm), "8", colour=image.kind is Kind.COLOUR, task=task)
    out = np.full((image.height, image.width, 4), 255, np.uint8)
    out[..., :3] = codes
    return out


def rgba_blocks(image: Image, thread: str, depth_mm: float, blocks: NDArray[np.bool_], side: int) -> bytes:
    """The blocks that are marked, row by row of blocks, each as `rgba` gives it."""
    parts = []
    for j, i in np.argwhere(blocks):
        part = image.pixels[j * side : (j + 1) * side, i * side : (i + 1) * side]
        parts.append(rgba(image.with_pixels(part), thread, depth_mm).tobytes())
    return b"".join(parts)


def histogram(image: Image, thread: str, depth_mm: float, bins: int = 128) -> list[list[int]]:
    """Counts over 0…1 of what is shown (sRGB-encoded for colour), one list a channel."""
    step = max(1, int(np.sqrt(image.width * image.height / 300_000)))
    part = image.with_pixels(image.pixels[::step, ::step])
    codes, _ = quantise(shown(part, thread, depth_mm), "16", colour=image.kind is Kind.COLOUR)
    return [np.histogram(codes[..., k], bins, (0, 65536))[0].tolist() for k in range(codes.shape[2])]
