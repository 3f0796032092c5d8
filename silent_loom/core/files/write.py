"""Write an image file, whole or not at all."""

from __future__ import annotations

import errno
import os
import shutil
import tempfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any, cast

import numpy as np
import OpenImageIO as oiio
from numpy.typing import NDArray
from PIL import Image as Pillow

from silent_loom.core.base.errors import REFUSALS, FileError, LoomError, refusal
from silent_loom.core.base.images import Floats
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.files.formats import Depth
from silent_loom.core.files.place import drop, place

_codes = later("silent_loom.core.files.codes")
_png = later("silent_loom.core.files.png")
_palette = later("silent_loom.core.files.palette")
_tags = later("silent_loom.core.files.tags")
DEPTHS: dict[str, tuple[Depth, ...]] = {
    "png": ("8", "16"),
    "jpeg": ("8",),
    "targa": ("8",),
    "tiff": ("8", "16", "float"),
    "openexr": ("half", "float"),
    "webp": ("8",),
    "bmp": ("8",),
}


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

    >>> is_constant(np.float32([[[0.5], [0.5]]])), is_constant(np.float32([[[0.5], [0.51]]]))
    (True, False)
    """
    flat = samples.reshape(-1, samples.shape[-1])
    first = flat[0]
    if not (flat[:: max(1, len(flat) // 997)] == first).all():
        return False
    return bool((flat == first).all())


def _oiio_write(path: str, fmt: str, values: NDArray[Any], kind: str, attributes: dict[str, Any]) -> None:
    out = oiio.ImageOutput.create(fmt)
    if out is None:
        raise ValueError(oiio.geterror())
    spec = oiio.ImageSpec(values.shape[1], values.shape[0], values.shape[2], kind)
    if values.shape[2] in (2, 4):
        spec.alpha_channel = values.shape[2] - 1
        spec.channelnames = ("Y", "A") if values.shape[2] == 2 else ("R", "G", "B", "A")
    elif values.shape[2] == 1:
        spec.channelnames = ("Y",)
    for key, value in attributes.items():
        if isinstance(value, bytes):
            spec.attribute(key, oiio.TypeDesc(f"uint8[{len(value)}]"), np.frombuffer(value, np.uint8))
        elif isinstance(value, tuple):
            spec.attribute(key, oiio.TypeDesc(f"float[{len(value)}]"), value)
        else:
            spec.attribute(key, value)
    try:
        if not out.open(path, spec) or not out.write_image(np.ascontiguousarray(values)):
            raise ValueError(out.geterror())
    finally:
        if not out.close():
            raise ValueError(out.geterror())


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
    how = _How(fmt, depth, colour, quality, small, palette)
    try:
        _encode(partial, samples, codes, how, task)
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


@dataclass(frozen=True)
class _How:
    """What a file is to be: see `write`."""

    fmt: str
    depth: Depth
    colour: bool
    quality: int
    small: bool
    palette: int


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


def _encode(partial: str, samples: Floats, codes: NDArray[Any], how: _How, task: Task) -> None:
    """Write the file under its passing name; ``codes`` are the samples themselves where the format keeps floats."""
    if how.fmt == "png":
        body = (
            _palette.palette_bytes(codes, how.palette, colour=how.colour)
            if how.palette
            else _png.png_bytes(codes, colour=how.colour, small=how.small, task=task)
        )
        Path(partial).write_bytes(body)
    elif how.fmt == "webp":
        _write_webp(partial, codes, how.colour, how.quality)
    elif how.fmt == "openexr":
        _write_exr(partial, samples, how)
    else:
        _write_plain(partial, codes, how)


def _write_exr(path: str, samples: Floats, how: _How) -> None:
    values = samples
    if samples.shape[2] in (2, 4):  # EXR keeps colour multiplied by alpha; under alpha 0 it stays as it is
        a = samples[..., -1:]
        values = np.concatenate([samples[..., :-1] * np.where(a > 0, a, 1), a], -1).astype(np.float32)
    about: dict[str, Any] = {"compression": "piz" if how.depth == "half" else "zip"}
    if how.colour:
        about["chromaticities"] = _tags.REC_709
    _oiio_write(path, how.fmt, values, how.depth, about)


def _write_plain(path: str, codes: NDArray[Any], how: _How) -> None:
    """TIFF, JPEG, TGA and BMP."""
    about: dict[str, Any] = {"oiio:UnassociatedAlpha": 1}
    if how.fmt == "tiff":
        about |= {"compression": "zip", "tiff:zipquality": 9 if how.small else 6}
    if how.fmt == "jpeg":
        about |= {"Compression": f"jpeg:{how.quality}", "jpeg:subsampling": "4:2:0" if how.colour else "4:4:4"}
        codes = codes[..., :3] if codes.shape[2] == 4 else codes[..., :1] if codes.shape[2] == 2 else codes
    if how.fmt == "targa":
        about["compression"] = "rle"
        if codes.shape[2] == 2:  # it has no grey with alpha
            codes = codes[..., [0, 0, 0, 1]]
    if how.colour and how.fmt in ("jpeg", "tiff") and how.depth != "float":
        about["ICCProfile"] = _tags.srgb_profile()
    _oiio_write(path, how.fmt, codes, {"8": "uint8", "16": "uint16"}.get(how.depth, "float"), about)


def _write_webp(path: str, codes: NDArray[Any], colour: bool, quality: int) -> None:
    """A WebP of 8-bit codes; it has no grey, so grey is three times the same."""
    planes = [Pillow.fromarray(np.ascontiguousarray(codes[..., k])) for k in range(codes.shape[2])]
    if len(planes) <= 2:
        planes = [planes[0]] * 3 + planes[1:]
    picture = Pillow.merge("RGBA" if len(planes) == 4 else "RGB", planes)
    profile = {"icc_profile": _tags.srgb_profile()} if colour else {}
    picture.save(path, "WEBP", lossless=not colour, quality=quality if colour else 60, exact=True, method=3, **profile)
