"""Sets that were delivered from here: their manifest says what every channel holds."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from silent_loom.core.weave import threads

MANIFEST = "manifest.json"
MOST = 64 << 20
"""Bytes of a manifest at most: it holds a whole weave."""
_WHOLE = {"rgb": ("r", "g", "b"), "xyz": ("x", "y", "z")}


@dataclass(frozen=True)
class Delivered:
    """What a manifest says of a set.

    Attributes
    ----------
    name : str
    files : dict of str to list of (channel, map)
        By file name; 'rgb', 'r' … 'a', and the map, 'smoothness' where roughness is the other way round. Files that are no
        map of the set have an empty list.
    green : str
        'up' or 'down'.
    width_mm, depth_mm : float
        Of a repeat, and of its height.
    """

    name: str
    files: dict[str, list[tuple[str, str]]]
    green: str
    width_mm: float
    depth_mm: float


def delivered(paths: Sequence[Path]) -> list[Delivered]:
    """The manifests among some files, or beside them; what is no manifest of ours is passed over."""
    candidates = {p for p in paths if p.name == MANIFEST} | {p.parent / MANIFEST for p in paths}
    found = []
    for path in sorted(candidates):
        if path.is_file() and path.stat().st_size <= MOST:
            told = _told(path)
            if told is not None:
                found.append(told)
    return found


def _told(path: Path) -> Delivered | None:
    try:
        manifest = json.loads(path.read_text("utf-8"))
        if not isinstance(manifest, dict) or "made_by" not in manifest or not isinstance(manifest.get("files"), list):
            return None
        files = {str(e["file"]): [] if e.get("set") else of_channels(e.get("channels") or []) for e in manifest["files"]}
        return Delivered(
            str(manifest.get("material") or manifest.get("name") or ""),
            files,
            str(manifest.get("green", "up")),
            float(manifest.get("repeat_mm", [1000.0])[0]),
            float(manifest.get("depth_mm", 10.0)),
        )
    except (OSError, ValueError, KeyError, TypeError, IndexError, RecursionError):
        return None


def of_channels(channels: Sequence[Any]) -> list[tuple[str, str]]:
    """The maps in the channels of one file.

    >>> of_channels(["occlusion", "1-roughness", "metallic"])
    [('r', 'occlusion'), ('g', 'smoothness'), ('b', 'metallic')]
    >>> of_channels(["base.r", "base.g", "base.b", "opacity"])
    [('rgb', 'base'), ('a', 'opacity')]
    """
    plain = [_plain(c) for c in channels]
    names = [n for n, _, _ in plain[:3]]
    parts = tuple(p for _, p, _ in plain[:3])
    out: list[tuple[str, str]] = []
    letters = "rgba" if len(plain) > 2 else "ra"
    if len(plain) >= 3 and len(set(names)) == 1 and names[0] and (parts in _WHOLE.values() or len(set(parts)) == 1):
        out.append(("rgb", names[0]))
        plain = plain[3:]
        letters = "a"
    used = {m for _, m in out}
    for letter, (name, _, inverted) in zip(letters, plain, strict=False):
        told = "smoothness" if inverted and name == "roughness" else "" if inverted else name
        if told in threads.THREADS or told == "smoothness":
            if told not in used:
                out.append((letter, told))
            used.add(told)
    return [(c if len(channels) > 1 else "r", m) for c, m in out]


def _plain(channel: Any) -> tuple[str, str, bool]:
    """Thread, part and whether it is inverted, of a channel as a manifest writes it; no thread where that cannot be undone."""
    if isinstance(channel, Mapping):
        changed = channel.get("curve") or channel.get("scale", 1) != 1 or channel.get("offset", 0) != 0
        if changed or (channel.get("times") and channel.get("thread") != "base"):
            return "", "", False
        return str(channel.get("thread", "")), str(channel.get("part", "")), bool(channel.get("invert"))
    text = str(channel)
    inverted = text.startswith("1-")
    name, _, part = text.removeprefix("1-").partition(".")
    return (name, part, inverted) if name.isidentifier() else ("", "", False)
