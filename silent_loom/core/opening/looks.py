"""What a single channel looks like, and whether several maps share one file."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.moving.resample import blur, reduce_area


@dataclass(frozen=True)
class Look:
    """A guess at a channel.

    Attributes
    ----------
    looks_like : str
        'constant', 'mask', 'metallic', 'occlusion', 'height', 'roughness' or 'colour'.
    value : float or None
        Of a constant channel.
    """

    looks_like: str
    value: float | None = None

    def words(self) -> str:
        return f"constant {self.value:.3f}" if self.value is not None else self.looks_like


def _small(plane: Floats) -> Floats:
    side = max(plane.shape)
    if side <= 512:
        return plane
    w, h = max(8, round(plane.shape[1] * 512 / side)), max(8, round(plane.shape[0] * 512 / side))
    return reduce_area(np.ascontiguousarray(plane), w, h)


def look(plane: Floats) -> Look:
    """Guess what a channel of 0…1 holds, by its histogram and its feature sizes.

    A mask or metallic map is nearly all black and white; occlusion is mostly white with darker places; height varies more
    broadly than it does finely; roughness is what is left.

    >>> look(np.full((8, 8), 0.5, np.float32))
    Look(looks_like='constant', value=0.5)
    """
    low, high = float(plane.min()), float(plane.max())
    if high - low < 1.5 / 255:
        return Look("constant", round(float(plane.mean()), 4))
    p = _small(plane)
    ends = float(((p < 0.06) | (p > 0.94)).mean())
    dark, light = float((p < 0.06).mean()), float((p > 0.94).mean())
    mean, spread = float(p.mean()), float(p.std())
    if ends > 0.85 and dark > 0.02 and light > 0.02:
        return Look("metallic" if dark > 0.25 else "mask")
    if dark > 0.9:
        return Look("metallic")
    skew = float(((p - mean) ** 3).mean() / max(spread, 1e-6) ** 3)
    if float(np.percentile(p, 90)) > 0.9 and mean > 0.65 and skew < -0.6:
        return Look("occlusion")
    fine = p - blur(np.ascontiguousarray(p), 1.5, False)
    share = float(fine.var()) / max(spread * spread, 1e-9)
    wide = float(np.percentile(p, 98) - np.percentile(p, 2))
    return Look("height" if share < 0.06 and wide > 0.35 else "roughness")


@dataclass(frozen=True)
class Packed:
    """Whether the channels of a file are maps of their own."""

    packed: bool
    confidence: float
    channels: tuple[Look, ...]


def packing(samples: Floats, alpha: Floats | None = None) -> Packed:
    """Tell a colour from several grey maps in one file.

    Parameters
    ----------
    samples : array, shape (H, W, C), 0…1 as encoded in the file
    alpha : array, optional

    Notes
    -----
    Channels of a colour rise and fall together, in detail above all; those of packed maps do not. A channel that is
    constant beside others that are not, or several that look like different maps, speak for packing.

    >>> packed = packing(np.zeros((8, 8, 3), np.float32))
    >>> [look.looks_like for look in packed.channels][:1]
    ['constant']
    """
    looks = tuple(look(samples[..., k]) for k in range(samples.shape[2])) + ((look(alpha),) if alpha is not None else ())
    if samples.shape[2] < 3:
        return Packed(False, 0.9, looks)
    planes = [_small(np.ascontiguousarray(samples[..., k])) for k in range(3)]
    flat = [look_.value is not None for look_ in looks[:3]]
    detail = [p - blur(p, 4.0, False) for p in planes]
    pairs = [(0, 1), (1, 2), (0, 2)]
    alike = []
    for i, j in pairs:
        if flat[i] or flat[j]:
            continue
        a, b = detail[i].ravel(), detail[j].ravel()
        alike.append(float((a * b).mean() / max(float(a.std() * b.std()), 1e-9)))
    kinds = {look_.looks_like for look_ in looks[:3]}
    score = 0.0
    if 0 < sum(flat) < 3:
        values = [look_.value for look_ in looks[:3] if look_.value is not None]
        ends = all(v < 0.02 or v > 0.98 for v in values)
        score += 0.6 if ends else 0.35
    if sum(flat) == 3:
        return Packed(False, 0.3, looks)
    if alike:
        score += float(np.clip((0.75 - max(alike)) / 0.6, 0, 1)) * 0.6 + float(np.clip((0.5 - min(alike)) / 0.8, 0, 1)) * 0.25
    if len(kinds - {"constant"}) >= 2:
        score += 0.2
    if len(kinds) >= 3:
        score += 0.15
    if alike and min(alike) > 0.85:
        score = 0.0
    confidence = float(np.clip(abs(score - 0.5) * 2, 0, 1))
    return Packed(score > 0.5, round(confidence, 3), looks)
