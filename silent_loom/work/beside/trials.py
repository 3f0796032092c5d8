"""Small pictures and figures beside a row's settings: reliefs to choose from, channels, feature sizes, a profile, borders."""

from __future__ import annotations

from typing import Any

import cv2
import numpy as np

from silent_loom.core.base.colour import encode, luminance
from silent_loom.core.base.errors import NotMade, SettingError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import Rank, Task
from silent_loom.core.files.png import png_bytes
from silent_loom.core.maps.sizes import spectrum
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.weave import registry
from silent_loom.core.weave.rows.model import Weave
from silent_loom.work.desk import Desk

SMALL = 192
"""Texels of the pictures."""
PROFILE = 256
"""Places along a profile."""


class Trials:
    """What a stored material would look like with other settings of one row, and what comes into that row."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk

    def _incoming(self, weave: Weave, step_id: str, thread: str, size: int, task: Task) -> Image:
        return self.desk.evaluator.coming_in(weave, step_id, thread, size, task)

    def relief(self, ident: str, step_id: str, settings: dict[str, Any]) -> bytes:
        """The height of a row with other settings as a PNG, lit from the upper left as relief is usually read."""

        def work(weave: Weave, task: Task) -> bytes:
            entry = weave.entry(step_id)
            if not registry.can(entry.step, "shading"):
                raise SettingError("this row reads no relief by feature size", step_id, "Choose a row that does.")
            before = registry.settings_of(entry.step, entry.settings)
            changed = dict(settings)
            if hasattr(before, "sizes"):  # by shading alone: what brightness says is the same from either side
                changed["sizes"] = [[size, weight, 1.0] for size, weight, _ in before.sizes]
            tried = weave.with_settings(step_id, changed)
            relief = registry.step(entry.step).writes(before)[0]
            # A row that decides on the whole decision size takes seconds for it: for a small picture half of that is enough
            slow = registry.step(entry.step).decision_scale >= 1
            image = (self.desk.quick if slow else self.desk.evaluator).ask(tried, relief, SMALL, task, below=entry.id)
            return _grey(_lit(image))

        return self.desk.answer(ident, work, rank=Rank.ASIDE)

    def channels(self, ident: str, step_id: str) -> dict[str, bytes]:
        """Lightness and the three channels of what a row reads as colour, as PNGs."""

        def work(weave: Weave, task: Task) -> dict[str, bytes]:
            image = self._incoming(weave, step_id, self._read(weave, step_id, Kind.COLOUR), SMALL, task)
            planes = {"lightness": encode(luminance(image.pixels, task), task)}
            for k, name in enumerate(("red", "green", "blue")):
                planes[name] = encode(np.ascontiguousarray(image.pixels[..., k]), task)
            return {name: _grey(_stretched(plane)) for name, plane in planes.items()}

        return self.desk.answer(ident, work, rank=Rank.ASIDE)

    def _read(self, weave: Weave, step_id: str, kind: Kind | None = None) -> str:
        """The first thread, of a kind, that a row reads."""
        row = next((r for r in self.desk.evaluator.plan(weave).rows if r.entry.id == step_id), None)
        if row is None:
            raise NotMade("this row is switched off", step_id, "Switch it on.")
        for name in row.reads:
            if kind is None or row.present[name].kind is kind:
                return name
        raise NotMade("this row reads nothing of this kind", row.step.title, "Choose what it reads from.")

    def spectrum(self, ident: str, step_id: str) -> list[tuple[float, float]]:
        """How much there is of each feature size in what a row reads: parts of the repeat's longer side, amounts 0…1."""

        def work(weave: Weave, task: Task) -> list[tuple[float, float]]:
            image = self._incoming(weave, step_id, self._read(weave, step_id), 512, task)
            plane = encode(luminance(image.pixels, task), task) if image.kind is Kind.COLOUR else image.plane()
            found = spectrum(np.ascontiguousarray(plane), image.texel_mm, max(image.size_mm), image.wraps)
            most = max((v for _, v in found), default=0.0) or 1.0
            return [(round(size, 6), round(v / most, 4)) for size, v in found]

        return self.desk.answer(ident, work, rank=Rank.ASIDE)

    def profile(self, ident: str, thread: str, start: tuple[float, float], end: tuple[float, float], size: int) -> dict[str, Any]:
        """Values of a map along a line between two places, parts of the sheet; lengths in millimetres."""

        def work(weave: Weave, task: Task) -> dict[str, Any]:
            image = self.desk.evaluator.ask(weave, thread, size, task)
            if image.kind is not Kind.DATA:
                raise SettingError("a profile is drawn of plain numbers", thread, "Choose the height, or another map of numbers.")
            meaning = self.desk.evaluator.meaning(weave, thread)
            t = np.linspace(0, 1, PROFILE)
            x = (start[0] + (end[0] - start[0]) * t) * image.width - 0.5
            y = (start[1] + (end[1] - start[1]) * t) * image.height - 0.5
            edge = cv2.BORDER_WRAP if image.wraps else cv2.BORDER_REPLICATE
            line = cv2.remap(
                image.plane(), x[None].astype(np.float32), y[None].astype(np.float32), cv2.INTER_LINEAR, borderMode=edge
            )
            w, h = image.size_mm
            length = float(np.hypot((end[0] - start[0]) * w, (end[1] - start[1]) * h))
            values = [round(float(v), 5) for v in line.ravel()]
            return {"values": values, "length_mm": length, "unit": meaning.unit, "low": meaning.low, "high": meaning.high}

        return self.desk.answer(ident, work, rank=Rank.TABLE)

    def borders(self, ident: str, thread: str, size: int) -> bytes:
        """Borders between the labels of an id map, as a PNG with alpha."""

        def work(weave: Weave, task: Task) -> bytes:
            image = self.desk.evaluator.ask(weave, thread, size, task)
            if image.kind is not Kind.ID:
                raise SettingError("borders are drawn of labels", thread, "Choose an id map.")
            ids = image.plane()
            line = (ids != np.roll(ids, -1, 1)) | (ids != np.roll(ids, -1, 0))
            line = cv2.dilate(line.astype(np.uint8), np.ones((2, 2), np.uint8)) > 0
            wide = cv2.dilate(line.astype(np.uint8), np.ones((3, 3), np.uint8)) > 0
            out = np.zeros((*ids.shape, 4), np.uint8)
            out[wide] = (20, 20, 20, 150)
            out[line] = (255, 214, 64, 255)
            return _png(out)

        return self.desk.answer(ident, work, rank=Rank.ASIDE)

    def cover(self, ident: str, thread: str, size: int) -> bytes:
        """Where a mask is high, as a white PNG with alpha, to be shown over a picture in the mask's dye."""

        def work(weave: Weave, task: Task) -> bytes:
            image = self.desk.evaluator.ask(weave, thread, size, task)
            scale, offset = self.desk.evaluator.meaning(weave, thread).scale()
            out = np.full((image.height, image.width, 4), 255, np.uint8)
            out[..., 3] = np.clip((image.pixels[..., 0] * scale + offset) * 170, 0, 170).astype(np.uint8)
            return _png(out)

        return self.desk.answer(ident, work, rank=Rank.ASIDE)


def _png(pixels: np.ndarray[tuple[int, ...], np.dtype[np.uint8]]) -> bytes:
    _, body = cv2.imencode(".png", cv2.cvtColor(pixels, cv2.COLOR_RGBA2BGRA))
    return bytes(body)


def _grey(plane: Floats) -> bytes:
    codes = np.clip(np.rint(plane * 255), 0, 255).astype(np.uint8)
    return png_bytes(np.ascontiguousarray(codes[..., None]), colour=False, fast=True)


def _stretched(plane: Floats) -> Floats:
    low, high = np.percentile(plane, [0.5, 99.5])
    out: Floats = (plane - np.float32(low)) / np.float32(max(high - low, 1e-6))
    return out


def _lit(height: Image) -> Floats:
    """Plain shading of a relief under one light from the upper left, its slopes brought to a steepness that shows."""
    n = from_height(height).pixels
    usual = float(np.median(np.hypot(n[..., 0], n[..., 1]))) or 1.0
    n = from_height(height, min(0.35 / usual, 1000.0)).pixels
    light = np.array([-0.5, 0.5, 0.7071], np.float32)
    out: Floats = np.clip(n @ light, 0, 1)
    return out
