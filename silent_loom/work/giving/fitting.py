"""What a profile would make of a material: told, and tried, before anything is written."""

from __future__ import annotations

import base64
from collections.abc import Mapping
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import Rank, Task
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.delivery.baking.detail import losses
from silent_loom.core.delivery.baking.forecast import Forecast, forecast, memory_there
from silent_loom.core.delivery.completing import completed
from silent_loom.core.delivery.fitting import fit
from silent_loom.core.delivery.names import file_name
from silent_loom.core.delivery.packing import needed, pack, write_file
from silent_loom.core.delivery.profile import FileSpec, Profile, alone, file_names
from silent_loom.core.delivery.shelf import Shelf
from silent_loom.core.delivery.verdict import Packed, verdict
from silent_loom.core.files.png import png_bytes
from silent_loom.core.moving.resample import at_most
from silent_loom.core.ways.bake import BakeOrder
from silent_loom.core.weave.rows.model import Weave
from silent_loom.work.desk import Desk

TRIED = 512
"""Longer side at which packed pictures are tried."""
SHOWN = 160
"""Longer side at which they are shown."""


class Fitting:
    """Tells what bakes and profiles will make."""

    def __init__(self, desk: Desk, shelf: Shelf) -> None:
        self.desk, self.shelf = desk, shelf

    def forecast(self, ident: str, wanted: Profile, order: BakeOrder, view: str = "", sequence: int = 0) -> dict[str, Any]:
        """What a bake will make, and whether it fits memory and disk; see `Forecast`."""
        name = file_name(self.desk.store.get(ident).name)

        def work(weave: Weave, task: Task) -> Forecast:
            return forecast(
                self.desk.evaluator,
                weave,
                wanted,
                name,
                order.size,
                order.how,
                skip_constant=order.skip_constant,
                leave=order.leave,
                task=task,
            )

        told = self.desk.answer(ident, work, rank=Rank.ASIDE, view=view, sequence=sequence)
        most = order.memory or memory_there() * 3 // 4
        return {**told.as_dict(), "memory_there": most, "fits_memory": told.memory <= most}

    def losses(self, ident: str, wanted: Profile, size: int, view: str = "", sequence: int = 0) -> dict[str, Any]:
        """What each map loses at a size, with pictures of the worst place, live and baked."""

        def work(weave: Weave, task: Task) -> dict[str, Any]:
            weave = completed(self.desk.evaluator, weave, wanted)
            plan = self.desk.evaluator.plan(weave)
            found = losses(self.desk.evaluator, weave, needed(wanted, plan.threads), size, task)
            told = found.as_dict()
            for line, loss in zip(told["maps"], found.maps, strict=True):
                line |= {"title": plan.spec(loss.thread).title}
                if loss.share > 0:
                    line |= {"live": _inline(loss.live), "baked": _inline(loss.baked)}
            return told

        return self.desk.answer(ident, work, rank=Rank.ASIDE, view=view, sequence=sequence)

    def tried(self, ident: str, wanted: Profile, size: int, view: str = "", sequence: int = 0) -> dict[str, Any]:
        """A profile on the present material: each packed picture, sizes of files, graphics memory, the verdict, and
        what packing saved."""
        state = self.desk.store.get(ident)

        def work(weave: Weave, task: Task) -> dict[str, Any]:
            evaluator = self.desk.evaluator
            weave = completed(evaluator, weave, wanted)
            plan = evaluator.plan(weave)
            names = needed(wanted, plan.threads)
            small = min(size, TRIED)
            maps = evaluator.ask_many(weave, names, small, task) if names else {}
            done = fit(wanted, plan.geometry.size_mm, size)
            files: list[dict[str, Any]] = []
            packed: list[Packed] = []
            with TemporaryDirectory() as folder:
                for file, spec in file_names(wanted, file_name(state.name), plan.threads, size=size).items():
                    parts = {t: maps[t] for t in spec.threads & set(maps)} or maps
                    if not parts:
                        continue
                    samples = pack(spec, parts, plan.threads, wanted.green)
                    w, h = max(1, done.width // spec.share), max(1, done.height // spec.share)
                    grown = w * h / (samples.shape[0] * samples.shape[1])
                    one = Packed(spec, w, h, round(write_file(Path(folder) / file, spec, samples).bytes * grown))
                    packed.append(one)
                    shown = _pictures(samples, spec)
                    told = {"file": file, "suffix": spec.suffix, "width": w, "height": h, "bytes": one.bytes}
                    files.append({**told, "memory": one.memory, "blocks": one.blocks, **shown})
            apart = _apart(wanted, plan.threads, done.width, done.height)
            found = verdict(wanted, packed, set(plan.threads))
            return {
                **found.as_dict(),
                "files": files,
                "saved": {"files": len(apart) - len(packed), "memory": sum(p.memory for p in apart) - found.memory},
                "fit": list(done.words),
            }

        return self.desk.answer(ident, work, rank=Rank.ASIDE, view=view, sequence=sequence)


def _apart(wanted: Profile, meanings: Mapping[str, Any], w: int, h: int) -> list[Packed]:
    """The same maps, each in a file of its own."""
    names = needed(wanted, meanings)
    deep = {t: f.depth for f in wanted.files for t in f.threads}
    return [Packed(alone(meanings[n]).model_copy(update={"depth": deep.get(n, "8")}), w, h, 0) for n in names]


def _pictures(samples: Floats, spec: FileSpec) -> dict[str, str]:
    """A file as it looks, and its alpha by itself, as addresses of pictures."""
    kind = Kind.CHANNELS if samples.shape[2] > 1 else Kind.DATA
    small = at_most(Image(np.ascontiguousarray(samples), kind), SHOWN).pixels
    values = np.clip(small, 0, 1)
    rgb = values[..., :3] if values.shape[2] >= 3 else np.repeat(values[..., :1], 3, 2)
    if spec.colour:
        rgb = encode_srgb(rgb)
    out = {"picture": _inline(np.rint(rgb * 255).astype(np.uint8))}
    if values.shape[2] in (2, 4):
        out["alpha"] = _inline(np.repeat(np.rint(values[..., -1:] * 255).astype(np.uint8), 3, 2))
    return out


def _inline(picture: NDArray[np.uint8]) -> str:
    body = png_bytes(np.ascontiguousarray(picture), colour=True, fast=True)
    return f"data:image/png;base64,{base64.b64encode(body).decode()}"
