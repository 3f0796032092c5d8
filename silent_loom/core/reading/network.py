"""A network in an ONNX file, computed by OpenCV."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path
from queue import Empty, LifoQueue
from typing import Any

import numpy as np

from silent_loom.core.base.errors import FileError
from silent_loom.core.base.images import Floats
from silent_loom.core.base.lazy_modules import later

cv2 = later("cv2")

OUTPUTS = ("right", "down", "fine", "middle", "coarse", "shading", "occlusion", "roughness", "border", "unsure_slope",
           "unsure_height", "unsure_shading")  # fmt: skip
"""What it says of each texel.

right, down
    Parts of the unit normal, −1…1.
fine, middle, coarse
    Height between Gaussians of `BANDS` texels, over the outer one.
shading
    Natural logarithm of the light on a place against that on a flat, open one.
occlusion
    Share of the sky that is seen.
roughness
border
    Logarithm of the odds that elements meet there.
unsure_slope, unsure_height, unsure_shading
    Logarithm of the variance that it expects of its own error.
"""
BANDS = ((0.8, 2.5), (2.5, 8.0), (8.0, 26.0))


class OnnxNetwork:
    """Windows through a network in an ONNX file, as many at once as callers ask for: each has a copy of its own meanwhile.

    Raises
    ------
    FileError
        The file is no network.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self._free: LifoQueue[Any] = LifoQueue()
        self._free.put(self._loaded())

    def _loaded(self) -> Any:
        try:
            return cv2.dnn.readNetFromONNX(str(self._path))
        except cv2.error as error:
            raise FileError("this network cannot be read", self._path.name, "Install the application again.") from error

    def __call__(self, window: Floats) -> Floats:
        try:
            net = self._free.get_nowait()
        except Empty:
            net = self._loaded()
        try:
            net.setInput(window[None])
            said: Floats = np.ascontiguousarray(net.forward()[0], np.float32)
        finally:
            self._free.put(net)
        return said


@lru_cache(1)
def shipped() -> OnnxNetwork:
    """The network that the application comes with.

    >>> shipped()(np.zeros((5, 256, 256), np.float32)).shape
    (12, 256, 256)
    """
    return OnnxNetwork(Path(__file__).with_name("relief.onnx"))
