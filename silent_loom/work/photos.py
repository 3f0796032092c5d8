"""Photos as they came, for looking at."""

from __future__ import annotations

import cv2
import numpy as np

from silent_loom.core.files.codes import quantise
from silent_loom.core.resample import reduce_area
from silent_loom.store.store import Store


def upright_jpeg(store: Store, digest: str, size: int) -> bytes:
    """The photo, at most ``size`` along its longer side, as JPEG in sRGB."""
    colour = store.sources.picture(digest).colour()
    h, w = colour.shape[:2]
    scale = min(1.0, size / max(h, w))
    if scale < 1:
        colour = reduce_area(colour, max(1, round(w * scale)), max(1, round(h * scale)))
    codes, _ = quantise(np.ascontiguousarray(colour), "8", colour=True)
    ok, body = cv2.imencode(".jpg", cv2.cvtColor(codes, cv2.COLOR_RGB2BGR), [cv2.IMWRITE_JPEG_QUALITY, 90])
    if not ok:
        raise ValueError("JPEG encoder refused the picture")
    return body.tobytes()
