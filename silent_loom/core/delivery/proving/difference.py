"""What changed between two maps, in numbers and as a picture.

Both are compared as the files of a plain delivery hold them, so that what a screen says of two states is what the core finds
in the files that are delivered of them.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.colour import lab
from silent_loom.core.base.delta_e import delta_e00
from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.delivery.profile import of_maps
from silent_loom.core.delivery.shelf import profile
from silent_loom.core.files.codes import quantise
from silent_loom.core.screen.display import shown
from silent_loom.core.weave.threads import ThreadSpec

LEAST = {"ΔE00": 2.0, "degrees": 2.0, "of all": 1.0}
"""The least that white stands for in a picture of differences, by measure; for plain numbers it is `LEAST_PART` of the range."""
LEAST_PART = 0.02


@dataclass(frozen=True)
class Difference:
    """How far one map is from another.

    Attributes
    ----------
    measure : str
        What `mean`, `p95` and `max` are told in: 'ΔE00' for colour, 'degrees' for normals, 'of all' (a share of texels) for
        labels, else the thread's own unit, or ''.
    mean, p95, max : float
        Mean, 95 % quantile and largest difference of all texels.
    rmse : float
        Root mean square: of sRGB codes (0…255) for colour, else in `measure`.
    mean_code : float
        Mean difference of a channel, in code values of 8 bits.
    max_code : float
        Largest difference of a channel, in code values of 8 bits (0…255).
    psnr : float
        Peak signal to noise in dB over the range of the map; infinite for equal maps.
    white : float
        What white stands for in `picture`, in `measure`.
    picture : float32 array, shape (H, W)
        0 where both are equal, 1 where they differ by `white` or more.
    """

    measure: str
    mean: float
    p95: float
    max: float
    rmse: float
    max_code: float
    psnr: float
    white: float
    picture: Floats = field(repr=False)
    mean_code: float = 0.0

    def as_dict(self) -> dict[str, Any]:
        """The numbers alone; a PSNR of equal maps is None, since JSON knows no infinity."""
        words = {k: getattr(self, k) for k in ("measure", "mean", "p95", "max", "rmse", "max_code", "white")}
        return {**words, "psnr": self.psnr if np.isfinite(self.psnr) else None}


def as_filed(image: Image, meaning: ThreadSpec, task: Task = IDLE) -> Floats:
    """A map as the file of a plain delivery holds it, 0…1, shape (H, W, C); colour is sRGB-encoded.

    >>> from silent_loom.core.weave.threads import spec
    >>> as_filed(Image(np.full((1, 1, 1), 0.3, np.float32), Kind.DATA), spec("roughness")).ravel().round(3).tolist()
    [0.3019999861717224]
    """
    if image.kind is Kind.ID:
        return image.pixels
    spec = of_maps(profile("plain"), {meaning.name: meaning}, [meaning.name]).files[0]
    if spec.depth not in ("8", "16"):
        raise LoomError(f"a file of {meaning.title} holds no codes", meaning.name, "Compare files instead.")
    depth = spec.depth
    codes, _ = quantise(shown(image, meaning), depth, colour=spec.colour, dither=spec.dither, task=task)
    return codes.astype(np.float32) / np.float32(255 if depth == "8" else 65535)


def differences(one: Floats, other: Floats, meaning: ThreadSpec) -> Difference:
    """Compare two maps of one meaning.

    Parameters
    ----------
    one, other : float32 array, shape (H, W, C)
        As files hold them, 0…1, colour sRGB-encoded; labels as they are.
    meaning : ThreadSpec

    Raises
    ------
    LoomError
        They differ in size.

    >>> from silent_loom.core.weave.threads import spec
    >>> one = np.zeros((2, 2, 1), np.float32)
    >>> round(differences(one, one + np.float32(0.5), spec("roughness")).max, 3)
    0.5
    """
    if one.shape[:2] != other.shape[:2]:
        sizes = " and ".join(f"{p.shape[1]} × {p.shape[0]}" for p in (one, other))
        raise LoomError(f"the two maps have different sizes ({sizes})", meaning.title, "Give both one size.")
    if meaning.kind is Kind.ID:
        far = (np.rint(one[..., 0]) != np.rint(other[..., 0])).astype(np.float32)
        return _told("of all", far, far, float(far.max()) * 255, 1.0, 1.0)
    n = min(one.shape[2], other.shape[2])
    codes = one[..., :n].astype(np.float64) - other[..., :n]
    found = _by_kind(one, other, codes, meaning)
    return replace(found, mean_code=float(np.abs(codes).mean()) * 255)


def _by_kind(one: Floats, other: Floats, codes: NDArray[np.float64], meaning: ThreadSpec) -> Difference:
    most = float(np.abs(codes).max()) * 255
    if meaning.kind is Kind.COLOUR:
        far = delta_e00(lab(decode_srgb(one[..., :3])), lab(decode_srgb(other[..., :3])))
        return _told("ΔE00", far, codes * 255, most, 255.0, LEAST["ΔE00"])
    if meaning.kind is Kind.NORMAL:
        far = _degrees(one, other)
        return _told("degrees", far, far, most, 180.0, LEAST["degrees"], noise=codes)
    span = meaning.depth
    return _told(meaning.unit, np.abs(codes).max(2) * span, codes * span, most, span, LEAST_PART * span)


def _degrees(one: Floats, other: Floats) -> NDArray[np.float64]:
    def directions(filed: Floats) -> NDArray[np.float64]:
        v = filed[..., :3].astype(np.float64) * 2 - 1
        return v / np.maximum(np.linalg.norm(v, axis=2, keepdims=True), 1e-9)

    a, b = directions(one), directions(other)
    # Not by the cosine, which knows no small angles
    return np.degrees(2 * np.arctan2(np.linalg.norm(a - b, axis=2), np.linalg.norm(a + b, axis=2)))


def _told(
    measure: str,
    far: NDArray[Any],
    spread: NDArray[Any],
    max_code: float,
    span: float,
    least: float,
    noise: NDArray[Any] | None = None,
) -> Difference:
    rmse = float(np.sqrt((spread.astype(np.float64) ** 2).mean()))
    parts = rmse / span if noise is None else float(np.sqrt((noise**2).mean()))
    white = max(least, float(np.quantile(far, 0.995)))
    return Difference(
        measure,
        float(far.mean()),
        float(np.quantile(far, 0.95)),
        float(far.max()),
        rmse,
        max_code,
        float(-20 * np.log10(parts)) if parts > 0 else float("inf"),
        white,
        np.ascontiguousarray(np.minimum(1, far / white), np.float32),
    )


_EMBERS = np.array([[0, 0, 0], [40, 40, 44], [122, 56, 40], [214, 116, 34], [246, 214, 120], [255, 255, 246]], np.float32)


def picture_of(difference: Difference) -> NDArray[np.uint8]:
    """Differences to look at, uint8, shape (H, W, 3), sRGB: black is equal, then embers, white is `Difference.white`.

    >>> from silent_loom.core.weave.threads import spec
    >>> same = np.zeros((2, 2, 1), np.float32)
    >>> int(picture_of(differences(same, same, spec("roughness"))).max())
    0
    """
    return ember_codes(difference.picture)


def ember_codes(picture: Floats) -> NDArray[np.uint8]:
    """Values 0…1 as embers, uint8, shape (H, W, 3), sRGB: black is 0, white is 1.

    >>> ember_codes(np.float32([[0, 1]])).tolist()
    [[[0, 0, 0], [255, 255, 246]]]
    """
    at = np.sqrt(picture) * (len(_EMBERS) - 1)  # small ones are to be seen, too
    low = np.minimum(at.astype(np.int64), len(_EMBERS) - 2)
    part = (at - low)[..., None]
    return np.rint(_EMBERS[low] * (1 - part) + _EMBERS[low + 1] * part).astype(np.uint8)
