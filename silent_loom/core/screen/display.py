"""Maps as pictures for a screen: 8 bits, the same every time."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.colour import encode_near
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.files.codes import quantise
from silent_loom.core.weave.threads import ThreadSpec


def shown(image: Image, meaning: ThreadSpec) -> Floats:
    """A map as it is looked at, 0…1: over its range, colour as linear light, labels as colours of their own.

    Shape (H, W, C); directions get a third channel of 0.5.

    >>> from silent_loom.core.weave.threads import spec
    >>> shown(Image(np.full((1, 1, 1), 0.25, np.float32), Kind.DATA), spec("roughness")).tolist()
    [[[0.25]]]
    """
    pixels = visible(image)
    scale, offset, _ = _look(image, meaning)
    return pixels if scale == 1 and offset == 0 else pixels * scale + offset


def visible(image: Image) -> Floats:
    """Samples that a screen can show as grey or as three channels; others as a stand-in of colours.

    >>> visible(Image(np.array([[[0.0, 0, 1]]], np.float32), Kind.NORMAL)).tolist()
    [[[0.0, 0.0, 1.0]]]
    """
    if image.kind is Kind.ID:
        return label_colours(image.pixels[..., 0])
    if image.kind is Kind.VECTOR:
        return np.concatenate([image.pixels, np.zeros_like(image.pixels[..., :1])], 2)
    if image.kind is Kind.CHANNELS and image.pixels.shape[2] != 3:
        part = image.pixels[..., :3]
        return np.concatenate([part, np.zeros((*part.shape[:2], 3 - part.shape[2]), np.float32)], 2)
    return image.pixels


def label_colours(labels: Floats) -> Floats:
    """A clear colour for every label, the same for the same label everywhere, shape (H, W, 3), linear light.

    Hues go round by the golden angle, so that neighbouring numbers lie far apart.

    >>> label_colours(np.float32([[0, 1]])).astype(float).round(3).tolist()
    [[[0.171, 0.032, 0.032], [0.056, 0.139, 0.505]]]
    """
    n = np.rint(labels).astype(np.int64)
    hue = (n * 0.6180339887498949) % 1.0
    tone = 0.45 + 0.4 * ((n * 0.7548776662466927) % 1.0)
    chroma = np.cos(2 * np.pi * (hue[..., None] - np.array([0.0, 1 / 3, 2 / 3]))) * 0.5 + 0.5
    return np.ascontiguousarray(decode_srgb(tone[..., None] * (0.25 + 0.75 * chroma)), np.float32)


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


def _look(image: Image, meaning: ThreadSpec) -> tuple[np.float32, np.float32, bool]:
    """Scale and offset of `shown`, and whether it is colour."""
    if image.kind is Kind.ID:
        return np.float32(1), np.float32(0), True
    scale, offset = meaning.scale()
    return scale, offset, image.kind is Kind.COLOUR


def rgba(image: Image, meaning: ThreadSpec, task: Task = IDLE) -> NDArray[np.uint8]:
    """uint8 array, shape (H, W, 4), opaque.

    >>> from silent_loom.core.weave.threads import spec
    >>> rgba(Image(np.full((1, 1, 1), 0.5, np.float32), Kind.DATA), spec("roughness")).tolist()
    [[[128, 128, 128, 255]]]
    """
    out = np.empty((image.height, image.width, 4), np.uint8)
    look, src = _look(image, meaning), np.ascontiguousarray(visible(image))
    over_rows(image.height, partial(_rgba, src, 0, 0, *look, out), task, cost=image.width * 2e-3)
    return out


def rgba_blocks(image: Image, meaning: ThreadSpec, blocks: NDArray[np.bool_], side: int) -> bytes:
    """The blocks that are marked, row by row of blocks, each as `rgba` gives it.

    >>> from silent_loom.core.base.images import Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(np.ones((4, 4, 1), np.float32), Kind.DATA)
    >>> list(rgba_blocks(image, spec("roughness"), np.array([[True, False], [False, False]]), 2)[:4])
    [255, 255, 255, 255]
    """
    look, src = _look(image, meaning), np.ascontiguousarray(visible(image))
    places = [(int(j) * side, int(i) * side) for j, i in np.argwhere(blocks)]
    parts = [np.empty((*image.pixels[y : y + side, x : x + side].shape[:2], 4), np.uint8) for y, x in places]

    def some(first: int, last: int) -> None:
        for (y, x), part in zip(places[first:last], parts[first:last], strict=True):
            _rgba(src, y, x, *look, part, 0, len(part))

    over_rows(len(places), some, least=8)
    return b"".join(part.tobytes() for part in parts)


def histogram(image: Image, meaning: ThreadSpec, bins: int = 128) -> list[list[int]]:
    """Counts over 0…1 of what is shown (sRGB-encoded for colour), one list a channel.

    >>> from silent_loom.core.weave.threads import spec
    >>> histogram(Image(np.array([[[0.0], [1.0]]], np.float32), Kind.DATA), spec("roughness"), 2)
    [[1, 1]]
    """
    step = max(1, int(np.sqrt(image.width * image.height / 300_000)))
    part = image.with_pixels(image.pixels[::step, ::step])
    codes, _ = quantise(shown(part, meaning), "16", colour=image.kind is Kind.COLOUR)
    return [np.histogram(codes[..., k], bins, (0, 65536))[0].tolist() for k in range(codes.shape[2])]
