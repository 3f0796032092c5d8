"""Receiver profiles: what a receiver wants, as data."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cache
from importlib import resources
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Kind
from silent_loom.core.weave.threads import ThreadSpec

_INDEX = {"": 0, "r": 0, "x": 0, "g": 1, "y": 1, "b": 2, "z": 2}


class Channel(BaseModel):
    """One channel of a file: a thread's channel, or a constant."""

    model_config = ConfigDict(frozen=True)
    thread: str
    index: int = 0
    constant: float | None = None
    invert: bool = False


class FileSpec(BaseModel):
    """One file of a delivery."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    suffix: str = Field(pattern=r"^[A-Za-z0-9_-]+$")
    channels: tuple[str, ...] = Field(min_length=1, max_length=4, description="thread, thread.r, 1-thread, or a number")
    colour: bool = False
    format: Literal["png", "jpeg", "targa", "tiff", "openexr", "webp"] = "png"
    depth: Literal["8", "16", "half", "float"] = "8"
    dither: bool = False
    optional: bool = Field(False, description="Left out, not filled in, when the material has no such thread.")
    role: str = ""

    @field_validator("channels")
    @classmethod
    def _parses(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        for text in value:
            parse_channel(text)
        return value


class Profile(BaseModel):
    """What one kind of receiver wants."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: str
    title: str
    says: str = ""
    pattern: str = Field("{name}_{suffix}", description="File name without its ending.")
    green: Literal["up", "down"] = "up"
    size: int | None = Field(None, description="Texels along the longer side, when the receiver insists.")
    files: tuple[FileSpec, ...]
    glb: bool = False


def parse_channel(text: str) -> Channel:
    """'roughness', 'base.g', '1-roughness' or '0.5'.

    >>> parse_channel("1-roughness")
    Channel(thread='roughness', index=0, constant=None, invert=True)

    Raises
    ------
    ValueError
    """
    text = text.strip()
    try:
        return Channel(thread="", constant=float(text))
    except ValueError:
        pass
    invert = text.startswith("1-")
    thread, _, part = text.removeprefix("1-").partition(".")
    if not thread.isidentifier() or part not in _INDEX:
        raise ValueError(f"'{text}' is not a channel")
    return Channel(thread=thread, index=_INDEX[part], invert=invert)


def of_maps(wanted: Profile, meanings: Mapping[str, ThreadSpec], names: Sequence[str]) -> Profile:
    """A profile of some maps alone: its own files for those that it knows, and a file each for the others.

    Files that hold a map which is not wanted are left out. Others are 16 bits, colour 8 in sRGB.
    """
    files: list[FileSpec] = []
    told: set[str] = set()
    for spec in wanted.files:
        threads = {c.thread for c in map(parse_channel, spec.channels) if c.constant is None}
        if threads and threads <= set(names):
            files.append(spec)
            told |= threads
    for name in names:
        if name not in told:
            meaning = meanings[name]
            if meaning.kind is Kind.ID:
                files.append(FileSpec(suffix=name, channels=tuple(f"{name}.{c}" for c in "rgb"), colour=False, depth="8"))
                continue
            parts = {3: "rgb", 2: "xy"}.get(len(meaning.neutral), "rgba"[: len(meaning.neutral)])
            channels = (name,) if len(meaning.neutral) == 1 else tuple(f"{name}.{c}" for c in parts)
            colour = meaning.kind is Kind.COLOUR
            files.append(FileSpec(suffix=name, channels=channels, colour=colour, depth="8" if colour else "16"))
    return wanted.model_copy(update={"files": tuple(files), "glb": False})


@cache
def profiles() -> dict[str, Profile]:
    """Every profile that ships, by name."""
    folder = resources.files("silent_loom.core.delivery") / "profiles"
    found = [Profile.model_validate_json(f.read_text("utf-8")) for f in folder.iterdir() if f.name.endswith(".json")]
    return {p.name: p for p in sorted(found, key=lambda p: (p.name != "plain", p.name))}


def profile(name: str) -> Profile:
    """One profile.

    Raises
    ------
    LoomError
        There is none of this name.
    """
    if name not in profiles():
        raise LoomError(f"there is no profile called '{name}'", "profile", f"There are {', '.join(profiles())}.")
    return profiles()[name]
