"""What is wrong with a photo or a sheet, and what mends it."""

from __future__ import annotations

from dataclasses import asdict, replace
from typing import Any

import numpy as np

from silent_loom.core.base.bounded_memory import Memory
from silent_loom.core.base.errors import NotMade
from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import Rank, Task
from silent_loom.core.files.png import png_bytes
from silent_loom.core.look.meters.repetition_meter import copies, repetition, spots
from silent_loom.core.look.meters.seam_meter import heat, seams
from silent_loom.core.moving.resample import enlarge
from silent_loom.core.report.finding import Cure
from silent_loom.core.report.report import Report, report
from silent_loom.core.report.suggesting import meeting, with_suggestion
from silent_loom.core.report.whole_repeats import WholeRepeats, whole_repeats
from silent_loom.core.ways.measuring import closing, seam_lines
from silent_loom.core.weave.rows.model import Weave
from silent_loom.work.break_up import cell_sizes, cells
from silent_loom.work.desk import Desk
from silent_loom.work.photos import upright_jpeg


class Mending:
    """Reports, suggestions and pictures of faults."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self._reports: Memory[str, Report] = Memory(16)

    def photo_report(self, ident: str, **how: Any) -> Report:
        """What is right and wrong with the photo of a material; kept by its file and width."""

        def work(weave: Weave, task: Task) -> Report:
            row = next((r for r in self.desk.evaluator.plan(weave).rows if "photo" in r.step.can), None)
            if row is None or row.error is not None:
                raise NotMade("this material has no photo", "photo report", "Begin one from a photo.")
            key = f"{row.settings.source}:{row.before.size_mm}:{row.settings.width_mm}"  # type: ignore[attr-defined]
            picture = self.desk.store.sources.picture(row.settings.source)  # type: ignore[attr-defined]
            return self._reports.answer(key, lambda: report(picture, row.settings.width_mm, task))  # type: ignore[attr-defined]

        return self.desk.answer(ident, work, **how)

    def findings(self, ident: str, **how: Any) -> dict[str, Any]:
        """The photo report for JSON; ``mended_by`` of a finding is the title of the row that does what mends it, or None."""
        found = self.photo_report(ident, **how).as_dict()
        rows = [r for r in self.desk.evaluator.plan(self.desk.store.get(ident).weave).rows if r.entry.on and r.error is None]
        for finding in found["findings"]:
            cure = Cure(**finding["cure"]) if finding["cure"] else None
            by = (r.step.title for r in rows if cure and r.step.name == cure.step and cure.done_by(r.settings.model_dump()))
            finding["mended_by"] = next(by, None)
        return found

    def light_picture(self, ident: str, step_id: str | None, **how: Any) -> bytes:
        """The illumination of a photo, or the one that an Even light row takes out, as a grey PNG; middle grey is even."""
        if step_id is None:
            light = self.photo_report(ident, **how).light
        else:

            def work(weave: Weave, task: Task) -> Floats:
                arrays = self.desk.evaluator.decision(weave, step_id, task).arrays
                if "log_light" not in arrays:
                    raise NotMade("this row takes no light out", step_id, "Switch it on.")
                return np.exp(arrays["log_light"])

            light = self.desk.answer(ident, work, **how)
        big = enlarge(np.ascontiguousarray(light, np.float32), light.shape[1] * 4, light.shape[0] * 4, False)
        codes = np.clip(np.rint(128 * np.log2(np.maximum(big, 1e-3)) / 2 + 128), 0, 255).astype(np.uint8)
        return png_bytes(codes[..., None], colour=False, fast=True)

    def suggestion(self, ident: str, method: str, **how: Any) -> tuple[str, dict[str, Any], str]:
        """Row, settings and reason for the seamless step of a material: by what suits, or the motif's grid."""

        def work(weave: Weave, task: Task) -> tuple[str, dict[str, Any], str]:
            told, why = with_suggestion(self.desk.evaluator, weave, method, task)
            entry = told.able("close")
            assert entry is not None
            return entry.id, entry.settings, why

        return self.desk.answer(ident, work, **how)

    def meeting(self, ident: str, **how: Any) -> tuple[str, dict[str, Any], str] | None:
        """Row, settings and reason of what a seamless step is better begun with; None where a plain cut chops nothing."""

        def work(weave: Weave, task: Task) -> tuple[str, dict[str, Any], str] | None:
            told, why = meeting(self.desk.evaluator, weave, task)
            entry = told.able("close")
            return (entry.id, entry.settings, why) if why and entry is not None else None

        return self.desk.answer(ident, work, **how)

    def whole_repeats(self, ident: str, **how: Any) -> WholeRepeats:
        """A material's weave with its photo cropped to whole repeats."""
        return self.desk.answer(ident, lambda weave, task: whole_repeats(self.desk.evaluator, weave, task), **how)

    def seam_heat(self, ident: str, size: int, **how: Any) -> bytes:
        """Where joins still show, as a PNG with alpha: nothing up to a figure of 0.6, then yellow to red."""

        def work(weave: Weave, task: Task) -> bytes:
            finished = self.desk.evaluator.ask(weave, "base", size, task)
            known, laid = seam_lines(self.desk.evaluator, weave, finished, size, task)
            found = seams(replace(finished, wraps=True), known, open_sheet=laid, search=False, task=task)
            figure = heat(finished, found, known)
            level = np.clip((figure - 0.6) / 1.4, 0, 1)
            out = np.zeros((*figure.shape, 4), np.uint8)
            out[..., 0] = 235
            out[..., 1] = (200 * (1 - level)).astype(np.uint8)
            out[..., 2] = 40
            out[..., 3] = np.where(figure > 0, 60 + 180 * level, 0).astype(np.uint8)
            return png_bytes(out, colour=True, fast=True)

        return self.desk.answer(ident, work, **how)

    def spots(self, ident: str, **how: Any) -> dict[str, Any]:
        """Patches that repetition will show, and the figures of repetition; ``alike`` is how much of what came in looks alike
        by itself, where that is known."""

        def work(weave: Weave, task: Task) -> dict[str, Any]:
            finished = self.desk.evaluator.ask(weave, "base", 512, task)
            found = spots(finished)
            known = closing(self.desk.evaluator, weave, 512, task)
            alike = None
            if known is not None:  # as large a part of it: windows are a part of the sheet
                whole, (w, h) = known[2], (finished.width, finished.height)
                alike = round(copies(replace(whole, pixels=np.ascontiguousarray(whole.pixels[:h, :w]))), 3)
            return {
                "repetition": round(repetition(finished), 3),
                "copied": round(copies(finished), 3),
                "alike": alike,
                "spots": [asdict(s) for s in found],
            }

        return self.desk.answer(ident, work, **how)

    def cells(self, ident: str, step_id: str, what: str, size: int, **how: Any) -> bytes:
        """The cells of a break-up row by themselves, or a test chart repeated ('before') or through them, as a PNG."""
        return self.desk.answer(ident, lambda weave, task: cells(self.desk.evaluator, weave, step_id, what, size, task), **how)

    def cell_sizes(self, ident: str, step_id: str, **how: Any) -> list[dict[str, Any]]:
        """The sheet of a break-up row with cells of three sizes: a picture each, how much repeats, and how much is seen twice."""
        return self.desk.answer(ident, lambda weave, task: cell_sizes(self.desk.evaluator, weave, step_id, task), **how)

    def pick(self, ident: str, step_id: str, u: float, v: float, **how: Any) -> list[float]:
        """Linear light around a place of what comes into a row: mean of nine texels at 1024."""

        def work(weave: Weave, task: Task) -> list[float]:
            image = self.desk.evaluator.coming_in(weave, step_id, "base", 1024, task)
            x, y = int(u * image.width) % image.width, int(v * image.height) % image.height
            part = image.pixels[max(0, y - 1) : y + 2, max(0, x - 1) : x + 2]
            return [round(float(c), 6) for c in part.reshape(-1, 3).mean(0)]

        return self.desk.answer(ident, work, **how)

    def photo(self, ident: str, step_id: str, size: int) -> bytes:
        """The photo of a row as it came, upright, as JPEG; decoded and made smaller in the lane, like everything else."""
        digest = str(self.desk.store.get(ident).weave.entry(step_id).settings.get("source", ""))
        task = Task(lane=self.desk.lane, rank=Rank.ASIDE)
        with self.desk.lane.hold(task):
            return upright_jpeg(self.desk.store.sources.picture(digest), size)
