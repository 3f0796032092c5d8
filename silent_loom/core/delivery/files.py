"""A delivery: its files written as soon as the maps in them are made, listed in a manifest, put in place together."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from silent_loom import __version__
from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.beyond import check_limits, measured
from silent_loom.core.delivery.fitting import Fit, fit
from silent_loom.core.delivery.package.beside import Worn, write_beside
from silent_loom.core.delivery.package.facts import facts_of
from silent_loom.core.delivery.placing import MANIFEST, check_folder, check_targets, gathered
from silent_loom.core.delivery.profile import FileSpec, Profile, file_names
from silent_loom.core.delivery.verdict import Packed, verdict
from silent_loom.core.delivery.writing import Making
from silent_loom.core.weave import threads
from silent_loom.core.weave.threads import ThreadSpec


@dataclass(frozen=True)
class Order:
    """How a delivery is to be made, besides what its profile says.

    Attributes
    ----------
    how : Fit, or None
        How the sheet becomes what the receiver takes; found from the first map where it is None.
    package : bool
        A read-me and a contact sheet for the receiver, too.
    version : int
        For {version} in names.
    skip_constant : bool
        Maps that are the same everywhere get no file: the manifest says their values.
    two_sided : bool
        The surface is seen from both sides.
    present : tuple of str
        Every map of the material; what of it the profile leaves out is told.
    left : tuple of str
        Maps that the artist leaves out, which is told as well.
    anyway : bool
        Deliver even what goes beyond the limits of its receiver; it is then a warning.
    worn : Worn, optional
        The model that the maps lie on, which open materials then show them on.
    """

    how: Fit | None = None
    package: bool = False
    version: int = 1
    skip_constant: bool = False
    two_sided: bool = False
    present: tuple[str, ...] = ()
    left: tuple[str, ...] = ()
    anyway: bool = True
    worn: Worn | None = None


_PLAIN = Order()


def deliver(
    folder: Path,
    name: str,
    maps: Mapping[str, Image],
    profile: Profile,
    *,
    depth_mm: float | None = None,
    meanings: Mapping[str, ThreadSpec] | None = None,
    about: Mapping[str, Any] | None = None,
    order: Order = _PLAIN,
    force: bool = False,
    task: Task = IDLE,
) -> dict[str, Any]:
    """Write a map set into a folder; see `deliver_as_made`. ``depth_mm`` is that of a height without a meaning of its own."""
    told = dict(meanings or {})
    if depth_mm is not None:
        told.setdefault("height", threads.spec("height").over(depth_mm))
    return deliver_as_made(
        folder,
        name,
        list(maps),
        maps.__getitem__,
        profile,
        meanings=told,
        about=lambda: about or {},
        order=order,
        force=force,
        task=task,
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
    order: Order = _PLAIN,
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
        Gives one of them; all have one size, that of ``order.how`` to ask for. Files are encoded meanwhile.
    profile : Profile
    meanings : mapping of str to ThreadSpec
        What the threads mean, where that is not what the table says: 0…1 in a file is the range of its thread.
    about : callable
        Gives more for the manifest, asked for at the end.
    order : Order
    force : bool
        Write beside what is there, and replace only files that an earlier manifest lists with an unchanged hash.

    Returns
    -------
    dict
        The manifest, as written to ``manifest.json``; see `package.manifest.Manifest`.

    Raises
    ------
    LoomError
        The folder is not empty, a file of the artist's is in the way, or an open material cannot be written from these files.

    Notes
    -----
    Files are written into a hidden folder and get their names together at the end, the manifest last: whatever goes
    wrong before, nothing is left half written.
    """
    replaceable = check_folder(folder, force)
    making = Making(profile, meanings, task)
    first = making.first(threads_made, make)
    how = order.how or fit(profile, first.size_mm, max(first.width, first.height))
    names = file_names(profile, name, threads_made, size=max(how.width, how.height), version=order.version)
    check_targets(folder, [*names, MANIFEST], replaceable)
    with gathered(folder, replaceable) as hidden:
        making.write(hidden, names, threads_made, make, how, order.skip_constant)
        if not making.entries and not profile.models:
            raise LoomError("there would be no file: every map is the same everywhere", name, "Write constant maps, too.")
        manifest = facts_of(
            profile, name, how, making, {t: _meaning(meanings, t) for t in threads_made}, order.version, order.two_sided
        )
        manifest |= {
            "made_by": f"Silent Loom {__version__}",
            "asks_for": profile.model_dump(mode="json", exclude_defaults=True),
            **({"left": list(order.left)} if order.left else {}),
            **about(),
        }
        manifest["warnings"] = sorted(
            {*making.warnings, *_left_out(profile, order.present or threads_made, order.left)}
            | {*_exceeded(profile, names, making.entries)}
        )
        if not order.anyway:
            _check_limits(profile, names, making.entries, threads_made, how)
        small = making.small if order.package else None
        write_beside(hidden, profile, name, manifest, making.samples, small, order.worn)
        check_targets(folder, [f["file"] for f in manifest["files"]], replaceable)
        (hidden / MANIFEST).write_text(json.dumps(manifest, indent=2, ensure_ascii=False) + "\n", "utf-8")
        task.checkpoint()
    return manifest


def _meaning(meanings: Mapping[str, ThreadSpec], name: str) -> ThreadSpec:
    return meanings.get(name) or threads.spec(name)


def _exceeded(profile: Profile, names: Mapping[str, FileSpec], entries: Sequence[Mapping[str, Any]]) -> list[str]:
    """Words on limits of the receiver that the files of the set go beyond."""
    lines = verdict(profile, _packed(names, entries), set()).lines
    return [f"beyond what its receiver takes: {line.limit}, and there is {line.has}" for line in lines if not line.fits]


def _packed(names: Mapping[str, FileSpec], entries: Sequence[Mapping[str, Any]]) -> list[Packed]:
    """The pictures of the set itself, as its receiver counts them."""
    own = [e for e in entries if e["file"] in names]
    return [Packed(names[e["file"]], e["size"][0], e["size"][1], e["bytes"]) for e in own]


def _check_limits(
    profile: Profile, names: Mapping[str, FileSpec], entries: Sequence[Mapping[str, Any]], present: Sequence[str], how: Fit
) -> None:
    """Refuse what goes beyond the limits, by the bytes that each map took: nothing has its name yet."""
    files = _packed(names, entries)
    rates: dict[str, float] = {}
    for f in files:
        for c in f.spec.channels:
            if c.thread:
                rates[c.thread] = f.bytes / max(1, f.width * f.height) / len(f.spec.channels)
    check_limits(profile, files, present, measured(present, how, lambda name: rates.get(name, 0.0)))


def _left_out(profile: Profile, present: Sequence[str], left: Sequence[str]) -> list[str]:
    """Words on maps that the material has and this receiver does not get."""
    gone = {*profile.wants(), *profile.leaves_out, *left}
    out = [t for t in threads.THREADS if t in present and t not in gone]
    asked = [t for t in present if t in left]
    told = (("as its profile does not ask for it", out), ("as it was left out on purpose", asked))
    return [f"not in this delivery, {why}: {_listed(which)}" for why, which in told if which]


def _listed(names: Sequence[str]) -> str:
    more = " Set the roughness in the receiver." if "roughness" in names else ""
    return f"{', '.join(threads.spec(t).title.lower() for t in names)}.{more}"
