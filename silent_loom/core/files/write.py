"""Write an image file, whole or not at all."""

from __future__ import annotations

import errno
import os
import shutil
import tempfile
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path
from typing import Any, cast

from numpy.typing import NDArray

from silent_loom.core.base.errors import REFUSALS, FileError, LoomError, refusal
from silent_loom.core.base.images import Floats
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.files.formats import DEPTHS, Depth
from silent_loom.core.files.place import drop, place
from silent_loom.core.files.writing.how import Encode, How

_codes = later("silent_loom.core.files.codes")


@dataclass(frozen=True)
class Written:
    """What became of the samples on the way into the file.

    Attributes
    ----------
    bytes : int
        Size of the file.
    clipped : int
        Samples outside 0…1 that an integer format had to cut.
    constant : bool
        True when every sample of each channel is the same.
    """

    bytes: int
    clipped: int
    constant: bool


def is_constant(samples: NDArray[Any]) -> bool:
    """True when every channel holds one value only.

    >>> import numpy as np
    >>> is_constant(np.float32([[[0.5], [0.5]]])), is_constant(np.float32([[[0.5], [0.51]]]))
    (True, False)
    """
    flat = samples.reshape(-1, samples.shape[-1])
    first = flat[0]
    if not (flat[:: max(1, len(flat) // 997)] == first).all():
        return False
    return bool((flat == first).all())


def write(
    path: str | Path,
    samples: Floats,
    *,
    fmt: str = "png",
    depth: Depth = "8",
    colour: bool,
    dither: bool = False,
    quality: int = 92,
    small: bool = False,
    palette: int = 0,
    replace: bool = False,
    task: Task = IDLE,
) -> Written:
    """Write samples to a file that appears only when it is complete.

    Parameters
    ----------
    path : path
        Must not exist unless ``replace``.
    samples : float32 array, shape (H, W, C)
        C = 1 grey, 2 grey and alpha, 3 RGB, 4 RGB and alpha (unassociated). Linear light when ``colour``.
    fmt : str
        'png', 'jpeg', 'targa', 'tiff', 'openexr', 'webp' or 'bmp'.
    depth : str
        '8' or '16' integer, 'half' or 'float'; must be one that the format has.
    colour : bool
        sRGB-encoded in integer formats and tagged so where the format can (a chunk in PNG, a profile in JPEG, TIFF and WebP);
        linear with Rec. 709 primaries, and tagged so, in EXR. Data is written as it stands, without any colour tag; WebP is
        then lossless.
    dither : bool
        For 8 bits; left out by itself when the samples are constant.
    quality : int
        JPEG and colour WebP, 1…100.
    small : bool
        Compress as far as the format can, however long that takes: PNG and TIFF.
    palette : int
        For PNG of 8 bits: at most so many colours, 2…256; 0 for all. What has no more of them stays exact.

    Raises
    ------
    FileError
        Format and depth do not go together, the file exists, or the disk refuses.
    """
    path = Path(path)
    if depth not in DEPTHS.get(fmt, ()):
        raise FileError(f"{fmt} has no {depth}-bit form", path.name, f"It has {', '.join(DEPTHS.get(fmt, ('none',)))}.")
    if path.exists() and not replace:
        raise FileError("there is already a file of this name", path.name, "Nothing is overwritten: choose another folder.")
    constant = is_constant(samples)
    clipped, codes = 0, cast(NDArray[Any], samples)
    if depth in ("8", "16"):
        codes, clipped = _codes.quantise(
            samples, depth, colour=colour, dither=dither and depth == "8" and not constant, task=task
        )
    task.checkpoint()
    handle, partial = tempfile.mkstemp(prefix=f".{path.stem}.", suffix=path.suffix, dir=path.parent)
    os.close(handle)
    how = How(fmt, depth, colour, quality, small, palette)
    try:
        _encoder(fmt)(partial, samples, codes, how, task)
        size = os.path.getsize(partial)
        place(partial, path, replace=replace)
    except FileExistsError:
        drop(partial)
        raise FileError(
            "there is already a file of this name", path.name, "Nothing is overwritten: choose another folder."
        ) from None
    except (OSError, ValueError) as error:
        drop(partial)
        raise _refused(error, path, samples.nbytes) from error
    except BaseException:
        drop(partial)
        raise
    return Written(size, clipped, constant)


def _refused(error: OSError | ValueError, path: Path, size: int) -> LoomError:
    """Why a file cannot be written: what the system says, or, where a library only says that it failed, a disk without room."""
    if isinstance(error, OSError) and error.errno in REFUSALS:
        return refusal(error, path.name)
    try:
        full = shutil.disk_usage(path.parent).free < size
    except OSError:
        full = False
    if full:
        return refusal(OSError(errno.ENOSPC, ""), path.name)
    return FileError("cannot be written", path.name, "Check the disk, the folder and its rights.")


def _encoder(fmt: str) -> Encode:
    """What writes a format; loaded when a file of it is written."""
    encode: Encode = import_module(f"silent_loom.core.files.writing.{fmt}").encode
    return encode
