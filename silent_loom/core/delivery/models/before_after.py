"""What a delivered material changes in the texture of a model: the base colour it came with, the new one, and how far apart."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.base.srgb import decode_srgb, encode_srgb
from silent_loom.core.delivery.models.dressing import Dress
from silent_loom.core.delivery.proving.difference import Difference, differences, ember_codes
from silent_loom.core.files.gltf_file import codes_of
from silent_loom.core.files.png import png_bytes
from silent_loom.core.form.bake.bake import Order, bake
from silent_loom.core.form.bake.pictures import source_of
from silent_loom.core.form.bake.targets import Target
from silent_loom.core.form.model import Model
from silent_loom.core.form.uv.raster import rasterised
from silent_loom.core.moving.resample import resize
from silent_loom.core.weave.threads import spec

LARGEST = 2048
"""Texels along a side at which two textures are held over each other at most."""


@dataclass(frozen=True)
class BeforeAfter:
    """The base colour of a model before and after, in one UV set.

    Attributes
    ----------
    before, after : float32 array, shape (H, W, 3)
        sRGB codes, 0…1. Between islands both are the same.
    difference : Difference
        In ΔE00, of the texels of islands that get a material.
    picture : float32 array, shape (H, W)
        0 where nothing changes, 1 where it does by `difference.white` or more.
    textured : tuple of str
        Materials of the model that came with a texture; the others had one colour.
    """

    before: Floats = field(repr=False)
    after: Floats = field(repr=False)
    difference: Difference
    picture: Floats = field(repr=False)
    textured: tuple[str, ...]

    @property
    def words(self) -> str:
        """What changed, in a line."""
        d = self.difference
        of = f"its texture ({', '.join(self.textured)})" if self.textured else "the one colour it came with"
        return f"Against {of} the base colour changes by {d.mean:.1f} ΔE00 on the average, {d.p95:.1f} at the 95th percentile"

    def write(self, folder: Path, name: str) -> list[str]:
        """Write ``NAME_before.png``, ``NAME_after.png`` and ``NAME_changed.png``; their names."""
        pictures = {
            "before": np.rint(255 * self.before).astype(np.uint8),
            "after": np.rint(255 * self.after).astype(np.uint8),
            "changed": ember_codes(self.picture),
        }
        for what, codes in pictures.items():
            (folder / f"{name}_{what}.png").write_bytes(png_bytes(codes, colour=True))
        return [f"{name}_{what}.png" for what in pictures]


def before_after(
    model: Model, path: Path, dresses: Mapping[int, Dress], size: int = 1024, uv: str = "", task: Task = IDLE
) -> BeforeAfter:
    """Hold the base colour that a model came with against the one that delivered materials give it.

    Parameters
    ----------
    model : Model
    path : path
        Its file: textures are found in it or beside it.
    dresses : mapping of int to Dress
        Delivered materials by slots of the model.
    size : int
        Texels along a side; `LARGEST` at most.
    uv : str
        The UV set that the materials were made for.

    Raises
    ------
    LoomError
        It has no such UVs.
    FileError
        A delivered picture cannot be read.

    Notes
    -----
    What the model came with is looked up through the first UV set and baked into this one, so that both lie in one square even
    where the model was unwrapped anew.

    >>> import tempfile
    >>> from silent_loom.core.form.model import plate
    >>> folder = tempfile.TemporaryDirectory()
    >>> found = before_after(plate(), Path(folder.name) / "plate.obj", {}, 4)
    >>> found.after.shape, found.difference.max
    ((4, 4, 3), 0.0)
    """
    size = min(size, LARGEST)
    own = source_of([(model, path)])
    pictures: dict[str, Image] = {}

    def keep(target: Target, image: Image) -> None:
        pictures[target.name] = image

    bake(model, own, Order(("colour",), (size, size), uv), keep, task.part(0.0, 0.8))
    before = encode_srgb(pictures["colour"].pixels).astype(np.float32)
    after = before.copy()
    triangle = rasterised(model.uv(uv).at_corners(), size, size, task.part(0.8, 0.9)).triangle
    slot = np.where(triangle >= 0, model.triangle_slot[triangle], -1)
    for k, dress in dresses.items():
        there = slot == k
        after[there] = _base(dress, size)[there]
    changed = np.isin(slot, list(dresses))
    texels = changed.nonzero()
    if not len(texels[0]):
        texels = np.ones(slot.shape, bool).nonzero()
    difference = differences(before[texels][None], after[texels][None], spec("base"))
    picture = np.zeros(slot.shape, np.float32)
    picture[texels] = difference.picture[0]
    textured = tuple(model.slots[s].name for _, s in sorted(own.pictures)) if own is not None else ()
    return BeforeAfter(before, after, difference, picture, textured)


def _base(dress: Dress, size: int) -> NDArray[np.float32]:
    """The delivered base colour as sRGB codes, shape (N, N, 3)."""
    slot = dress.surface.slots.get("base")
    if slot is None:
        value = np.array(dress.surface.values.get("base", (0.5, 0.5, 0.5)))
        return np.broadcast_to(encode_srgb(value).astype(np.float32), (size, size, 3)).copy()
    codes = codes_of(dress.folder / slot.file)[..., list(slot.channels)]
    codes = np.clip((codes - slot.offset) / slot.scale, 0, None)
    if dress.surface.encodings.get(slot.file) != "linear":
        codes = decode_srgb(codes)
    light = Image(codes.astype(np.float32), Kind.COLOUR, (1.0, 1.0), False)
    return encode_srgb(resize(light, size, size).pixels).astype(np.float32)
