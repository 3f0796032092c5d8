"""Models unwrapped and packed anew, through xatlas."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.base.errors import Cancelled, LoomError
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.form.model import Model, Table
from silent_loom.core.form.welding import welded

NEW = "unwrapped"
"""What a new UV set is called."""


class UnwrapSettings(BaseModel):
    """How a model is unwrapped and packed."""

    model_config = ConfigDict(extra="forbid")

    cut: bool = Field(True, description="Cut the surface into islands anew; else the islands that are there are packed anew.")
    bend: float = Field(
        2.0, ge=0.2, le=16, description="How much an island may bend before it is cut: larger makes fewer, more stretched ones."
    )
    straight: float = Field(6.0, ge=0, le=20, description="How much straight borders count.")
    round: float = Field(0.01, ge=0, le=2, description="How much round islands count.")
    size: int = Field(2048, ge=64, le=16384, description="Texels along a side of the texture that is packed for.")
    padding: int = Field(8, ge=0, le=256, description="Empty texels between islands at that size.")
    turn: bool = Field(False, description="Turn islands where they pack better; some of them come out mirrored.")
    thorough: bool = Field(False, description="Try every place for every island: slower, and leaves less empty.")


def unwrapped(model: Model, settings: UnwrapSettings | None = None, uv: str = "", name: str = NEW, task: Task = IDLE) -> Model:
    """A model with one more UV set, which comes first; the others are kept.

    Parameters
    ----------
    model : Model
    settings : UnwrapSettings
    uv : str
        Which set is packed anew, where nothing is cut.
    name : str
        Of the new set; one of that name is replaced.

    Raises
    ------
    LoomError
        There is nothing to pack, or the surface cannot be unwrapped.
    Cancelled

    Notes
    -----
    Charts grow over the surface by cost and are made flat by least squares (Lévy et al. 2002), then packed texel by texel, all
    with the same number of texels to a millimetre. It works in a process of its own, which a cancelled task ends.

    >>> from silent_loom.core.form.model import plate
    >>> list(unwrapped(plate(), UnwrapSettings(size=64, padding=1)).uvs)
    ['unwrapped', 'UV']
    """
    s = settings or UnwrapSettings()
    corners = model.corners
    first, number = welded(model.positions.values)
    place = model.placed[first]
    triangles = number[model.positions.index].astype(np.uint32)
    old: NDArray[np.float32] | None = None
    if not s.cut:
        laid = model.uv(uv).at_corners().reshape(-1, 2)
        place, triangles = corners.reshape(-1, 3), np.arange(3 * len(model), dtype=np.uint32).reshape(-1, 3)
        rows, joined = welded(np.concatenate([place, np.nan_to_num(laid)], 1))
        place, old = place[rows], np.nan_to_num(laid[rows]).astype(np.float32)
        triangles = joined[triangles].astype(np.uint32)
    scale = max(float(np.ptp(place, axis=0).max()), 1e-9)
    with tempfile.TemporaryDirectory(prefix="silent-loom-") as folder:
        asked, made = Path(folder) / "asked.npz", Path(folder) / "made.npy"
        flat_old = np.zeros((0, 2), np.float32) if old is None else old
        np.savez(asked, positions=(place / scale).astype(np.float32), triangles=triangles, uvs=flat_old)
        (Path(folder) / "settings.json").write_text(s.model_dump_json(), "utf-8")
        _work(Path(folder), task)
        if not made.exists():
            raise LoomError("this surface cannot be unwrapped", "", "Clean its mesh: faces without an area, or many on one edge.")
        flat = np.load(made)
    if flat.shape != (len(model), 3, 2) or not np.isfinite(flat).all():
        raise LoomError("this surface cannot be unwrapped", "", "Clean its mesh: faces without an area, or many on one edge.")
    rows, index = welded(flat.reshape(-1, 2))
    table = Table(flat.reshape(-1, 2)[rows].astype(np.float64), index.reshape(-1, 3).astype(np.int32))
    return replace(model, uvs={name: table, **{k: t for k, t in model.uvs.items() if k != name}})


def _work(folder: Path, task: Task) -> None:
    process = subprocess.Popen(
        [sys.executable, "-m", "silent_loom.core.form.uv.unwrapping_process", str(folder)],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    try:
        while process.poll() is None:
            task.checkpoint()
            task.report(0.5, "unwrapping")
            time.sleep(0.05)
    except Cancelled:
        process.kill()
        raise
    finally:
        if process.poll() is None:
            process.kill()
        process.wait()
