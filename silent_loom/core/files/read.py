"""Read an image file: the right samples, or one clear error."""

from __future__ import annotations

import io
import struct
import warnings
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
import OpenImageIO as oiio
import PIL
from numpy.typing import NDArray
from PIL import Image as Pillow
from PIL import ImageCms

from silent_loom.core.base.errors import FileError
from silent_loom.core.files.chunks import png_chunks
from silent_loom.core.files.formats import WORDS, identify
from silent_loom.core.files.limits import Limits
from silent_loom.core.files.picture import Exif, Picture
from silent_loom.core.files.profile import LINEAR, SRGB, TableProfile, Transfer, _parametric, parse

_AGAIN = "It is damaged or cut short; copy or save it again from its source."
_TURNS: dict[int, tuple[bool, int]] = {
    1: (False, 0),
    2: (True, 0),
    3: (False, 2),
    4: (True, 2),
    5: (True, 1),
    6: (False, 3),
    7: (True, 3),
    8: (False, 1),
}
oiio.attribute("limits:imagesize_MB", 1 << 20)
Pillow.MAX_IMAGE_PIXELS = None  # our own limits are checked on the header


def read(path: str | Path, *, name: str | None = None, fmt: str | None = None, limits: Limits | None = None) -> Picture:
    """Decode a file at its true depth.

    Parameters
    ----------
    path : path
        The file. PNG, JPEG, TGA, TIFF, BMP, WebP, EXR or HDR.
    name : str, optional
        The name the artist knows it by, for messages and for its claimed format.
    fmt : str, optional
        The format, where the name says nothing (a stored source).
    limits : Limits, optional
        Checked on the header, before decoding.

    Returns
    -------
    Picture
        Upright, alpha apart and unassociated.

    Raises
    ------
    FileError
        Missing, empty, damaged, mislabelled, too large, or of a kind that is not read. Never anything else.
    """
    path = Path(path)
    name = path.name if name is None else name
    limits = limits or Limits()
    if path.is_dir():
        raise FileError("this is a folder", name, "Name one image file.")
    found = identify(path, name, fmt)
    if found == "png":
        _check_png_header(path, name, limits)
    try:
        if found in ("webp", "jpeg", "tiff", "bmp"):
            special = _through_pillow(path, name, found, limits)
            if special is not None:
                return special
        return _through_oiio(path, name, found, limits)
    except FileError:
        raise
    except MemoryError:
        raise FileError("there is not enough memory to decode it", name, "Make it smaller.") from None
    except Exception as error:
        raise FileError(f"cannot be decoded as {WORDS[found]} ({type(error).__name__})", name, _AGAIN) from error


def read_ahead(path: Path) -> Future[Picture]:
    """Begin to `read` a file; its errors come with the result."""
    pool = ThreadPoolExecutor(1, thread_name_prefix="reading")
    reading = pool.submit(read, path)
    pool.shutdown(wait=False)
    return reading


