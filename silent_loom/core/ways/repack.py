"""Deliveries as files: unpacked, packed for another receiver, proved."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.files import deliver
from silent_loom.core.delivery.names import file_name
from silent_loom.core.delivery.placing import check_folder
from silent_loom.core.delivery.profile import of_maps, parse_channel, profile
from silent_loom.core.delivery.proof import prove
from silent_loom.core.delivery.unpacking import unpack


def deliver_folder(
    folder: Path,
    out: Path,
    profile_name: str,
    *,
    packed_as: str = "",
    depth_mm: float | None = None,
    name: str = "",
    task: Task = IDLE,
) -> list[str]:
    """Pack the maps of one delivery for another receiver.

    Parameters
    ----------
    folder, out : path
        The delivery, and a folder that is new or empty.
    profile_name : str
        What the receiver wants.
    packed_as : str
        How it was packed, where it has no manifest.
    depth_mm : float, optional
        Depth of a height, where no manifest says so.
    name : str
        First part of the new files' names; the folder's where it is empty.

    Returns
    -------
    list of str
        Names of the files.

    Raises
    ------
    LoomError
        The folder is not empty, there is no such profile, or the delivery cannot be read.
    """
    wanted = profile(profile_name)
    check_folder(out, False)
    found = unpack(folder, profile(packed_as) if packed_as else None, depth_mm)
    manifest = deliver(out, name or file_name(folder.name), found.maps, wanted, meanings=found.meanings, task=task)
    return [f["file"] for f in manifest["files"]]


def prove_folder(delivered: Path, against: Path, profile_name: str = "", depth_mm: float | None = None) -> dict[str, Any]:
    """Hold a delivery against another one, as a receiver reads both.

    Parameters
    ----------
    delivered, against : path
        Folders of deliveries, each with its manifest.
    profile_name : str
        How the delivery was packed, where it has no manifest.
    depth_mm : float, optional
        Depth of heights, where no manifest says so.

    Returns
    -------
    dict
        ``same``, and for each map that was meant what `Proved` says.

    Raises
    ------
    LoomError
        Files are missing, cannot be read, or differ in size.
    """
    got = unpack(delivered, profile(profile_name) if profile_name else None, depth_mm)
    meant = unpack(against, None, depth_mm)
    ranges = {n: got.meanings[n].wider(m) if n in got.meanings else m for n, m in meant.meanings.items()}
    proved = prove(got.maps, meant.maps, ranges)
    return {"same": all(p.same for p in proved), "maps": [p.as_dict() for p in proved]}


def unpack_files(folder: Path, out: Path, profile_name: str = "", depth_mm: float | None = None) -> list[str]:
    """Write every map of a delivery into a file of its own, with the bits that its file had.

    Parameters
    ----------
    folder, out : path
        The delivery, and a folder that is new or empty.
    profile_name : str
        How it was packed, where it has no manifest.

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
    found = unpack(folder, profile(profile_name) if profile_name else None, depth_mm)
    plain = profile("plain")
    files = []
    for spec_ in of_maps(plain, found.meanings, list(found.maps)).files:
        threads = {parse_channel(c).thread for c in spec_.channels}
        bits = max(found.bits[t] for t in threads)
        fmt, depth = ("openexr", "float") if bits == 32 else ("png", "16" if bits == 16 else "8")
        files.append(spec_.model_copy(update={"format": fmt, "depth": depth, "dither": False}))
    wanted = plain.model_copy(update={"files": tuple(files)})
    manifest = deliver(out, folder.name, found.maps, wanted, meanings=found.meanings)
    return [f["file"] for f in manifest["files"]]
