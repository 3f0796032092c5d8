"""One map out of finished maps, and whether finished maps are plausible."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from silent_loom.core.base.errors import LoomError, SettingError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.channel import encoded
from silent_loom.core.files import read, write
from silent_loom.core.files.formats import SUFFIXES
from silent_loom.core.files.tags import colour_tag
from silent_loom.core.moving.resample import at_most
from silent_loom.core.opening.agreement import Doubt
from silent_loom.core.opening.naming import tell
from silent_loom.core.opening.recognised import FoundFile, find
from silent_loom.core.report.check import checked
from silent_loom.core.ways.map_files import Map, load
from silent_loom.core.ways.sources import FileSources, digest_of, reference
from silent_loom.core.weave import registry, threads
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import StepEntry, Weave
from silent_loom.core.weave.threads import ThreadSpec

LOOK = 256
"""Texels along the longer side at which a map is checked."""


def one_map(
    kind: str,
    source: Path,
    out: Path,
    *,
    other: Path | None = None,
    settings: Mapping[str, Any] | None = None,
    extent_mm: float = 1000.0,
    depth_mm: float = 10.0,
    repeats: bool = True,
    green_down: bool = False,
    force: bool = False,
    task: Task = IDLE,
) -> dict[str, Any]:
    """Make one map from finished maps, at their size.

    Parameters
    ----------
    kind : str
        A map that some step makes of another (curvature, normal, height from normals …), or 'combined': two of one kind.
    source, other : path
        What it is made from; the second only for what is combined.
    settings : mapping
        Of the step.
    repeats : bool
        Its edges meet.
    green_down : bool
        Green of normal maps points down, in what is read and in what is written.

    Returns
    -------
    dict
        map, step, size, notes.

    Raises
    ------
    LoomError
    """
    fmt = next((f for f, endings in SUFFIXES.items() if out.suffix.lower() in endings), None)
    if fmt is None:
        raise LoomError("this ending names no format", out.name, "Use .png, .tif or .exr.")
    if out.exists() and not force:
        raise LoomError("this file is there already", out.name, "Name another, or replace it with --force.")
    values = dict(settings or {})
    values.update({k: v for k, v in registry.asked_for(kind).items() if k not in values})
    step, reads = _step_for(kind, source, values)
    if other is None and len(reads) == 2:
        reads = _without_one(step, values, source) or reads
    if (other is not None) != (len(reads) == 2):
        wanted = "two maps" if len(reads) == 2 else "one map"
        raise LoomError(
            f"{kind} is made from {wanted}", "--with", "Name a second one for what is made from two, and for nothing else."
        )
    reads = reads or [_own_name(source)]  # it reads nothing, and only needs to know the sheet
    picked = [source, *([other] if other is not None else [])]
    weave, sources = _woven(picked, reads, extent_mm, depth_mm, repeats, green_down)
    if "depth_mm" in registry.fields(step):
        values.setdefault("depth_mm", depth_mm)
    weave = weave.model_copy(update={"steps": (*weave.steps, StepEntry(step=step, settings=values))})
    evaluator = Evaluator(sources, Cache(700 << 20))
    plan = evaluator.plan(weave)
    if (error := plan.error()) is not None:
        raise error
    thread = "combined" if kind == "combined" else kind
    info = read(source)
    image = evaluator.ask(weave, thread, max(info.width, info.height), task)
    notes = list(evaluator.decision(weave, weave.steps[-1].id, task).warnings)
    done = write(
        out,
        _samples(image, plan.spec(thread), green_down),
        fmt=fmt,
        depth="half" if fmt == "openexr" else "16" if fmt in ("png", "tiff") else "8",
        colour=image.kind is Kind.COLOUR,
        replace=force,
        task=task,
    )
    if done.clipped:
        notes.append(f"{done.clipped} samples lay outside what the file can hold and were cut")
    return {"map": thread, "step": step, "size": [image.width, image.height], "notes": notes}


def makeable() -> list[str]:
    """Every map that some step makes out of finished ones.

    >>> {"normal", "cavity", "slope", "metallic"} <= set(makeable())
    True
    """
    fresh = [s for s in registry.steps().values() if registry.maker(s.name) == s.name]
    return sorted({t for s in fresh for t in (*s.writes(s.Settings()), *s.asked)} - {"base"})


def _step_for(kind: str, source: Path, values: dict[str, Any]) -> tuple[str, list[str]]:
    """The step that makes a map, and the threads that it reads."""
    if kind == "combined":
        values |= {"first": "first", "second": "second", "into": "combined"}
        if _is_normal(source):
            values.setdefault("how", "combine")
            values.setdefault("share", 1.0)  # a detail normal is laid on whole, as everybody means it
        values.setdefault("how", "mix")
        return "combine", ["first", "second"]
    step = registry.maker(kind, str(load(source).image.kind))
    if step is None:
        known = ", ".join(makeable())
        raise LoomError(f"no step makes '{kind}' out of another map", "map", f"There are {known} and combined.")
    unknown = next((k for k in values if k not in registry.fields(step)), None)
    if unknown is not None:
        raise SettingError("there is no such setting", f"{step}.{unknown}", f"It takes: {', '.join(registry.fields(step))}.")
    return step, list(registry.step(step).reads(registry.settings_of(step, values)))


def _without_one(step: str, values: dict[str, Any], source: Path) -> list[str]:
    """Threads that a step reads which can do without one of two, by the kind of what there is; none if it cannot."""
    kind = load(source).image.kind
    for name, info in registry.fields(step).items():
        extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
        if "none" in (extra.get("also") or ()) and str(kind) not in (extra.get("kinds") or ()):  # type: ignore[operator]
            values.setdefault(name, "none")
    left = list(registry.step(step).reads(registry.settings_of(step, values)))
    return left if len(left) == 1 else []


def _own_name(source: Path) -> str:
    """The thread that a finished map is, by its name or its content."""
    kind = load(source).image.kind
    named = tell(source.name).map
    if named in threads.THREADS and threads.spec(named).kind is kind:
        return named
    return {Kind.COLOUR: "base", Kind.NORMAL: "normal", Kind.ID: "id"}.get(kind, "height")


def _is_normal(path: Path) -> bool:
    return load(path).image.kind is Kind.NORMAL


def _woven(
    files: Sequence[Path], names: Sequence[str], extent_mm: float, depth_mm: float, repeats: bool, green_down: bool
) -> tuple[Weave, FileSources]:
    """A weave that brings finished maps in under the names that a step reads."""
    digests = [digest_of(f) for f in files]
    pictures = {d: read(f) for d, f in zip(digests, files, strict=True)}
    paths = dict(zip(digests, files, strict=True))
    sources = FileSources(lambda d: (paths[d], paths[d].name, pictures[d].format))
    for digest, picture in pictures.items():
        sources.remember(digest, picture)
    maps = []
    for name, digest, path in zip(names, digests, files, strict=True):
        looks = load(path).image.kind
        kind = threads.spec(name).kind if name in threads.THREADS else looks
        if (looks is Kind.NORMAL) != (kind is Kind.NORMAL):
            meant = "a normal map" if looks is Kind.NORMAL else "no normal map"
            raise LoomError(
                f"this looks like {meant}, and {threads.spec(name).title.lower()} is wanted", path.name, "Name another file."
            )
        maps.append({"thread": name, "source": digest, "green_down": green_down and kind is Kind.NORMAL, "kind": str(kind)})
    settings = {"maps": maps, "width_mm": extent_mm, "depth_mm": depth_mm, "repeats": repeats}
    refs = {d: reference(p, pictures[d]) for d, p in paths.items()}
    return Weave(steps=(StepEntry(step=registry.able("maps"), settings=settings),), sources=refs), sources


def _samples(image: Image, meaning: ThreadSpec, green_down: bool) -> Any:
    """As a file holds them, shape (H, W, C)."""
    if image.kind is Kind.COLOUR:
        return image.pixels
    count = 3 if image.kind is Kind.ID else image.pixels.shape[2]
    planes = [encoded(image, meaning, k, "down" if green_down else "up") for k in range(count)]
    if len(planes) == 2:  # directions: no file has two channels that everybody reads
        planes.append(np.full_like(planes[0], 0.5))
    return np.ascontiguousarray(np.stack(planes, -1), np.float32)


def _facts(path: Path, map_: Map) -> dict[str, Any]:
    """What only the file itself can say: how far its normals are from unit length, its levels, and its tag."""
    picture = read(path)
    found: dict[str, Any] = {}
    raw = picture.data()
    if map_.image.kind is Kind.NORMAL:
        length = np.linalg.norm(raw[..., :3] * 2 - 1, axis=-1)
        found["length_off"] = round(float(np.median(np.abs(length - 1))), 3)
    if raw.shape[2] == 1 or bool((raw == raw[..., :1]).all()):
        found["levels"] = len(np.unique(raw[..., 0]))
    found["tag"] = "linear" if picture.transfer.name == "linear" and picture.bits < 32 else colour_tag(path)
    return found


def check_files(files: Sequence[Path], depth_mm: float = 10.0) -> list[dict[str, Any]]:
    """What is odd about finished maps: a line each of file, map and odd.

    Which map a file is, is told by its name, else by what it looks like. Its edges are taken to meet.
    """
    found = []
    for path in files:
        picture = load(path)
        name = tell(path.name).map
        name = name if name in threads.THREADS else {Kind.COLOUR: "base", Kind.NORMAL: "normal"}.get(picture.image.kind, "")
        meaning = threads.spec(name or "map")
        image = at_most(picture.image, LOOK)
        if meaning.unit:
            meaning = meaning.over(depth_mm)
            image = image.with_pixels((image.pixels - np.float32(0.5)) * np.float32(depth_mm))
        image = Image(image.pixels, image.kind, image.size_mm, True)
        facts = _facts(path, picture)
        odd = checked(image, meaning, facts) if meaning.kind is image.kind else [f"it does not look like {meaning.title.lower()}"]
        found.append({"file": path.name, "map": name or "unknown", "odd": odd})
    return found + (_set_says(files) if len(files) > 1 else [])


def _set_says(files: Sequence[Path]) -> list[dict[str, Any]]:
    """What maps of one surface say of each other, and notes on how each is stored."""
    lines = []
    for s in find(files):
        odd = [d.words for d in s.doubts]
        if odd:
            lines.append({"file": " and ".join(f.file for f in s.files if _holds(f, s.doubts)), "map": "as a set", "odd": odd})
    return lines


def _holds(file: FoundFile, doubts: Sequence[Doubt]) -> bool:
    maps = {c.map.replace("smoothness", "roughness") for c in file.channels}
    return any(maps & set(d.maps) for d in doubts)
