"""Deliveries as files: unpacked, packed for another receiver, proved."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any, cast

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.beyond import measured, packing_that_fits
from silent_loom.core.delivery.channel import parse_channel
from silent_loom.core.delivery.completing import check_maps
from silent_loom.core.delivery.files import Order, deliver
from silent_loom.core.delivery.fitting import fit, fitted
from silent_loom.core.delivery.names import file_name
from silent_loom.core.delivery.placing import check_folder
from silent_loom.core.delivery.profile import FileSpec, Profile, of_maps
from silent_loom.core.delivery.proving.proof import Verdict, verdict
from silent_loom.core.delivery.proving.receiver import receive
from silent_loom.core.delivery.reduce import reduced
from silent_loom.core.delivery.shelf import of_manifest, profile
from silent_loom.core.delivery.unpacking import manifest_of, unpack
from silent_loom.core.files.formats import by_name
from silent_loom.core.ways.squared import squared
from silent_loom.core.weave import threads
from silent_loom.core.weave.threads import ThreadSpec


def deliver_folder(
    folder: Path,
    out: Path,
    wanted: Profile,
    *,
    size: int = 0,
    packed_as: str = "",
    depth_mm: float | None = None,
    name: str = "",
    order: Order | None = None,
    force: bool = False,
    fitting: bool = False,
    task: Task = IDLE,
) -> dict[str, Any]:
    """Pack the maps of one delivery, or of a bake, for another receiver.

    Parameters
    ----------
    folder, out : path
        The delivery, and a folder that is new or empty.
    wanted : Profile
        What the receiver wants.
    size : int
        Texels along the longer side; that of the folder where it is 0. Smaller ones are made by each map's own filter.
    packed_as : str
        How it was packed, where it has no manifest.
    depth_mm : float, optional
        Depth of a height, where no manifest says so.
    name : str
        First part of the new files' names; the folder's where it is empty.
    fitting : bool
        Take the packing that fits, where the profile's own goes beyond the limits of its receiver.

    Returns
    -------
    dict
        The manifest.

    Raises
    ------
    LoomError
        The folder is not empty, there is no such profile, the delivery cannot be read, or is smaller than what is asked for.
    """
    check_folder(out, force)
    found = unpack(folder, profile(packed_as) if packed_as else None, depth_mm)
    maps: dict[str, Image] = found.maps
    first = next(iter(maps.values()))
    longer = max(first.width, first.height)
    if size > longer:
        raise LoomError(
            f"this folder holds {longer} texels, not {size}",
            str(folder),
            "Deliver the material itself, or ask for a smaller size.",
        )
    if size and size < longer:
        w, h = max(1, round(first.width * size / longer)), max(1, round(first.height * size / longer))
        maps = reduced(maps, w, h, task=task.part(0, 0.2))
    if wanted.square == "crop":
        make = squared(maps.__getitem__, list(maps), wanted, first.size_mm, task.part(0, 0.3))
        maps = {n: make(n) for n in maps}
    wanted = wanted if order is None else wanted.without(order.left)
    kept = {n: m for n, m in maps.items() if order is None or n not in order.left}
    if not kept:
        raise LoomError("every map is left out", str(folder), "Keep one.")
    check_maps(kept, wanted, order.left if order is not None else ())
    measure = measured(kept, fit(wanted, first.size_mm, size or longer))
    if fitting and (taken := packing_that_fits(wanted, kept, measure)):
        wanted = taken[-1].profile
    return deliver(
        out, name or file_name(folder.name), kept, wanted, meanings=found.meanings, order=order or Order(), force=force, task=task
    )


def prove_folder(
    delivered: Path, against: Path, profile_name: str = "", depth_mm: float | None = None, *, mistakes: bool = False
) -> dict[str, Any]:
    """Hold a delivery against another one, as a receiver reads both.

    Parameters
    ----------
    delivered, against : path
        Folders of deliveries, each with its manifest.
    profile_name : str
        How the delivery was packed, where it has no manifest.
    depth_mm : float, optional
        Depth of heights, where no manifest says so.
    mistakes : bool
        Make the usual mistakes on purpose, too.

    Returns
    -------
    dict
        See `Verdict.as_dict`.

    Raises
    ------
    LoomError
        Files are missing, cannot be read, or differ in size.
    """
    meant = unpack(against, None, None if manifest_of(against) else depth_mm)
    if depth_mm is None and manifest_of(delivered) is None and "height" in meant.meanings:
        depth_mm = meant.meanings["height"].depth  # no manifest says it: what was meant does
    return prove_maps(delivered, meant.maps, meant.meanings, profile_name, depth_mm, mistakes=mistakes).as_dict()


def prove_maps(
    delivered: Path,
    meant: dict[str, Image],
    meanings: dict[str, ThreadSpec],
    profile_name: str = "",
    depth_mm: float | None = None,
    *,
    mistakes: bool = False,
    task: Task = IDLE,
) -> Verdict:
    """Hold a delivered folder against maps as they were meant; these are fitted as the delivery's profile says."""
    got = receive(delivered, profile(profile_name) if profile_name else None, depth_mm)
    ranges = {n: got.unpacked.meanings[n].wider(m) if n in got.unpacked.meanings else m for n, m in meanings.items()}
    first = next(iter(got.unpacked.maps.values()))
    wanted = {
        n: m if (m.width, m.height) == (first.width, first.height) else _as_delivered(m, got.manifest) for n, m in meant.items()
    }
    return verdict(got, wanted, ranges, mistakes=mistakes, task=task)


