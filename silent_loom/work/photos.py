"""Photos as they came, for looking at."""

from __future__ import annotations

from dataclasses import replace

import cv2
import numpy as np

from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.files import Picture
from silent_loom.core.files.profile import SRGB


def upright_jpeg(picture: Picture, size: int) -> bytes:
    """A photo, at most ``size`` along its longer side, as JPEG in sRGB.

    It is made smaller in the codes of its file, so that a large one is never held as light, and without a kernel: it is what
    an artist sees on a first start while kernels are still being compiled.
    """
    h, w = picture.samples.shape[:2]
    scale = min(1.0, size / max(h, w))
    target = max(1, round(w * scale)), max(1, round(h * scale))
    small = picture.samples if scale == 1 else cv2.resize(picture.samples, target, interpolation=cv2.INTER_AREA)
    small = small.reshape(target[1], target[0], -1)
    if picture.transfer is SRGB and small.dtype != np.float32:
        codes = small if small.dtype == np.uint8 else (small >> 8).astype(np.uint8)
    else:
        light = replace(picture, samples=small, alpha=None).colour()
        codes = np.rint(255 * encode_srgb(np.clip(np.nan_to_num(light), 0, 1))).astype(np.uint8)
    shown = cv2.cvtColor(np.ascontiguousarray(codes), cv2.COLOR_RGB2BGR) if codes.shape[2] == 3 else codes
    ok, body = cv2.imencode(".jpg", shown, [cv2.IMWRITE_JPEG_QUALITY, 90])
    if not ok:
        raise ValueError("JPEG encoder refused the picture")
    return body.tobytes()
