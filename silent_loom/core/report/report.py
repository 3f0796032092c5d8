"""Photo report: what is right and wrong with a photo for this job, what it will do to the result, and what mends it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.colour import lab
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.files import Picture
from silent_loom.core.look.motif.beat import beats
from silent_loom.core.look.motif.grid import fit_grid
from silent_loom.core.look.motif.lattice import find_lattice
from silent_loom.core.look.quality import blockiness, noise_level, sharpness
from silent_loom.core.look.tilt import most_contrast, tilt
from silent_loom.core.moving.resample import reduce_area
from silent_loom.core.steps.photo.light import evenness, illumination

SIDE = 1024
LEVEL = (0.4, 2.0)
"""Degrees that a photo may be turned by before it is noted, and before it has to be mended."""
BLOTCHY = 30.0
"""Per cent that light varies by in patches, from which taking a third of them out leaves a sheet blotchy."""
CELLS = 16


@dataclass(frozen=True)
class Cure:
    """The step that mends a finding, and its settings."""

    step: str
    settings: dict[str, Any]
    words: str
    at_most: bool = False
    """Less of a number does it, too: then nothing that was lowered already is raised again."""
    at_least: bool = False
    """More of a number does it, too."""

    def changes(self, settings: Mapping[str, Any]) -> dict[str, Any]:
        """What to set in a row of the step that has these settings."""
        if not self.at_most:
            return self.settings
        return {k: min(v, settings[k]) if isinstance(settings.get(k), int | float) else v for k, v in self.settings.items()}

    def done_by(self, settings: Mapping[str, Any]) -> bool:
        """Whether a row of the step that has these settings does so already. What an artist has placed (corners, a grid) counts,
        wherever it was placed."""
        if self.step == "straighten" and settings.get("corners") is not None:
            return True
        if self.at_least:
            return all(settings.get(k, v - 1) >= v for k, v in self.settings.items())
        if self.at_most:
            return all(settings.get(k, v + 1) <= v for k, v in self.settings.items())
        return all(
            settings.get(k) is not None if isinstance(v, tuple | list) else settings.get(k) == v for k, v in self.settings.items()
        )


@dataclass(frozen=True)
class Finding:
    """One thing about a photo.

    Attributes
    ----------
    code : str
        'density', 'sharpness', 'noise', 'blocks', 'lights', 'darks', 'light', 'tilt', 'turn', 'border', 'motif',
        'courses', 'crop'.
    level : str
        'good', 'note' or 'bad'.
    title, says : str
        What it is, with its figure; what it will do to the result.
    figure : float
    cure : Cure or None
    """

    code: str
    level: str
    title: str
    says: str
    figure: float = 0.0
    cure: Cure | None = None


@dataclass(frozen=True)
class Report:
    """All findings on a photo, and pictures of where.

    Attributes
    ----------
    findings : list of Finding
    light : float32 array, about 96 along the longer side
        Illumination over its mean.
    clipped : float32 arrays, shape (16, 16)
        Share of clipped lights and darks by place.
    """

    findings: list[Finding]
    light: Floats
    clipped_lights: Floats
    clipped_darks: Floats
    figures: dict[str, Any] = field(default_factory=dict)

    def as_dict(self) -> dict[str, Any]:
        """For JSON, without the pictures."""
        return {"findings": [asdict(f) for f in self.findings], **self.figures}


def _by_place(mask: NDArray[np.bool_]) -> Floats:
    return cv2.resize(mask.astype(np.float32), (CELLS, CELLS), interpolation=cv2.INTER_AREA)


def _where(cells: Floats) -> str:
    """Words for the part of the picture that holds most of something."""
    v, u = np.mgrid[0:CELLS, 0:CELLS] / (CELLS - 1.0)
    total = float(cells.sum())
    if total <= 0:
        return ""
    x, y = float((cells * u).sum() / total), float((cells * v).sum() / total)
    spread = float(np.sqrt((cells * ((u - x) ** 2 + (v - y) ** 2)).sum() / total))
    if spread > 0.33:
        return "all over"
    down = "top" if y < 0.36 else "bottom" if y > 0.64 else ""
    across = "left" if x < 0.36 else "right" if x > 0.64 else ""
    return f"at the {down} {across}".strip().replace("  ", " ") if down or across else "in the middle"


@dataclass(frozen=True)
class Light:
    """Uneven light taken apart: L* over the sheet."""

    total: float
    slope: float
    bright_side: str
    vignette: float
    patches: float


def _light(field_: Floats) -> Light:
    h, w = field_.shape
    v, u = np.mgrid[0:h, 0:w]
    u, v = (u + 0.5) / w * 2 - 1, (v + 0.5) / h * 2 - 1
    r2 = (u * u + v * v) / 2
    terms = np.stack([np.ones_like(u), u, v, r2 - r2.mean(), (r2 - r2.mean()) ** 2], -1).reshape(-1, 5)
    solved, *_ = np.linalg.lstsq(terms, field_.ravel(), rcond=None)
    plane = solved[1] * u + solved[2] * v
    radial = (terms[:, 3:] @ solved[3:]).reshape(h, w)
    rest = field_ - (terms @ solved).reshape(h, w)

    def span(a: NDArray[Any]) -> float:  # per cent of light between the 5th and the 95th percentile
        return float(100 * (np.exp(np.percentile(a, 95) - np.percentile(a, 5)) - 1))

    x, y = float(solved[1]), float(solved[2])
    angle = math.degrees(math.atan2(-y, x)) % 360
    names = ("right", "top right", "top", "top left", "left", "bottom left", "bottom", "bottom right")
    return Light(span(field_), span(plane), names[round(angle / 45) % 8], span(radial) * (1 if solved[3] < 0 else -1), span(rest))


def border(grey: Floats, colour: Floats) -> tuple[float, float, float, float]:
    """Parts of the picture, left, top, right, bottom, that are a border of one constant colour."""

    def run(lines: Floats) -> int:
        edge = np.median(lines[0], 0)
        n = 0
        for line in lines[: len(lines) // 3]:
            if np.percentile(np.abs(line - edge).max(1), 97) > 0.03:
                break
            n += 1
        # A surface that is all one colour has no border
        return 0 if n >= len(lines) // 3 else n

    h, w = grey.shape
    sides = (colour.transpose(1, 0, 2), colour, colour.transpose(1, 0, 2)[::-1], colour[::-1])
    found = [run(np.ascontiguousarray(s)) for s in sides]
    out = [n / length if n >= 2 else 0.0 for n, length in zip(found, (w, h, w, h), strict=True)]
    return out[0], out[1], out[2], out[3]


def even_area(planes: Floats) -> tuple[float, float, float, float]:
    """Largest rectangle without odd places: left, top, right, bottom as parts of the picture.

    Cells of a 24 × 24 grid are odd when their mean or their contrast lies far from the median; the largest rectangle of
    the others is found by the histogram method.
    """
    n = 24
    h, w, _ = planes.shape
    mean = cv2.resize(planes, (n, n), interpolation=cv2.INTER_AREA)
    around = cv2.resize(mean, (w, h), interpolation=cv2.INTER_LINEAR)  # differences first: squares of L* would lose them
    contrast = np.sqrt(cv2.resize(np.square(planes - around), (n, n), interpolation=cv2.INTER_AREA)).mean(2)
    odd = np.zeros((n, n))
    for k in range(3):
        middle = np.median(mean[..., k])
        odd = np.maximum(odd, np.abs(mean[..., k] - middle) / (1.4826 * np.median(np.abs(mean[..., k] - middle)) + 0.6))
    middle = np.median(contrast)
    odd = np.maximum(
        odd, np.abs(contrast - middle) / (1.4826 * np.median(np.abs(contrast - middle)) + 0.15 * middle + 0.05) * 0.8
    )
    good = odd < 4.0
    best, area = (0, 0, n, n), 0
    heights = np.zeros(n, int)
    for y in range(n):
        heights = np.where(good[y], heights + 1, 0)
        for x in range(n):
            low = n
            for x2 in range(x, n):
                low = min(low, heights[x2])
                if low == 0:
                    break
                if low * (x2 - x + 1) > area:
                    area, best = low * (x2 - x + 1), (x, y - low + 1, x2 + 1, y + 1)
    left, top, right, bottom = (float(v) / n for v in best)
    return left, top, right, bottom


def report(picture: Picture, width_mm: float | None = None, task: Task = IDLE) -> Report:
    """Everything about a photo that matters for making a map set of it.

    Parameters
    ----------
    picture : Picture
    width_mm : float, optional
        Real width of the whole photo, when it is known.
    """
    w, h = picture.width, picture.height
    scale = min(1.0, SIDE / max(w, h))
    sw, sh = max(16, round(w * scale)), max(16, round(h * scale))
    codes = picture.samples
    if codes.dtype == np.float32:
        whole = encode_srgb(np.clip(picture.colour(), 0, 1)).astype(np.float32)
    else:
        whole = codes if codes.shape[2] == 3 else np.repeat(codes, 3, 2)
    top = 1.0 if whole.dtype == np.float32 else float(np.iinfo(codes.dtype).max)
    small_codes = cv2.resize(whole, (sw, sh), interpolation=cv2.INTER_AREA).astype(np.float32) / np.float32(top)
    task.checkpoint()
    light_source = picture.half if 2 * sw <= w + 1 and 2 * sh <= h + 1 else picture.colour()
    small = reduce_area(light_source, sw, sh) if scale < 1 else light_source
    image = Image(np.ascontiguousarray(small), Kind.COLOUR, (float(w), float(h)))
    grey = small_codes.mean(2)
    findings: list[Finding] = []
    figures: dict[str, Any] = {}

    # Density
    if width_mm:
        density = w / (width_mm / 10)
        figures["pixels_per_cm"] = round(density, 3)
        level = "good" if density >= 20 else "note" if density >= 8 else "bad"
        findings.append(
            Finding(
                "density",
                level,
                f"{density:.3g} pixels a centimetre",
                "Enough for close views." if level == "good" else "Close views will show its pixels; fine from farther away.",
                density,
            )
        )

    # Sharpness, noise, blocks: from full-size parts, the sharpest counts
    parts = [p.mean(2).astype(np.float32) / np.float32(top) for p in _crops(whole)]
    sharp, noise = float(np.median([sharpness(p) for p in parts])), float(np.median([noise_level(p) for p in parts]))
    blocks = float(np.median([blockiness(p) for p in parts]))
    figures |= {"sharpness": round(sharp, 3), "noise_codes": round(noise * 255, 3), "jpeg_blocks": round(blocks, 3)}
    level = "good" if sharp >= 4 else "note" if sharp >= 1.8 else "bad"
    findings.append(
        Finding(
            "sharpness",
            level,
            f"Sharpness {sharp:.1f}",
            "Fine detail is there."
            if level == "good"
            else "Fine detail is missing: height and normals stay soft. Take fewer texels, or shoot again.",
            sharp,
        )
    )
    if noise * 255 > 2.0:
        findings.append(
            Finding(
                "noise",
                "bad" if noise * 255 > 5 else "note",
                f"Noise of {noise * 255:.1f} codes",
                "It will look like a rough surface: weigh the finest feature size down in Height.",
                noise * 255,
                Cure("height", {"fine": 0.3}, "Lower the fine features of Height", at_most=True),
            )
        )
    if blocks > 0.2:
        findings.append(
            Finding(
                "blocks",
                "bad" if blocks > 0.5 else "note",
                f"JPEG blocks, strength {blocks:.2f}",
                "Squares of eight pixels will show in height and normals: use a file with less compression, or fewer texels.",
                blocks,
                Cure("height", {"fine": 0.4}, "Lower the fine features of Height", at_most=True),
            )
        )
    task.checkpoint()

    # Clipping
    step = max(1, int(np.sqrt(w * h / 4e6)))
    sampled = whole[::step, ::step]
    lights = np.asarray((sampled >= top * 0.996).any(2))
    darks = np.asarray((sampled <= top * 0.008).all(2))
    light_cells, dark_cells = _by_place(lights), _by_place(darks)
    for code, mask, cells, word in (("lights", lights, light_cells, "lights"), ("darks", darks, dark_cells, "darks")):
        share = float(mask.mean())
        figures[f"clipped_{code}"] = round(share, 5)
        if share > 0.002:
            findings.append(
                Finding(
                    code,
                    "bad" if share > 0.02 else "note",
                    f"{100 * share:.1f} % clipped {word}, {_where(cells)}",
                    "Nothing can be read there: flat spots in every map. Clean them, or crop them away."
                    if code == "lights"
                    else "No detail there: read as deepest. Clean or crop where it matters.",
                    share,
                    Cure("clean", {"by": code}, "Fill them from the rest of the surface") if share < 0.05 else None,
                )
            )

    # Light; a border reads as a patch of light, and is gone with the border
    left, up, right, low = border(grey, small_codes)
    bordered = max(left, up, right, low) > 0
    field_ = illumination(image, 0.3, 1.0, task)
    told = _light(field_)
    even = evenness(image)
    figures |= {
        "evenness": round(even, 3),
        "light_slope_percent": round(told.slope, 2),
        "light_from": told.bright_side,
        "vignette_percent": round(told.vignette, 2),
        "patches_percent": round(told.patches, 2),
    }
    if even > 3 or told.total > 12:
        kinds = [
            (told.slope, f"a slope of {told.slope:.0f} % from the {told.bright_side}"),
            (told.vignette, f"dark corners of {told.vignette:.0f} %"),
            (told.patches, f"patches of {told.patches:.0f} %"),
        ]
        words = ", ".join(k[1] for k in sorted(kinds, reverse=True) if k[0] > 5) or "mild"
        findings.append(
            Finding(
                "light",
                "bad" if even > 8 else "note",
                f"Uneven light: {words}",
                "Once tiled it shows as a grid of light and dark.",
                even,
                Cure("light", {"amount": 1.0, "patches": 1.0}, "Even the light, its patches too", at_least=True)
                if told.patches > BLOTCHY and not bordered
                else Cure("light", {"amount": 1.0}, "Even the light"),
            )
        )
    else:
        findings.append(Finding("light", "good", f"Even light ({even:.1f} L*)", "Nothing of it will show once tiled.", even))
    task.checkpoint()

    # Border
    figures["border"] = [round(v, 4) for v in (left, up, right, low)]
    if max(left, up, right, low) > 0:
        inset = 0.5 / max(sw, sh)
        box = (left + inset * (left > 0), up + inset * (up > 0), 1 - right - inset * (right > 0), 1 - low - inset * (low > 0))
        findings.append(
            Finding(
                "border",
                "bad",
                "A border of one colour",
                "It would print as stripes in every repeat.",
                max(left, up, right, low),
                Cure("straighten", {"corners": _box(*box)}, "Trim it"),
            )
        )

    # Tilt
    lines = tilt(most_contrast(small_codes))
    figures |= {"tilt_vertical_deg": round(lines.vertical, 2), "tilt_horizontal_deg": round(lines.horizontal, 2)}
    if lines.corners is not None and max(abs(lines.vertical), abs(lines.horizontal)) > 1.5:
        worst = max(abs(lines.vertical), abs(lines.horizontal))
        findings.append(
            Finding(
                "tilt",
                "bad" if worst > 6 else "note",
                f"Seen askew: lines converge by {worst:.1f}°",
                "Elements come out larger on one side, and repeats do not fit.",
                worst,
                Cure("straighten", {"corners": lines.corners}, "Straighten by these lines"),
            )
        )
    figures["turned_deg"] = round(lines.turned, 2)
    if abs(lines.turned) > LEVEL[0]:
        findings.append(
            Finding(
                "turn",
                "bad" if abs(lines.turned) > LEVEL[1] else "note",
                f"Turned by {abs(lines.turned):.1f}° {'clockwise' if lines.turned > 0 else 'against the clock'}",
                "Courses, boards and grain run downhill, and do not meet themselves at the edges.",
                lines.turned,
                Cure("straighten", {"turn_deg": round(-lines.turned, 2)}, "Turn it level"),
            )
        )
    task.checkpoint()

    # Motif
    lattice = find_lattice(image, task)
    figures["motif"] = None
    if lattice is not None:
        grid = fit_grid(image, lattice, task)
        repeats = lattice.repeats(w, h)
        every = " × ".join(f"{r:.0f}" for r in repeats)
        across, down = repeats if lattice.free is None else (repeats[0], None) if lattice.free == 1 else (None, repeats[0])
        figures["motif"] = {
            "across_px": None if across is None else round(across, 2),
            "down_px": None if down is None else round(down, 2),
            "regular": lattice.regular,
        }
        cure = None
        way, other = ("across", "down") if lattice.free == 1 else ("down", "across")
        if grid is not None:
            cure = Cure("seamless", grid.settings(), "Keep whole repeats")
        findings.append(
            Finding(
                "motif",
                "note",
                f"A regular motif, every {every} pixels" if lattice.free is None else f"Stripes, every {every} pixels {way}",
                "Only whole repeats fit together: make it seamless by its motif."
                + ("" if lattice.free is None else f" Nothing repeats {other}, so any length will do there."),
                lattice.regular,
                cure,
            )
        )

    elif (courses := beats(image, task)) != "":
        findings.append(
            Finding(
                "courses",
                "note",
                courses,
                "No element of it comes again, but an overlap has to fit its beat: let Seamless fit the overlap, or mark whole "
                "repeats by hand there.",
            )
        )

    # Crop
    area = even_area(lab(small))
    size = (area[2] - area[0]) * (area[3] - area[1])
    figures["even_area"] = [round(v, 4) for v in area]
    if size < 0.8:
        findings.append(
            Finding(
                "crop",
                "note",
                f"The largest even area is {100 * size:.0f} % of the photo",
                "Outside it are odd places that the eye finds again in every repeat.",
                size,
                Cure("straighten", {"corners": _box(*area)}, "Crop to it") if size > 0.08 else None,
            )
        )
    order = {"bad": 0, "note": 1, "good": 2}
    findings.sort(key=lambda f: order[f.level])
    return Report(findings, np.exp(field_ - field_.mean()).astype(np.float32), light_cells, dark_cells, figures)


def _box(left: float, top: float, right: float, bottom: float) -> list[tuple[float, float]]:
    a, b, c, d = (round(float(v), 5) for v in (left, top, right, bottom))
    return [(a, b), (c, b), (c, d), (a, d)]


def _crops(codes: NDArray[Any], size: int = 512) -> list[NDArray[Any]]:
    """Four full-size parts, spread over the picture, on the grid of eight that JPEG works on."""
    h, w = codes.shape[:2]
    sh, sw = min(size, h), min(size, w)
    ys, xs = ({int(round(t * (n - s) / 8) * 8) for t in (0.15, 0.85)} for n, s in ((h, sh), (w, sw)))
    return [codes[y : y + sh, x : x + sw] for y in sorted(ys) for x in sorted(xs)]
