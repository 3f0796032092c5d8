"""Whether a delivery fits its receiver, what it takes of the graphics card, and which packing would fit."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from silent_loom.core.delivery.channel import Channel
from silent_loom.core.delivery.profile import FileSpec, Profile

MIPS = 4 / 3
"""All smaller pictures of a texture together take a third more."""


@dataclass(frozen=True)
class Packed:
    """One picture of a delivery.

    Attributes
    ----------
    spec : FileSpec
    width, height : int
    bytes : int
        Of the file.
    """

    spec: FileSpec
    width: int
    height: int
    bytes: int

    @property
    def memory(self) -> int:
        """Bytes on a graphics card with mips, not compressed: three channels take the room of four."""
        channels = {1: 1, 2: 2}.get(len(self.spec.channels), 4)
        each = {"8": 1, "16": 2, "half": 2, "float": 4}[self.spec.depth]
        return round(self.width * self.height * channels * each * MIPS)

    @property
    def blocks(self) -> int:
        """The same, compressed in blocks of 4 × 4: 16 bytes each, 8 for one channel (BC4 to BC7, as in Khronos Data Format)."""
        across, down = -(-self.width // 4), -(-self.height // 4)
        return round(across * down * (8 if len(self.spec.channels) == 1 else 16) * MIPS)


@dataclass(frozen=True)
class Line:
    """One limit: what it is, what there is, and whether that fits."""

    limit: str
    has: str
    fits: bool


@dataclass(frozen=True)
class Proposal:
    """A packing that takes less.

    Attributes
    ----------
    title : str
    costs : str
        What is given up, in words.
    consent : bool
        It leaves something out, so the artist has to agree.
    profile : Profile
        The profile after it.
    """

    title: str
    costs: str
    consent: bool
    profile: Profile


@dataclass(frozen=True)
class Verdict:
    """All of it."""

    fits: bool
    lines: list[Line]
    memory: int
    blocks: int
    bytes: int
    proposals: list[Proposal]

    def as_dict(self) -> dict[str, Any]:
        return {
            "fits": self.fits,
            "lines": [vars(line) for line in self.lines],
            "memory": self.memory,
            "blocks": self.blocks,
            "bytes": self.bytes,
            "proposals": [
                {
                    "title": p.title,
                    "costs": p.costs,
                    "consent": p.consent,
                    "profile": p.profile.model_dump(mode="json", exclude_defaults=True),
                }
                for p in self.proposals
            ],
        }


def verdict(profile: Profile, files: Sequence[Packed], present: set[str]) -> Verdict:
    """Hold the files of a delivery against the limits of its receiver.

    Parameters
    ----------
    profile : Profile
    files : sequence of Packed
    present : set of str
        Maps of the material.

    >>> from silent_loom.core.delivery.shelf import profile
    >>> verdict(profile("plain"), [], {"base"}).fits
    True
    """
    most, lines = profile.limits, []
    count, total = len(files), sum(f.bytes for f in files)
    memory, blocks = sum(f.memory for f in files), sum(f.blocks for f in files)
    longest = max((max(f.width, f.height) for f in files), default=0)
    if most.files:
        lines.append(Line(f"at most {most.files} pictures", str(count), count <= most.files))
    if most.size:
        lines.append(Line(f"sides of at most {most.size} texels", str(longest), longest <= most.size))
    if most.total_mb:
        lines.append(Line(f"at most {most.total_mb:g} MB of files", f"{total / 1e6:.1f} MB", total <= most.total_mb * 1e6))
    if most.memory_mb:
        taken = blocks if most.blocks else memory
        words = f"at most {most.memory_mb:g} MB of graphics memory{', in blocks' if most.blocks else ''}"
        lines.append(Line(words, f"{taken / 1e6:.1f} MB", taken <= most.memory_mb * 1e6))
    if most.formats:
        other = sorted({f.spec.format for f in files} - set(most.formats))
        lines.append(Line(f"{', '.join(most.formats)} alone", ", ".join(other) or "all of them", not other))
    if most.powers_of_two:
        odd = [f"{f.width} × {f.height}" for f in files if f.width & (f.width - 1) or f.height & (f.height - 1)]
        lines.append(Line("sides are powers of two", odd[0] if odd else "all of them", not odd))
    fits = all(line.fits for line in lines)
    return Verdict(fits, lines, memory, blocks, total, [] if fits else proposals(profile, present))


def proposals(profile: Profile, present: set[str]) -> list[Proposal]:
    """Packings that take less than a profile's, each by itself, the one that costs least first.

    >>> from silent_loom.core.delivery.shelf import profile
    >>> [p.title for p in proposals(profile("plain"), {"base"})][:1]
    ['occlusion, roughness, metallic in one file']
    """
    made = (_opacity(profile, present), _greys(profile), _absent(profile, present), _small(profile), _height(profile))
    return [p for p in made if p is not None]


def _with(profile: Profile, files: Sequence[FileSpec], **more: Any) -> Profile:
    return profile.model_copy(update={"files": tuple(files), **more})


def _alone(profile: Profile, name: str) -> FileSpec | None:
    return next((f for f in profile.files if len(f.channels) == 1 and f.channels[0].plain and f.channels[0].thread == name), None)


def _opacity(profile: Profile, present: set[str]) -> Proposal | None:
    file = _alone(profile, "opacity")
    base = next(
        (f for f in profile.files if f.whole("base") and f.alpha_if_any is None and f.format in ("png", "targa", "tiff", "webp")),
        None,
    )
    if file is None or base is None or "opacity" not in present:
        return None
    more = base.model_copy(update={"channels": (*base.channels, file.channels[0])})
    files = [more if f is base else f for f in profile.files if f is not file]
    return Proposal("Opacity into the alpha of the base colour", "one file less; nothing is lost", False, _with(profile, files))


def _greys(profile: Profile) -> Proposal | None:
    grey = [f for n in ("occlusion", "roughness", "metallic") if (f := _alone(profile, n)) is not None]
    if len(grey) < 2 or len({(f.format, f.depth) for f in grey}) > 1:
        return None
    one = grey[0].model_copy(
        update={
            "suffix": "".join(f.suffix for f in grey),
            "channels": (*(f.channels[0] for f in grey), *(Channel(constant=0.0),) * (3 - len(grey))),
            "optional": False,
            "share": min(f.share for f in grey),
            "palette": 0,
        }
    )
    files = [one if f is grey[0] else f for f in profile.files if f not in grey[1:]]
    words = f"{len(grey) - 1} files less; the receiver has to read one channel each"
    return Proposal(f"{', '.join(f.suffix for f in grey)} in one file", words, False, _with(profile, files))


def _absent(profile: Profile, present: set[str]) -> Proposal | None:
    gone = [f for f in profile.files if f.threads and not f.threads & present and not f.optional]
    if not gone or len(gone) == len(profile.files):
        return None
    files = [f for f in profile.files if f not in gone]
    words = ", ".join(f.suffix for f in gone)
    costs = "nothing: the material has no such maps, and the read-me says their values"
    return Proposal(f"Absent maps as constants: {words}", costs, False, _with(profile, files))


def _small(profile: Profile) -> Proposal | None:
    grey = [f for f in profile.files if f.share == 1 and not f.colour and not {"normal", "height"} & f.threads]
    if not grey:
        return None
    files = [f.model_copy(update={"share": 2}) if f in grey else f for f in profile.files]
    return Proposal(
        "Grey maps at half the size", "three quarters of their texels; fine roughness goes", True, _with(profile, files)
    )


def _height(profile: Profile) -> Proposal | None:
    file = _alone(profile, "height")
    if file is None or len(profile.files) == 1:
        return None
    files = [f for f in profile.files if f is not file]
    leaves = (*profile.leaves_out, "height")
    return Proposal(
        "Without the height", "the receiver cannot displace the surface", True, _with(profile, files, leaves_out=leaves)
    )
