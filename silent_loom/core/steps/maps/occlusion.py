"""Occlusion: how much of the sky the height hides."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from types import MappingProxyType
from typing import Literal

import numpy as np

from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.maps.horizon import sky_of
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.weave import threads
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import MapStep, Sheet

BENT = "bent_normal"


class OcclusionSettings(Settings):
    radius_mm: float = setting(
        30.0,
        "Occluders farther than this, measured along the sheet, are left out.",
        title="Radius",
        unit="mm",
        low=0.01,
        high=1e5,
        soft=(1, 300),
        log=True,
    )
    strength: float = setting(1.0, "How much of it is kept; it never brightens.", low=0, high=1, step=0.01)
    height_scale: float = setting(
        1.0, "Factor on the height, for this map only.", title="Height scale", low=0, high=20, soft=(0, 4), step=0.01
    )
    azimuths: Literal[16, 32] = setting(
        16,
        "Directions in which the horizon is sought.",
        title="Quality",
        names={16: "16 directions", 32: "32 directions, slower"},
    )
    bent: bool = setting(
        False, "Makes the mean direction of the open sky as well, as a normal map of its own.", title="Bent normal"
    )
    reads_from: ThreadName = setting(
        "height", "The height it is made from.", title="Made from", shape="thread", kinds=(Kind.DATA,)
    )
    read: ThreadName = setting(
        "none",
        "Openness that was read from light: it takes over where the height is unsure.",
        title="Openness read",
        shape="thread",
        kinds=(Kind.DATA,),
        also=("none",),
    )
    sure: ThreadName = setting(
        "sureness",
        "Where the height is sure, 0 to 1.",
        title="Sureness",
        shape="thread",
        kinds=(Kind.DATA,),
    )


class Occlusion(MapStep[OcclusionSettings]):
    """1 − strength · (1 − v), v the light of an even sky over the wrapping height field.

    Light is weighted by the cosine to the local normal of the height, as a path tracer bakes it; see `horizon.sky_of`. The
    bent normal is the mean direction from which that light comes.
    """

    name = "occlusion"
    title = "Occlusion"
    words_for_it = ("ao", "shadow", "crevice", "ambient", "bent normal", "sky", "ambient occlusion", "contact")
    sentence = "How much of the sky each point sees past the relief around it."
    version = 2
    asked = MappingProxyType({BENT: {"bent": True}})
    Settings = OcclusionSettings

    def words(self, s: OcclusionSettings) -> str:
        return f"radius {s.radius_mm:g} mm" + (", bent normal" if s.bent else "")

    def reads(self, s: OcclusionSettings) -> tuple[str, ...]:
        return (s.reads_from,) if s.read == "none" else (s.reads_from, s.read, s.sure)

    def does_without(self, s: OcclusionSettings) -> tuple[str, ...]:
        return () if s.read == "none" else (s.read, s.sure)

    def writes(self, s: OcclusionSettings) -> tuple[str, ...]:
        return ("occlusion", BENT) if s.bent else ("occlusion",)

    def makes(self, s: OcclusionSettings) -> tuple[threads.ThreadSpec, ...]:
        return (threads.helper(BENT, Kind.NORMAL, says="green up"),) if s.bent else ()

    def run(
        self, s: OcclusionSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        height = inputs[s.reads_from]
        plane = height.plane() if s.height_scale == 1 else height.plane() * np.float32(s.height_scale)
        across, down = height.texel_mm

        def normals(part: Floats) -> Floats:
            size = part.shape[1] * across, part.shape[0] * down
            return from_height(Image(part[..., None], Kind.DATA, size, height.wraps), 1.0, task).pixels

        fine = s.azimuths == 32
        of = normals if height.wraps else normals(plane)  # at edges that do not meet, slopes are those of one side
        sky = sky_of(plane, of, height.texel_mm, s.radius_mm, fine=fine, bent=s.bent, task=task)
        seen = sky.seen
        if s.read in inputs and s.sure in inputs:
            sure = np.clip(inputs[s.sure].plane(), 0, 1)
            seen *= sure
            seen += (1 - sure) * np.clip(inputs[s.read].plane(), 0, 1)
        if s.strength != 1:
            seen -= np.float32(1)
            seen *= np.float32(s.strength)
            seen += np.float32(1)
        made = {"occlusion": data(seen, height)}
        if sky.bent is not None:
            made[BENT] = replace(height, pixels=sky.bent, kind=Kind.NORMAL)
        return made
