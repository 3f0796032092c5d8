"""What a photo shows, in two or three words, for whoever has to tell many of them apart: 'Grey courses', 'Brown grain'."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.colour import lab
from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.look.features import features
from silent_loom.core.look.fibres import running
from silent_loom.core.look.motif.beat import TOLD, beat_across
from silent_loom.core.moving.resample import at_most, blur
from silent_loom.core.tiling.cutting.layers import FULL, layers_of

SIDE = 384
"""Texels along the longer side at which a photo is looked at."""
GREY = 9.0
"""CIE chroma below which a colour is grey, black or white."""
HUES = (
    (25.0, "red"), (48.0, "red-brown"), (70.0, "brown"), (105.0, "yellow"), (165.0, "green"), (230.0, "teal"), (300.0, "blue"),
    (345.0, "purple"),
)  # fmt: skip
"""Names of hues up to an angle in CIE L*a*b*, in degrees."""
GREYS = ((20.0, "black"), (38.0, "dark grey"), (66.0, "grey"), (86.0, "pale grey"), (1000.0, "white"))
"""Names of what has no hue, up to a lightness L*."""
RUNNING, JOINTED, EVEN = 0.5, 0.05, 0.8
"""From where on a surface is said to run one way, to have joints, to be even."""


def likeness(image: Image, task: Task = IDLE) -> str:
    """The colour and the kind of a surface.

    Parameters
    ----------
    image : Image
        Of the kind 'colour', linear light.

    >>> from silent_loom.core.base.images import Kind
    >>> likeness(Image(np.full((64, 64, 3), (0.02, 0.1, 0.03), np.float32), Kind.COLOUR))
    'Green even surface'
    """
    small = at_most(image, SIDE, task)
    return f"{_colour(small)} {_kind(small, task)}".capitalize()


def _colour(image: Image) -> str:
    light, a, b = (float(v) for v in np.median(lab(image.pixels).reshape(-1, 3), 0))
    chroma, turn = float(np.hypot(a, b)), float(np.degrees(np.arctan2(b, a))) % 360
    if chroma < GREY:
        return next(name for limit, name in GREYS if light < limit)
    name = next((name for limit, name in HUES if turn < limit), "red")
    return f"dark {name}" if light < 25 else f"pale {name}" if light > 78 else name


def _kind(image: Image, task: Task) -> str:
    planes = features(image)
    if min(image.width, image.height) < 32:
        return "surface"
    whole = float(np.var(planes, (0, 1)).sum())
    if whole < 1e-5:
        return "even surface"
    across, down = beat_across(planes, task), beat_across(np.ascontiguousarray(planes.transpose(1, 0, 2)), task)
    if max(across.strength, down.strength) >= TOLD:
        return "ribs" if across.strength > down.strength and running(planes, 0) > 0.2 else "courses"
    if max(running(planes, 0), running(planes, 1)) > RUNNING:
        return "grain running one way"
    broad = float(np.var(blur(planes, 0.02 * SIDE, False), (0, 1)).sum())
    if broad > EVEN * whole:
        return "even surface"
    jointed = float(layers_of(planes, max(image.width, image.height) / FULL).line.mean()) >= JOINTED
    return "jointed surface" if jointed else "grain"
