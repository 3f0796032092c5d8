"""Receiver profiles: what a receiver wants, as data."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from silent_loom.core.base.images import Kind
from silent_loom.core.delivery.channel import Channel, parse_channel
from silent_loom.core.delivery.naming import TOKENS, check_apart, check_pattern, filled
from silent_loom.core.files.formats import DEPTHS, SUFFIXES
from silent_loom.core.weave.threads import ThreadSpec

Format = Literal["png", "jpeg", "targa", "tiff", "bmp", "openexr", "webp"]
Model = Literal["glb", "gltf", "mtlx", "usda", "usdz"]


class FileSpec(BaseModel):
    """One file of a delivery."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    suffix: str = Field(pattern=r"^[A-Za-z0-9_-]+$", max_length=60, description="What {map} stands for in its name.")
    channels: tuple[Channel, ...] = Field(min_length=1, max_length=4, description="Grey, grey and alpha, RGB, or RGB and alpha.")
    colour: bool = Field(False, description="Colour, sRGB-encoded and tagged so; data stands as it is, without a tag.")
    format: Format = "png"
    depth: Literal["8", "16", "half", "float"] = "8"
    dither: bool = Field(False, description="A code of noise before rounding to 8 bits, so that slopes have no steps.")
    quality: int = Field(92, ge=1, le=100, description="Of JPEG, and of WebP with colour; data in WebP is exact.")
    compression: Literal["fast", "small"] = Field("fast", description="Of PNG, TIFF and TGA: quickly written, or smallest.")
    palette: int = Field(0, ge=0, le=256, description="Colours of an 8-bit palette PNG; 0 for none.")
    share: Literal[1, 2, 4, 8] = Field(1, description="Part of the delivery's size: 2 is half as many texels each way.")
    optional: bool = Field(False, description="Left out, not filled in, when the material has no such map.")
    alpha_if_any: Channel | None = Field(
        None, description="Goes into alpha where the material has such a map; else there is none."
    )

    @model_validator(mode="after")
    def _fits(self) -> FileSpec:
        if self.depth not in DEPTHS[self.format]:
            raise ValueError(
                f"{self.suffix}: {self.format} has no {self.depth}-bit form; it has {', '.join(DEPTHS[self.format])}"
            )
        n = len(self.channels)
        if self.format in ("jpeg", "bmp") and n in (2, 4):
            raise ValueError(f"{self.suffix}: {self.format} has no alpha; give it 1 or 3 channels")
        if self.palette and (self.format, self.depth) != ("png", "8"):
            raise ValueError(f"{self.suffix}: a palette is for PNG of 8 bits")
        if self.alpha_if_any is not None and (n not in (1, 3) or self.format in ("jpeg", "bmp")):
            raise ValueError(f"{self.suffix}: alpha goes beside 1 or 3 channels, in a format that has it")
        if self.palette and n == 2:
            raise ValueError(f"{self.suffix}: a palette is for 1, 3 or 4 channels")
        return self

    @property
    def threads(self) -> set[str]:
        """Every thread that goes into the file."""
        return {t for c in self.channels for t in c.threads}

    def of(self, present: set[str]) -> FileSpec:
        """The file as a material with these maps fills it."""
        if self.alpha_if_any is None:
            return self
        more = (self.alpha_if_any,) if self.alpha_if_any.threads <= present else ()
        return self.model_copy(update={"channels": (*self.channels, *more), "alpha_if_any": None})

    def whole(self, thread: str) -> bool:
        """Whether the file is one thread's three channels and nothing else."""
        return all(c.plain and c.thread == thread and not c.invert and c.index == k for k, c in enumerate(self.channels)) and (
            len(self.channels) == 3
        )


