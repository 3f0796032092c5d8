"""Proof without the application: a delivery held against what was meant, which its own manifest says where nobody else does."""

from __future__ import annotations

import json
import tempfile
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

from silent_loom.core.base.errors import FileError, LoomError
from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.baking.makers import How, maker
from silent_loom.core.delivery.completing import completed
from silent_loom.core.delivery.fitting import fit, fitted
from silent_loom.core.delivery.packing import needed
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.delivery.proving.proof import verdict
from silent_loom.core.delivery.proving.receiver import receive
from silent_loom.core.delivery.shelf import of_manifest
from silent_loom.core.delivery.shelf import profile as profile_of
from silent_loom.core.delivery.unpacking import manifest_of
from silent_loom.core.ways.repack import prove_folder
from silent_loom.core.ways.sources import FileSources, digest_of
from silent_loom.core.ways.squared import squared
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import Weave
from silent_loom.core.weave.rows.upgrade import parsed
from silent_loom.store.stored import StoredDecisions
from silent_loom.work.giving.alone import CACHE, library, opened
from silent_loom.work.giving.received import taken_out


def prove_against(
    delivery: Path,
    against: str,
    data: Path | None,
    profile: str = "",
    *,
    photos: Sequence[Path] = (),
    depth_mm: float | None = None,
    beside: Path | None = None,
    task: Task = IDLE,
) -> dict[str, Any]:
    """Hold a delivery against a material, an archive, another folder, or the weave that its manifest holds.

    Parameters
    ----------
    delivery : path
        Folder or zip.
    against : str
        What was meant; where it is empty, the weave in the manifest is computed anew.
    data : path, optional
        Folder of the library, where sources of that weave may lie.
    profile : str
        How it was packed, where it has no manifest.
    photos : sequence of path
        Files that the weave begins with, where they lie neither in the library nor beside the delivery.
    depth_mm : float, optional
        Depth of a height, where no manifest says so; that of what was meant where it is None.
    beside : path, optional
        Where the delivery lies, if not in its own folder.

    Raises
    ------
    LoomError
        Nothing says what was meant, or something cannot be read.
    """
    if delivery.is_file():
        with tempfile.TemporaryDirectory() as folder:
            taken_out(delivery, Path(folder), delivery.name)
            where = delivery.absolute().parent
            return prove_against(Path(folder), against, data, profile, photos=photos, depth_mm=depth_mm, beside=where, task=task)
    if against and Path(against).is_dir():
        return prove_folder(delivery, Path(against), profile, depth_mm, mistakes=True)
    manifest = manifest_of(delivery) or {}
    wanted = profile_of(profile) if profile else of_manifest(manifest)
    told = "" if isinstance(manifest.get("weave"), dict) else str(manifest.get("material") or "")
    if named := against or told:
        with opened(named, data) as (store, state):
            evaluator = Evaluator(store.sources, Cache(CACHE), StoredDecisions(store))
            return _proved(delivery, manifest, wanted, profile, evaluator, state.weave, depth_mm, task)
    if not isinstance(manifest.get("weave"), dict):
        raise LoomError("nothing says what was meant", str(delivery), "Name a material or a folder, with --against.")
    weave = parsed(json.dumps(manifest["weave"]))
    paths = _sources_of(weave, delivery, beside or delivery.absolute().parent, data, photos)
    sources = FileSources(lambda digest: (paths[digest], weave.sources[digest].name, weave.sources[digest].format))
    return _proved(delivery, manifest, wanted, profile, Evaluator(sources, Cache(CACHE)), weave, depth_mm, task)


def _proved(
    delivery: Path,
    manifest: dict[str, Any],
    wanted: Profile,
    profile: str,
    evaluator: Evaluator,
    weave: Weave,
    depth_mm: float | None,
    task: Task,
) -> dict[str, Any]:
    """What a receiver has of a delivery, held against what a weave makes now."""
    left = [str(n) for n in manifest.get("left", [])]
    weave = completed(evaluator, weave, wanted.without(left), left)
    plan = evaluator.plan(weave)
    if depth_mm is None and not manifest:  # no manifest says what black and white stand for: what was meant does
        depth_mm = plan.spec("height").depth
    got = receive(delivery, profile_of(profile) if profile else None, depth_mm)
    first = next(iter(got.unpacked.maps.values()))
    size = max(int(v) for v in manifest.get("size", [first.width, first.height]))
    how = fit(wanted, plan.geometry.size_mm, size)
    baked = How(int(manifest.get("supersample", 1)), bool(manifest.get("lost_length", True)), bool(manifest.get("lit")))
    make = maker(evaluator, weave, how.ask, baked, task)
    present = {n: t for n, t in plan.threads.items() if n not in left}
    names = [n for n in needed(wanted, present) if n in wanted.wants()]
    make = squared(make, names, wanted, plan.geometry.size_mm)
    meant: dict[str, Image] = {n: fitted(make(n), how) for n in names}
    ranges = {n: got.unpacked.meanings[n].wider(plan.spec(n)) if n in got.unpacked.meanings else plan.spec(n) for n in names}
    return verdict(got, meant, ranges, mistakes=True, task=task).as_dict()


def _sources_of(weave: Weave, delivery: Path, beside: Path, data: Path | None, photos: Sequence[Path]) -> dict[str, Path]:
    """The files that a weave begins with, found by their content: as they were named, in the library, or beside the delivery.

    Raises
    ------
    FileError
        One is nowhere.
    """
    found: dict[str, Path] = {}
    missing = dict(weave.sources)
    for photo in photos:
        if not photo.is_file():
            raise FileError("there is no such file", str(photo), "Check the path.")
        found[digest_of(photo)] = photo
    missing = {d: ref for d, ref in missing.items() if d not in found}
    if missing:
        with suppress(LoomError, KeyError), library(data) as store:
            for digest in list(missing):
                path = store.blobs.path(digest)
                if path.is_file():
                    found[digest] = path
                    missing.pop(digest)
    sizes = {ref.bytes for ref in missing.values()}
    near = [p for folder in (delivery, beside, Path()) for p in sorted(folder.iterdir()) if missing and p.is_file()]
    for path in near:
        if path.stat().st_size in sizes and (digest := digest_of(path)) in missing:
            found[digest] = path
            missing.pop(digest)
    if missing:
        ref = next(iter(missing.values()))
        raise FileError(
            "the weave in the manifest begins with this file, and it is neither in the library nor beside the delivery",
            ref.name,
            "Name it with --photo.",
        )
    return found
