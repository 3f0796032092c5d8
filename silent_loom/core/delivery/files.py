"""The files of a delivery: packed, named, written, listed in a manifest."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np

from silent_loom import __version__
from silent_loom.core.delivery.profile import FileSpec, Profile, parse_channel
from silent_loom.core.errors import LoomError
from silent_loom.core.files import write
from silent_loom.core.images import Floats, Image
from silent_loom.core.parallel import IDLE, WORKERS, Task
from silent_loom.core.weave import threads

SUFFIX = {"png": ".png", "jpeg": ".jpg", "targa": ".tga", "tiff": ".tif", "openexr": ".exr", "webp": ".webp"}
MANIFEST = "manifest.json"
NOTABLE = 1e-4
"""Share of cut samples that is worth a warning; the manifest counts every one."""


def needed(profile: Profile, present: Iterable[str]) -> list[str]:
    """Threads that a profile reads and the material has, in the order in which they are best computed."""
    have = set(present)
    wanted = {parse_channel(c).thread for f in profile.files for c in f.channels} & have
    return [t for t in threads.THREADS if t in wanted] + sorted(wanted - set(threads.THREADS))


def encoded(image: Image, thread: str, index: int, depth_mm: float, green: str) -> Floats:
    """One channel as 0…1 for a file, shape (H, W).

    Heights lie over 0…depth around their middle; normal components over −1…1, green turned when it is to be down.
    """
    plane = image.pixels[..., min(index, image.pixels.shape[2] - 1)]
    if thread == "height":
        return plane * np.float32(1 / depth_mm) + np.float32(0.5)
    if thread == "normal":
        sign = -0.5 if index == 1 and green == "down" else 0.5
        return plane * np.float32(sign) + np.float32(0.5)
    return plane


def pack(spec: FileSpec, maps: Mapping[str, Image], depth_mm: float, green: str) -> Floats:
    """Samples of one file, shape (H, W, C), 0…1; colour stays linear light."""
    any_image = next(iter(maps.values()))
    h, w = any_image.height, any_image.width
    if spec.colour and spec.channels == ("base.r", "base.g", "base.b") and "base" in maps:
        return maps["base"].pixels
    out = np.empty((h, w, len(spec.channels)), np.float32)
    for k, text in enumerate(spec.channels):
        c = parse_channel(text)
        if c.constant is not None:
            out[..., k] = c.constant
            continue
        if c.thread in maps:
            out[..., k] = encoded(maps[c.thread], c.thread, c.index, depth_mm, green)
        else:
            neutral = threads.spec(c.thread).neutral
            value = neutral[min(c.index, len(neutral) - 1)]
            out[..., k] = 0.5 if c.thread == "height" else value * 0.5 + 0.5 if c.thread == "normal" else value
        if c.invert:
            np.subtract(1, out[..., k], out=out[..., k])
    return out


def sha256(path: Path) -> str:
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


def check_folder(folder: Path, force: bool) -> dict[str, str]:
    """Make sure that nothing of the artist's will be touched; files that may be replaced, by name.

    Raises
    ------
    LoomError
        The folder holds something and ``force`` is False, or it is a file.
    """
    if folder.exists() and not folder.is_dir():
        raise LoomError("this is a file, not a folder", str(folder), "Name a folder.")
    if not folder.exists() or not any(folder.iterdir()):
        return {}
    if not force:
        raise LoomError("the folder is not empty", str(folder), "Choose another, or use --force to write beside what is there.")
    return ours(folder)


def ours(folder: Path) -> dict[str, str]:
    """Files that an earlier manifest in the folder lists and that are still as they were written."""
    path = folder / MANIFEST
    try:
        listed = json.loads(path.read_text("utf-8"))
        files = {str(f["file"]): str(f["sha256"]) for f in listed["files"]}
    except (OSError, ValueError, KeyError, TypeError):
        return {}
    safe = {n: d for n, d in files.items() if Path(n).name == n and n not in ("", ".", "..")}
    mine = {n: d for n, d in safe.items() if (folder / n).is_file() and sha256(folder / n) == d}
    return {**mine, MANIFEST: sha256(path)}


def file_names(profile: Profile, name: str, present: Iterable[str]) -> dict[str, FileSpec]:
    """Names of the files of a delivery, in order."""
    have = set(present)
    out: dict[str, FileSpec] = {}
    for spec in profile.files:
        if spec.optional and not {parse_channel(c).thread for c in spec.channels} <= have:
            continue
        out[profile.pattern.format(name=name, suffix=spec.suffix) + SUFFIX[spec.format]] = spec
    return out


def deliver(
    folder: Path,
    name: str,
    maps: Mapping[str, Image],
    profile: Profile,
    *,
    depth_mm: float,
    about: Mapping[str, Any] | None = None,
    force: bool = False,
    task: Task = IDLE,
) -> dict[str, Any]:
    """Write a map set into a folder.

    Parameters
    ----------
    folder : path
        Made when it is not there; must be empty unless ``force``.
    name : str
        First part of every file name.
    maps : mapping of str to Image
        Threads by name, all of one size.
    profile : Profile
    depth_mm : float
        Depth of the height; 0…1 in its file is 0…depth, its middle at 0.5.
    about : mapping
        More for the manifest.
    force : bool
        Write beside what is there, and replace only files that an earlier manifest lists with an unchanged hash.

    Returns
    -------
    dict
        The manifest, as written to ``manifest.json``.

    Raises
    ------
    LoomError
        The folder is not empty, or a file of the artist's is in the way. Nothing is then written.
    """
    replaceable = check_folder(folder, force)
    names = file_names(profile, name, maps)
    targets = [*names, *([f"{name}.glb"] if profile.glb else []), MANIFEST]
    for target in targets:
        if (folder / target).exists() and target not in replaceable:
            raise LoomError(
                "a file of this name is there and is not from an earlier delivery as it was written",
                target,
                "Move it, or choose another folder.",
            )
    folder.mkdir(parents=True, exist_ok=True)
    size = next(iter(maps.values()))
    entries: dict[str, dict[str, Any]] = {}
    warnings: list[str] = []

    def one(target: str) -> None:
        spec = names[target]
        task.checkpoint()
        samples = pack(spec, maps, depth_mm, profile.green)
        done = write(
            folder / target,
            samples,
            fmt=spec.format,
            depth=spec.depth,
            colour=spec.colour,
            dither=spec.dither,
            replace=target in replaceable,
            task=task,
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
            "sha256": sha256(folder / target),
        }
        task.report(len(entries) / (len(names) + 1), target)

    # The largest first, so that the cores finish together
    order = sorted(names, key=lambda n: -len(names[n].channels) * (2 if names[n].depth == "16" else 1))
    with ThreadPoolExecutor(max(1, WORKERS)) as pool:
        for done in [pool.submit(one, target) for target in order]:
            done.result()
    if profile.glb:
        from silent_loom.core.delivery.gltf import write_glb

        roles = {spec.role: folder / target for target, spec in names.items() if spec.role}
        path = folder / f"{name}.glb"
        write_glb(path, name, roles, size.size_mm, replace=path.name in replaceable)
        entries[path.name] = {"file": path.name, "format": "glb", "bytes": path.stat().st_size, "sha256": sha256(path)}
    manifest: dict[str, Any] = {
        "made_by": f"Silent Loom {__version__}",
        "name": name,
        "profile": profile.name,
        "size": [size.width, size.height],
        "repeat_mm": list(size.size_mm),
        "depth_mm": depth_mm,
        "height_middle_mm": depth_mm / 2,
        "green": profile.green,
        **dict(about or {}),
        "files": [entries[n] for n in [*names, *([f"{name}.glb"] if profile.glb else [])]],
        "warnings": sorted(warnings),
    }
    from silent_loom.core.files.place import drop, place

    partial = folder / f".{MANIFEST}.part"
    partial.write_text(json.dumps(manifest, indent=2, ensure_ascii=False) + "\n", "utf-8")
    try:
        place(partial, folder / MANIFEST, replace=MANIFEST in replaceable)
    finally:
        drop(partial)
    return manifest
