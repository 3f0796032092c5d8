"""Which way the green channel of a normal map points, told from the map itself."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.moving.resample import blur, reduce_area

SIDE = 1024
SURE = 0.6
"""From this confidence on the direction is stated."""


@dataclass(frozen=True)
class Green:
    """A direction and how sure it is.

    Attributes
    ----------
    way : str
        'up' (+Y, as in glTF), 'down' or 'unknown'.
    confidence : float
        0…1.
    why : str
        What it was told from.
    """

    way: str
    confidence: float
    why: str


def _slopes(normals: Floats) -> tuple[Floats, Floats]:
    z = np.maximum(normals[..., 2], 0.05)
    limit = 4.0
    return np.clip(-normals[..., 0] / z, -limit, limit), np.clip(-normals[..., 1] / z, -limit, limit)


def _curls(p: Floats, q: Floats) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Squared curl of both readings in blocks: if green points up, dh/dy over rows is −q; if down, q."""
    # Mixed second differences of a height agree; the middle of four texels for both
    py = 0.5 * (p[1:, :-1] - p[:-1, :-1] + p[1:, 1:] - p[:-1, 1:])
    qx = 0.5 * (q[:-1, 1:] - q[:-1, :-1] + q[1:, 1:] - q[1:, :-1])
    up, down = np.square(py + qx).astype(np.float64), np.square(py - qx).astype(np.float64)
    n = 24
    h, w = up.shape[0] // n * n, up.shape[1] // n * n
    if h == 0 or w == 0:
        return np.array([up.sum()]), np.array([down.sum()])
    blocks = [a[:h, :w].reshape(h // n, n, w // n, n).mean((1, 3)).ravel() for a in (up, down)]
    return blocks[0], blocks[1]


def _by_curl(normals: Floats) -> float:
    """−1…1: positive when 'up' leaves less curl, by block and scale; 0 when both leave the same."""
    votes = []
    level = normals
    for scale in range(4):
        if min(level.shape[:2]) < 48:
            break
        p, q = _slopes(level)
        up, down = _curls(p, q)
        total = up + down
        busy = total > np.percentile(total, 30)
        if busy.any() and float(total[busy].sum()) > 1e-9:
            share = (down[busy].sum() - up[busy].sum()) / total[busy].sum()
            agree = float(np.mean(np.sign(down[busy] - up[busy])))
            votes.append((share, agree, 1.0 if scale else 0.7))
        h, w = level.shape[0] // 2, level.shape[1] // 2
        level = reduce_area(level, w, h)
    if not votes:
        return 0.0
    share = np.average([v[0] for v in votes], weights=[v[2] for v in votes])
    agree = np.average([v[1] for v in votes], weights=[v[2] for v in votes])
    if share * agree <= 0:
        return 0.0
    return float(np.sign(share) * np.sqrt(abs(share * agree)))


def _by_height(normals: Floats, height: Floats) -> float:
    """−1…1: correlation of the map's vertical slope with that of a picture of its height."""
    h, w = normals.shape[:2]
    plane = reduce_area(height, w, h) if height.shape[:2] != (h, w) else height
    _, q = _slopes(normals)
    rise = -(np.roll(plane, -1, 0) - np.roll(plane, 1, 0))  # upwards
    p, _ = _slopes(normals)
    run = np.roll(plane, -1, 1) - np.roll(plane, 1, 1)
    across = float(np.corrcoef(p.ravel(), run.ravel())[0, 1]) if run.std() > 1e-9 and p.std() > 1e-9 else 0.0
    down = float(np.corrcoef(q.ravel(), rise.ravel())[0, 1]) if rise.std() > 1e-9 and q.std() > 1e-9 else 0.0
    if not np.isfinite(across) or not np.isfinite(down) or abs(across) < 0.08:
        return 0.0
    # Across is known to be right way round: it says whether white is high in that picture
    return float(np.clip(np.sign(across) * down / abs(across), -1, 1)) * min(1.0, abs(across) / 0.3)


def green_direction(normals: Floats, height: Floats | None = None) -> Green:
    """Tell which way green points.

    Parameters
    ----------
    normals : float32 array, shape (H, W, 3)
        Decoded to −1…1.
    height : float32 array, shape (H, W), optional
        Height, occlusion or lightness of the same surface, white is high.

    Notes
    -----
    The slopes of a height field have no curl: with the right sign of green much less is left than with the wrong one
    (integrability; Frankot & Chellappa 1988). It is measured in blocks and at four scales, since maps put together from
    details, compressed or edited by hand are integrable only in part. Where the curl does not tell, as on a map whose
    slopes run one way only, a height that comes along may.

    >>> green_direction(np.tile(np.array([0, 0, 1], np.float32), (16, 16, 1)))
    Green(way='unknown', confidence=0.0, why='the map is flat')
    """
    step = max(1, int(min(normals.shape[:2]) / SIDE))
    n = normals
    if step > 1:
        n = reduce_area(normals, normals.shape[1] // step, normals.shape[0] // step)
    n = np.ascontiguousarray(n, np.float32)
    flat = float(np.hypot(n[..., 0].std(), n[..., 1].std()))
    if flat < 0.004:
        return Green("unknown", 0.0, "the map is flat")
    curl = _by_curl(blur(n, 0.6, False))
    told = _by_height(n, height) if height is not None else 0.0
    score = curl if abs(curl) >= abs(told) or curl * told < 0 else told
    why = "the slopes fit together" if score == curl else "the slopes follow the height"
    if curl * told < 0 and abs(told) > 0.4 and abs(curl) > 0.15:
        return Green("unknown", round(min(abs(curl), abs(told)) * 0.3, 3), "the slopes and the height say opposite things")
    confidence = float(np.clip(abs(score) * 2.2, 0, 1))
    if curl * told > 0:
        confidence = min(1.0, confidence + 0.2 * min(abs(curl), abs(told)))
    if confidence < SURE:
        return Green("unknown", round(confidence, 3), "both ways fit about as well")
    return Green("up" if score > 0 else "down", round(confidence, 3), why)