def _through_pillow(path: Path, name: str, fmt: str, limits: Limits) -> Picture | None:
    """WebP, and JPEG or TIFF in CMYK or L*a*b*, which need a colour engine; None for everything else."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            image: Pillow.Image = Pillow.open(path, formats=[{"webp": "WEBP", "jpeg": "JPEG", "tiff": "TIFF", "bmp": "BMP"}[fmt]])
    except (PIL.UnidentifiedImageError, OSError, SyntaxError, ValueError, struct.error, Pillow.DecompressionBombError):
        if fmt in ("webp", "bmp"):
            raise FileError(f"cannot be decoded as {WORDS[fmt]}", name, _AGAIN) from None
        return None
    limits.check(name, image.width, image.height, 4)
    if fmt not in ("webp", "bmp") and image.mode not in ("CMYK", "LAB", "YCCK"):
        return None
    profile = image.info.get("icc_profile")
    orientation = int(image.getexif().get(0x0112, 1) or 1)
    exif = _pillow_exif(image)
    notes: list[str] = []
    try:
        if image.mode in ("CMYK", "LAB", "YCCK"):
            if not profile:
                raise FileError(f"{image.mode} without a colour profile", name, "Save it as RGB.")
            image = _by_engine(image, profile)
            notes.append(f"converted from {image.info.get('was', 'CMYK')} to sRGB at 8 bits")
            profile = None
        has_alpha = image.mode in ("RGBA", "LA", "PA") or "transparency" in image.info
        grey = image.mode in ("1", "L", "LA", "I;16")
        whole = np.asarray(image.convert("RGBA" if has_alpha else "RGB"))
    except (OSError, SyntaxError, ValueError, struct.error, ImageCms.PyCMSError):
        raise FileError(f"cannot be decoded as {WORDS[fmt]}", name, _AGAIN) from None
    samples, alpha = whole[..., :3], whole[..., 3] if has_alpha else None
    if grey:
        samples = samples[..., :1]
    transfer = SRGB
    if profile:
        samples, transfer, more = _profiled(samples, profile, name)
        notes += more
    samples, alpha = _upright(samples, alpha, orientation)
    return Picture(samples, alpha, transfer, 8, fmt, exif, tuple(notes))


def _by_engine(image: Pillow.Image, profile: bytes) -> Pillow.Image:
    source = ImageCms.ImageCmsProfile(io.BytesIO(profile))
    done = ImageCms.profileToProfile(image, source, ImageCms.createProfile("sRGB"), outputMode="RGB")
    if done is None:
        raise ValueError("no conversion")
    done.info["was"] = image.mode
    return done


def _profiled(samples: NDArray[Any], profile: bytes, name: str) -> tuple[NDArray[Any], Transfer, list[str]]:
    """Samples and transfer under an embedded profile; table profiles are converted at 8 bits, said aloud."""
    try:
        transfer = parse(profile)
        if len(transfer.curves) == 3 and samples.shape[2] == 1:
            return samples, SRGB, ["its RGB colour profile was left out: the picture is grey"]
        return samples, transfer, []
    except TableProfile as found:
        if samples.dtype == np.float32 or samples.shape[2] != 3 or profile[16:20] != b"RGB ":
            raise FileError(
                f"its colour profile ({found}) cannot be applied here", name, "Save it with an sRGB profile."
            ) from None
        eight = samples if samples.dtype == np.uint8 else (samples // 257).astype(np.uint8)
        try:
            done = _by_engine(Pillow.fromarray(np.ascontiguousarray(eight)), profile)
        except (ImageCms.PyCMSError, ValueError, OSError):
            raise FileError("its colour profile is damaged", name, "Save it with an sRGB profile.") from None
        return np.asarray(done), SRGB, ["its table colour profile was applied at 8 bits"]


def _through_oiio(path: Path, name: str, fmt: str, limits: Limits) -> Picture:
    config = oiio.ImageSpec()
    config.attribute("oiio:UnassociatedAlpha", 1)
    source = oiio.ImageInput.open(f"{path}" if path.suffix else str(path), config)
    if source is None:
        oiio.geterror()
        raise FileError(f"cannot be decoded as {WORDS[fmt]}", name, _AGAIN)
    try:
        spec = source.spec()
        if source.format_name() != fmt:
            raise FileError(f"cannot be decoded as {WORDS[fmt]}", name, _AGAIN)
        if spec.depth > 1 or spec.nchannels < 1:
            raise FileError("this is not a flat picture", name, "Save it as a single flat image.")
        base = str(spec.format)
        dtype = "uint8" if base in ("uint8", "int8") else "uint16" if base in ("uint16", "int16") else "float"
        sides = _channels(list(spec.channelnames), spec.alpha_channel, spec.nchannels)
        limits.check(name, spec.width, spec.height, _bytes_needed(sides, dtype, spec))
        samples, alpha = _filled(source, spec, sides, dtype, fmt, name)
        error = source.geterror() if source.has_error else ""
        if error:
            raise FileError(f"cannot be decoded as {WORDS[fmt]}", name, _AGAIN)
        attributes = {a.name: a.value for a in spec.extra_attribs}
    finally:
        source.close()
    if fmt == "png" and dtype != "float" and path.stat().st_size < 64:
        raise FileError("cannot be decoded as PNG", name, _AGAIN)
    if alpha is not None and attributes.get("oiio:UnassociatedAlpha", 0) == 0 and fmt in ("openexr", "tiff"):
        _unassociate(samples, alpha)
    notes = mend(samples, alpha) if dtype == "float" else []
    transfer: Transfer = LINEAR if dtype == "float" else SRGB
    profile = attributes.get("ICCProfile")
    if profile is not None and dtype != "float":
        samples, transfer, more = _profiled(samples, np.asarray(profile).astype(np.uint8).tobytes(), name)
        notes += more
    elif fmt == "png":
        if dtype != "float" and b"iCCP" in png_chunks(path):
            notes.append("its colour profile is damaged and was left out: read as sRGB")
        gamma = _png_gamma(path)
        if gamma is not None:
            transfer = Transfer((_parametric(0, [gamma]),) * 3, None, f"gamma {gamma:.3f}")
    orientation = int(_number(attributes.get("Orientation", 1)) or 1)
    exif = _exif(attributes, spec.width, spec.height)
    samples, alpha = _upright(samples, alpha, orientation)
    return Picture(samples, alpha, transfer, {"uint8": 8, "uint16": 16, "float": 32}[dtype], fmt, exif, tuple(notes))


def _check_png_header(path: Path, name: str, limits: Limits) -> None:
    """Size from the first chunk, which must be there whatever follows."""
    with path.open("rb") as stream:
        head = stream.read(33)
    if len(head) < 33 or head[12:16] != b"IHDR":
        raise FileError("cannot be decoded as PNG", name, _AGAIN)
    width, height, bits, kind = struct.unpack(">IIBB", head[16:26])
    channels = {0: 1, 2: 3, 3: 3, 4: 2, 6: 4}.get(kind, 4)
    limits.check(name, width, height, channels * (2 if bits == 16 else 1))


def _channels(names: list[str], alpha_at: int, count: int) -> tuple[tuple[int, ...], int | None]:
    """Which channels of a file are its colour or grey, and which its alpha, in whatever order they come."""
    lower = [n.split(".")[-1].lower() for n in names]
    alpha = alpha_at if 0 <= alpha_at < count else None
    if {"r", "g", "b"} <= set(lower):
        return (lower.index("r"), lower.index("g"), lower.index("b")), alpha
    others = [i for i in range(count) if i != alpha]
    return tuple(others[:3] if len(others) >= 3 else others[:1] or [0]), alpha


_BAND = 16 << 20
"""Bytes of a file that are decoded at a time."""


def _bytes_needed(sides: tuple[tuple[int, ...], int | None], dtype: str, spec: Any) -> int:
    """Bytes a pixel that a file takes: its samples, the light that is made of them, and a copy where it lies on its side."""
    colour, alpha = sides
    one = {"uint8": 1, "uint16": 2, "float": 4}[dtype]
    samples = one * (len(colour) + (alpha is not None))
    turned = 1 if int(_number(spec.getattribute("Orientation") or 1) or 1) == 1 else 2
    light = 0 if dtype == "float" and len(colour) == 3 else 12
    return samples * turned + light


def _filled(
    source: Any, spec: Any, sides: tuple[tuple[int, ...], int | None], dtype: str, fmt: str, name: str
) -> tuple[NDArray[Any], NDArray[Any] | None]:
    """Samples and alpha of an open file, band by band straight into their arrays: no second copy of the whole is ever held."""
    colour, alpha_at = sides
    kind = {"uint8": np.uint8, "uint16": np.uint16, "float": np.float32}[dtype]
    samples = np.empty((spec.height, spec.width, len(colour)), kind)
    alpha = None if alpha_at is None else np.empty((spec.height, spec.width), kind)
    row = spec.width * spec.nchannels * samples.itemsize
    step = max(1, spec.tile_height or 1)
    band = max(step, _BAND // max(1, row) // step * step)
    first = spec.y
    for y in range(0, spec.height, band):
        last = min(spec.height, y + band)
        if spec.tile_width:
            right = spec.x + spec.width
            part = source.read_tiles(0, 0, spec.x, right, first + y, first + last, 0, 1, 0, spec.nchannels, dtype)
        else:
            part = source.read_scanlines(0, 0, first + y, first + last, 0, 0, spec.nchannels, dtype)
        if part is None:
            raise FileError(f"cannot be decoded as {WORDS[fmt]}", name, _AGAIN)
        part = np.asarray(part).reshape(last - y, spec.width, spec.nchannels)
        if colour == (0, 1, 2) and spec.nchannels == 3:
            samples[y:last] = part
        else:
            for k, channel in enumerate(colour):
                samples[y:last, :, k] = part[..., channel]
        if alpha is not None:
            alpha[y:last] = part[..., alpha_at]
    return samples, alpha


MOST_LIGHT = 1e6
"""Beyond this a sample is damage, not light: the sun itself is a hundred thousand times as bright as a sheet in its shade."""
LEAST_ALPHA, LEAST_FLOAT = 1e-4, 1e-7
"""Alpha below this says nothing of the colour that was multiplied by it; floats keep their digits far further down."""


def mend(samples: NDArray[Any], alpha: NDArray[Any] | None) -> list[str]:
    """Put what is around them in the place of samples that cannot be light, in place; words for what was done.

    Some bad samples would otherwise set the scale of everything that looks at the brightest one.

    >>> samples = np.array([[[0.5], [np.nan]]], np.float32)
    >>> words = mend(samples, None)
    >>> len(words), bool(np.isfinite(samples).all())
    (1, True)
    """
    notes: list[str] = []
    bad_at: list[tuple[int, int, int]] = []
    rows = max(1, _BAND // max(1, samples.shape[1] * samples.shape[2] * 4))
    for y in range(0, len(samples), rows):
        part = samples[y : y + rows]
        bad = ~(np.abs(part) <= MOST_LIGHT)
        if bad.any():
            bad_at += [(int(j) + y, int(i), int(k)) for j, i, k in np.argwhere(bad)]
            part[bad] = np.nan
    if bad_at:
        for j, i, k in bad_at:
            around = samples[max(0, j - 1) : j + 2, max(0, i - 1) : i + 2, k]
            fine = around[np.isfinite(around)]
            samples[j, i, k] = fine.mean() if fine.size else 0
        notes.append(f"{len(bad_at)} samples were no light (not numbers, or beyond {MOST_LIGHT:g}) and were mended from around")
    if alpha is not None and not np.isfinite(alpha).all():
        np.nan_to_num(alpha, copy=False, nan=1.0, posinf=1.0, neginf=0.0)
        notes.append("alpha held values that are not numbers: taken as opaque")
    return notes


def _unassociate(samples: NDArray[Any], alpha: NDArray[Any]) -> None:
    """Divide by alpha where there is any, in place; what lies under next to none was never multiplied, and stays."""
    top = 1.0 if samples.dtype == np.float32 else float(np.iinfo(samples.dtype).max)
    rows = max(1, _BAND // max(1, samples.shape[1] * samples.shape[2] * 4))
    for y in range(0, len(samples), rows):
        part, a = samples[y : y + rows], alpha[y : y + rows].astype(np.float32) / np.float32(top)
        a = np.where(a > (LEAST_FLOAT if samples.dtype == np.float32 else LEAST_ALPHA), a, 1)[..., None]
        if samples.dtype == np.float32:
            with np.errstate(all="ignore"):
                part /= a
        else:
            part[:] = np.clip(np.rint(part / a), 0, top)


def _upright(samples: NDArray[Any], alpha: NDArray[Any] | None, orientation: int) -> tuple[NDArray[Any], NDArray[Any] | None]:
    flip, quarter = _TURNS.get(orientation, (False, 0))

    def turn(a: NDArray[Any]) -> NDArray[Any]:
        if flip:
            a = a[:, ::-1]
        return np.ascontiguousarray(np.rot90(a, quarter) if quarter else a)

    return turn(samples), None if alpha is None else turn(alpha)


def _png_gamma(path: Path) -> float | None:
    """Exponent of a PNG that states a gamma and neither sRGB nor a profile (PNG 3rd edition, 11.3.2)."""
    chunks = png_chunks(path)
    if {b"sRGB", b"iCCP", b"cICP"} & chunks.keys():
        return None
    value = struct.unpack(">I", chunks[b"gAMA"][:4])[0] if len(chunks.get(b"gAMA", b"")) >= 4 else 0
    gamma = 100000.0 / value if value else None
    return None if gamma is None or abs(gamma - 2.2) < 0.02 else gamma


def _focal(focal_mm: float, plane_resolution: float, plane_unit: int, in_35mm: float, width: int, height: int) -> Exif:
    unit_mm = {2: 25.4, 3: 10.0, 4: 1.0, 5: 0.001}.get(plane_unit, 25.4)
    if focal_mm > 0 and plane_resolution > 0:
        focal = focal_mm * plane_resolution / unit_mm
        if 0.2 * max(width, height) < focal < 50 * max(width, height):
            return Exif(focal, 0.005)
    if in_35mm > 0:
        # Equivalent by the diagonal angle of view (CIPA DCG-001); the tag holds whole millimetres.
        return Exif(in_35mm * float(np.hypot(width, height)) / float(np.hypot(36, 24)), max(0.005, 0.29 / in_35mm))
    return Exif()


def _number(value: Any) -> float:
    try:
        return float(value[0] if isinstance(value, list | tuple) else value)
    except (TypeError, ValueError, ZeroDivisionError, IndexError):
        return 0.0


def _exif(attributes: dict[str, Any], width: int, height: int) -> Exif:

    def get(key: str) -> float:
        return _number(attributes.get(key, 0))

    return _focal(
        get("Exif:FocalLength"),
        get("Exif:FocalPlaneXResolution"),
        int(get("Exif:FocalPlaneResolutionUnit")),
        get("Exif:FocalLengthIn35mmFilm"),
        width,
        height,
    )


def _pillow_exif(image: Pillow.Image) -> Exif:
    tags = image.getexif().get_ifd(0x8769)

    def get(key: int) -> float:
        return _number(tags.get(key, 0))

    return _focal(get(0x920A), get(0xA20E), int(get(0xA210)), get(0xA405), image.width, image.height)
