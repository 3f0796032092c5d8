"""The weave that a photo begins with, and what is said of the photo for it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal

import numpy as np

from silent_loom.core.base.errors import SettingError
from silent_loom.core.files import Picture
from silent_loom.core.steps.photo.straighten import from_pixels
from silent_loom.core.ways.sources import reference
from silent_loom.core.ways.woven import check_file_setting, pairs_from
from silent_loom.core.weave import registry
from silent_loom.core.weave.rows.model import StepEntry, Weave
from silent_loom.core.weave.rows.recipes import begun, recipe


@dataclass(frozen=True)
class Start:
    """What is said of a photo.

    Attributes
    ----------
    corners : array, shape (4, 2), optional
        Clockwise from top left, texel centres, (0, 0) top left after the EXIF turn.
    extent_mm : float
        Width of the straightened rectangle, or of the whole photo without corners.
    depth_mm : float
        Of the relief, from its lowest to its highest place.
    seamless : str or None
        Method; None leaves the step off. 'suggested' and 'motif' depend on the picture: see `suggesting.with_suggestion`.
    square : bool
        Crop to a square.
    light_from : float, optional
        Where the light came from, in degrees on the straightened sheet: 0 from the right, 90 from the top.
    relief : str
        'brightness': dark is deep; 'light': relief and colour are read from the light on the photo.
    settings : mapping
        Settings by step, besides.
    """

    corners: np.ndarray[Any, Any] | None = None
    extent_mm: float = 1000.0
    depth_mm: float = 10.0
    seamless: str | None = "cut"
    square: bool = False
    light_from: float | None = None
    relief: Literal["light", "brightness"] = "brightness"
    settings: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)

    @property
    def recipe(self) -> str:
        """Name of the rows that it begins with."""
        return "photo_by_light" if self.relief == "light" else "photo"


def settings_from(pairs: Sequence[str]) -> dict[str, dict[str, Any]]:
    """``STEP.SETTING=VALUE`` pairs as settings by step.

    Raises
    ------
    SettingError
        A pair cannot be read, or names no step or setting.

    >>> settings_from(["height.depth_mm=4", "tone.brightness=0.1"])
    {'height': {'depth_mm': 4}, 'tone': {'brightness': 0.1}}
    """
    found: dict[str, dict[str, Any]] = {}
    for step, name, value in pairs_from(pairs):
        registry.step(step)
        check_file_setting(step, name, f"{step}.{name}")
        found.setdefault(step, {})[name] = value
    for step, values in found.items():
        registry.settings_of(step, values)
    return found


def weave_for(picture: Picture, path: Path, digest: str, start: Start = Start()) -> Weave:
    """The starting weave of a photo with the usual choices made.

    Raises
    ------
    SettingError
        A direction that is none, a setting that is not there.
    """
    brings, levels, closes = registry.able("photo"), registry.able("straighten"), registry.able("close")
    values: dict[str, dict[str, Any]] = {
        brings: {"width_mm": start.extent_mm, "alpha": "keep" if picture.alpha is not None else "drop"},
        levels: {"width_mm": start.extent_mm, "crop": "square" if start.square else "free"},
        registry.able("depth"): {"depth_mm": start.depth_mm},
    }
    if start.light_from is not None:
        if not -360 <= start.light_from <= 360:
            raise SettingError("this is no direction", "--light-from", "Give degrees: 0 from the right, 90 from the top.")
        told = next(name for name in recipe(start.recipe).step_names() if registry.can(name, "shading"))
        values.setdefault(told, {})["light_deg"] = start.light_from
    if start.corners is not None:
        values[levels]["corners"] = from_pixels(start.corners, picture.width, picture.height)
    given = {k: dict(v) for k, v in (start.settings or {}).items()}
    for step, changed in given.items():
        values.setdefault(step, {}).update(changed)
    if start.seamless not in (None, "suggested", "motif"):
        values.setdefault(closes, {}).setdefault("method", start.seamless)
    weave = begun(start.recipe, {"photo": digest}, values, {digest: reference(path, picture)})
    listed = recipe(start.recipe).step_names()
    extra = [StepEntry(step=k, settings=v) for k, v in values.items() if k not in listed]
    weave = weave.model_copy(update={"steps": (*weave.steps, *extra)})
    closing = weave.able("close")
    return weave.with_entry(closing.model_copy(update={"on": False})) if closing and start.seamless is None else weave
