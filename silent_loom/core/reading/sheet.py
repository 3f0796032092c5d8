"""A whole sheet read at several scales: broad forms from a small copy, fine ones from the sheet itself."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.moving.resample import resize
from silent_loom.core.reading.network import BANDS, OUTPUTS
from silent_loom.core.reading.windows import Network, read

LARGEST = 1024
"""Texels along the longer side at which a sheet is read at most."""
SMALLEST = 64
"""Texels along the shorter side of the smallest copy that is read."""
STEP = BANDS[1][1] / BANDS[0][1]
"""How much smaller each copy is: its broadest band begins where that of the one before ends."""


@dataclass(frozen=True)
class Reading:
    """What was read of a sheet, at the size it was read at.

    Attributes
    ----------
    bands : tuple of float32 arrays, shape (H, W)
        Height in texels, between neighbouring `edges`; their sum is the height without its broadest part.
    edges : tuple of float
        Standard deviations of Gaussians, in texels; one more than there are bands.
    right, down : float32 arrays, shape (H, W)
        Parts of the unit normal.
    shading : float32 array, shape (H, W)
        Natural logarithm of the light on a place against that on a flat, open one.
    occlusion, roughness, border : float32 arrays, shape (H, W)
        0…1.
    unsure : float32 array, shape (H, W)
        Standard deviation that is expected of the parts of the normal.
    """

    bands: tuple[Floats, ...]
    edges: tuple[float, ...]
    right: Floats
    down: Floats
    shading: Floats
    occlusion: Floats
    roughness: Floats
    border: Floats
    unsure: Floats

    def height(self, weight: Callable[[float], float] = lambda sigma: 1.0) -> Floats:
        """Height in texels, shape (H, W), each band times what is asked for of its middle, in texels."""
        total = np.zeros_like(self.bands[0])
        for band, a, b in zip(self.bands, self.edges[:-1], self.edges[1:], strict=True):
            total += np.float32(weight(float(np.sqrt(a * b)))) * band
        return total


def read_sheet(network: Network, photo: Image, toward_deg: float | None = None, task: Task = IDLE) -> Reading:
    """Read a photo through the network.

    Parameters
    ----------
    network : callable
        See `windows.Network`.
    photo : Image, colour
        Square texels are taken for granted. Larger than `LARGEST` it is reduced first.
    toward_deg : float or None
        Where the light comes from, 0 from the right, 90 from the top; None where that is not known.

    Notes
    -----
    The sheet is read as it is and as copies that are `STEP` times smaller each, of which the broadest band is taken: a network
    that sees a few dozen texels knows broad forms from a small copy (compare the scales of Eigen, Puhrsch & Fergus 2014).

    >>> from silent_loom.core.reading.windows import SIDE
    >>> nothing = lambda window: np.zeros((len(OUTPUTS), SIDE, SIDE), np.float32)
    >>> found = read_sheet(nothing, Image(np.full((96, 96, 3), 0.2, np.float32), Kind.COLOUR, wraps=True))
    >>> len(found.bands), float(np.abs(found.height()).max())
    (3, 0.0)
    """
    longest = max(photo.width, photo.height)
    if longest > LARGEST:
        width, height = (max(1, round(n * LARGEST / longest)) for n in (photo.width, photo.height))
        photo = resize(photo, width, height, task)
    copies = [photo]
    while min(photo.width, photo.height) / STEP ** len(copies) >= SMALLEST:
        scale = STEP ** len(copies)
        copies.append(resize(photo, round(photo.width / scale), round(photo.height / scale), task))
    texels = np.cumsum([0.0] + [float(c.width * c.height) for c in copies])
    bands, edges = [], [BANDS[0][0]]
    first: dict[str, Floats] = {}
    for k, copy in enumerate(copies):
        part = task.part(float(texels[k] / texels[-1]), float(texels[k + 1] / texels[-1]))
        planes = read(network, len(OUTPUTS), copy.pixels, toward_deg, photo.wraps, part)
        said = dict(zip(OUTPUTS, planes, strict=True))
        first = first or said
        scale = photo.width / copy.width
        for name, (_, outer) in zip(("fine", "middle", "coarse"), BANDS, strict=True):
            if k and name != "coarse":
                continue
            band = said[name] * np.float32(outer * scale)
            if k:
                small = Image(np.ascontiguousarray(band[..., None]), Kind.DATA, photo.size_mm, photo.wraps)
                band = resize(small, photo.width, photo.height, task).pixels[..., 0]
            bands.append(band)
            edges.append(outer * scale)
    return Reading(
        tuple(bands),
        tuple(edges),
        first["right"],
        first["down"],
        first["shading"],
        np.clip(first["occlusion"], 0, 1),
        np.clip(first["roughness"], 0, 1),
        (1 / (1 + np.exp(-np.clip(first["border"], -30, 30)))).astype(np.float32),
        np.exp(0.5 * np.clip(first["unsure_slope"], -10, 4)).astype(np.float32),
    )
