"""Compile every kernel, or load it from disk, by running each step once on a tiny made-up photo."""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

from silent_loom.core.display import rgba
from silent_loom.core.files.codes import quantise
from silent_loom.core.files.picture import Picture
from silent_loom.core.files.profile import SRGB
from silent_loom.core.files.write import write
from silent_loom.core.images import Image, Kind
from silent_loom.core.maps.metallic import keep_means
from silent_loom.core.parallel import IDLE
from silent_loom.core.tiling.bend import bent
from silent_loom.core.tiling.cut import Prices, roughness_of_cut
from silent_loom.core.tiling.join import closed_along
from silent_loom.core.tiling.meet import way
from silent_loom.core.tiling.parted import Parted
from silent_loom.core.tiling.seam_meter import seams
from silent_loom.core.tiling.seamless import cost_of
from silent_loom.core.weave.cache import Cache
from silent_loom.core.weave.evaluate import Evaluator
from silent_loom.core.weave.model import SourceRef, StepEntry, Weave, starting_weave
from silent_loom.core.weave.step import SourceInfo


class _Tiny:
    def __init__(self) -> None:
        rng = np.random.default_rng(0)
        self._picture = Picture(rng.integers(0, 255, (96, 128, 3)).astype(np.uint8), None, SRGB, 8, "png")

    def picture(self, digest: str) -> Picture:
        return self._picture

    def info(self, digest: str) -> SourceInfo:
        return SourceInfo(128, 96)


def warm() -> None:
    """Run every kernel once; takes about a second when they are on disk, and most of a minute the first time."""
    corners = ((0.1, 0.1), (0.9, 0.12), (0.88, 0.9), (0.1, 0.88))
    weave = starting_weave(
        "0" * 64,
        SourceRef(name="tiny", format="png", width=128, height=96, bytes=1),
        straighten={"corners": corners},
        tone={"brightness": 0.1},
        metallic={"mode": "by colour"},
        occlusion={"azimuths": 32, "radius_mm": 400.0},
    )
    weave = weave.model_copy(update={"steps": (*weave.steps, StepEntry(step="straighten", settings={"width_mm": 900.0}))})
    evaluator = Evaluator(_Tiny(), Cache(), decision_size=128)
    maps = evaluator.ask_many(weave, ("base", "height", "normal", "roughness", "metallic", "occlusion"), 96)
    for name in ("base", "height", "normal"):
        for depth in ("8", "16"):
            quantise(maps[name].pixels, depth, colour=name == "base", dither=depth == "8")
            rgba(maps[name], name, 10.0)
    seams(maps["base"])
    roughness_of_cut(Prices(*(np.ones((8, 5), np.float32) for _ in range(3))), 1)  # for fitting overlaps
    _objects_beside_cuts()
    keep_means(np.zeros((4, 4), np.float32), np.zeros((2, 2), np.float32), 0, 2)  # for sheets larger than this one
    _hand_and_other_joins(evaluator, weave)


def _objects_beside_cuts() -> None:
    """Noise shows no things that a cut could part, and no lines that could meet."""
    way(Prices(*(np.ones((3, 8, 5), np.float32) for _ in range(3))), 1.0)
    cost_of({"base": Image(np.full((32, 32, 3), 0.5, np.float32), Kind.COLOUR)}, {}).slid(
        24, np.full((4, 2), 0.01, np.float32), False
    )
    beside = Parted(np.ones(32, np.float32), np.ones(32, np.float32))
    for kind, channels in ((Kind.COLOUR, 3), (Kind.NORMAL, 3), (Kind.DATA, 1)):
        for axis in (0, 1):
            pixels = np.full((32, 32, channels), 0.5, np.float32)
            path, shift = np.full(32, 4.0), np.full((4, 2), 0.01, np.float32)
            closed_along(pixels, kind, axis, 24, path, 0.5, axis == 0, IDLE, parted=beside, shift=shift)


def _hand_and_other_joins(evaluator: Evaluator, weave: Weave) -> None:
    """What a weave of the start does not use: the other joins, a hole to fill, strokes, a break-up."""
    names = ("base", "height", "normal")
    closed = weave.first("seamless")
    assert closed is not None
    for method in ("fade", "gradient", "mirror"):
        evaluator.ask_many(weave.with_settings(closed.id, {"method": method}), names, 64)
    wide = weave.with_settings(closed.id, {"softness": 0.1})
    last = [e for e in wide.steps if e.id != closed.id] + [e for e in wide.steps if e.id == closed.id]
    evaluator.ask_many(wide.model_copy(update={"steps": tuple(last)}), names, 256)
    grid = {"method": "motif", "grid": ((0.05, 0.05), (0.8, 0.05), (0.8, 0.8), (0.05, 0.8)), "grid_x": 4, "grid_y": 4}
    laid = evaluator.ask_many(weave.with_settings(closed.id, grid), names, 64)
    bent(laid["normal"].pixels, Kind.NORMAL, 1, 50, np.zeros((8, 4, 2), np.float32), True, IDLE)  # noise does not drift
    corner = ((0.2, 0.2), (0.3, 0.2), (0.3, 0.3))
    clean = StepEntry(step="clean", settings={"regions": [{"kind": "outline", "points": corner}]})
    strokes = [
        {"tool": tool, "points": [[200.0, 200.0, 1.0], [260.0, 220.0, 0.6]], "radius_mm": 40.0, "offset_mm": [150.0, 0.0]}
        for tool in ("clone", "heal", "soften", "paint")
    ]
    repair = StepEntry(step="repair", settings={"layers": [{"strokes": strokes}]})
    broken = StepEntry(step="breakup", settings={"repeat_x": 2, "repeat_y": 2, "turn_deg": 40.0})
    at = weave.index(closed.id)
    steps = (*weave.steps[:at], clean, closed, repair, broken, *weave.steps[at + 1 :])
    evaluator.ask_many(weave.model_copy(update={"steps": steps}), names, 96)


def warm_commands() -> None:
    """Run what the command line does with files, too; files come with other layouts in memory than the steps before."""
    from silent_loom.core.derive import derive
    from silent_loom.core.sets import grow_files, seamless_files

    with TemporaryDirectory() as name:
        folder = Path(name)
        photo = _Tiny().picture("")
        write(folder / "photo.png", photo.colour(), colour=True)
        derive(folder / "photo.png", folder / "set", size=96, report=True)
        maps = [next((folder / "set").glob(f"*_{kind}.png")) for kind in ("basecolor", "normal", "height")]
        for method in ("cut", "fade", "gradient"):
            seamless_files(maps, folder / method, method=method, normals=[maps[1]])
        grow_files(maps, folder / "grown", times=(1.5, 1.0), normals=[maps[1]])


if __name__ == "__main__":
    warm()
    warm_commands()
