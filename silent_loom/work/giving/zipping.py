"""A material's maps as a zip beside the library."""

from __future__ import annotations

import shutil
import tempfile
import time
import zipfile
from collections.abc import Mapping
from dataclasses import asdict
from pathlib import Path
from typing import Any

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import Lane, Task
from silent_loom.core.delivery.files import Order, deliver
from silent_loom.core.delivery.fitting import fit
from silent_loom.core.delivery.names import file_name
from silent_loom.core.delivery.package.beside import Worn
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.delivery.reduce import reduced
from silent_loom.core.files.place import place
from silent_loom.core.ways.bake import BakeOrder, bake, check_disk, disk_for, worn_by
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.threads import ThreadSpec
from silent_loom.store.states import State
from silent_loom.store.store import Store


def about(state: State) -> dict[str, Any]:
    """What a manifest says of a stored material."""
    return {
        "material": state.name,
        "state": state.head,
        "date": time.strftime("%Y-%m-%d %H:%M"),
        "origin": {k: v for k, v in asdict(state.origin).items() if v and v != "unknown"},
        "sources": [{"file": s.name, "sha256": d} for d, s in state.weave.sources.items()],
    }


def zipped(
    store: Store,
    evaluator: Evaluator,
    lane: Lane,
    state: State,
    wanted: Profile,
    order: BakeOrder,
    task: Task,
    made: tuple[Mapping[str, Image], Mapping[str, ThreadSpec], str] | None = None,
) -> dict[str, Any]:
    """Bake, pack and list a delivery of a state; the lane is held for one map at a time, so that the screen stays quick.

    With ``made`` (maps, what they mean, the file they came from) nothing is computed but their smaller sizes.
    """
    deliveries = store.folder / "deliveries"
    how = fit(wanted, evaluator.plan(state.weave).geometry.size_mm, order.size)
    check_disk(deliveries, 2 * disk_for(wanted, how))  # the zip is made beside the files
    folder = Path(tempfile.mkdtemp(prefix=".part-", dir=deliveries))
    try:
        title = file_name(state.name)
        worn = worn_by(evaluator, evaluator.plan(state.weave))
        if made is not None:
            manifest = _from_made(made, wanted, folder / "set", title, order, state, task.part(0, 0.95), worn)
        else:
            manifest = bake(
                evaluator,
                state.weave,
                wanted,
                folder / "set",
                title,
                order,
                hold=lambda: lane.hold(task),
                about=lambda: about(state),
                task=task.part(0, 0.95),
            )
        task.report(0.96, "packing the zip")
        partial = folder / "set.zip"
        with zipfile.ZipFile(partial, "w", zipfile.ZIP_STORED) as out:  # the pictures are compressed already
            for file in sorted((folder / "set").iterdir()):
                task.checkpoint()
                out.write(file, f"{title}/{file.name}")
        name = _free_name(deliveries, f"{title}_{wanted.name}_{order.size}_{time.strftime('%Y%m%d-%H%M%S')}")
        place(partial, deliveries / name)
        row = store.add_delivery(state.id, name, wanted.name, order.size)
        told = {k: v for k, v in manifest.items() if k != "weave"}
        return {"delivery": row.id, "file": name, "bytes": row.bytes, "manifest": told}
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _from_made(
    made: tuple[Mapping[str, Image], Mapping[str, ThreadSpec], str],
    wanted: Profile,
    folder: Path,
    title: str,
    order: BakeOrder,
    state: State,
    task: Task,
    worn: Worn | None,
) -> dict[str, Any]:
    """A set out of maps that were baked before, each reduced by its own filter."""
    maps, meanings, file = made
    first = next(iter(maps.values()))
    longer = max(first.width, first.height)
    if order.size > longer:
        raise LoomError(f"this bake holds {longer} texels, not {order.size}", file, "Bake the material itself, or ask for less.")
    if order.size < longer:
        w, h = (max(1, round(n * order.size / longer)) for n in (first.width, first.height))
        maps = reduced(maps, w, h, task=task.part(0, 0.3))
    how = Order(None, True, order.version, order.skip_constant, order.two_sided, tuple(maps), order.leave, worn=worn)
    maps, wanted = order.kept(maps), wanted.without(order.leave)
    more = {**about(state), "weave": state.weave.model_dump(mode="json"), "made_from": file}
    return deliver(folder, title, maps, wanted, meanings=meanings, about=more, order=how, task=task.part(0.3, 1))


def _free_name(folder: Path, stem: str) -> str:
    name, n = f"{stem}.zip", 2
    while (folder / name).exists():
        name, n = f"{stem}_{n}.zip", n + 1
    return name