def _as_delivered(image: Image, manifest: dict[str, Any]) -> Image:
    """A map laid, squeezed or brought to powers of two as the delivery was, where its profile is known."""
    try:
        known = of_manifest(manifest)
    except LoomError:
        return image
    how = fit(known, image.size_mm, max(int(v) for v in manifest.get("size", [image.width])))
    return fitted(image, how)


def by_hand(told: Sequence[str], green: str = "up") -> Profile:
    """A profile of packed files, told one by one: ``NAME=CHANNEL,CHANNEL,…``, as a profile writes channels.

    >>> by_hand(["masks=occlusion,roughness,metallic"]).files[0].suffix
    'masks'

    Raises
    ------
    LoomError
        One of them cannot be read.
    """
    files = []
    for text in told:
        name, equals, rest = text.partition("=")
        try:
            channels = tuple(parse_channel(c) for c in rest.split(","))
            meant = {threads.spec(c.thread).kind for c in channels[:3] if c.thread}
            stem = Path(name.strip())
            fmt = by_name(stem.name) or "png"
            depth = "float" if fmt == "openexr" else "8"
            colour = meant == {Kind.COLOUR}
            files.append(
                FileSpec(suffix=stem.stem, channels=channels, colour=colour, format=cast(Any, fmt), depth=cast(Any, depth))
            )
        except ValueError:
            raise LoomError(
                "this is not NAME=CHANNEL,CHANNEL", text, "For example: masks.png=occlusion,roughness,metallic"
            ) from None
    if not files:
        raise LoomError("no file is told of", "unpack", "For example: --file masks.png=occlusion,roughness,metallic")
    return Profile(name="by-hand", title="By hand", green=cast(Any, green), files=tuple(files))


def unpack_files(
    folder: Path, out: Path, profile_name: str = "", depth_mm: float | None = None, told: Sequence[str] = (), green: str = "up"
) -> list[str]:
    """Write every map of a delivery into a file of its own, with the bits that its file had.

    Parameters
    ----------
    folder, out : path
        The delivery, and a folder that is new or empty.
    profile_name : str
        How it was packed, where it has no manifest.
    told : sequence of str
        The same by hand, file by file: see `by_hand`.
    green : str
        Of normals that are told by hand.

    Returns
    -------
    list of str
        Names of the files.

    Raises
    ------
    LoomError
        The folder is not empty, or the delivery cannot be read.
    """
    check_folder(out, False)
    wanted_by = by_hand(told, green) if told else profile(profile_name) if profile_name else None
    found = unpack(folder, wanted_by, depth_mm)
    plain = profile("plain")
    files = []
    for spec_ in of_maps(plain, found.meanings, list(found.maps)).files:
        bits = max(found.bits[t] for t in spec_.threads)
        fmt, depth = ("openexr", "float") if bits == 32 else ("png", "16" if bits == 16 else "8")
        files.append(spec_.model_copy(update={"format": fmt, "depth": depth, "dither": False}))
    wanted = plain.model_copy(update={"files": tuple(files)})
    manifest = deliver(out, folder.name, found.maps, wanted, meanings=found.meanings)
    return [f["file"] for f in manifest["files"]]