class Limits(BaseModel):
    """What a receiver takes at most; 0 for no limit."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    files: int = Field(0, ge=0, le=64, description="Pictures.")
    size: int = Field(0, ge=0, le=16384, description="Texels along the longer side.")
    total_mb: float = Field(0, ge=0, le=1e6, description="Megabytes (10⁶ bytes) of all files together.")
    memory_mb: float = Field(0, ge=0, le=1e6, description="Megabytes of graphics memory, block-compressed where `blocks` is on.")
    blocks: bool = Field(False, description="The receiver compresses textures in blocks.")
    formats: tuple[Format, ...] = Field((), description="The only formats that it reads; empty for any.")
    powers_of_two: bool = Field(False, description="Sides are powers of two.")


class Profile(BaseModel):
    """What one kind of receiver wants."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: str = Field(pattern=r"^[a-z0-9][a-z0-9-]*$", max_length=40, description="Small letters, digits and '-'.")
    title: str = Field(min_length=1, max_length=80)
    says: str = Field("", max_length=300)
    pattern: str = Field("{material}_{map}", max_length=200, description="File name without its ending.")
    tokens: dict[str, str] = Field(default_factory=dict, description="Tokens of its own, and what they stand for.")
    model: str = Field("", max_length=100, description="The name that the material has in the receiver's model.")
    green: Literal["up", "down"] = "up"
    square: Literal["keep", "repeats", "crop", "squeeze"] = Field(
        "keep", description="What happens to a repeat that is not square."
    )
    sizes: tuple[int, ...] = Field((), max_length=6, description="Longer sides of smaller sets beside, as for small devices.")
    files: tuple[FileSpec, ...] = Field(min_length=1, max_length=32)
    limits: Limits = Limits()
    models: tuple[Model, ...] = Field((), description="Open materials to write beside the pictures.")
    leaves_out: tuple[str, ...] = Field((), description="Maps that this receiver cannot use, and is not warned of.")

    @field_validator("tokens")
    @classmethod
    def _words(cls, value: dict[str, str]) -> dict[str, str]:
        for name in value:
            if not name.isidentifier() or name in TOKENS:
                raise ValueError(f"'{name}' cannot be a token of its own")
        return value

    @model_validator(mode="after")
    def _holds_together(self) -> Profile:
        check_pattern(self.pattern, self.tokens)
        suffixes = [f.suffix.casefold() for f in self.files]
        if any(not 8 <= n <= 8192 for n in self.sizes) or len(set(self.sizes)) < len(self.sizes):
            raise ValueError("sides of smaller sets lie in 8…8192, each once")
        twice = [s for s in suffixes if suffixes.count(s) > 1]
        if twice:
            raise ValueError(f"two files have the suffix {twice[0]}")
        return self

    def without(self, leave: Collection[str]) -> Profile:
        """The profile less the files that hold nothing but maps which are left out; beside others they become constants."""
        kept = tuple(f for f in self.files if not f.threads or not f.threads <= set(leave))
        return self.model_copy(update={"files": kept}) if len(kept) < len(self.files) else self

    def insists_on(self) -> set[str]:
        """Threads that go into files which are always there; what a file calls optional is not among them."""
        return {t for f in self.files if not f.optional for t in f.threads}

    def wants(self) -> set[str]:
        """Every thread that goes into a file."""
        also = {t for f in self.files if f.alpha_if_any is not None for t in f.alpha_if_any.threads}
        return {t for f in self.files for t in f.threads} | also


def file_names(profile: Profile, name: str, present: Iterable[str], *, size: int = 1024, version: int = 1) -> dict[str, FileSpec]:
    """Names of the pictures of a delivery, in order.

    Raises
    ------
    LoomError
        A name cannot be, or two are one.

    >>> from silent_loom.core.delivery.shelf import profile
    >>> list(file_names(profile("plain"), "slate", ["base", "height"], size=1024))[:3]
    ['slate_basecolor.png', 'slate_normal.png', 'slate_height.png']
    """
    have = set(present)
    there = [s.of(have) for s in profile.files if not s.optional or s.threads <= have]
    names = []
    for i, spec in enumerate(there, 1):
        tokens: dict[str, str | int] = {"material": name, "map": spec.suffix, "size": size // spec.share, "version": version}
        tokens |= {"counter": i, "model": profile.model or name, **profile.tokens}
        names.append(filled(profile.pattern, tokens) + SUFFIXES[spec.format][0])
    check_apart(names)
    return dict(zip(names, there, strict=True))


def of_maps(wanted: Profile, meanings: Mapping[str, ThreadSpec], names: Sequence[str]) -> Profile:
    """A profile of some maps alone: its own files for those that it knows, and a file each for the others.

    Files that hold a map which is not wanted are left out. Others are 16 bits, colour 8 in sRGB.

    >>> from silent_loom.core.delivery.shelf import profile
    >>> len(of_maps(profile("plain"), {}, ["base"]).files)
    1
    """
    files: list[FileSpec] = []
    told: set[str] = set()
    for spec in wanted.files:
        if spec.threads and spec.threads <= set(names):
            files.append(spec)
            told |= spec.threads
    files += [alone(meanings[name]) for name in names if name not in told]
    return wanted.model_copy(update={"files": tuple(files), "models": ()})


def alone(meaning: ThreadSpec) -> FileSpec:
    """A file of one map alone: 16 bits, colour 8 in sRGB, labels as colours.

    >>> from silent_loom.core.weave.threads import spec
    >>> alone(spec("roughness")).depth, alone(spec("base")).depth
    ('16', '8')
    """
    name = meaning.name
    if meaning.kind is Kind.ID:
        return FileSpec(suffix=name, channels=tuple(parse_channel(f"{name}.{c}") for c in "rgb"), colour=False, depth="8")
    parts = {3: "rgb", 2: "xy"}.get(len(meaning.neutral), "rgba"[: len(meaning.neutral)])
    texts = (name,) if len(meaning.neutral) == 1 else tuple(f"{name}.{c}" for c in parts)
    colour = meaning.kind is Kind.COLOUR
    return FileSpec(suffix=name, channels=tuple(map(parse_channel, texts)), colour=colour, depth="8" if colour else "16")
