"""What a file is: its facts, the kind of map it seems to be, and figures of how it would repeat."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.files import Picture
from silent_loom.core.files.smaller import middle, smaller
from silent_loom.core.look.meters.repetition_meter import repetition
from silent_loom.core.look.meters.seam_meter import seams
from silent_loom.core.look.quality import sharpness
from silent_loom.core.moving.resample import reduce_area
from silent_loom.core.opening.green import green_direction
from silent_loom.core.opening.looks import packing
from silent_loom.core.report.report import report
from silent_loom.core.steps.photo.light import evenness


@dataclass(frozen=True)
class KindGuess:
    """Kind told from content alone, and how sure (0…1)."""

    kind: Kind
    confidence: float


def _squash(x: float) -> float:
    return float(np.clip(x, 0.0, 1.0))


def guess_kind(picture: Picture) -> KindGuess:
    """Tell colour, data, normals and ids apart by their samples.

    Normals have unit length around +z; ids have few values, all of them in flat areas; data has one channel, or three
    equal ones, or float samples beyond 0…1 of one channel; everything else is colour.

    >>> from silent_loom.core.files.profile import SRGB
    >>> guess_kind(Picture(np.full((4, 4, 3), [128, 128, 255], np.uint8), None, SRGB, 8, "png")).kind
    <Kind.NORMAL: 'normal'>
    """
    step = max(1, int(np.sqrt(picture.width * picture.height / 250_000)))
    seen = replace(picture, samples=np.ascontiguousarray(picture.samples[::step, ::step]))
    s = seen.data()
    if s.shape[2] == 3:
        n = seen.directions()
        length = np.sqrt(np.square(n).sum(2))
        near = float((np.abs(length - 1) < 0.06).mean())
        up = float((n[..., 2] > 0).mean())
        lean = float(np.hypot(n[..., 0].mean(), n[..., 1].mean()))
        if near > 0.8 and up > 0.97 and lean < 0.35:
            return KindGuess(Kind.NORMAL, _squash(0.5 + 0.5 * (near - 0.8) / 0.2))
        # The third component may have been lost or flattened; then its mean direction still tells
        if up > 0.99 and float(n[..., 2].mean()) > 0.7 and lean < 0.12 and near > 0.4:
            return KindGuess(Kind.NORMAL, 0.6)
    codes = np.rint(s * 255).astype(np.int32)
    flat = codes[..., 0] if s.shape[2] == 1 else (codes[..., 0] << 16) | (codes[..., 1] << 8) | codes[..., 2]
    values, counts = np.unique(flat, return_counts=True)
    pairs = [part for part in (flat[:, 1:] == flat[:, :-1], flat[1:] == flat[:-1]) if part.size]
    same = float(np.mean([part.mean() for part in pairs])) if pairs else 1.0
    if 2 < len(values) <= 4096 and same > 0.9 and counts.max() < 0.9 * flat.size:
        return KindGuess(Kind.ID, _squash(same))
    if s.shape[2] == 1:
        return KindGuess(Kind.DATA, 0.95)
    spread = float(np.abs(s - s.mean(2, keepdims=True)).mean())
    if spread < 1e-4:
        return KindGuess(Kind.DATA, 0.8)
    return KindGuess(Kind.COLOUR, _squash(0.6 + 8 * spread))


def inspect(picture: Picture) -> dict[str, Any]:
    """Facts and figures of a decoded file, as ``silent-loom inspect --json`` prints them.

    Returns
    -------
    dict
        width, height, bits, channels, kind, kind_confidence, evenness (L* units, 0 is even), sharpness (below
        0.1 is blur, from 0.12 on sharp), seam_x, seam_y (up to 1 the join cannot be told), repetition (0…1); of a normal map
        green ('up', 'down', 'unknown') and green_confidence; of others packed and looks_like, a word for every channel;
        of colour a photo report.

    >>> from silent_loom.core.files.profile import SRGB
    >>> told = inspect(Picture(np.full((64, 64, 3), 90, np.uint8), None, SRGB, 8, "png"))
    >>> told["width"], told["kind"], told["repetition"]
    (64, 'data', 0.0)
    """
    guess, whole = guess_kind(picture), picture
    picture = smaller(whole)
    if guess.kind is Kind.COLOUR:
        image = Image(picture.colour(), Kind.COLOUR, wraps=True)
    elif guess.kind is Kind.NORMAL:
        image = Image(picture.directions(), Kind.NORMAL, wraps=True)
    else:
        image = Image(np.ascontiguousarray(picture.data()[..., :1]), Kind.DATA, wraps=True)
    as_light = Image(
        picture.colour() if picture.bits < 32 or picture.samples.shape[2] == 3 else np.repeat(picture.data()[..., :1], 3, 2),
        Kind.COLOUR,
    )
    fine = middle(whole, 4096) if picture is not whole else None  # sharpness is in the pixels themselves
    light = as_light.pixels if fine is None else fine.colour()
    grey = encode_srgb(np.clip(light, 0, 1).mean(2)).astype(np.float32)
    measured = image
    if max(image.width, image.height) > 4096:
        scale = 4096 / max(image.width, image.height)
        measured = Image(
            reduce_area(image.pixels, round(image.width * scale), round(image.height * scale)).reshape(
                round(image.height * scale), round(image.width * scale), -1
            ),
            image.kind,
            wraps=True,
        )
    tiny = min(picture.width, picture.height) < 16
    x, y = (None, None) if tiny else seams(measured)
    more: dict[str, Any] = {}
    if guess.kind is Kind.NORMAL:
        told = green_direction(image.pixels)
        more = {"green": told.way, "green_confidence": told.confidence, "green_why": told.why}
    elif guess.kind in (Kind.COLOUR, Kind.DATA):
        shared = packing(np.clip(picture.data(), 0, 1), picture.alpha_plane())
        more = {
            "packed": shared.packed,
            "packed_confidence": shared.confidence,
            "looks_like": [
                x.words() if shared.packed or picture.channels < 3 else "colour" if k < 3 else x.words()
                for k, x in enumerate(shared.channels)
            ],
        }
        if guess.kind is Kind.COLOUR and not shared.packed and not tiny:
            more["photo_report"] = report(whole).as_dict()
    kind, sure = str(guess.kind), guess.confidence
    if more.get("packed"):  # several grey maps: whatever they look like together, they are no colour
        kind, sure = str(Kind.DATA), float(more["packed_confidence"])
    return {
        "width": whole.width,
        "height": whole.height,
        "bits": picture.bits,
        "channels": picture.channels,
        "kind": kind,
        "kind_confidence": round(sure, 3),
        "evenness": round(evenness(as_light), 3),
        "sharpness": round(sharpness([grey]).figure, 3) if not tiny else None,
        "seam_x": round(x.figure, 3) if x else None,
        "seam_y": round(y.figure, 3) if y else None,
        "repetition": round(repetition(image), 3) if not tiny else None,
        **more,
        "warnings": list(picture.warnings),
    }
