"""Cords: ropes side by side, and nets."""

from __future__ import annotations

from typing import Literal

import numpy as np

from silent_loom.core.base.parallel import Task
from silent_loom.core.maps.elements import chances
from silent_loom.core.patterns.ground import Ground, whole
from silent_loom.core.patterns.hashing import of
from silent_loom.core.patterns.laying import Shape, covered, items, stacked
from silent_loom.core.patterns.noise import cells_of, noise
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting


class CordSettings(PatternSettings):
    form: Literal["ropes", "net"] = setting("ropes", "Ropes that lie side by side, or a net of knotted cord.")
    thick_mm: float = length(24.0, "How thick a rope or cord is.", "Thick", soft=(0.5, 200))
    mesh_mm: float = length(60.0, "From knot to knot of a net.", "Mesh", soft=(2, 500))
    lay: float = setting(1.1, "How steep its strands are laid.", title="Lay", low=0.2, high=4, step=0.05)
    strands: float = part(0.5, "How deep the furrows between strands are.", "Strands")
    fibres: float = part(0.3, "Fine fibres along the strands.", "Fibres")
    uneven: float = part(0.2, "How much they stray.", "Uneven")
    depth_mm: float = relief(14.0)


class Cord(Pattern[CordSettings]):
    """Round cords whose strands wind around them. ``cord`` is 1 where there is one: what one sees through is 0."""

    name = "cord"
    title = "Ropes and nets"
    gives = ("id", "random", "cord", "orientation")
    words_for_it = ("rope", "net", "fishing", "twine", "string", "mesh", "sisal", "hemp", "macrame")
    sentence = "Ropes side by side, and nets of knotted cord."
    Settings = CordSettings

    def words(self, s: CordSettings) -> str:
        return f"{s.form}, {s.thick_mm:g} mm"

    def draw(self, s: CordSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        return self._ropes(s, ground, task) if s.form == "ropes" else self._net(s, ground, task)

    def _ropes(self, s: CordSettings, ground: Ground, task: Task) -> Drawn:
        ny = whole(ground.size_mm[1] / s.thick_mm)
        pitch = ground.size_mm[1] / ny
        stray = noise(ground, cells_of(ground, 8 * pitch, 2), octaves=2, seed=of(s.seed, 1), task=task) * np.float32(
            0.25 * s.uneven * pitch
        )
        at = (ground.down() + stray) / np.float32(pitch)
        row = np.floor(at)
        q = (at - row) * 2 - 1
        dome = np.sqrt(np.maximum(1 - q * q, 0))
        which = (row.astype(np.int32) % ny) + 1
        own = np.take(chances(ny + 1, s.seed), which, axis=0)
        turns = whole(ground.size_mm[0] / (pitch * 0.75 / s.lay))  # strands that go round the sheet meet themselves
        phase = ground.across() * np.float32(turns / ground.size_mm[0]) + np.arcsin(np.clip(q, -1, 1)) * np.float32(
            0.5 * s.lay / np.pi * 1.3
        )
        phase = phase + own[..., 0]
        strand = np.abs(np.sin(np.float32(np.pi) * phase))
        height = dome * (1 - np.float32(0.4 * s.strands) * np.square(1 - strand))
        seen = float(np.clip(pitch / (14 * ground.texel) - 0.4, 0, 1))
        fine = np.sin(phase * np.float32(2 * np.pi * 9)) * np.float32(0.035 * s.fibres * seen)
        height = np.clip(height + fine * dome, 0, 1)
        cover = covered((1 - np.abs(q)) * np.float32(pitch / 2), ground)
        axis = np.broadcast_to(np.array([1, 0], np.float32), (*height.shape, 2))
        return Drawn(np.ascontiguousarray(height, np.float32), {"id": which, "random": own, "cord": cover, "orientation": axis})

    def _net(self, s: CordSettings, ground: Ground, task: Task) -> Drawn:
        nx, ny = ground.counts(s.mesh_mm * np.sqrt(2), s.mesh_mm * np.sqrt(2))
        mw, mh = ground.size_mm[0] / nx, ground.size_mm[1] / ny
        j, i = (a.ravel().astype(float) for a in np.mgrid[0:ny, 0:nx])
        half, turn = np.hypot(mw, mh) / 4, np.arctan2(mh, mw)
        r = s.thick_mm / 2
        tables = []
        for dx, dy, t in ((0.25, 0.25, turn), (0.75, 0.25, -turn), (0.25, 0.75, -turn), (0.75, 0.75, turn)):
            tables.append(
                items((i + dx) * mw, (j + dy) * mh, half, r, turn=t, radius=r, shape=Shape.STROKE, z=0, rise=0.6, bevel=r)
            )
        for dx, dy in ((0.0, 0.0), (0.5, 0.5)):
            tables.append(
                items((i + dx) * mw, (j + dy) * mh, 1.9 * r, 1.5 * r, shape=Shape.ELLIPSE, z=0.1, rise=0.9, bevel=1.4 * r)
            )
        warp = np.stack(
            [noise(ground, cells_of(ground, 1.5 * s.mesh_mm), octaves=2, seed=of(s.seed, 5 + k), task=task) for k in range(2)]
        )
        found = stacked(ground, np.concatenate(tables), -0.02, warp * np.float32(0.22 * s.uneven * s.mesh_mm), task)
        on = (found.which >= 0).astype(np.float32)
        strand = np.abs(
            np.sin((found.u * np.float32(half / s.thick_mm * 1.6 * s.lay) + found.v * np.float32(0.35)) * np.float32(np.pi))
        )
        height = np.clip(found.depth, 0, 1) * (1 - np.float32(0.3 * s.strands) * np.square(1 - strand) * on)
        return Drawn(
            height.astype(np.float32), {"id": found.ids, "random": found.chances(s.seed), "cord": on, "orientation": found.axes()}
        )
