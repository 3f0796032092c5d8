"""Clean: a marked region filled from the rest of the surface, or a motif freed from its background."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.parallel import Task, copied
from silent_loom.core.look.features import features
from silent_loom.core.moving.resample import blur
from silent_loom.core.moving.slopes import normals_of, slopes_of
from silent_loom.core.tiling.pieces.patchfill import fill
from silent_loom.core.weave.decision import NONE, Decision
from silent_loom.core.weave.marks import Region, mask_of
from silent_loom.core.weave.settings import Settings, setting
from silent_loom.core.weave.step import CarryStep, Geometry, Sheet

ndimage = later("scipy.ndimage")


class CleanSettings(Settings):
    regions: tuple[Region, ...] = setting(
        (), "Marked regions: drawn round, painted, or picked by their tone.", title="Marked regions", shape="regions"
    )
    by: Literal["marks", "lights", "darks"] = setting(
        "marks",
        "What is filled: what was marked, or clipped lights or darks as well.",
        title="What is filled",
        names={"marks": "the marks", "lights": "marks and clipped lights", "darks": "marks and clipped darks"},
    )
    grow: float = setting(
        0.004,
        "How far beyond the marks the filling goes.",
        title="Beyond the marks",
        unit="of the sheet",
        low=0,
        high=0.05,
        step=0.001,
        soft=(0, 0.02),
    )
    feather: float = setting(0.003, "Softness of its border.", unit="of the sheet", low=0.0005, high=0.03, step=0.0005)
    into: Literal["surface", "colour"] = setting(
        "surface", "Filled from the rest of the surface; or everything outside the marks becomes one colour.", title="Fill with"
    )
    colour: str = setting("#808080", "The colour around a freed motif.", shape="colour", when={"into": ["colour"]})


def rgb_of(text: str) -> Floats:
    """Linear light of a colour written as #rrggbb.

    Raises
    ------
    ValueError

    >>> rgb_of("#ff0000").tolist()
    [1.0, 0.0, 0.0]
    """
    from silent_loom.core.base.srgb import decode_srgb

    code = text.strip().lstrip("#")
    if len(code) != 6:
        raise ValueError(f"'{text}' is not a colour such as #8090a0")
    return decode_srgb(np.array([int(code[i : i + 2], 16) / 255 for i in (0, 2, 4)])).astype(np.float32)


class Clean(CarryStep[CleanSettings]):
    """Patch search for what is marked, the same sources for every thread.

    Notes
    -----
    Where each texel of the region is copied from is decided once, at the decision size, by `patchfill.fill`; at other sizes
    the same displacements are used. The border is blended over a feather, after what differs in broad tone between the
    copied and the old surroundings is taken out (a membrane; Pérez, Gangnet & Blake 2003), solved for each thread.
    """

    name = "clean"
    can = frozenset({"fill"})
    title = "Clean"
    words_for_it = ("remove", "stain", "label", "spot", "dirt", "fill", "hole", "erase", "mark")
    sentence = "Fills a stain, a label, a scratch from the rest of the surface, or frees a motif from what is around it."
    decides = True
    Settings = CleanSettings

    def words(self, s: CleanSettings) -> str:
        n = len(s.regions)
        what = f"{n} region{'s' if n != 1 else ''}"
        return what if s.by == "marks" else f"{what}, clipped {s.by}"

    def idle(self, s: CleanSettings) -> bool:
        return not s.regions and s.by == "marks"

    def decide(self, s: CleanSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        first = next(iter(inputs.values()))
        w, h = first.width, first.height
        base = inputs.get("base")
        mask = mask_of(s.regions, base, w, h, wraps=geometry.wraps)
        if s.by != "marks" and base is not None:
            top = base.pixels.max(2)
            mask |= top >= 0.99 if s.by == "lights" else top <= 0.002
        grow = round(s.grow * max(w, h))
        if grow and s.into == "surface":
            mask = ndimage.binary_dilation(mask, iterations=grow)
        share = float(mask.mean())
        if share == 0:
            return Decision({}, {"share_percent": 0.0}, ("Nothing is marked.",))
        if s.into == "colour":
            return Decision({"keep": np.packbits(mask), "shape": np.array([h, w])}, {"share_percent": round(100 * share, 3)})
        if share > 0.6:
            raise WeaveError(
                "more than half of the sheet is marked", self.title, "Mark less: the rest is what it is filled from."
            )
        planes = np.concatenate([features(i) for i in inputs.values() if i.kind is not Kind.ID], 2)
        try:
            sources = fill(np.ascontiguousarray(planes), mask, geometry.wraps, None, task)
        except ValueError as error:
            raise WeaveError(str(error), self.title, "Mark less.") from None
        return Decision(
            {"hole": np.packbits(mask), "shape": np.array([h, w]), "sources": sources}, {"share_percent": round(100 * share, 3)}
        )

    def carry(self, s: CleanSettings, image: Image, decision: Decision, sheet: Sheet, task: Task) -> Image:
        if decision is NONE or not decision.arrays:
            return image
        h, w = (int(v) for v in decision.arrays["shape"])
        key = "keep" if s.into == "colour" else "hole"
        mask = np.unpackbits(decision.arrays[key], count=h * w).reshape(h, w).astype(bool)
        if s.into == "colour":
            if image.kind is not Kind.COLOUR:
                return image
            soft = _soft(mask, image.width, image.height, s.feather)[..., None]
            return image.with_pixels(image.pixels * soft + rgb_of(s.colour) * (1 - soft))
        return image.with_pixels(_filled(image, mask, decision.arrays["sources"], s.feather, task))


def _soft(mask: NDArray[np.bool_], width: int, height: int, feather: float) -> Floats:
    soft = cv2.resize(mask.astype(np.float32), (width, height), interpolation=cv2.INTER_LINEAR)
    out = blur(soft, feather * max(width, height), False)
    return np.clip(out, 0, 1).astype(np.float32)


def _filled(image: Image, mask: NDArray[np.bool_], sources: NDArray[np.int32], feather: float, task: Task) -> Floats:
    h, w = mask.shape
    big_h, big_w = image.height, image.width
    sigma = max(0.6, feather * max(big_w, big_h))
    pad = int(np.ceil(3 * sigma)) + 2
    # Only the boxes around the holes are worked on
    moves = np.zeros((h, w, 2), np.int32)
    places = np.argwhere(mask)
    moves[mask] = sources - places
    nearest = ndimage.distance_transform_edt(~mask, return_distances=False, return_indices=True)
    moves = moves[nearest[0], nearest[1]]
    values = slopes_of(image.pixels, task) if image.kind is Kind.NORMAL else image.pixels
    out = copied(values)
    labels, count = ndimage.label(ndimage.binary_dilation(mask, iterations=2))
    for box in ndimage.find_objects(labels, count):
        task.checkpoint()
        y0, y1 = int(box[0].start * big_h / h) - pad, int(np.ceil(box[0].stop * big_h / h)) + pad
        x0, x1 = int(box[1].start * big_w / w) - pad, int(np.ceil(box[1].stop * big_w / w)) + pad
        y0, x0, y1, x1 = max(0, y0), max(0, x0), min(big_h, y1), min(big_w, x1)
        yy, xx = np.mgrid[y0:y1, x0:x1]
        at_y, at_x = np.minimum((yy + 0.5) * h / big_h, h - 1).astype(int), np.minimum((xx + 0.5) * w / big_w, w - 1).astype(int)
        move = moves[at_y, at_x]
        sy = yy + np.rint(move[..., 0] * (big_h / h)).astype(int)
        sx = xx + np.rint(move[..., 1] * (big_w / w)).astype(int)
        sy, sx = (sy % big_h, sx % big_w) if image.wraps else (np.clip(sy, 0, big_h - 1), np.clip(sx, 0, big_w - 1))
        brought = values[sy, sx]
        inside = mask[at_y, at_x]
        if image.kind is Kind.ID:
            out[y0:y1, x0:x1][inside] = brought[inside]
            continue
        old = values[y0:y1, x0:x1]
        soft = np.clip(blur(inside.astype(np.float32), sigma, False) * 2, 0, 1)
        soft = np.maximum(soft, inside).astype(np.float32)[..., None]
        brought = brought + _membrane(old - brought, inside, sigma)
        out[y0:y1, x0:x1] = old + soft * (brought - old)
    return normals_of(out, task) if image.kind is Kind.NORMAL else np.ascontiguousarray(out, np.float32)


def _membrane(difference: Floats, inside: NDArray[np.bool_], sigma: float) -> Floats:
    """The difference known on a ring around a hole, gone on with smoothly over it."""
    ring = (~inside).astype(np.float32)
    out = np.zeros_like(difference)
    done = np.zeros(ring.shape, np.float32)
    for s in (2.0 * sigma, 6.0 * sigma, 18.0 * sigma, 54.0 * sigma):
        weight = blur(ring, s, False)
        value = blur(np.ascontiguousarray(difference * ring[..., None]), s, False) / np.maximum(weight, 1e-5)[..., None]
        share = np.clip(weight * 4, 0, 1) * (1 - done)
        out += share[..., None] * value
        done += share
    return out.astype(np.float32)
