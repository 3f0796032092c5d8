"""The files of a delivery: packed, named, written, listed in a manifest."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np

from silent_loom import __version__
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE, WORKERS, Task
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.delivery.gltf import write_glb
from silent_loom.core.delivery.placing import MANIFEST, check_folder, check_targets, gathered, sha256
from silent_loom.core.delivery.profile import FileSpec, Profile, parse_channel
from silent_loom.core.files import write
from silent_loom.core.files.formats import SUFFIXES
from silent_loom.core.screen.display import label_colours
from silent_loom.core.weave import threads
from silent_loom.core.weave.threads import ThreadSpec

NOTABLE = 1e-4
"""Share of cut samples that is worth a warning; the manifest counts every one."""


def needed(profile: Profile, present: Iterable[str]) -> list[str]:
    """Threads that a profile reads and the material has, in the order in which they are best computed."""
    have = set(present)
    wanted = {parse_channel(c).thread for f in profile.files for c in f.channels} & have
    return threads.order(wanted)


def encoded(image: Image, meaning: ThreadSpec, index: int, green: str) -> Floats:
    """One channel as 0…1 for a file, shape (H, W): over the range of its thread, the green of normals turned when it is down."""
    if image.kind is Kind.ID:  # a colour for every label: numbers beyond 1 would all be white
        return encode_srgb(label_colours(image.pixels[..., 0]))[..., min(index, 2)].astype(np.float32)
    plane = image.pixels[..., min(index, image.pixels.shape[2] - 1)]
    scale, offset = meaning.scale()
    if image.kind is Kind.NORMAL and index == 1 and green == "down":
        scale = -scale
    return plane if scale == 1 and offset == 0 else plane * scale + offset


def pack(spec: FileSpec, maps: Mapping[str, Image], meanings: Mapping[str, ThreadSpec], green: str) -> Floats:
    """Samples of one file, shape (H, W, C), 0…1; colour stays linear light."""
    any_image = next(iter(maps.values()))
    h, w = any_image.height, any_image.width
    first = parse_channel(spec.channels[0]).thread
    if first in maps and maps[first].kind is Kind.COLOUR and spec.channels == tuple(f"{first}.{c}" for c in "rgb"):
        return maps[first].pixels
    out = np.empty((h, w, len(spec.channels)), np.float32)
    for k, text in enumerate(spec.channels):
        c = parse_channel(text)
        if c.constant is not None:
            out[..., k] = c.constant
            continue
        if c.thread in maps:
            out[..., k] = encoded(maps[c.thread], meanings.get(c.thread) or threads.spec(c.thread), c.index, green)
        else:
            missing = threads.spec(c.thread)
            scale, offset = missing.scale()
            out[..., k] = missing.neutral[min(c.index, len(missing.neutral) - 1)] * scale + offset
        if c.invert:
            np.subtract(1, out[..., k], out=out[..., k])
    return out


def file_names(profile: Profile, name: str, present: Iterable[str]) -> dict[str, FileSpec]:
    """Names of the files of a delivery, in order."""
    have = set(present)
    out: dict[str, FileSpec] = {}
    for spec in profile.files:
        if spec.optional and not {parse_channel(c).thread for c in spec.channels} <= have:
            continue
        out[profile.pattern.format(name=name, suffix=spec.suffix) + SUFFIXES[spec.format][0]] = spec
    return out


def deliver(
    folder: Path,
    name: str,
    maps: Mapping[str, Image],
    profile: Profile,
    *,
    depth_mm: float | None = None,
    meanings: Mapping[str, ThreadSpec] | None = None,
    about: Mapping[str, Any] | None = None,
    force: bool = False,
    task: Task = IDLE,
) -> dict[str, Any]:
    """Write a map set into a folder; see `deliver_as_made`. ``depth_mm`` is that of a height without a meaning of its own."""
    told = dict(meanings or {})
    if depth_mm is not None:
        told.setdefault("height", threads.spec("height").over(depth_mm))
    return deliver_as_made(
        folder, name, list(maps), maps.__getitem__, profile, meanings=told, about=lambda: about or {}, force=force, task=task
    )


def deliver_as_made(
    folder: Path,
    name: str,
    threads_made: Sequence[str],
    make: Callable[[str], Image],
    profile: Profile,
    *,
    meanings: Mapping[str, ThreadSpec],
    about: Callable[[], Mapping[str, Any]] = dict,
    force: bool = False,
    task: Task = IDLE,
) -> dict[str, Any]:
    """Write a map set into a folder, each file as soon as the maps in it are made.

    Parameters
    ----------
    folder : path
        Made when it is not there; must be empty unless ``force``.
    name : str
        First part of every file name.
    threads_made : sequence of str
        Threads of the material, in the order in which they are best made.
    make : callable
        Gives one of them; all have one size. Files are encoded meanwhile.
    profile : Profile
    meanings : mapping of str to ThreadSpec
        What the threads mean, where that is not what the table says: 0…1 in a file is the range of its thread.
    about : callable
        Gives more for the manifest, asked for at the end.
    force : bool
        Write beside what is there, and replace only files that an earlier manifest lists with an unchanged hash.

    Returns
    -------
    dict
        The manifest, as written to ``manifest.json``.

    Raises
    ------
    LoomError
        The folder is not empty, or a file of the artist's is in the way.

    Notes
    -----
    Files are written into a hidden folder and get their names together at the end, the manifest last: whatever goes
    wrong before, nothing is left half written.
    """
    height = meanings.get("height") or threads.spec("height")
    replaceable = check_folder(folder, force)
    names = file_names(profile, name, threads_made)
    targets = [*names, *([f"{name}.glb"] if profile.glb else [])]
    check_targets(folder, [*targets, MANIFEST], replaceable)
    with gathered(folder, replaceable) as hidden:
        entries, warnings, first = _write_files(hidden, names, threads_made, make, meanings, profile.green, task)
        if profile.glb:
            roles = {spec.role: hidden / target for target, spec in names.items() if spec.role}
            path = hidden / f"{name}.glb"
            write_glb(path, name, roles, first.size_mm)
            entries[path.name] = {"file": path.name, "format": "glb", "bytes": path.stat().st_size, "sha256": sha256(path)}
        manifest: dict[str, Any] = {
            "made_by": f"Silent Loom {__version__}",
            "name": name,
            "profile": profile.name,
            "size": [first.width, first.height],
            "repeat_mm": list(first.size_mm),
            "depth_mm": height.depth,
            "height_middle_mm": -height.low,
            "green": profile.green,
            **about(),
            "files": [entries[t] for t in targets],
            "warnings": sorted(warnings),
        }
        (hidden / MANIFEST).write_text(json.dumps(manifest, indent=2, ensure_ascii=False) + "\n", "utf-8")
        task.checkpoint()
    return manifest


def _write_files(
    hidden: Path,
    names: Mapping[str, FileSpec],
    threads_made: Sequence[str],
    make: Callable[[str], Image],
    meanings: Mapping[str, ThreadSpec],
    green: str,
    task: Task,
) -> tuple[dict[str, dict[str, Any]], list[str], Image]:
    """Make the maps and write each file once all that go into it are there."""
    maps: dict[str, Image] = {}
    entries: dict[str, dict[str, Any]] = {}
    warnings: list[str] = []

    def one(target: str, spec: FileSpec, parts: Mapping[str, Image]) -> None:
        samples = pack(spec, parts, meanings, green)
        done = write(
            hidden / target,
            samples,
            fmt=spec.format,
            depth=spec.depth,
            colour=spec.colour,
            dither=spec.dither,
            task=task.part(0, 0),
        )
        if done.clipped > NOTABLE * samples.size:
            share = 100 * done.clipped / samples.size
            warnings.append(f"{target}: {done.clipped} samples ({share:.2g} %) lay outside what the file can hold and were cut")
        if done.constant:
            warnings.append(f"{target}: constant")
        entries[target] = {
            "file": target,
            "channels": list(spec.channels),
            "format": spec.format,
            "bits": spec.depth,
            "colour": "sRGB" if spec.colour and spec.depth in ("8", "16") else "linear" if spec.colour else "data",
            "clipped": done.clipped,
            "constant": done.constant,
            "bytes": done.bytes,
            "sha256": sha256(hidden / target),
        }

    wanted = {t: {parse_channel(c).thread for c in spec.channels} & set(threads_made) for t, spec in names.items()}
    waiting = dict(names)
    with ThreadPoolExecutor(max(1, WORKERS)) as pool:
        writing = []
        for i, thread in enumerate(threads_made):
            task.report(0.85 * i / len(threads_made), (meanings.get(thread) or threads.spec(thread)).title)
            maps[thread] = make(thread)
            for target in [t for t in waiting if wanted[t] <= set(maps)]:
                parts = {t: maps[t] for t in wanted[target]} or dict(maps)
                writing.append(pool.submit(one, target, waiting.pop(target), parts))
        for i, done in enumerate(writing):
            task.report(0.85 + 0.15 * i / len(writing), "writing files")
            task.checkpoint()
            done.result()
    return entries, warnings, next(iter(maps.values()))
