"""A material's maps as a zip beside the library."""

from __future__ import annotations

import shutil
import tempfile
import time
import zipfile
from dataclasses import asdict
from pathlib import Path
from typing import Any

from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import Lane, Task
from silent_loom.core.delivery.files import deliver_as_made, needed
from silent_loom.core.delivery.names import file_name
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.files.place import place
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.store.states import State
from silent_loom.store.store import Store


def zipped(
    store: Store, evaluator: Evaluator, lane: Lane, state: State, wanted: Profile, size: int, task: Task
) -> dict[str, Any]:
    """Make, pack and list a delivery of a state; the lane is held for one map at a time, so that the screen stays quick."""
    weave = state.weave
    plan = evaluator.plan(weave)
    names = needed(wanted, plan.threads)

    def make(thread: str) -> Image:
        with lane.hold(task):
            return evaluator.ask(weave, thread, size, task.part(0, 0))

    folder = Path(tempfile.mkdtemp(prefix=".part-", dir=store.folder / "deliveries"))
    try:
        title = file_name(state.name)
        origin = {k: v for k, v in asdict(state.origin).items() if v and v != "unknown"}
        about = {
            "material": state.name,
            "state": state.head,
            "origin": origin,
            "sources": [{"file": s.name, "sha256": d} for d, s in weave.sources.items()],
        }
        with evaluator.holding(weave, names, size):
            manifest = deliver_as_made(
                folder / "set",
                title,
                names,
                make,
                wanted,
                meanings=plan.threads,
                about=lambda: about,
                task=task.part(0, 0.95),
            )
        task.report(0.96, "packing the zip")
        partial = folder / "set.zip"
        with zipfile.ZipFile(partial, "w", zipfile.ZIP_STORED) as out:  # the pictures are compressed already
            for file in sorted((folder / "set").iterdir()):
                task.checkpoint()
                out.write(file, f"{title}/{file.name}")
        name = _free_name(store.folder / "deliveries", f"{title}_{wanted.name}_{size}_{time.strftime('%Y%m%d-%H%M%S')}")
        place(partial, store.folder / "deliveries" / name)
        row = store.add_delivery(state.id, name, wanted.name, size)
        return {"delivery": row.id, "file": name, "bytes": row.bytes, "manifest": manifest}
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _free_name(folder: Path, stem: str) -> str:
    name, n = f"{stem}.zip", 2
    while (folder / name).exists():
        name, n = f"{stem}_{n}.zip", n + 1
    return name
