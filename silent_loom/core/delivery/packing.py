"""Maps packed into the channels of files."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path

import numpy as np

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.channel import value
from silent_loom.core.delivery.profile import FileSpec, Profile
from silent_loom.core.files.write import Written, write
from silent_loom.core.weave import threads
from silent_loom.core.weave.threads import ThreadSpec


def needed(profile: Profile, present: Iterable[str]) -> list[str]:
    """Threads that a profile reads and the material has, in the order in which they are best computed.

    Where a file is smaller than the others, its roughness takes up what the normals lose, so they are needed, too.

    >>> from silent_loom.core.delivery.shelf import profile
    >>> needed(profile("plain"), ["base", "height", "moss"])
    ['base', 'height']
    """
    have = set(present)
    wanted = profile.wants() & have
    if (profile.sizes or any(f.share > 1 for f in profile.files)) and "roughness" in wanted:
        wanted |= {"normal"} & have
    return threads.order(wanted)


def pack(spec: FileSpec, maps: Mapping[str, Image], meanings: Mapping[str, ThreadSpec], green: str) -> Floats:
    """Samples of one file, shape (H, W, C), 0…1; colour stays linear light.

    >>> from silent_loom.core.delivery.shelf import profile
    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(np.full((1, 1, 1), 0.25, np.float32), Kind.DATA)
    >>> wanted = next(f for f in profile("plain").files if f.threads == {"roughness"})
    >>> pack(wanted, {"roughness": image}, {"roughness": spec("roughness")}, "up").tolist()
    [[[0.25]]]
    """
    any_image = next(iter(maps.values()))
    h, w = any_image.height, any_image.width
    first = spec.channels[0].thread
    if first in maps and maps[first].kind is Kind.COLOUR and spec.whole(first):
        return maps[first].pixels
    out = np.empty((h, w, len(spec.channels)), np.float32)
    for k, channel in enumerate(spec.channels):
        out[..., k] = value(channel, maps, meanings, green)
    return out


def write_file(path: Path, spec: FileSpec, samples: Floats, task: Task = IDLE) -> Written:
    """Write packed samples as a file of a profile."""
    return write(
        path,
        samples,
        fmt=spec.format,
        depth=spec.depth,
        colour=spec.colour,
        dither=spec.dither and not spec.palette,
        quality=spec.quality,
        small=spec.compression == "small",
        palette=spec.palette,
        task=task,
    )


def as_value(
    spec: FileSpec, maps: Mapping[str, Image], meanings: Mapping[str, ThreadSpec], green: str
) -> tuple[float, ...] | None:
    """What every texel of a file holds, where all that goes into it is constant; else None.

    >>> from silent_loom.core.base.images import Kind
    >>> from silent_loom.core.delivery.profile import alone
    >>> from silent_loom.core.weave.threads import spec
    >>> maps = {"roughness": Image(np.full((2, 2, 1), 0.5, np.float32), Kind.DATA)}
    >>> as_value(alone(spec("roughness")), maps, {"roughness": spec("roughness")}, "up")
    (0.5,)
    """
    if not spec.threads <= set(maps):
        maps = {t: maps[t] for t in spec.threads & set(maps)}
    if not all(constant(maps[t]) for t in spec.threads & set(maps)):
        return None
    corner = {t: image.with_pixels(image.pixels[:1, :1]) for t, image in maps.items() if t in spec.threads}
    return tuple(float(np.asarray(value(c, corner, meanings, green)).ravel()[0]) for c in spec.channels)


LEAST_STEP = 0.5 / 255
"""Maps that vary by less, of 0…1, hold no other code than one."""


def constant(image: Image) -> bool:
    """Whether a map is the same everywhere, within half a code of 8 bits (of a unit: roughly so for heights in mm).

    >>> constant(Image(np.full((2, 2, 1), 0.5, np.float32), Kind.DATA))
    True
    """
    return bool((np.ptp(image.pixels.reshape(-1, image.pixels.shape[2]), axis=0) < LEAST_STEP).all())
