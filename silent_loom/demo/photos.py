"""Photographs of known surfaces: light from one side, a tilted camera, vignette, patches, noise, JPEG with EXIF."""

from __future__ import annotations

import io
from dataclasses import dataclass, field

import cv2
import numpy as np
from numpy.typing import NDArray
from PIL import Image as Pillow
from PIL.TiffImagePlugin import IFDRational

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.maps.horizon import sky_visibility
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.demo.all_surfaces import SURFACES
from silent_loom.demo.shots import Shot, camera, corners_of
from silent_loom.demo.surfaces import Surface, noise


@dataclass(frozen=True)
class Photo:
    """A photo and the truth behind it.

    Attributes
    ----------
    pixels : uint8 array, shape (H, W, 3), sRGB
    corners : array, shape (4, 2)
        Where the rectangle's corners are, clockwise from top left, texel centres.
    focal_px : float
    surface : Surface
        The flat rectangle itself.
    light : float32 array
        Illumination that was laid over the photo.
    """

    pixels: NDArray[np.uint8]
    corners: NDArray[np.float64]
    focal_px: float
    shot: Shot
    surface: Surface = field(repr=False)
    light: Floats = field(repr=False)

    def jpeg(self, quality: int = 93, exif: bool = True) -> bytes:
        """The photo as a camera would have saved it."""
        stream = io.BytesIO()
        image = Pillow.fromarray(self.pixels)
        notes = Pillow.Exif()
        notes[0x010F] = "Skerry Light stores"
        if exif:
            ifd = notes.get_ifd(0x8769)
            ifd[0x920A] = IFDRational(round(self.focal_px / self.pixels.shape[1] * 36.0 * 1000), 1000)
            ifd[0xA20E] = IFDRational(round(self.pixels.shape[1] / 36.0 * 100000), 100000)
            ifd[0xA20F] = ifd[0xA20E]
            ifd[0xA210] = 4
        image.save(stream, "JPEG", quality=quality, subsampling=0, exif=notes)
        return stream.getvalue()


def shade(surface: Surface, light_from_deg: float) -> Floats:
    """Sunlight from one side, sky from above, and the sky that the relief hides."""
    h, w = surface.height.shape
    image = Image(surface.height[..., None], Kind.DATA, surface.size_mm, False)
    n = from_height(image, 1.0).pixels
    a, e = np.deg2rad(light_from_deg), np.deg2rad(48)
    sun = np.array([np.cos(a) * np.cos(e), np.sin(a) * np.cos(e), np.sin(e)], np.float32)
    direct = np.clip(n @ sun, 0, None) / np.sin(e)
    sky = sky_visibility(surface.height, image.texel_mm, 25.0)
    return (surface.colour * (0.55 * direct + 0.45 * sky)[..., None]).astype(np.float32)


def take(shot: Shot, width: int = 2400, height: int = 1800) -> Photo:
    """Photograph a surface; the same shot gives the same photo."""
    over = 1.7  # the surface goes on beyond the rectangle, as a real one does
    texel = max(shot.size_mm[0] / width, shot.size_mm[1] / height) * 1.05
    w, h = round(shot.size_mm[0] / texel), round(shot.size_mm[1] / texel)
    mx, my = round(w * (over - 1) / 2), round(h * (over - 1) / 2)
    whole = SURFACES[shot.surface]((h + 2 * my, w + 2 * mx), texel)
    lit = shade(whole, shot.light_from_deg)
    to_photo = camera(shot, width, height)
    from_sheet = to_photo @ np.array([[texel, 0, (0.5 - mx) * texel], [0, texel, (0.5 - my) * texel], [0, 0, 1]])
    factor = 2  # render larger and average: a sensor integrates
    scale = np.array([[factor, 0, (factor - 1) / 2], [0, factor, (factor - 1) / 2], [0, 0, 1.0]])
    big = cv2.warpPerspective(
        lit,
        scale @ from_sheet,
        (width * factor, height * factor),
        flags=cv2.INTER_CUBIC,
        borderMode=cv2.BORDER_REFLECT_101,
    )
    pixels = cv2.resize(big, (width, height), interpolation=cv2.INTER_AREA)
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    u, v = x / width * 2 - 1, y / height * 2 - 1
    r2 = (u * u + v * v * (height / width) ** 2) / (1 + (height / width) ** 2)
    rng = np.random.default_rng(shot.seed)
    angle = rng.uniform(0, 2 * np.pi)
    stops = shot.slope * 0.5 * (u * np.cos(angle) + v * np.sin(angle)) - shot.vignette * r2
    stops = stops + shot.patches * noise((height, width), width * 0.6, shot.seed + 1, 1)
    light = (2.0**stops).astype(np.float32)
    pixels = pixels * light[..., None]
    exposure = shot.exposure / float(np.percentile(pixels.mean(2), 90))
    pixels = pixels * exposure
    pixels = pixels + rng.normal(size=pixels.shape).astype(np.float32) * (
        shot.noise * np.sqrt(np.clip(pixels, 0, None) / 0.2 + 0.05)
    )
    codes = np.clip(np.rint(encode_srgb(np.clip(pixels, 0, 1)) * 255), 0, 255).astype(np.uint8)
    inner = Surface(
        whole.height[my : my + h, mx : mx + w],
        whole.colour[my : my + h, mx : mx + w],
        whole.roughness[my : my + h, mx : mx + w],
        (w * texel, h * texel),
    )
    return Photo(codes, corners_of(shot, width, height), shot.focal * width, shot, inner, light)
