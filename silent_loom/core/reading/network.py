"""A network in an ONNX file, computed by OpenCV."""

from __future__ import annotations

from pathlib import Path
from threading import Lock
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
    """Windows through a network in an ONNX file; one at a time, as OpenCV's networks hold their own memory.

    Raises
    ------
    FileError
        The file is no network.
    """

    def __init__(self, path: Path) -> None:
        try:
            self._net: Any = cv2.dnn.readNetFromONNX(str(path))
        except cv2.error as error:
            raise FileError("this network cannot be read", path.name, "Install the application again.") from error
        self._lock = Lock()

    def __call__(self, window: Floats) -> Floats:
        with self._lock:
            self._net.setInput(window[None])
            found: Floats = np.ascontiguousarray(self._net.forward()[0], np.float32)
        return found
