"""What a bake will make, told before it is begun: maps, files, time, memory, disk."""

from __future__ import annotations

import time
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.baking.makers import How, maker
from silent_loom.core.delivery.completing import completed
from silent_loom.core.delivery.fitting import Fit, fit
from silent_loom.core.delivery.packing import constant, needed, pack, write_file
from silent_loom.core.delivery.profile import FileSpec, Profile, file_names
from silent_loom.core.delivery.proving.receiver import looked_at
from silent_loom.core.delivery.verdict import Packed, verdict
from silent_loom.core.delivery.writing import LARGE
from silent_loom.core.weave import threads
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import Weave

TRIAL = 256
"""Longer side of the quick bake by which is guessed."""
BASE_BYTES = 350 << 20
"""Memory of the program itself, with its libraries and a little work."""
EACH, EACH_LARGE = 200, 60
"""Bytes for a texel at the worst moment, a step's inputs, what it works with and its results; and for each beyond `LARGE`, where
steps work in bands and files wait for each other. Measured on the demo's slate: 215 at 2048, 166 at 4096, 77 at 8192."""


@dataclass(frozen=True)
class MapForecast:
    """One map.

    Attributes
    ----------
    thread, title : str
    state : str
        'carries' something, is 'constant', 'unused' (without it the picture changes by less than a code value), or is 'left' out.
    value : list of float
        Of a constant map, in its own unit.
    change : float
        By how many code values of 8 bits, at most, the surface under light changes without it.
    """

    thread: str
    title: str
    state: str
    value: list[float] = field(default_factory=list)
    change: float = 0.0


@dataclass(frozen=True)
class FileForecast:
    """One file: its size in texels (0 where it is no picture of a map), its bits, and about how large it will be.

    ``small`` tells the files of a smaller set beside.
    """

    file: str
    width: int
    height: int
    bits: str
    bytes: int
    skipped: bool = False
    spec: FileSpec | None = None
    small: bool = False


@dataclass(frozen=True)
class Forecast:
    """What a bake will make.

    Attributes
    ----------
    size : list of int
        Texels across and down.
    maps : list of MapForecast
    files : list of FileForecast
    seconds : float
        Guessed from the quick bake.
    memory, disk : int
        Bytes, at the worst moment and in the end.
    source_texels : int or None
        Texels along the longer side that sources and patterns hold; None where nothing is as fine as anything.
    words : list of str
        What is worth knowing before it is begun.
    limits : list of dict
        The receiver's limits, what there is, and whether that fits; see `verdict.Line`.
    """

    size: list[int]
    maps: list[MapForecast]
    files: list[FileForecast]
    seconds: float
    memory: int
    disk: int
    source_texels: int | None
    words: list[str]
    limits: list[dict[str, Any]] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        return {
            **{k: getattr(self, k) for k in ("size", "memory", "disk", "source_texels", "words", "limits")},
            "seconds": round(self.seconds, 2),
            "maps": [vars(m) for m in self.maps],
            "files": [{k: v for k, v in vars(f).items() if k != "spec"} for f in self.files],
        }


def memory_for(width: int, height: int, supersample: int = 1) -> int:
    """Bytes that a bake needs at the worst moment, about.

    >>> memory_for(4096, 4096) < memory_for(8192, 8192)
    True
    """
    texels = width * height * supersample**2
    return BASE_BYTES + EACH * min(texels, LARGE) + EACH_LARGE * max(0, texels - LARGE)


def memory_there() -> int:
    """Bytes of memory that this machine can give now; 4 GiB where it does not say."""
    try:
        for line in Path("/proc/meminfo").read_text("ascii").splitlines():
            if line.startswith("MemAvailable:"):
                return int(line.split()[1]) << 10
    except (OSError, ValueError):
        pass
    return 4 << 30


def check_memory(width: int, height: int, supersample: int, most: int) -> None:
    """Refuse what does not fit.

    Raises
    ------
    LoomError
        Says how many GB it would need.
    """
    need = memory_for(width, height, supersample)
    if need > most:
        words = f"{width} × {height}{f', computed {supersample} times as large,' if supersample > 1 else ''} needs about"
        raise LoomError(
            f"{words} {need / 1e9:.1f} GB of memory, and {most / 1e9:.1f} GB may be used",
            "size",
            "Bake smaller, without supersampling, or allow more memory.",
        )


def forecast(
    evaluator: Evaluator,
    weave: Weave,
    profile: Profile,
    name: str,
    size: int,
    how: How,
    *,
    skip_constant: bool = False,
    leave: Collection[str] = (),
    task: Task = IDLE,
) -> Forecast:
    """What a bake of a weave will make.

    Parameters
    ----------
    evaluator : Evaluator
        Its sources and decisions are used; the quick bake is computed apart, so that its time means something.
    weave : Weave
    profile : Profile
    name : str
        First part of file names.
    size : int
        Longer side.
    how : How
    skip_constant : bool
        Maps that are the same everywhere get no file.
    leave : collection of str
        Maps that are left out.
    """
    weave = completed(evaluator, weave, profile.without(leave), leave)
    plan = evaluator.plan(weave)
    done = fit(profile, plan.geometry.size_mm, size)
    present = {n: t for n, t in plan.threads.items() if n not in leave}
    names = needed(profile, present)
    if not names:
        raise LoomError("the material makes none of the maps that this profile asks for", profile.name, "Choose another profile.")
    fresh = Evaluator(evaluator.sources, Cache(256 << 20), evaluator.decisions, evaluator.decision_size)
    small = min(TRIAL, size)
    began = time.perf_counter()
    with fresh.holding(weave, names, small):
        make = maker(fresh, weave, small, How(1, True, how.lit), task)
        maps = {n: make(n) for n in names}
    computing = time.perf_counter() - began
    told = [_map(n, maps, plan.threads) for n in names]
    left = [MapForecast(n, plan.spec(n).title, "left") for n in needed(profile, plan.threads) if n in leave]
    profile = profile.without(leave)
    files, writing = _files(profile, name, done, maps, told, plan.threads, skip_constant)
    files += _beside(profile, name, files)
    any_map = next(iter(maps.values()))
    texels, trial = done.width * done.height, any_map.width * any_map.height
    return Forecast(
        [done.width, done.height],
        told + left,
        files,
        computing * _share(texels * how.supersample**2, trial) + writing * texels / trial,
        memory_for(done.ask if done.laid != (1, 1) else done.width, done.height, how.supersample),
        sum(f.bytes for f in files if not f.skipped),
        plan.lossless_texels(),
        _words(done, size, plan.lossless_texels(), told),
        _limits(profile, files, maps),
    )


