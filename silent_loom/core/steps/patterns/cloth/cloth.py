"""Cloth: warp and weft after a draft."""

from __future__ import annotations

from typing import Literal

import numpy as np
from pydantic import field_validator

from silent_loom.core.base.parallel import Task
from silent_loom.core.maps.elements import chances
from silent_loom.core.patterns.cloth import DRAFTS, woven
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import of
from silent_loom.core.patterns.noise import cells_of, noise
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting

LARGEST = 32


class ClothSettings(PatternSettings):
    draft: Literal["plain", "basket", "twill", "herringbone", "satin", "rib", "diamond", "own"] = setting(
        "plain", "Which threads pass over which."
    )
    own: tuple[str, ...] = setting(
        DRAFTS["twill"],
        "A row for each weft thread, a letter for each warp thread: 1 where the warp lies over the weft, 0 where under.",
        title="Own draft",
        shape="draft",
        when={"draft": ["own"]},
    )
    warp_mm: float = length(1.2, "From one warp thread, which runs down, to the next.", "Warp", soft=(0.1, 60))
    weft_mm: float = length(1.2, "From one weft thread, which runs across, to the next.", "Weft", soft=(0.1, 60))
    warp_thick: float = setting(
        0.92, "How wide warp threads are, as a part of their spacing.", title="Warp thread", low=0.05, high=1.3, step=0.01
    )
    weft_thick: float = setting(
        0.92, "How wide weft threads are, as a part of their spacing.", title="Weft thread", low=0.05, high=1.3, step=0.01
    )
    crimp: float = part(0.5, "How much threads go up and down; the rest is their roundness.", "Crimp", ("round", "up and down"))
    twist: float = part(0.35, "How much their twist is seen.", "Twist")
    uneven: float = part(0.15, "How much threads differ, and stray.", "Uneven", ("even", "homespun"))
    depth_mm: float = relief(0.6)

    @field_validator("own")
    @classmethod
    def _draft(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        if not 1 <= len(value) <= LARGEST or len({len(r) for r in value}) != 1 or not 1 <= len(value[0]) <= LARGEST:
            raise ValueError(f"a draft has 1 to {LARGEST} rows of 1 to {LARGEST} letters, all of one length")
        if set("".join(value)) - {"0", "1"}:
            raise ValueError("a draft holds only 0 and 1")
        return value


class Cloth(Pattern[ClothSettings]):
    """Two sets of round threads; where they cross the draft says which is seen. ``warp`` is 1 where that is a warp thread."""

    name = "cloth"
    title = "Cloth"
    gives = ("id", "warp", "random", "orientation")
    words_for_it = ("weave", "fabric", "twill", "satin", "linen", "canvas", "denim", "sailcloth", "wicker", "draft", "textile")
    sentence = "Cloth woven after a draft of your own, or a usual one: plain, twill, satin, herringbone."
    Settings = ClothSettings

    def words(self, s: ClothSettings) -> str:
        return f"{s.draft}, {s.warp_mm:g} × {s.weft_mm:g} mm"

    def draw(self, s: ClothSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        draft = s.own if s.draft == "own" else DRAFTS[s.draft]
        found = woven(ground, draft, s.warp_mm, s.weft_mm, thick=(s.warp_thick, s.weft_thick), crimp=s.crimp, task=task)
        count = int(found.which.max()) + 1
        own = np.take(chances(count, s.seed), found.which, axis=0)
        height = found.height
        pitch = min(s.warp_mm, s.weft_mm)
        seen = np.clip(np.float32(pitch / (10 * ground.texel) - 0.35), 0, 1)  # of a twist that texels cannot show nothing is left
        if s.twist > 0 and seen > 0:
            turn = found.along / np.float32(0.9 * pitch) + np.float32(0.45) * found.aside + own[..., 1]
            lay = np.abs(np.sin(turn * np.float32(np.pi * 2))) * (1 - np.square(found.aside) * np.float32(0.5))
            height = height - np.float32(0.16 * s.twist) * seen * (1 - lay) * (found.which > 0)
        if s.uneven > 0:
            slubs = noise(ground, cells_of(ground, 5 * pitch), octaves=3, seed=of(s.seed, 4), task=task)
            height = height * (1 - np.float32(0.25 * s.uneven) * (own[..., 0] - np.float32(0.6) * slubs))
        warp = found.warp.astype(np.float32)
        axis = np.stack([1 - warp, warp], -1)
        return Drawn(
            np.clip(height, 0, 1).astype(np.float32), {"id": found.which, "warp": warp, "random": own, "orientation": axis}
        )