def _limits(profile: Profile, files: Sequence[FileForecast], present: Mapping[str, Image]) -> list[dict[str, Any]]:
    """The files that are to come, held against what their receiver takes."""
    packed = [Packed(f.spec, f.width, f.height, f.bytes) for f in files if not f.skipped and f.spec is not None and not f.small]
    return [vars(line) for line in verdict(profile, packed, set(present)).lines]


def _share(texels: int, trial: int) -> float:
    """How many times as long the computing takes: what every size pays once is about half of a small bake."""
    return 0.5 + 0.5 * texels / trial if texels > trial else 1.0


def _map(name: str, maps: Mapping[str, Image], meanings: Mapping[str, Any]) -> MapForecast:
    image, title = maps[name], threads.spec(name).title
    if constant(image):
        return MapForecast(name, title, "constant", [round(float(v), 6) for v in image.pixels[0, 0]])
    if name == "height" or name not in threads.THREADS:
        return MapForecast(name, title, "carries")
    present = {n: m for n, m in maps.items() if n in threads.THREADS}
    without = {n: m for n, m in present.items() if n != name} or present
    change = float(np.abs(looked_at(present, meanings, TRIAL).astype(int) - looked_at(without, meanings, TRIAL)).max())
    return MapForecast(name, title, "carries" if change >= 1 else "unused", change=change)


def _files(
    profile: Profile,
    name: str,
    done: Fit,
    maps: Mapping[str, Image],
    told: Sequence[MapForecast],
    meanings: Mapping[str, Any],
    skip_constant: bool,
) -> tuple[list[FileForecast], float]:
    """Files with their sizes, guessed from those of the quick bake, and the seconds that writing those took."""
    level = {m.thread for m in told if m.state == "constant"}
    out: list[FileForecast] = []
    began = time.perf_counter()
    with TemporaryDirectory() as folder:
        for file, spec in file_names(profile, name, maps, size=max(done.width, done.height)).items():
            parts = {t: maps[t] for t in spec.threads & set(maps)} or dict(maps)
            written = _trial(Path(folder) / file, spec, parts, meanings, profile.green)
            w, h = max(1, done.width // spec.share), max(1, done.height // spec.share)
            skipped = skip_constant and bool(spec.threads & set(maps)) and spec.threads & set(maps) <= level
            grown = w * h / max(1, _texels(parts))
            out.append(FileForecast(file, w, h, spec.depth, round(written * grown), skipped, spec))
            stem, _, end = file.rpartition(".")
            for side in [n for n in profile.sizes if n < max(done.width, done.height)]:
                part = side / max(done.width, done.height)
                small = round(w * part), round(h * part)
                out.append(
                    FileForecast(
                        f"{stem}_{side}.{end}", *small, spec.depth, round(written * grown * part**2), skipped, spec, True
                    )
                )
    return out, time.perf_counter() - began


LITTLE, CONTACT_SHEET = 12 << 10, 300 << 10
"""Bytes of a manifest and its like, and of a contact sheet, about."""


def _beside(profile: Profile, name: str, files: Sequence[FileForecast]) -> list[FileForecast]:
    """What lies beside the pictures: open materials, two of which hold all pictures of the set once more, and words to read."""
    own = sum(f.bytes for f in files if not f.skipped and f.spec is not None and not f.small)
    whole = {"glb", "usdz"}
    out = [FileForecast(f"{name}.{m}", 0, 0, "", own + LITTLE if m in whole else LITTLE) for m in profile.models]
    return [*out, FileForecast("contact-sheet.png", 0, 0, "", CONTACT_SHEET), FileForecast("manifest.json", 0, 0, "", LITTLE)]


def _trial(path: Path, spec: FileSpec, parts: Mapping[str, Image], meanings: Mapping[str, Any], green: str) -> int:
    return write_file(path, spec, pack(spec, parts, meanings, green)).bytes


def _texels(parts: Mapping[str, Image]) -> int:
    image = next(iter(parts.values()))
    return image.width * image.height


def _words(done: Fit, size: int, holds: int | None, told: Sequence[MapForecast]) -> list[str]:
    out = [f"{w[0].upper()}{w[1:]}." for w in done.words]
    if holds is not None and size > 1.2 * holds:
        out.append(f"More than the surface carries (about {holds} texels): larger files, no more detail.")
    if holds is not None and size < 0.8 * holds:
        out.append(f"Less than the surface shows: nothing is lost from about {holds} texels on.")
    for m in told:
        if m.state == "unused":
            out.append(f"{m.title} changes nothing that can be seen; it may be left out.")
    return out
